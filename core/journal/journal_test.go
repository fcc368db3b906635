package journal

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

// memory is a Store for tests.
type memory struct {
	entries    [][]byte
	hashes     []tlog.Hash
	checkpoint string
}

func (m *memory) Size() (int64, error) { return int64(len(m.entries)), nil }

func (m *memory) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		if x >= int64(len(m.hashes)) {
			return nil, fmt.Errorf("no hash %d", x)
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

func written(t *testing.T, n int) (*memory, Keys) {
	t.Helper()
	k, err := NewKeys(bytes.Repeat([]byte{7}, 32))
	if err != nil {
		t.Fatal(err)
	}
	m := &memory{}
	for i := range n {
		if err := Write(m, k, Entry{
			At:     time.Unix(int64(i), 0),
			By:     "mara",
			Action: "key.vouch",
			Object: fmt.Sprintf("key %d", i),
			Detail: map[string]string{"source": "tarn"},
		}); err != nil {
			t.Fatal(err)
		}
	}
	return m, k
}

func TestWhatIsDoneToAJournalIsFound(t *testing.T) {
	for _, c := range []struct {
		name  string
		do    func(m *memory)
		first int64
	}{
		{"an entry changed", func(m *memory) {
			m.entries[5] = bytes.Replace(m.entries[5], []byte("tarn"), []byte("kelp"), 1)
		}, 5},
		{"an entry taken out", func(m *memory) { m.entries[5] = nil }, 5},
		{"the last one cut off", func(m *memory) { m.entries = m.entries[:12] }, 12},
		{"two swapped", func(m *memory) { m.entries[3], m.entries[4] = m.entries[4], m.entries[3] }, 3},
		{"an entry and its hash changed", func(m *memory) {
			m.entries[5] = bytes.Replace(m.entries[5], []byte("tarn"), []byte("kelp"), 1)
			m.hashes[tlog.StoredHashIndex(0, 5)] = tlog.RecordHash(m.entries[5])
		}, -1},
		{"one added without a checkpoint", func(m *memory) {
			e := Entry{Number: 13, By: "nobody"}
			h, _ := tlog.StoredHashes(13, e.Text(), reader{m})
			m.entries, m.hashes = append(m.entries, e.Text()), append(m.hashes, h...)
		}, -1},
		{"the checkpoint changed", func(m *memory) {
			m.checkpoint = strings.Replace(m.checkpoint, "\n13\n", "\n12\n", 1)
		}, -1},
		{"the checkpoint of another key", func(m *memory) {
			other, _ := NewKeys(bytes.Repeat([]byte{8}, 32))
			fresh := &memory{}
			Write(fresh, other, Entry{})
			m.checkpoint = fresh.checkpoint
		}, -1},
	} {
		t.Run(c.name, func(t *testing.T) {
			m, k := written(t, 13)
			if r, err := Verify(m, k); err != nil || !r.Holds || r.Entries != 13 {
				t.Fatalf("untouched: %+v %v", r, err)
			}
			c.do(m)
			if r, err := Verify(m, k); err != nil || r.Holds || r.FirstBad != c.first {
				t.Errorf("%+v %v; the first that does not fit is %d", r, err, c.first)
			}
		})
	}
}

func TestAnEmptyJournalHolds(t *testing.T) {
	m, k := written(t, 0)
	if r, err := Verify(m, k); err != nil || !r.Holds {
		t.Errorf("%+v %v", r, err)
	}
}
