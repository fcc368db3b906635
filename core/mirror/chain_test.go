package mirror

import (
	"errors"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/must"
)

var everyFamily = archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{})

// states writes the links of a way with their states, and why where one is not compared.
func states(links []edition.Link) string {
	var out []string
	for _, l := range links {
		s := l.Kind
		if l.State != edition.Compared {
			s += ":" + string(l.State)
		}
		out = append(out, s)
	}
	return strings.Join(out, " ")
}

// follow gives the chain of the first package of a name.
func follow(t *testing.T, s shelf, name string) edition.Chain {
	t.Helper()
	items, err := s.ItemsNamed(name, "", "", 2)
	if err != nil || len(items) == 0 {
		t.Fatalf("%s: %v %v", name, items, err)
	}
	c, err := s.Chain(items[0], everyFamily)
	must.Do(t, err)
	return c
}

const whole = "package index root signature key vouch:sealed"

// In each family, and both ways of copying, what stands behind a package is compared from
// the stored bytes.
func TestWhatStandsBehindAPackageIsCompared(t *testing.T) {
	brine, wrack := newRPMWorld(t), newALPMWorld(t)
	faithful := newWorld(t)
	faithful.plan.Mirror.Copy, faithful.plan.Mirror.Complete = "faithful", "told"
	faithful.source.Want.Everything, faithful.source.Want.Packages = true, nil
	for name, c := range map[string]struct {
		w    *world
		of   string
		root string
	}{
		"deb":                       {newWorld(t), "sluicectl", "about/roots/tarn/dists/heron/InRelease"},
		"rpm":                       {brine.world, "pumpctl", "about/roots/brine/repodata/repomd.xml"},
		"alpm":                      {wrack.world, "echo-plot", "about/roots/wrack/wrack/os/x86_64/wrack.db"},
		"deb, copied byte for byte": {faithful, "sluicectl", "tarn/dists/heron/InRelease"},
	} {
		t.Run(name, func(t *testing.T) {
			signer := c.w.key.Certificate().Fingerprint
			c.w.source.Vouched = map[string]edition.Vouch{signer: {Evidence: "call 4471", By: "mara",
				At: c.w.now}}
			if _, err := c.w.build(); err != nil {
				t.Fatal(err)
			}
			_, s := c.w.open(1)
			got := follow(t, s, c.of)
			if states(got.Upstream) != whole || states(got.Site) != "package list manifest seal" ||
				!got.Holds() {
				t.Errorf("%s; %s\n%+v", states(got.Upstream), states(got.Site), got.Upstream)
			}
			vouch, root, key := got.Upstream[5], got.Upstream[2], got.Upstream[4]
			if vouch.By != "mara" || !strings.Contains(vouch.Text, "call 4471") || !vouch.At.Equal(c.w.now) ||
				vouch.Fingerprint != signer || key.Fingerprint != signer || root.Path != c.root ||
				got.Upstream[1].SHA256 == "" ||
				got.Site[3].Fingerprint != c.w.builder.Site.Certificate().Fingerprint {
				t.Errorf("%+v", got)
			}
			for _, path := range []string{root.Path, key.Path, got.Upstream[0].Path, got.Site[1].Path} {
				if _, ok := s.Find(path); !ok {
					t.Errorf("the edition has no %s, which the chain points at", path)
				}
			}
		})
	}
}

// Each link that does not hold is told as that one; what is not there any more is no damage,
// and is not said to have been compared.
func TestEachLinkThatDoesNotHold(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	_, s := w.open(1)
	good := follow(t, s, "libtide2")
	if states(good.Upstream) != whole || good.Upstream[5].Why == "" {
		t.Fatal(states(good.Upstream))
	}
	sum := func(path string) string {
		l, ok := s.Find(path)
		if !ok {
			t.Fatal(path)
		}
		return l.SHA256
	}
	signer := edition.SignerPath(w.key.Certificate().Fingerprint)
	const root = "about/roots/tarn/dists/heron/InRelease"
	for _, c := range []struct {
		name, sum string
		gone      bool
		want, why string
	}{
		{"the package, changed", good.Package.SHA256, false,
			"package:broken index root signature key vouch:sealed", "changed on disk"},
		{"the package, gone", good.Package.SHA256, true,
			"package:broken index root signature key vouch:sealed", "missing from the pool"},
		{"the list, gone", good.Upstream[1].SHA256, true,
			"package index:sealed root signature key vouch:sealed", "lists it"},
		{"the list, changed", good.Upstream[1].SHA256, false,
			"package index:sealed root signature key vouch:sealed", ""},
		{"the root, changed", sum(root), false,
			"package index:sealed root:broken signature:broken key:sealed vouch:sealed", "changed on disk"},
		{"the root, gone", sum(root), true, "package index:sealed root:broken signature:broken " +
			"key:sealed vouch:sealed", "missing from the pool"},
		{"the certificate, gone", sum(signer), true,
			"package index:sealed root:broken signature:broken key:sealed vouch:sealed", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := w.builder.Pool.(*pool.Dir).Path(c.sum)
			data, err := os.ReadFile(file)
			must.Do(t, err)
			defer func() {
				os.Remove(file)
				must.Do(t, os.WriteFile(file, data, 0o444))
			}()
			must.Do(t, os.Remove(file))
			if !c.gone {
				must.Do(t, os.WriteFile(file, flip(append([]byte{}, data...)), 0o444))
			}
			_, again := w.open(1)
			got := follow(t, again, "libtide2")
			if states(got.Upstream) != c.want || got.Holds() == strings.Contains(c.want, "broken") {
				t.Errorf("%s: %+v", states(got.Upstream), got.Upstream)
			}
			told := false
			for _, l := range got.Upstream {
				told = told || strings.Contains(l.Why, c.why)
			}
			if !told {
				t.Errorf("that it is %q is not told: %+v", c.why, got.Upstream)
			}
		})
	}
	// A list that was written anew, and still names the package, is not the one that was signed for.
	list := w.builder.Pool.(*pool.Dir).Path(good.Upstream[1].SHA256)
	packed, err := os.ReadFile(list)
	must.Do(t, err)
	anew, err := archive.Compress(append(mustPlain(t, packed), '\n'), "xz")
	must.Do(t, err)
	must.Do(t, errors.Join(os.Remove(list), os.WriteFile(list, anew, 0o444)))
	if got := follow(t, s, "libtide2").Upstream[1]; got.State != edition.AsSealed ||
		!strings.Contains(got.Why, "was changed on disk") {
		t.Errorf("a list that was written anew: %+v", got)
	}
	must.Do(t, errors.Join(os.Remove(list), os.WriteFile(list, packed, 0o444)))
	used := &s.Edition.Sources[0].Indexes[0]
	digest := used.SHA256
	used.SHA256 = strings.Repeat("0", 64) // of none that the root names
	if got := follow(t, s, "libtide2").Upstream[1]; got.State != edition.Broken ||
		!strings.Contains(got.Why, "does not list "+used.Path+" with the checksum that") {
		t.Errorf("a list that the root does not name: %+v", got)
	}
	used.SHA256 = digest
	// A root that was signed by somebody else, and put under the right digest: the edition
	// itself says another signer than the certificate beside it.
	s.Edition.Sources[0].Signer.Fingerprint = w.builder.Site.Certificate().Fingerprint
	s.Edition.SiteKey = "another"
	if got := follow(t, s, "libtide2"); !strings.Contains(states(got.Upstream), "root:broken") {
		t.Errorf("%+v", got.Upstream)
	}
	// An edition from before roots were kept says that nothing was compared.
	_, old := w.open(1)
	old.Edition.Sources[0].Roots = nil
	got := follow(t, old, "libtide2")
	if states(got.Upstream) != "package index:sealed root:sealed signature:sealed key:sealed vouch:sealed" ||
		!strings.Contains(got.Upstream[2].Why, "this edition was sealed before Stockade kept") ||
		!got.Holds() {
		t.Errorf("%+v", got.Upstream)
	}
	if l := got.Upstream[5]; l.By != "" || !strings.Contains(l.Why,
		"this edition was sealed before Stockade") {
		t.Errorf("%+v", l)
	}
	// A key that has ended since signed all the same when the edition was made.
	w.now = w.now.Add(20 * 365 * 24 * time.Hour)
	if got := follow(t, shelf{mustOpen(w), t}, "libtide2"); states(got.Upstream) != whole {
		t.Errorf("%s", states(got.Upstream))
	}
	it := good.Package
	it.Source = "nowhere"
	if _, err := s.Chain(it, everyFamily); err == nil {
		t.Error("a package of a source that the edition has not")
	}
	it = good.Package
	it.SHA256 = strings.Repeat("0", 64)
	if c, err := old.Chain(it, everyFamily); err != nil || c.Site[1].State != edition.Broken {
		t.Errorf("a package that the list does not name: %+v %v", c.Site, err)
	}
}

// shut is a pool of which this machine cannot read one file.
type shut struct {
	pool.Store
	sum string
}

func (s shut) Open(sum string) (pool.Blob, error) {
	if sum == s.sum {
		return nil, syscall.EMFILE
	}
	return s.Store.Open(sum)
}

// What this machine cannot read is no damage: no chain is told then. And a list that says anything
// else of the package than the edition does is not said to name it.
func TestAChainIsOfThePackageAsItIs(t *testing.T) {
	w := newWorld(t)
	_, err := w.build()
	must.Do(t, err)
	_, s := w.open(1)
	items, err := s.ItemsNamed("libtide2", "", "", 1)
	if err != nil || len(items) != 1 {
		t.Fatal(items, err)
	}
	good := follow(t, s, "libtide2")
	root, ok := s.Find("about/roots/tarn/dists/heron/InRelease")
	signer, also := s.Find(edition.SignerPath(w.key.Certificate().Fingerprint))
	if !ok || !also {
		t.Fatal("the edition lacks what the chain is about")
	}
	for what, sum := range map[string]string{"package": items[0].SHA256, "list": good.Upstream[1].SHA256,
		"root": root.SHA256, "certificate": signer.SHA256} {
		e, err := edition.Open(w.folder(1), []*trust.Certificate{w.builder.Site.Certificate()},
			shut{w.builder.Pool, sum})
		must.Do(t, err)
		_, err = e.Chain(items[0], everyFamily)
		if f, ok := finding.Fault(err, "read"); !ok || f.Code != finding.FaultCode {
			t.Errorf("the %s cannot be read: %v", what, err)
		}
	}
	const unnamed = "package index:sealed root signature key vouch:sealed"
	for what, change := range map[string]func(it *edition.Item){
		"another name":         func(it *edition.Item) { it.Name = "libtide3" },
		"another version":      func(it *edition.Item) { it.Version = "9" },
		"another architecture": func(it *edition.Item) { it.Arch = "arm64" },
	} {
		it := items[0]
		change(&it)
		if c, err := s.Chain(it, everyFamily); err != nil || states(c.Upstream) != unnamed ||
			!strings.Contains(c.Upstream[1].Why, "no index that is still in the pool lists it") {
			t.Errorf("%s: %v %+v", what, err, c.Upstream)
		}
	}
	for what, change := range map[string]func(it *edition.Item){
		"another size":           func(it *edition.Item) { it.Size++ },
		"another SHA-512 digest": func(it *edition.Item) { it.SHA512 = strings.Repeat("0", 128) },
	} {
		it := items[0]
		change(&it)
		if c, err := s.Chain(it, everyFamily); err != nil || c.Upstream[0].State != edition.Broken {
			t.Errorf("%s: %v %+v", what, err, c.Upstream[0])
		}
	}
	// Of a family that this program does not know, nothing upstream is compared, and it says so.
	c, err := s.Chain(items[0], archive.NewRegistry(rpm.Family{}))
	if err != nil || strings.Contains(states(c.Upstream[1:]), "index ") ||
		c.Upstream[1].State == edition.Compared ||
		c.Upstream[2].State == edition.Compared {
		t.Errorf("%v %s", err, states(c.Upstream))
	}
	for _, n := range []struct {
		name, version, arch string
		found               int
	}{{"libtide2", "2.1-1", "amd64", 1}, {"libtide2", "9", "", 0}, {"libtide2", "", "arm64", 0},
		{"libtide", "", "", 0}} {
		if got, err := s.ItemsNamed(n.name, n.version, n.arch, 5); err != nil || len(got) != n.found {
			t.Errorf("%+v: %v %v", n, got, err)
		}
	}
	if near := s.Near("libtide3", definition.Nearest); near != "libtide2" {
		t.Errorf("near: %q", near)
	}
	why, err := s.Why(items[0])
	if err != nil || len(why) != 2 || why[0].Name != "libtide2" || why[1].Name != "sluicectl" ||
		!why[1].Wanted {
		t.Errorf("why: %+v %v", why, err)
	}
}

func mustOpen(w *world) *edition.Sealed {
	_, s := w.open(1)
	return s.Sealed
}
