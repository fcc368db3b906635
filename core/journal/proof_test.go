package journal

import (
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"testing"

	"stockade/internal/must"
)

// Every entry of journals of many sizes is proved, and every head from every older one; with
// the public key alone.
func TestProofsAreCheckedWithThePublicKeyAlone(t *testing.T) {
	s, k := written(t, 0)
	v, err := NewVerifier(k.Public() + "\n")
	must.Do(t, err)
	heads := []string{""}
	for n := range int64(20) {
		must.Do(t, Write(s, k, Entry{By: "mara", Action: "key.vouch", Object: fmt.Sprintf("key %d", n)}))
		signed, err := s.Checkpoint()
		must.Do(t, err)
		heads = append(heads, signed)
		for i := range n + 1 {
			proof, err := Prove(s, k, i)
			must.Do(t, err)
			e, h, err := v.Entry(proof)
			if err != nil || e.Object != fmt.Sprintf("key %d", i) || e.Number != i || h.Size != n+1 {
				t.Fatalf("entry %d of %d: %+v %v", i, n+1, e, err)
			}
			if _, _, err := v.Entry(strings.ReplaceAll(proof, "\n", "\r\n")); err != nil &&
				!strings.Contains(err.Error(), "signature") {
				t.Errorf("as another system writes lines: %v", err)
			}
		}
		for i, old := range heads {
			oldHead, err := k.Open(old)
			must.Do(t, err)
			proof, err := ProveSince(s, k, oldHead)
			must.Do(t, err)
			was, now, err := v.Since(proof, old)
			if err != nil || was.Size != int64(i) || now.Size != n+1 {
				t.Fatalf("from %d to %d: %v", i, n+1, err)
			}
		}
	}
	for _, n := range []int64{-1, 20} {
		if _, err := Prove(s, k, n); !errors.Is(err, ErrNoEntry) {
			t.Errorf("entry %d: %v", n, err)
		}
	}
}

// Whatever of a proof is changed, it does not hold, and says why.
func TestEachProofThatDoesNotHold(t *testing.T) {
	s, k := written(t, 9)
	v, err := NewVerifier(k.Public())
	must.Do(t, err)
	good, err := Prove(s, k, 3)
	must.Do(t, err)
	old, err := s.Checkpoint()
	must.Do(t, err)
	for range 4 {
		must.Do(t, Write(s, k, Entry{By: "mara", Action: "x", Object: "y"}))
	}
	head, err := k.Open(old)
	must.Do(t, err)
	since, err := ProveSince(s, k, head)
	must.Do(t, err)
	seed := sha256.Sum256([]byte("another"))
	other, err := NewKeys(seed[:])
	must.Do(t, err)
	lines := strings.Split(good, "\n")
	raw, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(lines[1], "extra "))
	must.Do(t, err)
	forged := base64.StdEncoding.EncodeToString([]byte(strings.Replace(string(raw), `"by":"`, `"by":"x`, 1)))
	swap := func(old, new string) string {
		if !strings.Contains(good, old) {
			t.Fatalf("nothing to change: %q", old)
		}
		return strings.Replace(good, old, new, 1)
	}
	for name, c := range map[string]struct{ text, says string }{
		"the entry":        {swap(lines[1], "extra "+forged), "do not lead from entry 3"},
		"its number":       {swap("index 3", "index 4"), "do not lead from entry 4"},
		"a number too far": {swap("index 3", "index 9"), "counts 9 entries"},
		"one below zero":   {swap("index 3", "index -1"), "entries, but the proof is for entry -1"},
		"a hash":           {swap(lines[3], lines[4]), "do not lead"},
		"a hash less":      {swap(lines[3]+"\n", ""), "do not lead"},
		"no hash":          {swap(lines[3], "tide"), "is not a hash"},
		"the head":         {swap("\n9\n", "\n8\n"), "signature of its head"},
		"another mark":     {swap("@v1", "@v2"), "its first lines"},
		"no number":        {swap("index 3", "index three"), "its first lines"},
		"no entry":         {swap(lines[1], "extra *"), "its first lines"},
		"an entry unnamed": {swap("\nextra ", "\n"), "its first lines"},
		"an index unnamed": {swap("\nindex 3", "\n3"), "its first lines"},
		"nothing":          {"", "no head follows a blank line"},
		"two lines":        {"a\n\n" + old, "lines are missing"},
		"large":            {strings.Repeat("x", maxProof+1), "too large"},
	} {
		if _, _, err := v.Entry(c.text); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	_, now, _ := strings.Cut(since, "\n\n")
	for name, c := range map[string]struct{ text, older, says string }{
		"another older head": {since, heads(t, s, k, 5), "for another head"},
		"an older one":       {"old 13\n\n" + old, now, "the older head counts 13"},
		"no hashes":          {"old 9\n\n" + now, old, "the newer head does not continue the"},
		"hashes too many": {"old 13\n" + strings.Split(since, "\n")[1] + "\n\n" + now, now,
			"the newer head does not continue the"},
		"another of its size": {"old 13\n\n" + rewritten(t, 9, 13).checkpoint, now,
			"the newer head does not continue the"},
		"no size":        {strings.Replace(since, "old 9", "old nine", 1), "", "for another head"},
		"a size unnamed": {strings.Replace(since, "old 9", "0", 1), "", "for another head"},
		"no head":        {since, "tide", "signature of its head"},
	} {
		if _, _, err := v.Since(c.text, c.older); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	stranger, err := NewVerifier(other.Public())
	must.Do(t, err)
	if _, _, err := stranger.Entry(good); err == nil || !strings.Contains(err.Error(), "signature") {
		t.Errorf("with another's key: %v", err)
	}
	if _, err := NewVerifier("tide"); err == nil {
		t.Error("a key that is none")
	}
	var broken *Broken
	s.entries[3] = nil
	if _, err := Prove(s, k, 3); !errors.As(err, &broken) || broken.First != 3 {
		t.Errorf("an entry that is gone: %v", err)
	}
	head.Root[0] ^= 1
	if _, err := ProveSince(s, k, head); !errors.As(err, &broken) {
		t.Errorf("a head that it contradicts: %v", err)
	}
}

// heads gives a signed head over the first entries of a journal.
func heads(t *testing.T, s Store, k Keys, n int) string {
	t.Helper()
	fresh, _ := written(t, 0)
	for i := range n {
		must.Do(t, Write(fresh, k, Entry{By: "x", Action: "y", Object: fmt.Sprint(i)}))
	}
	signed, err := fresh.Checkpoint()
	must.Do(t, err)
	return signed
}
