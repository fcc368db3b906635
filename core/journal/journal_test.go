package journal

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"stockade/internal/must"
)

// memory is a Store for tests.
type memory struct {
	entries    [][]byte
	hashes     []tlog.Hash
	checkpoint string
	lost       map[int64]bool // hashes that are gone
}

func (m *memory) Size() (int64, error) { return int64(len(m.entries)), nil }

func (m *memory) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		if x >= int64(len(m.hashes)) || m.lost[x] {
			return nil, fmt.Errorf("hash %d: %w", x, ErrNoHash)
		}
		out[i] = m.hashes[x]
	}
	return out, nil
}

func (m *memory) Append(text []byte, _ Entry, first int64, hashes []tlog.Hash, checkpoint string) error {
	if first != int64(len(m.hashes)) {
		return fmt.Errorf("hashes begin at %d", first)
	}
	m.entries, m.hashes, m.checkpoint = append(m.entries, bytes.Clone(text)), append(m.hashes, hashes...),
		checkpoint
	return nil
}

func (m *memory) Checkpoint() (string, error) { return m.checkpoint, nil }

func (m *memory) Each(first int64, f func(int64, []byte) error) error {
	for i, e := range m.entries {
		if e == nil || int64(i) < first {
			continue
		}
		if err := f(int64(i), e); err != nil {
			return err
		}
	}
	return nil
}

// failing is a store of which one call fails.
type failing struct {
	*memory
	n, at int
}

var errStore = errors.New("the disk does not answer")

func (f *failing) call() error {
	if f.n++; f.n-1 == f.at {
		return errStore
	}
	return nil
}

func (f *failing) Size() (int64, error) {
	if err := f.call(); err != nil {
		return 0, err
	}
	return f.memory.Size()
}

func (f *failing) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	if err := f.call(); err != nil {
		return nil, err
	}
	return f.memory.ReadHashes(indexes)
}

func (f *failing) Append(text []byte, e Entry, first int64, hashes []tlog.Hash, checkpoint string) error {
	if err := f.call(); err != nil {
		return err
	}
	return f.memory.Append(text, e, first, hashes, checkpoint)
}

func (f *failing) Checkpoint() (string, error) {
	if err := f.call(); err != nil {
		return "", err
	}
	return f.memory.Checkpoint()
}

func (f *failing) Each(first int64, do func(int64, []byte) error) error {
	if err := f.call(); err != nil {
		return err
	}
	return f.memory.Each(first, do)
}

func written(t *testing.T, n int) (*memory, Keys) {
	t.Helper()
	k, err := NewKeys(bytes.Repeat([]byte{7}, 32))
	must.Do(t, err)
	m := &memory{}
	for i := range n {
		must.Do(t, Write(m, k, Entry{At: time.Unix(int64(i), 0), By: "mara", Action: "key.vouch",
			Object: fmt.Sprintf("key %d", i), Detail: map[string]string{"source": "tarn"}}))
	}
	return m, k
}

// seven is where the head lies that was kept elsewhere, thirteen how many entries there are.
const seven, thirteen = 7, 13

// entry5 changes one letter of an entry.
func entry5(m *memory) []byte { return bytes.Replace(m.entries[5], []byte("tarn"), []byte("torn"), 1) }

// rewritten gives a journal that whoever holds the key wrote anew from an entry on.
func rewritten(t *testing.T, from, size int) *memory {
	t.Helper()
	fresh, k := written(t, from)
	for i := from; i < size; i++ {
		must.Do(t, Write(fresh, k, Entry{By: "kelp", Object: fmt.Sprint(i)}))
	}
	return fresh
}

// What is done to the journal, and which entry each way of looking tells of first. What a
// way does not read it does not tell of: sound.
const sound = -2

func TestWhatIsDoneToAJournalIsFound(t *testing.T) {
	number := func(m *memory, n int64) {
		m.entries[5] = Entry{Number: n, By: "mara"}.Text()
		m.hashes[tlog.StoredHashIndex(0, 5)] = tlog.RecordHash(m.entries[5])
	}
	for _, c := range []struct {
		name string
		do   func(t *testing.T, m *memory)
		// the first that does not fit, as verified whole, from the start, from the head
		// of seven on, and by the heads alone
		whole, start, since, heads int64
		text                       string // of it verified whole
	}{
		{"nothing", func(*testing.T, *memory) {}, sound, sound, sound, sound,
			"Journal OK: 13 entries, chain intact"},
		{"an entry changed", func(_ *testing.T, m *memory) { m.entries[5] = entry5(m) },
			5, 5, sound, sound, "entry 5, or a hash of it, was changed"},
		{"an entry changed with its hash", func(_ *testing.T, m *memory) {
			m.entries[5] = entry5(m)
			m.hashes[tlog.StoredHashIndex(0, 5)] = tlog.RecordHash(m.entries[5])
		}, 5, 5, sound, sound, "entry 5, or a hash of it, was changed"},
		{"an entry changed with all of its hashes", func(_ *testing.T, m *memory) {
			m.entries[5] = entry5(m)
			h, err := tlog.StoredHashes(5, m.entries[5], reader{m})
			must.Do(t, err)
			copy(m.hashes[tlog.StoredHashIndex(0, 5):], h)
		}, 7, 7, -1, sound, "entry 7, or a hash of it, was changed"},
		{"an inner hash changed", func(_ *testing.T, m *memory) {
			m.hashes[tlog.StoredHashIndex(2, 1)][0] ^= 1
		}, 7, 7, 7, sound, "entry 7, or a hash of it, was changed"},
		{"a hash that makes up the head changed", func(_ *testing.T, m *memory) {
			m.hashes[tlog.StoredHashIndex(3, 0)][0] ^= 1
		}, 7, -1, -1, -1, "entry 7, or a hash of it, was changed"},
		{"a hash gone", func(_ *testing.T, m *memory) {
			m.lost = map[int64]bool{tlog.StoredHashIndex(0, 9): true}
		}, 9, 9, 9, sound, "entry 9, or a hash of it, was changed"},
		{"the hashes gone", func(_ *testing.T, m *memory) { m.hashes = nil },
			0, -1, -1, -1, "entry 0, or a hash of it, was changed"},
		{"an entry taken out", func(_ *testing.T, m *memory) { m.entries[5] = nil },
			5, 5, sound, sound, "entry 5 is missing"},
		{"a later entry taken out", func(_ *testing.T, m *memory) { m.entries[9] = nil },
			9, 9, 9, sound, "entry 9 is missing"},
		{"the last taken out, and counted still", func(_ *testing.T, m *memory) { m.entries[12] = nil },
			12, 12, 12, sound, "entries 12 to 12 are missing: the signed head counts"},
		{"the last cut off", func(_ *testing.T, m *memory) { m.entries = m.entries[:12] },
			12, 12, 12, 12, "entries 12 to 12 are missing: the signed head counts"},
		{"emptied while the head stays", func(_ *testing.T, m *memory) { m.entries, m.hashes = nil, nil },
			0, 0, 0, 0, "entries 0 to 12 are missing: the signed head counts"},
		{"two swapped", func(_ *testing.T, m *memory) {
			m.entries[3], m.entries[4] = m.entries[4], m.entries[3]
		}, 3, 3, sound, sound, "entry 3 cannot be read, or contains another number"},
		{"an entry moved to the end", func(_ *testing.T, m *memory) {
			m.entries = append(append(m.entries[:9:9], m.entries[10:]...), m.entries[9])
		}, 9, 9, 9, sound, "entry 9 cannot be read, or contains another number"},
		{"another number inside", func(_ *testing.T, m *memory) { number(m, 6) },
			5, 5, sound, sound, "entry 5 cannot be read, or contains another number"},
		{"not JSON", func(_ *testing.T, m *memory) { m.entries[8] = []byte("{") },
			8, 8, 8, sound, "entry 8 cannot be read, or contains another number"},
		{"one added without a head", func(_ *testing.T, m *memory) {
			e := Entry{Number: thirteen, By: "nobody"}
			h, err := tlog.StoredHashes(thirteen, e.Text(), reader{m})
			must.Do(t, err)
			m.entries, m.hashes = append(m.entries, e.Text()), append(m.hashes, h...)
		}, 13, 13, 13, 13, "no signed head covers entry 13"},
		{"the head removed", func(_ *testing.T, m *memory) { m.checkpoint = "" },
			0, 0, 0, 0, "no signed head covers entry 0"},
		{"another number in the head", func(_ *testing.T, m *memory) {
			m.checkpoint = strings.Replace(m.checkpoint, "\n13\n", "\n12\n", 1)
		}, -1, -1, -1, -1, "the signature of its head is not valid"},
		{"the head of another key", func(t *testing.T, m *memory) {
			other, err := NewKeys(bytes.Repeat([]byte{8}, 32))
			must.Do(t, err)
			fresh := &memory{}
			must.Do(t, Write(fresh, other, Entry{}))
			m.checkpoint = fresh.checkpoint
		}, -1, -1, -1, -1, "the signature of its head is not valid"},
		{"an older head", func(t *testing.T, m *memory) {
			old, _ := written(t, 10)
			m.checkpoint = old.checkpoint
		}, 10, 10, 10, 10, "no signed head covers entry 10"},
		{"another head of the same size", func(t *testing.T, m *memory) {
			m.checkpoint = rewritten(t, 9, thirteen).checkpoint
		}, -1, -1, -1, -1, "the entries do not match the signed head"},
		{"rewritten before what was kept, with the key", func(t *testing.T, m *memory) {
			*m = *rewritten(t, 4, thirteen)
		}, sound, sound, -1, sound, "Journal OK: 13 entries, chain intact"},
		{"rewritten behind what was kept, with the key", func(t *testing.T, m *memory) {
			*m = *rewritten(t, 9, thirteen)
		}, sound, sound, sound, sound, "Journal OK: 13 entries, chain intact"},
		{"begun anew with the key", func(t *testing.T, m *memory) { *m = *rewritten(t, 0, 3) },
			sound, sound, 3, sound, "Journal OK: 3 entries, chain intact"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m, k := written(t, thirteen)
			then, _ := written(t, seven)
			kept, err := k.Open(then.checkpoint)
			if err != nil || kept.Size != seven {
				t.Fatal(kept, err)
			}
			c.do(t, m)
			r, err := Verify(m, k)
			if err != nil || r.Holds != (c.whole == sound) || !strings.HasPrefix(r.Text, c.text) {
				t.Errorf("verified: %+v %v", r, err)
			}
			if first := max(c.whole, -1); r.FirstBad != first {
				t.Errorf("verified: the first is %d, and not %d", r.FirstBad, first)
			}
			_, err = Continue(m, k, Head{}, func(Entry) {})
			told(t, "from the start", err, c.start)
			_, err = Continue(m, k, kept, func(Entry) {})
			told(t, "from the head that was kept", err, c.since)
			_, err = Newest(m, k)
			told(t, "by its head", err, c.heads)
			before := len(m.entries)
			err = Write(m, k, Entry{By: "mara"})
			told(t, "before more is written", err, c.heads)
			if err != nil && len(m.entries) != before {
				t.Error("it was written all the same")
			}
		})
	}
}

// told asserts of which entry an error tells that the journal does not hold.
func told(t *testing.T, how string, err error, first int64) {
	t.Helper()
	var b *Broken
	switch {
	case first == sound && err != nil:
		t.Errorf("%s: %v", how, err)
	case first == sound:
	case !errors.As(err, &b):
		t.Errorf("%s: %v tells of no entry", how, err)
	case b.First != first:
		t.Errorf("%s: the first is %d, and not %d: %v", how, b.First, first, err)
	}
}

func TestAJournalGoesOn(t *testing.T) {
	m, k := written(t, thirteen)
	then, _ := written(t, seven)
	kept, err := k.Open(then.checkpoint)
	must.Do(t, err)
	var seen []Entry
	head, err := Continue(m, k, kept, func(e Entry) { seen = append(seen, e) })
	if err != nil || head.Size != thirteen || len(seen) != thirteen-seven {
		t.Fatalf("%+v %d %v", head, len(seen), err)
	}
	if e := seen[0]; e.Number != seven || e.By != "mara" || e.Action != "key.vouch" || e.Object != "key 7" ||
		e.Detail["source"] != "tarn" || !e.At.Equal(time.Unix(seven, 0)) {
		t.Errorf("%+v", e)
	}
	if again, err := Continue(m, k, head, func(Entry) { t.Error("it was read twice") }); err != nil ||
		again != head {
		t.Errorf("%+v %v", again, err)
	}
	if newest, err := Newest(m, k); err != nil || newest != head {
		t.Errorf("%+v %v", newest, err)
	}
}

// A time is kept to the millisecond, in UTC, as it is hashed.
func TestAnEntryKeepsItsTime(t *testing.T) {
	m, k := written(t, 0)
	at := time.Date(2026, 3, 4, 5, 6, 7, 8_999_999, time.FixedZone("two hours east", 2*60*60))
	must.Do(t, Write(m, k, Entry{At: at, Number: 99}))
	want := `{"number":0,"at":"2026-03-04T03:06:07.008Z","by":"","action":"","object":""}`
	if string(m.entries[0]) != want {
		t.Errorf("%s", m.entries[0])
	}
	if east := (Entry{At: at.Truncate(time.Millisecond)}).Text(); string(east) != want {
		t.Errorf("%s", east)
	}
}

// A head that was kept elsewhere is read as people copy it.
func TestAHeadThatWasKeptElsewhere(t *testing.T) {
	m, k := written(t, thirteen)
	old, _ := written(t, seven)
	longer, _ := written(t, thirteen+1)
	other := rewritten(t, 3, seven)
	sign := func(text string) string {
		signed, err := note.Sign(&note.Note{Text: text}, k.signer)
		must.Do(t, err)
		return string(signed)
	}
	h, err := k.Open(old.checkpoint)
	must.Do(t, err)
	for _, c := range []struct {
		name, signed string
		first        int64
		size         int64
		text         string
	}{
		{"as it was", old.checkpoint, sound, seven, ""},
		{"behind empty lines", "\r\n\n" + old.checkpoint, sound, seven, ""},
		{"none", "", sound, 0, ""},
		{"of a longer journal", longer.checkpoint, thirteen, thirteen + 1,
			"it has 13 entries, but a head that was signed before counts"},
		{"of another journal", other.checkpoint, -1, seven, "first 7 entries are not those that were signed"},
		{"cut", old.checkpoint[:len(old.checkpoint)-9], -1, 0, "the signature of its head is not valid"},
		{"of something else", sign("a letter\n"), -1, 0, "its head cannot be read"},
		{"without a hash", sign(origin + "\n7\n"), -1, 0, "its head cannot be read"},
		{"with half a hash", sign(origin + "\n7\n" + h.Root.String()[:20] + "\n"), -1, 0,
			"its head cannot be read"},
		{"with more behind it", sign(checkpointText(seven, h.Root) + "and more\n"), -1, 0,
			"its head cannot be read"},
		{"of another origin", sign(strings.Replace(checkpointText(seven, h.Root), origin, "other", 1)), -1, 0,
			"its head cannot be read"},
		{"with a size in another form", sign(strings.Replace(checkpointText(seven, h.Root), "7", "+7", 1)),
			-1, 0, "its head cannot be read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := Against(m, k, c.signed)
			told(t, "against it", err, c.first)
			if err == nil && got.Size != c.size || err != nil && !strings.Contains(err.Error(), c.text) {
				t.Errorf("%+v %v", got, err)
			}
		})
	}
	m.checkpoint = ""
	if _, err := Against(m, k, old.checkpoint); err == nil {
		t.Error("a journal whose own head is gone is said to hold against an older one")
	}
}

func TestAnEmptyJournalHolds(t *testing.T) {
	m, k := written(t, 0)
	r, err := Verify(m, k)
	if err != nil || !r.Holds || r.Text != "the journal is empty" || r.Checkpoint != "" || r.Entries != 0 {
		t.Errorf("%+v %v", r, err)
	}
	m, k = written(t, 1)
	if r, err := Verify(m, k); err != nil || !r.Holds || r.Checkpoint == "" ||
		!strings.HasPrefix(m.checkpoint, r.Checkpoint) {
		t.Errorf("%+v %v", r, err)
	}
}

// A store that fails says nothing of the journal: the fault comes back, nobody is told
// that the journal was tampered with, and nothing is written.
func TestAFaultOfTheStoreIsNoDamage(t *testing.T) {
	then, k := written(t, seven)
	kept, err := k.Open(then.checkpoint)
	must.Do(t, err)
	for name, do := range map[string]func(s Store) error{
		"verify":      func(s Store) error { _, err := Verify(s, k); return err },
		"newest":      func(s Store) error { _, err := Newest(s, k); return err },
		"continue":    func(s Store) error { _, err := Continue(s, k, Head{}, func(Entry) {}); return err },
		"go on":       func(s Store) error { _, err := Continue(s, k, kept, func(Entry) {}); return err },
		"against":     func(s Store) error { _, err := Against(s, k, then.checkpoint); return err },
		"prove":       func(s Store) error { _, err := Prove(s, k, 5); return err },
		"prove since": func(s Store) error { _, err := ProveSince(s, k, kept); return err },
		"write":       func(s Store) error { return Write(s, k, Entry{By: "mara"}) },
	} {
		t.Run(name, func(t *testing.T) {
			m, _ := written(t, thirteen)
			calls := &failing{memory: m, at: -1}
			must.Do(t, do(calls))
			if calls.n < 3 {
				t.Fatalf("only %d calls", calls.n)
			}
			for at := range calls.n {
				m, _ := written(t, thirteen)
				err := do(&failing{memory: m, at: at})
				var b *Broken
				if !errors.Is(err, errStore) || errors.As(err, &b) {
					t.Errorf("call %d fails: %v", at, err)
				}
				if len(m.entries) != thirteen {
					t.Errorf("call %d fails, and it was written", at)
				}
			}
		})
	}
}
