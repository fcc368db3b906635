package rpm_test

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	. "stockade/core/archive/rpm"
	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/made/faults"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

func TestRichRequirementsBecomeClauses(t *testing.T) {
	for in, want := range map[string]string{
		"(a or b)":                      "a or b",
		"(a and b)":                     "a; b",
		"(a >= 1 and (b or c = 2))":     "a >= 1; b or c = 2",
		"(a if b)":                      "a or not b",
		"(a if b else c)":               "a or not b; c or b",
		"(a unless b)":                  "a; not b",
		"(a unless b else c)":           "a or c; a or b; not b or c; not b or b",
		"(a with b >= 2)":               "a with b >= 2",
		"(a >= 2 with a < 3)":           "a >= 2 with a < 3",
		"(a without b)":                 "a without b",
		"(lib(x)(64bit) or (p(y) = 1))": "lib(x)(64bit) or p(y) = 1",
		"((a and b) if (c or d))":       "a or not c; a or not d; b or not c; b or not d",
		"(a or b or c)":                 "a or b or c",
	} {
		got, err := ParseRich(in, false)
		if err != nil {
			t.Errorf("%s: %v", in, err)
			continue
		}
		var parts []string
		for _, c := range got {
			parts = append(parts, c.String())
		}
		if s := strings.Join(parts, "; "); s != want {
			t.Errorf("%s: %s, and %s was meant", in, s, want)
		}
	}
	// As a conflict: it must not hold.
	for in, want := range map[string]string{
		"(a and b)":    "[not a or not b]",
		"(a or b)":     "[not a not b]",
		"(a if b)":     "[not a b]",
		"(a unless b)": "[not a or b]",
	} {
		got, err := ParseRich(in, true)
		if err != nil || fmt.Sprint(got) != want {
			t.Errorf("not %s: %v %v", in, got, err)
		}
	}
	const parenthesis, operator = "does not begin with a parenthesis", "has an unknown operator"
	for text, says := range map[string]string{"": parenthesis, "a": parenthesis, "(": "lacks a name",
		"()": "lacks a name", "(a": operator, "(a b)": operator, "(a xor b)": operator,
		"(a and)":        "lacks a name",
		"(a and b or c)": "mixes operators without parentheses", "(a if b if c)": "chains if",
		"(a >=)": "lacks a version", "(a <> 1)": "has an unknown comparison",
		"(a and b) c": "has text after its end",
		strings.Repeat("(", 100) + "a" + strings.Repeat(")", 100): "is nested too deep"} {
		_, err := ParseRich(text, false)
		told.Refused(t, text, err, "source.malformed-index", says)
	}
}

func published(t *testing.T, change func(r *made.RPMRepository)) (map[string][]byte, *archive.Root) {
	t.Helper()
	r := made.RPMRepository{Name: "brine", CPE: "cpe:/o:brine:drives:9", Distro: "Brine 9",
		Date: time.Unix(1_790_000_000, 0), Packages: []made.RPM{pumpctl,
			{Name: "libbrine", Version: "3.0-1", Arch: "i686"},
			{Name: "tables", Version: "1-1", Arch: "noarch"},
			{Name: "pumpctl", Version: "1-1", Arch: "src"}, {Name: "other", Version: "1-1", Arch: "aarch64"}}}
	if change != nil {
		change(&r)
	}
	files, err := r.Publish(testKeys()[0])
	must.Do(t, err)
	root, err := Family{}.ReadRoot(spec, Family{}.Roots(spec)[0], files,
		keyringOf(testKeys()[0].Certificate()))
	must.Do(t, err)
	return files, root
}

var spec = archive.Source{Name: "brine", Family: "rpm", Release: "9", Architectures: []string{"x86_64"}}

func readAll(t *testing.T, files map[string][]byte, root *archive.Root) ([]*archive.Package, []string,
	error) {
	t.Helper()
	x, err := Family{}.Indexes(spec, root)
	must.Do(t, err)
	f := x[0].Files[0]
	plain, err := archive.Decompress(bytes.NewReader(files[f.Path]), f.Compression, 1<<30)
	must.Do(t, err)
	var out []*archive.Package
	var raws []string
	err = Family{}.ReadIndex(spec, x[0], plain, func(p *archive.Package, raw []byte) error {
		out, raws = append(out, p), append(raws, string(raw))
		return nil
	})
	return out, raws, err
}

func sum256(b []byte) string { return fmt.Sprintf("%x", sha256.Sum256(b)) }

func TestStreamsAndAdvisoriesAreRead(t *testing.T) {
	const modules = "---\ndocument: modulemd\nversion: 2\ndata:\n  name: panel\n  stream: \"2\"\n  " +
		"artifacts:\n    rpms:\n    - panel-0:2.6-1.x86_64\n...\n---\ndocument: modulemd-defaults\n" +
		"version: 1\ndata:\n  module: panel\n  stream: \"2\"\n...\n"
	s, err := ReadStreamList(strings.NewReader(modules))
	if err != nil || !slices.Equal(s.Names(), []string{"panel:2"}) {
		t.Fatalf("%+v %v", s, err)
	}
	if got := ActivateStreams([]*StreamList{s},
		nil).Of(&archive.Package{Name: "panel", Version: "2.6-1", Arch: "x86_64"}); got != "panel:2" {
		t.Errorf("stream %q", got)
	}
	for text, says := range map[string]string{
		"---\ndocument: modulemd\ndata: {name: \"a:b\", stream: x}\n": "a module stream has no valid name",
		"---\ndocument: [\n":                         "cannot be read",
		"---\ndocument: modulemd\ndata: {name: a}\n": "a module stream has no valid name",
	} {
		_, err := ReadStreamList(strings.NewReader(text))
		told.Refused(t, text, err, "source.malformed-index", says)
	}
	const updates = `<?xml version="1.0"?><updates><update type="security"><id>B-1</id><title>t &amp; u</title><issued date="2026-11-02 09:00:00"/><severity>Important</severity>
<references><reference href="https://brine.example/1"/></references><pkglist><collection><package name="pumpctl" version="3.2.0" release="1" epoch="0" arch="x86_64"/><package name="q" version="1" release="1" epoch="4" arch="noarch"/></collection></pkglist></update>
<update type="bugfix"><id>B-2</id></update></updates>`
	var got []string
	must.Do(t, ReadAdvisoryList(strings.NewReader(updates), func(a *archive.Advisory) error {
		got = append(got, fmt.Sprint(a.ID, a.Kind, a.Severity, a.Title, a.Issued.Format(time.DateOnly),
			a.References, a.Packages))
		return nil
	}))
	if s := strings.Join(got, "|"); s !=
		"B-1securityImportantt & u2026-11-02[https://brine.example/1] [{pumpctl 3.2.0-1 x86_64} {q 4:1-1 "+
			"noarch}]|B-2bugfix0001-01-01[] []" {
		t.Error(s)
	}
}

// What is written for a tailored mirror reads back, and says only what concerns
// what was chosen.
func TestAWrittenRepositoryReadsBack(t *testing.T) {
	files, root := published(t, func(r *made.RPMRepository) {
		r.Updates = `<update type="security"><id>ABOUT-PUMPCTL</id><pkglist><collection><package name="pumpctl" version="3.2.0" release="1.el9" epoch="2" arch="x86_64"/></collection></pkglist></update>
<update type="security"><id>ABOUT-ANOTHER</id><pkglist><collection><package name="another" version="1" release="1" epoch="0" arch="x86_64"/></collection></pkglist></update>`
		r.Groups = `<?xml version="1.0"?><comps><group><id>g</id><packagelist><packagereq>pumpctl</packagereq></packagelist></group></comps>`
		r.Modules = "---\ndocument: modulemd\nversion: 2\ndata:\n  name: m\n  stream: s\n  artifacts: " +
			"{rpms: [\"pumpctl-2:3.2.0-1.el9.x86_64\"]}\n...\n---\ndocument: modulemd\nversion: 2\ndata:\n" +
			"  name: n\n  stream: s\n  artifacts: {rpms: [\"another-0:1-1.x86_64\"]}\n...\n---\ndocument: " +
			"modulemd-defaults\nversion: 1\ndata: {module: n, stream: s}\n...\n"
	})
	all, raws, err := readAll(t, files, root)
	must.Do(t, err)
	// as when something needs it by path
	all[0].Provides = append(all[0].Provides, archive.Provide{Name: "/usr/share/pump/data"})
	var out map[string][]byte
	writing := archive.Writing{Source: spec, Root: root,
		Time: time.Unix(1_790_001_000, 0), Sign: testKeys()[1],
		Each: func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
			f func(*archive.Package, []byte) error) error {
			return f(all[0], []byte(raws[0]))
		},
		Open: func(f archive.IndexFile) (io.ReadCloser, error) {
			return archive.Decompress(bytes.NewReader(files[f.Path]), f.Compression, 1<<30)
		},
		Package: func(p *archive.Package) (io.ReadSeekCloser, error) {
			return nopCloser{bytes.NewReader(files[p.Path])}, nil
		},
		Put: func(p string, data []byte) error { out[p] = data; return nil },
	}
	write := func() map[string][]byte {
		out = map[string][]byte{}
		must.Do(t, (Family{}).Write(writing))
		return out
	}
	calls := faults.Writing(writing, func(w archive.Writing) error {
		out = map[string][]byte{}
		return Family{}.Write(w)
	}, func(call int, err error) {
		if !errors.Is(err, faults.Err) {
			t.Errorf("call %d fails: %v", call, err)
		}
		if out["repodata/repomd.xml"] != nil && len(out) < 4 {
			t.Errorf("call %d fails, and there is a root without its indexes", call)
		}
	})
	if calls < 10 {
		t.Errorf("only %d calls", calls)
	}
	first := write()
	again := write()
	out = first
	for p := range out {
		if strings.HasSuffix(p, ".gz") && !bytes.Equal(out[p], again[p]) {
			t.Errorf("%s differs the second time", p)
		}
	}
	r, err := Family{}.ReadRoot(spec, Family{}.Roots(spec)[0], out, keyringOf(testKeys()[1].Certificate()))
	must.Do(t, err)
	for p, e := range r.Entries {
		if int64(len(out[p])) != e.Size || sum256(out[p]) != e.SHA256 || !(Family{}).Lasting(p) {
			t.Errorf("%s is not as the root says", p)
		}
	}
	got, raw, err := readAll(t, out, r)
	if err != nil || len(got) != 1 || got[0].Path != all[0].Path || got[0].SHA256 != all[0].SHA256 ||
		!strings.Contains(raw[0], "<file>/usr/share/pump/data</file>") {
		t.Errorf("%+v %v\n%s", got, err, raw)
	}
	text := func(kind string) string {
		f, ok := FileOf(r, kind)
		if !ok {
			return ""
		}
		plain, err := archive.Decompress(bytes.NewReader(out[f.Path]), f.Compression, 1<<30)
		must.Do(t, err)
		b, err := io.ReadAll(plain)
		must.Do(t, err)
		return string(b)
	}
	if s := text("updateinfo"); !strings.Contains(s, "ABOUT-PUMPCTL") ||
		strings.Contains(s, "ABOUT-ANOTHER") {
		t.Error(s)
	}
	// Also what no chosen package is of: what is on follows from all of it.
	if s := text("modules"); !strings.Contains(s, "name: m") || !strings.Contains(s, "another") ||
		!strings.Contains(s, "modulemd-defaults") {
		t.Error(s)
	}
	if !strings.Contains(text("group"), "pumpctl") || !strings.Contains(text("other"), "- first") ||
		!strings.Contains(text("filelists"), "/usr/share/pump/data") {
		t.Error("groups, changes or files are missing")
	}
	if kinds := slices.Sorted(maps.Keys(r.Fields)); len(kinds) != 7 {
		t.Errorf("%v", kinds)
	}
}

type nopCloser struct{ io.ReadSeeker }

func (nopCloser) Close() error { return nil }

func TestMachinesGetTheirFiles(t *testing.T) {
	src := func(name string, priority int) archive.ClientSource {
		return archive.ClientSource{Source: archive.Source{Name: name, Architectures: []string{"x86_64"}},
			Priority: priority, Streams: []string{"panel:3"},
			Keys: []archive.ClientKey{{Fingerprint: "ABCD", Armoured: "key\n"}}}
	}
	files, notes, err := archive.ClientFiles(Family{},
		archive.Client{Sources: []archive.ClientSource{src("b", 40), src("a", 20)},
			Pins: []archive.Relation{{Name: "pumpctl", Op: archive.Equal, Version: "3.1-2"}}}, "steady",
		"/media/a b/x")
	if err != nil || len(notes) > 0 {
		t.Fatal(err, notes)
	}
	by := map[string]string{}
	for _, f := range files {
		by[f.Path] = string(f.Data)
	}
	repo := by["etc/yum.repos.d/stockade.repo"]
	for _, want := range []string{"[stockade-a]", "baseurl=file:///media/a%20b/x/a/", "priority=20",
		"gpgcheck=1\nrepo_gpgcheck=1", "gpgkey=file:///etc/pki/rpm-gpg/stockade-a-ABCD.asc",
		"pumpctl-0:3.1-[!2]*.*", "pumpctl-0:3.1?*-*.*", "pumpctl-0:3-*.*", "pumpctl-0:3.1-2?*.*",
		"pumpctl-0:[!3]*-*.*",
		"pumpctl-[123456789]:*", "pumpctl-[0-9][0-9]:*"} {
		if !strings.Contains(repo, want) {
			t.Errorf("no %q in\n%s", want, repo)
		}
	}
	if strings.Index(repo, "[stockade-a]") > strings.Index(repo, "[stockade-b]") ||
		by["etc/dnf/modules.d/panel.module"] == "" || !strings.Contains(by["etc/zypp/locks"],
		"version: > 3.1-2") || by["etc/pki/rpm-gpg/stockade-setup"] == "" {
		t.Errorf("%v", by)
	}
	if _, notes, _ := archive.ClientFiles(Family{}, archive.Client{Architectures: []string{"aarch64"},
		Sources: []archive.ClientSource{src("a", 20)},
	}, "steady", "/media"); len(notes.With("source.architecture-missing")) != 1 {
		t.Error(notes)
	}
	if _, _, err := archive.ClientFiles(Family{}, archive.Client{Pins: []archive.Relation{{Name: "a",
		Op: archive.Greater, Version: "1"}}}, "steady", "/media"); err == nil {
		t.Error("a pin that is none was accepted")
	}
}

func TestDescriptionsOfSourcesAreChecked(t *testing.T) {
	for name, c := range map[string]struct {
		change func(s *archive.Source)
		bad    bool
	}{
		"good":                  {func(s *archive.Source) {}, false},
		"without a release":     {func(s *archive.Source) { s.Release = "" }, false},
		"components":            {func(s *archive.Source) { s.Components = []string{"core"} }, true},
		"no architectures":      {func(s *archive.Source) { s.Architectures = nil }, true},
		"another family's name": {func(s *archive.Source) { s.Architectures = []string{"amd64"} }, true},
		"for all":               {func(s *archive.Source) { s.Architectures = []string{"noarch"} }, true},
	} {
		s := archive.Source{Name: "x", Release: "9", Architectures: []string{"x86_64"}}
		c.change(&s)
		if got := (Family{}).CheckSource(s).HasErrors(); got != c.bad {
			t.Errorf("%s: %v", name, (Family{}).CheckSource(s))
		}
	}
}

func TestBooleanRequirementsAreBounded(t *testing.T) {
	chain := func(op string, n int) string {
		return "(a" + strings.Repeat(" "+op+" b", n-1) + ")"
	}
	for _, c := range []struct {
		name, text string
		code       string // empty: it is read
		clauses    int
	}{
		{"as many operands as may be, or", chain("or", MaxRichOperands), "", 1},
		{"as many operands as may be, and", chain("and", MaxRichOperands), "", MaxRichOperands},
		{"as many operands as may be, with", chain("with", MaxRichOperands), "", 1},
		{"one more", chain("or", MaxRichOperands+1), "content.too-large", 0},
		{"a long text", "(" + strings.Repeat("a", MaxRichText) + " or b)", "content.too-large", 0},
		{"cases that multiply", "((a and b and c and d) or (a and b and c and d) or (a and b and c and d) " +
			"or (a and b and c and d) or (a and b and c and d) or (a and b and c and d))",
			"content.too-large", 0},
		{"alternatives that multiply", "(" + chain("or", 200) + " with " + chain("or", 200) + ")",
			"content.too-large", 0},
		{"nested as deep as may be", strings.Repeat("(a or ", MaxRichDepth) + "(a or b)" + strings.Repeat(")",
			MaxRichDepth), "", 1},
		{"nested deeper", strings.Repeat("(a or ", MaxRichDepth+1) + "(a or b)" + strings.Repeat(")",
			MaxRichDepth+1), "source.malformed-index", 0},
	} {
		got, err := ParseRich(c.text, false)
		f, _ := finding.From(err)
		if string(f.Code) != c.code || len(got) != c.clauses {
			t.Errorf("%s: %d clauses, %v", c.name, len(got), err)
		}
	}
}
