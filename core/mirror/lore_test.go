package mirror

import (
	"os"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/upstream"
	"stockade/internal/must"
)

// A list of advisories that was changed on this disk is found to be when it is read: it is set
// aside, and fetched again the next time.
func TestAListThatWasChangedOnDiskIsSetAside(t *testing.T) {
	w := newRPMWorld(t)
	out, err := w.build()
	must.Do(t, err)
	advised, list, ok := advisoryList(out.Publications[0])
	if !ok || advised == nil {
		t.Fatal("the source has no list of advisories")
	}
	store := w.builder.Pool.(*pool.Dir)
	sum, here := store.Find(upstream.Wanted(list.Path, list.Size, list.SHA256, list.SHA512))
	if !here {
		t.Fatal("it is not in the pool")
	}
	must.Do(t, os.Chmod(store.Path(sum), 0o644))
	must.Write(t, store.Path(sum), "rot")
	_, err = w.builder.lore(t.Context(), w.source, list)
	if f, _ := finding.From(err); f.Code != "edition.damaged" || f.Object != "source brine" ||
		!strings.Contains(f.Text, "updateinfo.xml.gz was changed on disk") ||
		!strings.Contains(f.WayOut, "run it again: the file is downloaded again") {
		t.Errorf("%v", err)
	}
	if files, _, err := store.Aside(); files != 1 || err != nil {
		t.Errorf("%d files are set aside, %v", files, err)
	}
	plain, err := w.builder.lore(t.Context(), w.source, list)
	must.Do(t, err)
	must.Do(t, plain.Close())
}
