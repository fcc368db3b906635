package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/internal/must"
	"stockade/internal/service"
)

// A head that is kept elsewhere finds out records that were put back whole, editions and all.
func TestAWitnessFindsOutThatEverythingWasPutBack(t *testing.T) {
	t.Parallel()
	var kept string
	s := newSiteWith(t, func(c *service.Config) {
		kept = filepath.Join(filepath.Dir(c.Data), "elsewhere.head")
		c.Witness = kept
	})
	s.described()
	witnessed := func() string {
		head, _ := s.cli(0, "journal", "head")
		for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
			if raw, err := os.ReadFile(kept); err == nil && string(raw) == head {
				return head
			}
			if time.Since(begun) > 30*time.Second {
				t.Fatal("the witness does not get the newest head")
			}
		}
	}
	witnessed()
	records := filepath.Join(s.dir, "data", "stockade.db")
	s.stop()
	before := must.Read(t, records)
	s.start()
	s.cli(0, "account", "add", "ola", "--role", "viewer")
	head := witnessed()
	if out, _ := s.cli(0, "journal", "verify"); !strings.Contains(out, "chain intact") {
		t.Error(out)
	}
	s.stop()
	must.Do(t, os.WriteFile(records, []byte(before), 0o600))
	for _, beside := range []string{"-wal", "-shm"} {
		must.Do(t, os.RemoveAll(records+beside))
	}
	s.start()
	out, _ := s.cli(1, "journal", "verify")
	if !strings.Contains(out, "the witness file "+kept) || !strings.Contains(out,
		"a head that was signed before counts") {
		t.Error(out)
	}
	if raw := must.Read(t, kept); raw != head {
		t.Error("the witness was written over")
	}
	// One that cannot be read is told, and is no contradiction.
	s.stop()
	must.Do(t, os.Remove(kept))
	must.Do(t, os.Mkdir(kept, 0o755))
	s.start()
	if out, _ := s.cli(1, "journal", "verify"); !strings.Contains(out, "cannot be compared") {
		t.Error(out)
	}
}

// What the journal says is proved to somebody who has its public key and nothing else.
func TestAnEntryIsProvedWithoutTheService(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	at := func(name string) string { return filepath.Join(s.dir, name) }
	key := strings.TrimSpace(mustOut(s, "journal", "head", "-o", "ids"))
	s.cli(0, "journal", "head", "--out", at("old.head"))
	s.cli(0, "journal", "proof", "1", "--out", at("1.proof"))
	s.cli(0, "account", "add", "ola", "--role", "viewer")
	s.cli(0, "journal", "proof", "--since", at("old.head"), "--out", at("since.proof"))
	proof := must.Read(t, at("1.proof"))
	other := strings.Replace(proof, "index 1\n", "index 2\n", 1)
	must.Write(t, at("2.proof"), other)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"journal", "proof", "99"}, 2, "has no entry 99"},
		{[]string{"journal", "proof", "one"}, 2, "not the number of an entry"},
		{[]string{"journal", "proof"}, 2, "name an entry"},
		{[]string{"journal", "proof", "--since", at("1.proof")}, 1, "signature of its head"},
	} {
		if code, out, err := s.try(c.args...); code != c.code || !strings.Contains(out+err, c.says) {
			t.Errorf("%v: %d %s%s", c.args, code, out, err)
		}
	}
	s.stop() // from here on nothing answers
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{at("1.proof"), "--key", key}, 0, "entry 1 is in the journal of"},
		{[]string{at("since.proof"), "--since", at("old.head"), "--key", key}, 0,
			"all of them unchanged"},
		{[]string{at("2.proof"), "--key", key}, 1, "the proof does not hold"},
		{[]string{at("since.proof"), "--key", key}, 2, "not a proof of a journal"},
		{[]string{at("1.proof"), "--key", "x"}, 2, "not the public key of a journal"},
		{[]string{at("1.proof")}, 2, "name the public key"},
		{[]string{at("none"), "--key", key}, 2, "cannot read"},
	} {
		code, out, err := s.try(append([]string{"journal", "check"}, c.args...)...)
		if code != c.code || !strings.Contains(out+err, c.says) {
			t.Errorf("%v: %d %s%s", c.args, code, out, err)
		}
	}
	s.start()
}
