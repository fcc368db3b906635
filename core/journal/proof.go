package journal

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// A proof is checked without the journal, by whoever has its public key: the hashes are
// those of RFC 9162 (sections 2.1.3 and 2.1.4), the head is a signed note (C2SP
// tlog-checkpoint). That an entry is in the journal is written as C2SP tlog-proof has it,
// with the entry's own bytes as what it calls extra; that one head goes on from another as
// the request of C2SP tlog-witness has it.

// inclusionMark is the first line of a proof that an entry is in the journal.
const inclusionMark = "c2sp.org/tlog-proof@v1"

// maxProof bounds a proof (bytes).
const maxProof = 1 << 20

// Public is the journal's public key, in the form of signed notes.
func (k Keys) Public() string { return k.public }

// Prove proves that an entry is in the journal as its newest head has it.
func Prove(s Store, k Keys, number int64) (string, error) {
	now, err := Newest(s, k)
	if err != nil {
		return "", err
	}
	if number < 0 || number >= now.Size {
		return "", ErrNoEntry
	}
	var text []byte
	stop := errors.New("found")
	err = s.Each(number, func(n int64, t []byte) error {
		if n == number {
			text = t
		}
		return stop
	})
	if err != nil && !errors.Is(err, stop) {
		return "", err
	}
	if text == nil {
		return "", gone(number)
	}
	hashes, err := tlog.ProveRecord(now.Size, number, reader{s})
	if err != nil {
		return "", fmt.Errorf("read the journal: %w", err)
	}
	signed, err := s.Checkpoint()
	if err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s\nextra %s\nindex %d\n", inclusionMark, base64.StdEncoding.EncodeToString(text),
		number)
	for _, h := range hashes {
		fmt.Fprintln(&b, h)
	}
	return b.String() + "\n" + signed, nil
}

// ErrNoEntry tells that a journal has no entry of a number.
var ErrNoEntry = errors.New("the journal has no such entry")

// ProveSince proves that the newest head goes on from an older one: every entry that was
// there then is there now, unchanged and at its place.
func ProveSince(s Store, k Keys, old Head) (string, error) {
	now, err := Newest(s, k)
	if err != nil {
		return "", err
	}
	if err := stands(s, old, now); err != nil {
		return "", err
	}
	var hashes []tlog.Hash
	if old.Size > 0 && old.Size < now.Size {
		if hashes, err = tlog.ProveTree(now.Size, old.Size, reader{s}); err != nil {
			return "", fmt.Errorf("read the journal: %w", err)
		}
	}
	signed, err := s.Checkpoint()
	if err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "old %d\n", old.Size)
	for _, h := range hashes {
		fmt.Fprintln(&b, h)
	}
	return b.String() + "\n" + signed, nil
}

// Verifier checks proofs and heads with the journal's public key alone.
type Verifier struct{ keys Keys }

// NewVerifier reads a public key, as Public gives it.
func NewVerifier(public string) (Verifier, error) {
	v, err := note.NewVerifier(strings.TrimSpace(public))
	if err != nil {
		return Verifier{}, errors.New("this is not the public key of a journal: stockade " +
			"journal head shows it")
	}
	return Verifier{Keys{verifier: v, public: strings.TrimSpace(public)}}, nil
}

// Head checks a signed head.
func (v Verifier) Head(signed string) (Head, error) {
	return v.keys.Open(strings.TrimLeft(signed, "\r\n"))
}

// parts takes a proof apart: its lines, the hashes among them, and the head behind a blank
// line.
func (v Verifier) parts(text string, first int) (lines []string, hashes []tlog.Hash, head Head, err error) {
	bad := func(what string) ([]string, []tlog.Hash, Head, error) {
		return nil, nil, Head{}, fmt.Errorf("this is not a proof of a journal: %s", what)
	}
	if len(text) > maxProof {
		return bad("it is too large")
	}
	above, signed, ok := strings.Cut(strings.ReplaceAll(text, "\r\n", "\n"), "\n\n")
	if !ok {
		return bad("no head follows a blank line")
	}
	lines = strings.Split(above, "\n")
	if len(lines) < first {
		return bad("lines are missing")
	}
	for _, l := range lines[first:] {
		h, err := tlog.ParseHash(l)
		if err != nil {
			return bad(fmt.Sprintf("%.40q is not a hash", l))
		}
		hashes = append(hashes, h)
	}
	head, err = v.keys.Open(signed)
	return lines[:first], hashes, head, err
}

// Entry checks a proof that an entry is in the journal, and gives the entry with the head
// that covers it. An error that is a Broken tells that the proof does not hold.
func (v Verifier) Entry(text string) (Entry, Head, error) {
	lines, hashes, head, err := v.parts(text, 3)
	if err != nil {
		return Entry{}, head, err
	}
	extra, isExtra := strings.CutPrefix(lines[1], "extra ")
	index, isIndex := strings.CutPrefix(lines[2], "index ")
	number, nerr := strconv.ParseInt(index, 10, 64)
	raw, xerr := base64.StdEncoding.DecodeString(extra)
	if lines[0] != inclusionMark || !isExtra || !isIndex || nerr != nil || xerr != nil {
		return Entry{}, head, fmt.Errorf("this is not a proof of a journal: its first lines "+
			"are not %s, extra and index",
			inclusionMark)
	}
	if number < 0 || number >= head.Size {
		return Entry{}, head, &Broken{number, fmt.Sprintf("its head counts %d entries, but the "+
			"proof is for entry %d",
			head.Size, number)}
	}
	if err := tlog.CheckRecord(hashes, head.Size, head.Root, number, tlog.RecordHash(raw)); err != nil {
		return Entry{}, head, &Broken{number, fmt.Sprintf("the hashes do not lead from entry "+
			"%d to the head",
			number)}
	}
	e, err := entry(number, raw)
	return e, head, err
}

// Since checks a proof that a head goes on from an older one, which is given as it was
// signed.
func (v Verifier) Since(text, older string) (old, now Head, err error) {
	lines, hashes, now, err := v.parts(text, 1)
	if err != nil {
		return old, now, err
	}
	if old, err = v.Head(older); err != nil {
		return old, now, err
	}
	size, ok := strings.CutPrefix(lines[0], "old ")
	if n, err := strconv.ParseInt(size, 10, 64); !ok || err != nil || n != old.Size {
		return old, now, fmt.Errorf("the proof is for another head over %d entries than the "+
			"one that was given",
			old.Size)
	}
	switch {
	case old.Size > now.Size:
		return old, now, &Broken{now.Size, fmt.Sprintf("the older head counts %d entries, and the newer %d",
			old.Size,
			now.Size)}
	case old.Size == 0:
		return old, now, nil
	case old.Size == now.Size && (old.Root != now.Root || len(hashes) > 0),
		old.Size < now.Size && tlog.CheckTree(hashes, now.Size, now.Root, old.Size, old.Root) != nil:
		return old, now, &Broken{-1, fmt.Sprintf("the newer head does not continue the %d "+
			"entries of the older one",
			old.Size)}
	}
	return old, now, nil
}
