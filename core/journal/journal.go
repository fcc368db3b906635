// Package journal is the tamper-evident record of decisions and changes: a
// Merkle tree over the entries (RFC 9162 §2, by golang.org/x/mod/sumdb/tlog),
// whose head is signed after every entry (sumdb/note).
//
// Who can write the database can add entries and cannot change or remove one
// unnoticed: Verify recomputes every hash and compares the head with the last
// signed checkpoint. Who holds the signing key as well can rewrite everything;
// a checkpoint kept elsewhere finds that out.
//
// It trusts the signing key, and nothing of the store. It does not know what entries mean.
package journal

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Entry is one thing that somebody did or that happened.
type Entry struct {
	Number int64             `json:"number"` // from zero
	At     time.Time         `json:"at"`
	By     string            `json:"by"`     // the account, or "stockade"
	Action string            `json:"action"` // such as key.vouch
	Object string            `json:"object"`
	Detail map[string]string `json:"detail,omitempty"`
}

// Text is what of an entry is hashed.
func (e Entry) Text() []byte {
	e.At = e.At.UTC()
	out, err := json.Marshal(e)
	if err != nil {
		panic("journal: plain values do not marshal: " + err.Error())
	}
	return out
}

// Store is where entries, tree hashes and the checkpoint lie.
type Store interface {
	Size() (int64, error)
	ReadHashes(indexes []int64) ([]tlog.Hash, error)
	// Append stores all of it at once or nothing.
	Append(text []byte, e Entry, first int64, hashes []tlog.Hash, checkpoint string) error
	Checkpoint() (string, error)
	// Each calls f for every entry from a number on, in their order.
	Each(from int64, f func(number int64, text []byte) error) error
}

// Head is a signed head of the journal: how many entries there were, and the
// hash over all of them.
type Head struct {
	Size int64
	Root tlog.Hash
}

// Broken is what makes a journal one that nothing may be written to: the first
// entry that does not fit, or -1 where none can be named.
type Broken struct {
	First int64
	Text  string
}

func (b *Broken) Error() string { return "the journal does not hold: " + b.Text }

// Open reads a signed head. The empty text is the head of an empty journal.
func (k Keys) Open(signed string) (Head, error) {
	if signed == "" {
		return Head{}, nil
	}
	opened, err := note.Open([]byte(signed), note.VerifierList(k.verifier))
	if err != nil {
		return Head{}, &Broken{-1, "the signature of its head does not hold"}
	}
	var h Head
	var root string
	if n, err := fmt.Sscanf(strings.TrimPrefix(opened.Text, origin+"\n"), "%d\n%s\n", &h.Size,
		&root); n != 2 || err != nil {
		return Head{}, &Broken{-1, "its head cannot be read"}
	}
	if h.Root, err = tlog.ParseHash(root); err != nil || opened.Text != checkpointText(h.Size, h.Root) {
		return Head{}, &Broken{-1, "its head cannot be read"}
	}
	return h, nil
}

// Newest gives the head of a journal, if its hashes are those that were signed.
func Newest(s Store, k Keys) (Head, error) {
	signed, err := s.Checkpoint()
	if err != nil {
		return Head{}, err
	}
	h, err := k.Open(signed)
	if err != nil {
		return Head{}, err
	}
	n, err := s.Size()
	switch {
	case err != nil:
		return h, err
	case n < h.Size:
		return h,
			&Broken{n, fmt.Sprintf("entries %d to %d are gone: its head counts %d", n, h.Size-1, h.Size)}
	case n > h.Size:
		return h, &Broken{h.Size, fmt.Sprintf("entry %d is covered by no head", h.Size)}
	}
	return h, stands(s, h, h)
}

// stands tells whether the first entries of a journal are those of an older head.
func stands(s Store, old, now Head) error {
	if old.Size > now.Size {
		return &Broken{now.Size, fmt.Sprintf("it has %d entries, and a head that was signed before counts %d",
			now.Size, old.Size)}
	}
	if old.Size == 0 {
		return nil
	}
	root, err := tlog.TreeHash(old.Size, reader{s})
	if err != nil {
		return &Broken{-1, fmt.Sprintf("its hashes cannot be read: %v", err)}
	}
	if root != old.Root {
		return &Broken{-1, fmt.Sprintf("its first %d entries are not those that were signed", old.Size)}
	}
	return nil
}

// Against compares a journal with a head that was kept elsewhere: what that one
// covers must still be there, unchanged.
func Against(s Store, k Keys, signed string) (old Head, err error) {
	if old, err = k.Open(strings.TrimLeft(signed, "\r\n")); err != nil {
		return old, err
	}
	now, err := Newest(s, k)
	if err != nil {
		return old, err
	}
	return old, stands(s, old, now)
}

// Continue reads what was written behind a head that was verified before, and
// verifies it: every entry against its hashes, and all of them against the head
// that is signed now.
func Continue(s Store, k Keys, from Head, visit func(Entry)) (Head, error) {
	now, err := Newest(s, k)
	if err != nil {
		return from, err
	}
	if err := stands(s, from, now); err != nil {
		return from, err
	}
	next := from.Size
	err = s.Each(from.Size, func(n int64, text []byte) error {
		var e Entry
		if err := json.Unmarshal(text, &e); n != next || err != nil || e.Number != n {
			return &Broken{next, fmt.Sprintf("entry %d is gone, or not readable", next)}
		}
		hashes, err := tlog.StoredHashes(n, text, reader{s})
		if err != nil {
			return &Broken{n, fmt.Sprintf("the hashes before entry %d cannot be read: %v", n, err)}
		}
		for i, h := range hashes {
			stored, err := s.ReadHashes([]int64{tlog.StoredHashIndex(0, n) + int64(i)})
			if err != nil || stored[0] != h {
				return &Broken{n, fmt.Sprintf("entry %d was changed after it was written", n)}
			}
		}
		visit(e)
		next++
		return nil
	})
	if err == nil && next != now.Size {
		err = &Broken{next, fmt.Sprintf("entry %d is gone", next)}
	}
	return now, err
}

const origin = "stockade journal"

// Keys are the two halves of the journal's key.
type Keys struct {
	signer   note.Signer
	verifier note.Verifier
}

// NewKeys derives the journal's keys from 32 secret bytes.
func NewKeys(seed []byte) (Keys, error) {
	const name = "stockade-journal"
	private := ed25519.NewKeyFromSeed(seed)
	public := private.Public().(ed25519.PublicKey)
	vkey, err := note.NewEd25519VerifierKey(name, public)
	if err != nil {
		return Keys{}, err
	}
	parts := strings.SplitN(vkey, "+", 3)
	skey := "PRIVATE+KEY+" + name + "+" + parts[1] + "+" + base64.StdEncoding.EncodeToString(
		append([]byte{1}, seed...))
	s, err := note.NewSigner(skey)
	if err != nil {
		return Keys{}, err
	}
	v, err := note.NewVerifier(vkey)
	return Keys{s, v}, err
}

// Write appends an entry. The number is set by it. Only one writer at a time.
func Write(s Store, k Keys, e Entry) error {
	// What is signed for is what was signed for before, and this entry.
	head, err := Newest(s, k)
	if err != nil {
		return err
	}
	n := head.Size
	e.Number = n
	e.At = e.At.UTC().Truncate(time.Millisecond)
	text := e.Text()
	hashes, err := tlog.StoredHashes(n, text, reader{s})
	if err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	first := tlog.StoredHashIndex(0, n)
	root, err := tlog.TreeHash(n+1, overlay{s, first, hashes})
	if err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	signed, err := note.Sign(&note.Note{Text: checkpointText(n+1, root)}, k.signer)
	if err != nil {
		return fmt.Errorf("sign the journal: %w", err)
	}
	return s.Append(text, e, first, hashes, string(signed))
}

func checkpointText(n int64, root tlog.Hash) string {
	return fmt.Sprintf("%s\n%d\n%s\n", origin, n, root)
}

type reader struct{ s Store }

func (r reader) ReadHashes(i []int64) ([]tlog.Hash, error) { return r.s.ReadHashes(i) }

// overlay reads hashes that are not stored yet.
type overlay struct {
	s     Store
	first int64
	fresh []tlog.Hash
}

func (o overlay) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		if x >= o.first {
			out[i] = o.fresh[x-o.first]
			continue
		}
		h, err := o.s.ReadHashes([]int64{x})
		if err != nil {
			return nil, err
		}
		out[i] = h[0]
	}
	return out, nil
}

// Report is what Verify found.
type Report struct {
	Entries    int64  `json:"entries"`
	Holds      bool   `json:"holds"`
	FirstBad   int64  `json:"first_bad"` // -1: none can be named
	Text       string `json:"text"`
	Checkpoint string `json:"checkpoint"`
}

// Verify recomputes the tree from the entries and compares it with the stored
// hashes and with the signed checkpoint.
func Verify(s Store, k Keys) (Report, error) {
	r := Report{FirstBad: -1}
	var tree []tlog.Hash
	mem := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, x := range indexes {
			if x >= int64(len(tree)) {
				return nil, fmt.Errorf("hash %d is not there", x)
			}
			out[i] = tree[x]
		}
		return out, nil
	})
	bad := func(n int64, format string, args ...any) {
		if r.Text == "" {
			r.FirstBad, r.Text = n, fmt.Sprintf(format, args...)
		}
	}
	next := int64(0)
	err := s.Each(0, func(n int64, text []byte) error {
		if n != next {
			bad(next, "entry %d is gone", next)
			next = n
			return nil
		}
		var e Entry
		if err := json.Unmarshal(text, &e); err != nil || e.Number != n {
			bad(n, "entry %d is not readable, or has another number inside", n)
		}
		if int64(len(tree)) == tlog.StoredHashIndex(0, n) {
			hashes, err := tlog.StoredHashes(n, text, mem)
			if err != nil {
				return err
			}
			stored, err := s.ReadHashes([]int64{tlog.StoredHashIndex(0, n)})
			if err != nil || stored[0] != hashes[0] {
				bad(n, "entry %d was changed after it was written", n)
			}
			tree = append(tree, hashes...)
		}
		next = n + 1
		return nil
	})
	if err != nil {
		return r, err
	}
	r.Entries = next
	signed, err := s.Checkpoint()
	if err != nil {
		return r, err
	}
	if next == 0 && signed == "" {
		r.Holds, r.Text = true, "the journal is empty"
		return r, nil
	}
	opened, err := note.Open([]byte(signed), note.VerifierList(k.verifier))
	if err != nil {
		bad(-1, "the checkpoint's signature does not hold")
		return r, nil
	}
	r.Checkpoint = opened.Text
	if r.Text == "" {
		root, err := tlog.TreeHash(next, mem)
		if err != nil || opened.Text != checkpointText(next, root) {
			var have int64
			fmt.Sscanf(strings.TrimPrefix(opened.Text, origin+"\n"), "%d", &have)
			if have > next {
				bad(next, "entries %d to %d are gone: the signed checkpoint counts %d", next, have-1, have)
			} else {
				bad(-1, "the entries do not add up to the signed checkpoint")
			}
		}
	}
	if r.Text == "" {
		r.Holds, r.Text = true, fmt.Sprintf("%d entries, whole and unchanged", next)
	}
	return r, nil
}
