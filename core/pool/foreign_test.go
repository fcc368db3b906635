package pool

import (
	"crypto/sha512"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"
)

// A file that came in under its SHA-512 alone is found again by it, and only while
// its bytes are those.
func TestAFileIsFoundAgainByItsSHA512(t *testing.T) {
	dir := t.TempDir()
	d, err := Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	if err != nil {
		t.Fatal(err)
	}
	data := []byte("tide tables")
	raw := sha512.Sum512(data)
	want := Want{Name: "tables", Size: int64(len(data)), Authority: ByDigest("", hex.EncodeToString(raw[:]))}
	if _, ok := d.Find(want); ok {
		t.Fatal("it is there before it came in")
	}
	fetched := 0
	fill := func(w Sink) error { fetched++; _, err := w.Write(data); return err }
	sum, err := d.Ingest(want, fill, nil)
	if err != nil {
		t.Fatal(err)
	}
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
	other, err := d.Add([]byte("other bytes"))
	if err != nil {
		t.Fatal(err)
	}
	path := d.foreign("sha512/" + want.digest(SHA512))
	os.Chmod(path, 0o644)
	if err := os.WriteFile(path, []byte(other), 0o644); err != nil {
		t.Fatal(err)
	}
	if found, ok := d.Find(Want{Name: "tables", Size: -1, Authority: want.Authority}); ok {
		t.Errorf("other bytes are found: %s", found)
	}
	if err := d.Remove(other); err != nil {
		t.Fatal(err)
	}
	if err := d.Tidy(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(path); err == nil {
		t.Error("a name that leads to nothing stays")
	}
}

// What could not be made durable is not forgotten by the next Flush.
func TestAFailedFlushIsNotForgotten(t *testing.T) {
	dir := t.TempDir()
	d, err := Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	if err != nil {
		t.Fatal(err)
	}
	sum, err := d.Add([]byte("tide tables"))
	if err != nil {
		t.Fatal(err)
	}
	if err := d.settle(); err != nil { // it has its place, and the place is not durable yet
		t.Fatal(err)
	}
	folder := filepath.Dir(d.Path(sum))
	if err := os.Rename(folder, folder+".away"); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := d.Flush(); err == nil {
			t.Fatal("a folder that could not be synced is said to be durable")
		}
	}
	if err := os.Rename(folder+".away", folder); err != nil {
		t.Fatal(err)
	}
	if err := d.Flush(); err != nil {
		t.Error(err)
	}
}
