package deb_test

import (
	"bytes"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	. "stockade/core/archive/deb"
	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

func TestVersionsOrderAsPolicySays(t *testing.T) {
	// Each line is smaller than the next.
	ascending := []string{"0~~", "0~", "0", "0-0.1", "0.1", "1~rc1", "1.0~rc1-1", "1.0", "1.0-1", "1.0-1a",
		"1.0-1+b1", "1.0-1.1", "1.0-2", "1.0-10", "1.0a", "1.0+b", "1.1~", "1.1", "1.9", "1.10", "2", "1:0",
		"1:0.1", "2:0"}
	for i := range ascending {
		for j := range ascending {
			got := CompareVersions(ascending[i], ascending[j])
			if (i < j) != (got < 0) || (i > j) != (got > 0) {
				t.Errorf("%s against %s: %d", ascending[i], ascending[j], got)
			}
		}
	}
	for _, same := range [][2]string{{"1.0", "0:1.0"}, {"1.0", "1.00"}, {"1.0-0", "1.0"}, {"1.001", "1.1"}} {
		if CompareVersions(same[0], same[1]) != 0 {
			t.Errorf("%s and %s are the same", same[0], same[1])
		}
	}
}

// The real client's comparison is the measure, on every pair of a set that has
// what versions are made of.
func TestVersionsOrderAsTheRealClientDoes(t *testing.T) {
	dpkg, err := exec.LookPath("dpkg")
	if err != nil {
		t.Skip("skipped: dpkg is not on this machine")
	}
	set := []string{"1.0", "1.0-1", "1.0~rc1-1", "1.0+dfsg-1", "1.0+dfsg1-1~bpo1", "1:0.9", "0.9a", "0.9.1",
		"0.9+really0.8-2", "1.0-1ubuntu0.1", "1.0-1.1", "2024.10.01", "1.0~~", "1.0.0", "1.00", "10", "9",
		"1.0-a", "1.0-A", "1.0-z1", "1.0-1+b12", "1.0.-1", "1.0-", "3:1.0~rc2-1", "007", "1.0a-0~1",
		"1.0a.b+c~d-1", "2:1"}
	pairs := 0
	for i, a := range set {
		for _, b := range set[i:] {
			if strings.HasSuffix(a, "-") || strings.HasSuffix(b, "-") {
				continue // the real client refuses an empty revision
			}
			op := "eq"
			if c := CompareVersions(a, b); c < 0 {
				op = "lt"
			} else if c > 0 {
				op = "gt"
			}
			if err := exec.Command(dpkg, "--compare-versions", a, op, b).Run(); err != nil {
				t.Errorf("%s %s %s, and the real client says otherwise", a, op, b)
			}
			pairs++
		}
	}
	if pairs < 300 {
		t.Errorf("only %d pairs were compared", pairs)
	}
}

func TestPackagesAreReadInEveryCompression(t *testing.T) {
	for _, z := range []string{"", "gz", "xz", "zst"} {
		m := made.Deb{Name: "sluicectl", Version: "1:1.4-1", Arch: "amd64", Component: "core",
			Summary: "gate control",
			Files:   []made.File{{Path: "/usr/bin/sluicectl", Mode: 0o755, Data: []byte("x")}}}
		file, err := made.BuildDeb(m.Control(), m.Files, z)
		must.Do(t, err)
		id, err := ReadIdentity(bytes.NewReader(file))
		if err != nil || id != (archive.Identity{Name: "sluicectl", Version: "1:1.4-1", Arch: "amd64"}) {
			t.Errorf("%q: %v, %v", z, id, err)
		}
		// The real tool reads what we write.
		if tool, err := exec.LookPath("dpkg-deb"); err == nil {
			c := exec.Command(tool, "--info", "/dev/stdin")
			c.Stdin = bytes.NewReader(file)
			if out, err := c.CombinedOutput(); err != nil {
				c = exec.Command("sh", "-c",
					"f=$(mktemp); cat >$f; dpkg-deb --contents $f; s=$?; rm $f; exit $s")
				c.Stdin = bytes.NewReader(file)
				if out2, err := c.CombinedOutput(); err != nil || !strings.Contains(string(out2),
					"usr/bin/sluicectl") {
					t.Errorf("%q: dpkg-deb refuses it: %s %s", z, out, out2)
				}
			}
		}
	}
}

func TestReleaseFilesAreReadStrictly(t *testing.T) {
	good := "Origin: Tarn\nSuite: steady\nCodename: heron\nDate: Sat, 21 Nov 2026 08:00:00 UTC\n" +
		"Valid-Until: Sat, 28 Nov 2026 08:00:00 UTC\nArchitectures: amd64\n" +
		"Components: core\n" +
		"Acquire-By-Hash: yes\nSHA256:\n " + strings.Repeat("a", 64) + " 12 core/binary-amd64/Packages\n"
	r, err := ParseRelease([]byte(good), "dists/heron/")
	must.Do(t, err)
	e := r.Entries["dists/heron/core/binary-amd64/Packages"]
	if e.Size != 12 || !r.ByHash || !r.Date.Equal(time.Date(2026, 11, 21, 8, 0, 0, 0, time.UTC)) ||
		r.Expires.Sub(r.Date) != 7*24*time.Hour || len(r.Names) != 2 {
		t.Errorf("read as %+v", r)
	}
}

// A root is compared with what the definition asks for by each of its names: one that names its codename
// alone, or its suite alone, is no weaker for that.
func TestARootIsComparedWithTheDefinition(t *testing.T) {
	const mismatch = "source.release-mismatch"
	for name, c := range map[string]struct {
		names, release string // of the root; of the definition
		codes          string
	}{
		"both names":                {"Suite: steady\nCodename: heron\n", "heron", ""},
		"the codename alone":        {"Codename: heron\n", "heron", ""},
		"the suite alone":           {"Suite: heron\n", "heron", ""},
		"another codename alone":    {"Codename: osprey\n", "heron", mismatch},
		"another suite alone":       {"Suite: testing\n", "heron", mismatch},
		"neither name":              {"", "heron", mismatch},
		"both of another":           {"Suite: testing\nCodename: osprey\n", "heron", mismatch},
		"a name that begins alike":  {"Codename: heron-updates\n", "heron", mismatch},
		"a release of another case": {"Codename: Heron\n", "heron", mismatch},
	} {
		r, err := ParseRelease([]byte("Origin: Tarn\n"+c.names+"Date: Sat, 21 Nov 2026 08:00:00 UTC\n"+
			"Architectures: amd64\n"+
			"Components: core\nSHA256:\n "+strings.Repeat("a", 64)+
			" 12 core/binary-amd64/Packages\n"), "dists/heron/")
		must.Do(t, err)
		var codes []string
		for _, f := range (Family{}).CheckRoot(archive.Source{Name: "tarn", Release: c.release,
			Components: []string{"core"}, Architectures: []string{"amd64"}}, r) {
			codes = append(codes, string(f.Code))
		}
		if got := strings.Join(codes, " "); got != c.codes {
			t.Errorf("%s: got %q, want %q", name, got, c.codes)
		}
	}
	r, err := ParseRelease([]byte("Codename: heron\nDate: Sat, 21 Nov 2026 08:00:00 UTC\n"+
		"Architectures: amd64\n"+
		"Components: core\nSHA256:\n "+strings.Repeat("a", 64)+" 12 core/binary-amd64/Packages\n"),
		"dists/heron/")
	must.Do(t, err)
	found := Family{}.CheckRoot(archive.Source{Name: "tarn", Release: "heron",
		Components: []string{"core", "feild"}, Architectures: []string{"amd64", "arm64"}}, r)
	if len(found) != 2 || found[0].Code != "source.component-missing" ||
		!strings.Contains(found[0].WayOut, "core") || found[1].Code != "source.architecture-missing" {
		t.Errorf("got %v", found)
	}
}

// A line that is longer than what is read at once is read whole, and one above the limit is refused.
func TestALongLineIsReadWhole(t *testing.T) {
	for _, n := range []int{4<<10 - 1, 4 << 10, 64<<10 - 1, 64 << 10, 64<<10 + 1, 300 << 10} {
		long := strings.Repeat("x", n)
		want := "Package: a\nX-Long: " + long + "\nVersion: 1"
		r := NewStanzaReader(strings.NewReader(want + "\n\nPackage: b\n"))
		stanza, err := r.Next()
		must.Do(t, err)
		if strings.TrimRight(string(stanza), "\n") != want {
			t.Errorf("of %d characters %d were read", len(want), len(stanza))
		}
		if next, err := r.Next(); err != nil || !strings.HasPrefix(string(next), "Package: b") {
			t.Errorf("behind a line of %d characters: %q %v", n, next, err)
		}
	}
}

func TestStanzasAreBounded(t *testing.T) {
	endless := io.MultiReader(strings.NewReader("Package: a\nDescription: "), zeros{})
	_, err := NewStanzaReader(endless).Next()
	if f, ok := finding.From(err); !ok || f.Code != "content.too-large" {
		t.Errorf("a field without end: %v", err)
	}
	many := strings.Repeat("X-Field: 1\n", 1_000_000)
	if _, err := NewStanzaReader(strings.NewReader(many)).Next(); err == nil {
		t.Error("a million fields were accepted")
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'z'
	}
	return len(p), nil
}

func TestRelationsAreRead(t *testing.T) {
	c, err := ParseRelations("libtide2 (>= 2.0), gate-bus | serial-bus:any (<< 3), tide-data (=1),")
	must.Do(t, err)
	var got []string
	for _, x := range c {
		got = append(got, x.String())
	}
	if s := strings.Join(got, "; "); s != "libtide2 >= 2.0; gate-bus or serial-bus:any < 3; tide-data = 1" {
		t.Errorf("read as %s", s)
	}
	for text, says := range map[string]string{
		"a (>= )": "the relation \"a (>= )\" has an invalid version:", "a (1)": "has an unknown comparison",
		"a (=> 1)": "has an unknown comparison", "a (>= 1": "has no closing parenthesis",
		"a b": "has no valid package name", "a (>= 1) b": "has text after its version",
		"| a": "has no valid package name", "a [amd64]": "has no valid package name",
		"a <!nocheck>": "has no valid package name", "(>= 1)": "has no valid package name",
	} {
		_, err := ParseRelations(text)
		told.Refused(t, text, err, "source.malformed-index", says)
	}
}

// What of text from outside reaches the files of machines must stay on its line.
func TestClientFilesHoldNoTextFromOutsideThatBreaksOut(t *testing.T) {
	files, _, err := archive.ClientFiles(Family{}, archive.Client{Sources: []archive.ClientSource{{
		Source: archive.Source{Name: "tarn", Family: "deb", Release: "heron",
			Components: []string{"core"}, Architectures: []string{"amd64"}},
		Priority: 20, Origin: "Tarn\nPin-Priority: 1001", Label: "x\x1b[2J", Codename: "heron"}}}, "steady",
		"/media/a b")
	must.Do(t, err)
	for _, f := range files {
		if strings.Contains(string(f.Data), "\nPin-Priority: 1001") || strings.Contains(string(f.Data),
			"\x1b") {
			t.Errorf("%s: %q", f.Path, f.Data)
		}
	}
	var sources string
	for _, f := range files {
		if strings.HasSuffix(f.Path, ".sources") {
			sources = string(f.Data)
		}
	}
	if !strings.Contains(sources, "URIs: file:/media/a%20b/tarn") || !strings.Contains(sources,
		"Signed-By: /etc/apt/keyrings/stockade-tarn.gpg") {
		t.Errorf("sources:\n%s", sources)
	}
}
