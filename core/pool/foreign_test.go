package pool

import (
	"crypto/sha512"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"

	"stockade/internal/must"
)

// A file that came in under its SHA-512 alone is found again by it, and only while
// its bytes are those.
func TestAFileIsFoundAgainByItsSHA512(t *testing.T) {
	dir := t.TempDir()
	d, err := Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	data := []byte("tide tables")
	raw := sha512.Sum512(data)
	want := Want{Name: "tables", Size: int64(len(data)), Authority: ByDigest("", hex.EncodeToString(raw[:]))}
	if _, ok := d.Find(want); ok {
		t.Fatal("it is there before it came in")
	}
	fetched := 0
	fill := func(w Sink) error { fetched++; _, err := w.Write(data); return err }
	sum, err := d.Ingest(want, fill, nil)
	must.Do(t, err)
	if again, err := d.Ingest(want, fill, nil); err != nil || again != sum || fetched != 1 {
		t.Errorf("the second time it was fetched %d times in all, as %s, %v", fetched, again, err)
	}
	if found, ok := d.Find(want); !ok || found != sum {
		t.Errorf("found: %s, %v", found, ok)
	}
	if _, ok := d.Find(Want{Name: "tables", Size: want.Size + 1, Authority: want.Authority}); ok {
		t.Error("it is found with another size")
	}
	// A name that was written by somebody else leads nowhere.
	other, err := d.Add([]byte("An upstream served files that do not match the"))
	must.Do(t, err)
	path := d.foreign("sha512/" + want.digest(SHA512))
	must.Do(t, os.Chmod(path, 0o644))
	must.Write(t, path, other)
	if found, ok := d.Find(Want{Name: "tables", Size: -1, Authority: want.Authority}); ok {
		t.Errorf("other bytes are found: %s", found)
	}
	must.Do(t, d.Remove(other))
	must.Do(t, d.Tidy())
	if _, err := os.Stat(path); err == nil {
		t.Error("a name that leads to nothing stays")
	}
}

// What could not be made durable is not forgotten by the next Flush.
func TestAFailedFlushIsNotForgotten(t *testing.T) {
	dir := t.TempDir()
	d, err := Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	sum, err := d.Add([]byte("tide tables"))
	must.Do(t, err)
	if err := d.settle(); err != nil { // it has its place, and the place is not durable yet
		t.Fatal(err)
	}
	folder := filepath.Dir(d.Path(sum))
	must.Do(t, os.Rename(folder, folder+".away"))
	for range 2 {
		if err := d.Flush(); err == nil {
			t.Fatal("a folder that could not be synced is said to be durable")
		}
	}
	must.Do(t, os.Rename(folder+".away", folder))
	if err := d.Flush(); err != nil {
		t.Error(err)
	}
}
