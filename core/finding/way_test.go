package finding

import "testing"

// What can be done about a finding is for objects of the kind that it can be done to.
func TestWhatCanBeDoneAboutAFinding(t *testing.T) {
	for _, c := range []struct {
		name string
		f    Finding
		way  Way
	}{
		{"a source that was not asked", New("source.never-accepted", "source tarn", "x"),
			Way{Does: Refresh, Of: "source tarn"}},
		{"of another kind of thing", New("source.stale", "edition barrage/1", "x"), Way{}},
		{"of nothing in particular", New("source.stale", "", "x"), Way{}},
		{"a code about which nothing is one thing", New("define.syntax", "source tarn", "x"), Way{}},
		{"no room: what goes is in the pool", New("mirror.will-not-fit", "mirror barrage", "x"),
			Way{Does: Sweep, Of: "pool"}},
		{"said of one finding", New("define.syntax", "lane steady", "x").By(Build, "mirror barrage"),
			Way{Does: Build, Of: "mirror barrage"}},
		{"a source for a mirror", New("mirror.missing-dependency", "mirror m", "x").Adding("tarn",
			"mirror m"), Way{Does: Add, Of: "mirror m", Source: "tarn"}},
		{"of an upstream", New("source.upstream-down", "source tarn", "x").OfUpstream("http://x.example"),
			Way{Does: Last, Of: "source tarn", Upstream: "http://x.example"}},
	} {
		if c.f.Way != c.way {
			t.Errorf("%s: %+v", c.name, c.f.Way)
		}
	}
}
