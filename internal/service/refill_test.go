package service

import (
	"testing"

	"stockade/core/mirror"
	"stockade/internal/api"
)

// A disk on which nothing more can be built is told of, and so is that there is room again.
func TestAFullDiskIsTold(t *testing.T) {
	d := newDesk(t)
	for _, c := range []struct {
		free int64
		told int
	}{{mirror.Spare, 0}, {mirror.Spare - 1, 1}, {0, 1}, {1 << 40, 0}} {
		d.s.free = func() (int64, error) { return c.free, nil }
		var told api.Told
		d.must(d.ask(api.Viewer, "GET", "/findings", nil), 200, &told)
		if found := told.NeedsYou.With("site.disk-full"); len(found) != c.told {
			t.Errorf("with %d bytes free: got %v, want %d findings", c.free, found, c.told)
		}
		var page api.Overview
		d.must(d.ask(api.Viewer, "GET", "/overview", nil), 200, &page)
		if page.Errors != c.told || page.FreeBytes != c.free {
			t.Errorf("the overview says %d errors and %d bytes free", page.Errors, page.FreeBytes)
		}
	}
}
