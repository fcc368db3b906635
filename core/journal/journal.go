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
	"errors"
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
	// ReadHashes gives hashes of the tree. ErrNoHash: one is not there, which makes the
	// journal Broken; any other error is a fault of the store, which says nothing of it.
	ReadHashes(indexes []int64) ([]tlog.Hash, error)
	// Append stores all of it at once or nothing.
	Append(text []byte, e Entry, first int64, hashes []tlog.Hash, checkpoint string) error
	Checkpoint() (string, error)
	// Each calls f for every entry from a number on, in their order.
	Each(from int64, f func(number int64, text []byte) error) error
}

// ErrNoHash is what a Store gives for a hash that is not there.
var ErrNoHash = errors.New("it is not there")

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

func (b *Broken) Error() string { return "the journal is not intact: " + b.Text }

// Open reads a signed head. The empty text is the head of an empty journal.
func (k Keys) Open(signed string) (Head, error) {
	if signed == "" {
		return Head{}, nil
	}
	opened, err := note.Open([]byte(signed), note.VerifierList(k.verifier))
	if err != nil {
		return Head{}, &Broken{-1, "the signature of its head is not valid"}
	}
	var h Head
	var root string
	fmt.Sscanf(strings.TrimPrefix(opened.Text, origin+"\n"), "%d\n%s\n", &h.Size, &root)
	// What was not read, or is written in another way, makes another text.
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
			&Broken{n, fmt.Sprintf("entries %d to %d are missing: the signed head counts %d", n, h.Size-1,
				h.Size)}
	case n > h.Size:
		return h, &Broken{h.Size, fmt.Sprintf("no signed head covers entry %d", h.Size)}
	}
	return h, stands(s, h, h)
}

// stands tells whether the first entries of a journal are those of an older head.
func stands(s Store, old, now Head) error {
	if old.Size > now.Size {
		return &Broken{now.Size, fmt.Sprintf("it has %d entries, but a head that was signed "+
			"before counts %d",
			now.Size, old.Size)}
	}
	if old.Size == 0 {
		return nil
	}
	root, err := tlog.TreeHash(old.Size, reader{s})
	if errors.Is(err, ErrNoHash) {
		return &Broken{-1, fmt.Sprintf("its hashes are incomplete: %v", err)}
	}
	if err != nil {
		return fmt.Errorf("read the journal: %w", err)
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
	if now.Size-from.Size > 1 {
		s = &ahead{Store: s, until: tlog.StoredHashIndex(0, now.Size)}
	}
	next := from.Size
	err = s.Each(from.Size, func(n int64, text []byte) error {
		if n != next {
			return gone(next)
		}
		e, err := entry(n, text)
		if err != nil {
			return err
		}
		if _, err := fits(s, n, text, reader{s}); err != nil {
			return err
		}
		visit(e)
		next++
		return nil
	})
	if err == nil && next != now.Size {
		err = gone(next)
	}
	return now, err
}

func gone(n int64) error { return &Broken{n, fmt.Sprintf("entry %d is missing", n)} }

// entry reads one as it is stored.
func entry(n int64, text []byte) (e Entry, err error) {
	if json.Unmarshal(text, &e) != nil || e.Number != n {
		return e, &Broken{n, fmt.Sprintf("entry %d cannot be read, or contains another number", n)}
	}
	return e, nil
}

// fits works out what an entry adds to the tree of those before it, and compares that
// with the hashes that are stored.
func fits(s Store, n int64, text []byte, before tlog.HashReader) ([]tlog.Hash, error) {
	hashes, err := tlog.StoredHashes(n, text, before)
	if err != nil && !errors.Is(err, ErrNoHash) {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	changed := &Broken{n,
		fmt.Sprintf("entry %d, or a hash of it, was changed or removed after it was written", n)}
	if err != nil {
		return nil, changed
	}
	for i, h := range hashes {
		stored, err := s.ReadHashes([]int64{tlog.StoredHashIndex(0, n) + int64(i)})
		if err != nil && !errors.Is(err, ErrNoHash) {
			return nil, fmt.Errorf("read the journal: %w", err)
		}
		if err != nil || stored[0] != h {
			return hashes, changed
		}
	}
	return hashes, nil
}

const origin = "stockade journal"

// Keys are the two halves of the journal's key.
type Keys struct {
	signer   note.Signer
	verifier note.Verifier
	public   string
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
	return Keys{s, v, vkey}, err
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

// ahead reads hashes many at once, in their order: one at a time would take most of the time of reading a
// long journal from its beginning.
type ahead struct {
	Store
	until int64 // the index behind the last hash
	held  map[int64]tlog.Hash
}

// How many hashes are read at once, and held.
const (
	aheadAtOnce = 512
	aheadMost   = 64 << 10
)

// ReadHashes gives hashes of the tree. Where several cannot be read at once it reads one: which one is not
// there is for the store to say.
func (a *ahead) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		h, ok := a.held[x]
		if !ok {
			block := make([]int64, 0, aheadAtOnce)
			for n := x; n < min(x+aheadAtOnce, a.until); n++ {
				block = append(block, n)
			}
			hashes, err := a.Store.ReadHashes(block)
			if errors.Is(err, ErrNoHash) || len(block) == 0 {
				block = []int64{x}
				hashes, err = a.Store.ReadHashes(block)
			}
			if err != nil {
				return nil, err
			}
			if a.held == nil || len(a.held) > aheadMost {
				a.held = map[int64]tlog.Hash{}
			}
			for n, h := range hashes {
				a.held[block[n]] = h
			}
			h = hashes[0]
		}
		out[i] = h
	}
	return out, nil
}

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
// hashes and with the signed checkpoint. The error is a fault of the store: what is
// wrong with the journal is in the report.
func Verify(s Store, k Keys) (Report, error) {
	v := verification{store: s, report: Report{FirstBad: -1}}
	if err := s.Each(0, v.entry); err != nil {
		return v.report, err
	}
	v.report.Entries = v.next
	signed, err := s.Checkpoint()
	if err != nil {
		return v.report, err
	}
	if err := v.against(k, signed); err != nil {
		return v.report, err
	}
	r := v.report
	switch {
	case r.Text != "":
	case r.Entries == 0:
		r.Holds, r.Text = true, "the journal is empty"
	default:
		r.Holds, r.Text = true, fmt.Sprintf("Journal OK: %d entries, chain intact", r.Entries)
	}
	return r, nil
}

// verification is a Verify on its way.
type verification struct {
	store  Store
	report Report
	tree   []tlog.Hash // made of the entries that were read
	next   int64
}

// bad notes what is wrong, of which the first counts. Any other error comes back.
func (v *verification) bad(err error) error {
	var b *Broken
	if !errors.As(err, &b) {
		return err
	}
	if v.report.Text == "" {
		v.report.FirstBad, v.report.Text = b.First, b.Text
	}
	return nil
}

// ReadHashes gives those that were made of the entries so far.
func (v *verification) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		if x >= int64(len(v.tree)) {
			return nil, fmt.Errorf("hash %d: %w", x, ErrNoHash)
		}
		out[i] = v.tree[x]
	}
	return out, nil
}

func (v *verification) entry(n int64, text []byte) error {
	if n != v.next {
		if err := v.bad(gone(v.next)); err != nil {
			return err
		}
	}
	v.next = n + 1
	if v.report.Text != "" {
		return nil // what follows is counted
	}
	if _, err := entry(n, text); err != nil {
		return v.bad(err)
	}
	hashes, err := fits(v.store, n, text, v)
	v.tree = append(v.tree, hashes...)
	return v.bad(err)
}

// against compares what was read with the signed head.
func (v *verification) against(k Keys, signed string) error {
	h, err := k.Open(signed)
	if err != nil {
		return v.bad(err)
	}
	if signed != "" {
		v.report.Checkpoint = checkpointText(h.Size, h.Root)
	}
	switch {
	case v.report.Text != "", h.Size == 0 && v.next == 0:
		return nil
	case h.Size > v.next:
		return v.bad(&Broken{v.next, fmt.Sprintf("entries %d to %d are missing: the signed "+
			"head counts %d",
			v.next, h.Size-1, h.Size)})
	case h.Size < v.next:
		return v.bad(&Broken{h.Size, fmt.Sprintf("no signed head covers entry %d", h.Size)})
	}
	root, err := tlog.TreeHash(v.next, v)
	if err != nil {
		return err
	}
	if root != h.Root {
		return v.bad(&Broken{-1, "the entries do not match the signed head"})
	}
	return nil
}
