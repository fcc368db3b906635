package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/internal/made"
	"stockade/internal/must"
)

// The readers are held against those of the real clients: entries are made and
// changed at random, and where both take one, they must take it for the same.
// STOCKADE_MUTATIONS makes more of them than the usual number, and
// STOCKADE_SEED others.
const (
	mutationsEach = 2400
	mutationSeed  = 20261125
)

func setting(name string, otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return otherwise
}

// seenPackage is a package as a reader sees it; relations are sorted.
type seenPackage struct {
	Name, Version, Arch, Path, Digest string
	Size                              int64
	Requires, Provides, Conflicts     []string
	Obsoletes                         []string
}

// mutator changes texts at random in ways that readers may differ about.
type mutator struct {
	*rand.Rand
	bytes  string   // that are put in
	tokens []string // that are put in, as they are and as lines
}

func newMutator(bytes string, tokens ...string) *mutator {
	seed := uint64(setting("STOCKADE_SEED", mutationSeed))
	return &mutator{rand.New(rand.NewPCG(seed, 7)), bytes, tokens}
}

func (m *mutator) mutate(text string) string {
	for range 1 + m.IntN(3)*m.IntN(2) {
		if text == "" {
			return text
		}
		at := m.IntN(len(text))
		lines := strings.SplitAfter(text, "\n")
		line := m.IntN(len(lines))
		put := func(i int, what string) string {
			return strings.Join(slices.Insert(slices.Clone(lines), i, what), "")
		}
		switch m.IntN(10) {
		case 0:
			text = text[:at] + string(m.bytes[m.IntN(len(m.bytes))]) + text[at+1:]
		case 1:
			text = text[:at] + text[at+1:]
		case 2, 3:
			text = text[:at] + string(m.bytes[m.IntN(len(m.bytes))]) + text[at:]
		case 4, 5:
			text = text[:at] + m.tokens[m.IntN(len(m.tokens))] + text[at:]
		case 6:
			text = put(line, lines[m.IntN(len(lines))])
		case 7:
			text = strings.Join(slices.Delete(slices.Clone(lines), line, line+1), "")
		case 8, 9:
			text = put(line, m.tokens[m.IntN(len(m.tokens))]+"\n")
		}
	}
	return text
}

// ours reads with a family's reader what a mirror would take.
func ours(f archive.Family, s archive.Source, x archive.IndexChoice, text string) (out []seenPackage,
	err error) {
	err = f.ReadIndex(s, x, strings.NewReader(text), func(p *archive.Package, _ []byte) error {
		rel, err := p.Needs.Relations()
		if err != nil {
			return err
		}
		q := seenPackage{Name: p.Name, Version: p.Version, Arch: p.Arch, Path: p.Path,
			Digest: p.SHA256 + p.SHA512, Size: p.Size}
		for _, c := range rel.Requires {
			q.Requires = append(q.Requires, c.String())
		}
		for _, v := range p.Provides {
			q.Provides = append(q.Provides, archive.Relation{Name: v.Name, Op: v.Op,
				Version: v.Version}.String())
		}
		for _, r := range rel.Conflicts {
			if r.Real {
				q.Obsoletes = append(q.Obsoletes, r.String())
			} else {
				q.Conflicts = append(q.Conflicts, r.String())
			}
		}
		for _, l := range []*[]string{&q.Requires, &q.Provides, &q.Conflicts, &q.Obsoletes} {
			slices.Sort(*l)
		}
		out = append(out, q)
		return nil
	})
	return out, err
}

// comparePackages tells where two readers differ about what is for a machine.
func comparePackages(t *testing.T, family archive.Matching, machine, text string, us, them []seenPackage,
	same func(a, b seenPackage) bool) {
	t.Helper()
	them = slices.DeleteFunc(them, func(p seenPackage) bool {
		return p.Arch != "" && family.Rank(p.Arch, machine) < 0
	})
	order := func(a, b seenPackage) int { return strings.Compare(a.Name+" "+a.Version, b.Name+" "+b.Version) }
	slices.SortFunc(us, order)
	slices.SortFunc(them, order)
	if len(us) == len(them) && slices.EqualFunc(us, them, same) {
		return
	}
	t.Errorf("two readers see two things in\n%s\nwe:   %+v\nthey: %+v", text, us, them)
}

// enough holds that the comparison says something: of so many entries this many
// were taken by both.
func enough(t *testing.T, both, all int) {
	t.Helper()
	t.Logf("%d of %d entries were taken by both readers", both, all)
	if both < all/8 {
		t.Errorf("only %d of %d entries were taken by both readers: the changes are too rough to say much",
			both, all)
	}
}

func TestStanzasAreReadAsTheRealClientReadsThem(t *testing.T) {
	t.Parallel()
	need(t, "apt-cache", "apt-get")
	m := newMutator(" \t\n:,|()<>=~+-.#aZ09\r\x00%/&;", "\n", " ", "\n\n", " \n", "\t", "Depends: other",
		"Depends : other", "depends: other", "Package: other", " Package: other",
		"Version: 9", "Provides: extra (= 3)", "Provides: extra", "Conflicts: extra", "Breaks: extra (<< 2)",
		"#", "# comment", "-", "Size: 7", "Filename: other.deb", "SHA256: "+strings.Repeat("b", 64),
		"Architecture: all", "Architecture: arm64", "Multi-Arch: same", "Essential: yes", ":any", "(>= 1)",
		" | ", ", ", "(= 2", "X-More: x\n y", "Pre-Depends: early", "Recommends: x", ".", "\r\n")
	dir := t.TempDir()
	index := func(n int) string { return filepath.Join(dir, fmt.Sprintf("m%05d", n), "Packages") }
	s := archive.Source{Name: "tarn", Architectures: []string{"amd64"}}
	n := setting("STOCKADE_MUTATIONS", mutationsEach)
	texts, seen := map[int]string{}, map[int][]seenPackage{}
	var files []int
	for i := range n {
		// Names are of their own in each, so that what one list says means nothing to another.
		base := strings.ReplaceAll(
			"Package: gateN\nVersion: 1:1.4-1\nArchitecture: amd64\nPre-Depends: libcN (>= 2)\nDepends: "+
				"libtideN (>= 2.1~rc1), tide-dataN | tide-tablesN (<< 3), pythonN:any\nProvides: gate-N "+
				"(= 2), lockN\nConflicts: sluiceN (<< 1)\nFilename: pool/gateN.deb\nSize: 5\nSHA256: "+
				strings.Repeat("a", 64)+"\nDescription: gate control\n more of it\n",
			"N", fmt.Sprintf("%05d", i))
		text := m.mutate(base) + fmt.Sprintf("\nPackage: calm%05d\nVersion: 1\nArchitecture: all\n"+
			"Filename: calm.deb\nSize: 1\nSHA256: %s\n", i, strings.Repeat("c", 64))
		us, err := ours(deb.Family{}, s, archive.IndexChoice{}, text)
		if err != nil || len(us) == 0 {
			continue
		}
		must.Do(t, os.MkdirAll(filepath.Dir(index(i)), 0o755))
		must.Write(t, index(i), text)
		texts[i], seen[i], files = text, us, append(files, i)
	}
	apt := aptReader{t: t, dir: dir, index: index}
	both := 0
	for chunk := range slices.Chunk(files, 200) {
		for i, them := range apt.read(chunk) {
			both++
			comparePackages(t, deb.Family{}, "amd64", texts[i], seen[i], them, func(a, b seenPackage) bool {
				return a.Name == b.Name && a.Version == b.Version && a.Arch == b.Arch && a.Path == b.Path &&
					a.Size == b.Size && a.Digest == b.Digest &&
					slices.Equal(a.Requires, b.Requires) && slices.Equal(a.Provides, b.Provides) &&
					slices.Equal(a.Conflicts, b.Conflicts)
			})
		}
	}
	enough(t, both, n)
}

// aptReader reads lists with apt-cache and apt-get on a machine with nothing.
type aptReader struct {
	t     *testing.T
	dir   string
	index func(n int) string
}

func (a aptReader) run(files []int, program string, args ...string) (string, error) {
	empty := filepath.Join(a.dir, "empty")
	must.Do(a.t, os.WriteFile(empty, nil, 0o644))
	line := []string{"-o", "Dir::State::status=" + empty, "-o", "Dir::Etc::sourcelist=/dev/null", "-o",
		"Dir::Etc::sourceparts=/dev/null", "-o", "Dir::Etc::preferencesparts=/dev/null",
		"-o", "Dir::State::lists=" + a.dir + "/lists", "-o", "Dir::Cache=" + a.dir + "/cache", "-o",
		"APT::Architecture=amd64", "-o", "APT::Architectures::=amd64", "-o", "APT::Cache::ShowVersion=true"}
	for _, d := range []string{"/lists/partial", "/cache/archives/partial"} {
		must.Do(a.t, os.MkdirAll(a.dir+d, 0o755))
	}
	for _, n := range files {
		line = append(line, "--with-source", a.index(n))
	}
	cmd := exec.Command(program, append(line, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.Output()
	return string(out), err
}

// read gives what the client sees in each file that it takes. A file that it
// refuses takes all others down with it; it is looked for and left out.
func (a aptReader) read(files []int) map[int][]seenPackage {
	dump, err := a.run(files, "apt-cache", "dump")
	if err != nil {
		if len(files) <= 1 {
			return nil
		}
		out := a.read(files[:len(files)/2])
		if out == nil {
			out = map[int][]seenPackage{}
		}
		maps.Copy(out, a.read(files[len(files)/2:]))
		return out
	}
	all := a.versions(dump)
	var names []string
	for n := range all {
		names = append(names, n)
	}
	slices.Sort(names)
	depends, _ := a.run(files, "apt-cache", append([]string{"depends"}, names...)...)
	a.relations(depends, all)
	shown, _ := a.run(files, "apt-cache", append([]string{"showpkg"}, names...)...)
	a.provides(shown, all)
	var exact []string
	for _, n := range names {
		exact = append(exact, n+"="+all[n].Version)
	}
	uris, err := a.run(files, "apt-get", append([]string{"download", "--print-uris"}, exact...)...)
	if err != nil {
		a.t.Logf("apt-get names no files: %v", err)
	}
	a.files(uris, all)
	out := map[int][]seenPackage{}
	for _, p := range all {
		out[p.file] = append(out[p.file], p.seenPackage)
	}
	return out
}

type aptPackage struct {
	seenPackage
	file int
}

var fromFile = regexp.MustCompile(`File: .*/m(\d+)/Packages$`)

// versions reads the dump of the cache: which version of what is in which file.
func (a aptReader) versions(dump string) map[string]*aptPackage {
	out := map[string]*aptPackage{}
	name, version := "", ""
	for line := range strings.Lines(dump) {
		line = strings.TrimRight(line, "\n")
		if rest, ok := strings.CutPrefix(line, "Package: "); ok {
			name, version = rest, ""
		} else if rest, ok := strings.CutPrefix(line, " Version: "); ok {
			version = rest
		} else if f := fromFile.FindStringSubmatch(line); f != nil && strings.HasPrefix(line, "     File:") &&
			version != "" {
			n, _ := strconv.Atoi(f[1])
			_, arch, _ := strings.Cut(name, ":") // of a machine that this one is not
			out[name] = &aptPackage{seenPackage{Name: name, Version: version, Arch: arch}, n}
		}
	}
	return out
}

var dependsLine = regexp.MustCompile(`^ ([ |])(\w+(?:-\w+)?): <?([^\s>]+)>?(?: \((\S+) (\S+)\))?`)

var aptOps = map[string]string{"<<": "<", ">>": ">", "<=": "<=", ">=": ">=", "=": "="}

func (a aptReader) relations(text string, all map[string]*aptPackage) {
	var p *aptPackage
	var clause []string
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if !strings.HasPrefix(line, " ") {
			p, clause = all[line], nil
			continue
		}
		f := dependsLine.FindStringSubmatch(line)
		if f == nil || p == nil {
			continue
		}
		r := f[3]
		if f[4] != "" {
			r += " " + aptOps[f[4]] + " " + f[5]
		}
		switch f[2] {
		case "Depends", "PreDepends":
			clause = append(clause, r)
			if f[1] != "|" {
				p.Requires, clause = append(p.Requires, strings.Join(clause, " or ")), nil
			}
		case "Conflicts", "Breaks":
			p.Conflicts = append(p.Conflicts, r)
		}
	}
	for _, p := range all {
		slices.Sort(p.Requires)
		slices.Sort(p.Conflicts)
	}
}

var provided = regexp.MustCompile(`(\S+) \(= ([^)]*)\)`)

func (a aptReader) provides(text string, all map[string]*aptPackage) {
	var p *aptPackage
	inside := false
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "Package: "):
			p, inside = all[strings.TrimPrefix(line, "Package: ")], false
		case strings.HasPrefix(line, "Provides:"):
			inside = true
		case strings.HasPrefix(line, "Reverse Provides:"):
			inside = false
		case inside && p != nil:
			for _, v := range provided.FindAllStringSubmatch(line, -1) {
				r := v[1]
				if v[2] != "" {
					r += " = " + v[2]
				}
				p.Provides = append(p.Provides, r)
			}
		}
	}
	for _, p := range all {
		slices.Sort(p.Provides)
	}
}

var uriLine = regexp.MustCompile(`^'file:(\S+)' \S+ (\d+) (\S+)`)

func (a aptReader) files(text string, all map[string]*aptPackage) {
	byFile := map[int][]*aptPackage{}
	for _, p := range all {
		byFile[p.file] = append(byFile[p.file], p)
	}
	for line := range strings.Lines(text) {
		f := uriLine.FindStringSubmatch(line)
		if f == nil {
			continue
		}
		rest, _ := strings.CutPrefix(f[1], a.dir+"/m")
		number, path, _ := strings.Cut(rest, "/")
		n, _ := strconv.Atoi(number)
		size, _ := strconv.ParseInt(f[2], 10, 64)
		// The line names the file by package and version.
		_, label, _ := strings.Cut(line, "' ")
		for _, p := range byFile[n] {
			if rest, ok := strings.CutPrefix(label, p.Name+"_"); ok {
				file, _, _ := strings.Cut(rest, " ")
				p.Arch = strings.TrimSuffix(file[strings.LastIndexByte(file, '_')+1:], ".deb")
				if plain, err := url.PathUnescape(path); err == nil {
					path = plain
				}
				p.Path, p.Size = strings.TrimPrefix(path, "./"), size
				p.Digest = strings.TrimPrefix(strings.TrimPrefix(f[3], "SHA256:"), "SHA512:")
			}
		}
	}
}

// python runs a script of testdata with lines on its input and gives what it
// answers to each.
func python(t *testing.T, script string, lines []string, args ...string) map[string]struct {
	Packages []seenPackage
} {
	t.Helper()
	out := map[string]struct{ Packages []seenPackage }{}
	cmd := exec.Command("/usr/bin/python3", append([]string{"testdata/" + script}, args...)...)
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	var problems strings.Builder
	cmd.Stderr = &problems
	raw, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v\n%s", script, err, problems.String())
	}
	sc := bufio.NewScanner(strings.NewReader(string(raw)))
	sc.Buffer(nil, 1<<24)
	for sc.Scan() {
		var answer struct {
			Folder   string
			Packages []seenPackage
		}
		if err := json.Unmarshal(sc.Bytes(), &answer); err != nil {
			t.Fatalf("%s answers %q: %v", script, sc.Text(), err)
		}
		out[answer.Folder] = struct{ Packages []seenPackage }{answer.Packages}
	}
	return out
}

func need(t *testing.T, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			t.Skipf("skipped: %s is not on this machine", p)
		}
	}
}

func TestPrimaryListsAreReadAsTheRealClientReadsThem(t *testing.T) {
	t.Parallel()
	need(t, "dnf")
	m := newMutator(" \t\n<>/=\"'&;:-.!?a09", "<name>other</name>", "<arch>noarch</arch>",
		`<version epoch="0" ver="9" rel="1"/>`, `<location href="other.rpm"/>`,
		`<checksum type="sha256" pkgid="YES">`+strings.Repeat("b", 64)+"</checksum>",
		`<rpm:requires><rpm:entry name="extra"/></rpm:requires>`,
		`<rpm:entry name="extra" flags="GE" epoch="0" ver="2"/>`,
		`<rpm:provides><rpm:entry name="extra"/></rpm:provides>`, "<format>", "</format>", "<!-- x -->",
		"<!-- <package type=\"rpm\"> -->",
		"<?x y?>", "<![CDATA[x]]>", "&amp;", "&lt;", "&#65;", ` type="rpm"`, ` flags="EQ"`, ` ver="3"`,
		` epoch="1"`, "<x:name>other</x:name>", "<more><name>other</name></more>",
		"<file>/usr/bin/extra</file>", `<size package="9"/>`, "<package type=\"rpm\"></package>",
		"\n", " ", `xml:base="x"`)
	dir := t.TempDir()
	s := archive.Source{Name: "brine", Architectures: []string{"x86_64"}}
	n := setting("STOCKADE_MUTATIONS", mutationsEach)
	seen, texts := map[string][]seenPackage{}, map[string]string{}
	var folders []string
	for i := range n {
		base := fmt.Sprintf(`<package type="rpm">
  <name>pump%05d</name>
  <arch>x86_64</arch>
  <version epoch="2" ver="3.2" rel="1.el9"/>
  <checksum type="sha256" pkgid="YES">%s</checksum>
  <summary>pumps</summary>
  <description>it pumps</description>
  <size package="5" installed="6" archive="7"/>
  <location href="Packages/pump.rpm"/>
  <format>
    <rpm:license>MIT</rpm:license>
    <rpm:provides>
      <rpm:entry name="pump-control" flags="EQ" epoch="0" ver="3.2"/>
      <rpm:entry name="lock"/>
    </rpm:provides>
    <rpm:requires>
      <rpm:entry name="libbrine" flags="GE" epoch="0" ver="3" rel="1"/>
      <rpm:entry name="bus"/>
    </rpm:requires>
    <rpm:conflicts>
      <rpm:entry name="old-pump" flags="LT" epoch="1" ver="2"/>
    </rpm:conflicts>
    <rpm:obsoletes>
      <rpm:entry name="older-pump" flags="LE" epoch="0" ver="1"/>
    </rpm:obsoletes>
    <file>/usr/bin/pump</file>
  </format>
</package>
`, i, strings.Repeat("a", 64))
		text := `<?xml version="1.0" encoding="UTF-8"?>` + "\n" +
			`<metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm" packages="1">` + "\n" + m.mutate(base) + "</metadata>\n"
		us, err := ours(rpm.Family{}, s, archive.IndexChoice{}, text)
		if err != nil {
			continue
		}
		folder := filepath.Join(dir, fmt.Sprint(i))
		must.Do(t, os.MkdirAll(folder, 0o755))
		for name, data := range map[string]string{"primary.xml": text,
			"repomd.xml": `<repomd><revision>1</revision></repomd>`} {
			must.Write(t, filepath.Join(folder, name), data)
		}
		folders = append(folders, folder)
		seen[folder], texts[folder] = us, text
	}
	both := 0
	for folder, they := range python(t, "read_primary.py", folders) {
		if they.Packages == nil {
			continue
		}
		both++
		them := they.Packages
		comparePackages(t, rpm.Family{}, "x86_64", texts[folder], seen[folder], them,
			func(a, b seenPackage) bool {
				files := func(s string) bool { return strings.HasPrefix(s, "/") }
				// The client counts a package's own name among what it provides.
				own := a.Name + " = " + a.Version
				without := func(l []string) []string {
					return slices.Compact(slices.DeleteFunc(slices.Clone(l), func(s string) bool {
						return files(s) || s == own
					}))
				}
				return a.Name == b.Name && a.Version == b.Version && a.Arch == b.Arch &&
					a.Path == strings.TrimPrefix(b.Path, "./") && a.Size == b.Size && a.Digest == b.Digest &&
					slices.Equal(slices.Compact(a.Requires), b.Requires) &&
					slices.Equal(without(a.Provides), without(b.Provides)) &&
					slices.Equal(slices.Compact(a.Conflicts), b.Conflicts) &&
					slices.Equal(slices.Compact(a.Obsoletes), b.Obsoletes)
			})
	}
	enough(t, both, n)
}

func TestDatabasesAreReadAsTheRealClientReadsThem(t *testing.T) {
	t.Parallel()
	need(t, "pacman")
	m := newMutator(" \t\n%<>=:-.a09\r/+;", "\n", "\n\n", " ", "%DEPENDS%", "%DEPENDS%\nextra",
		"\n%DEPENDS%\nextra\n", "%NAME%\nother\n", "%VERSION%\n9-1\n", "\n%PROVIDES%\nextra=2\n",
		"%PROVIDES%\nextra", "%FILENAME%\nother.pkg.tar.zst\n", "%ARCH%\nany\n",
		"%SHA256SUM%\n"+strings.Repeat("b", 64)+"\n", "%X%\ny\n", "%", "%%", "%CONFLICTS%\nextra\n", "%DESC%",
		"%CSIZE%\n7\n", ">=2", "=", "\r\n", ": why", "%PGPSIG%\nAAAA\n")
	dir := t.TempDir()
	must.Do(t, os.MkdirAll(filepath.Join(dir, "sync"), 0o755))
	n := setting("STOCKADE_MUTATIONS", mutationsEach)
	seen, texts := map[string][]seenPackage{}, map[string]string{}
	var names []string
	for i := range n {
		base := "%FILENAME%\nplot-1:2.3-2-x86_64.pkg.tar.zst\n\n%NAME%\nplot\n\n%BASE%\nplot\n\n%VERSION%\n" +
			"1:2.3-2\n\n%DESC%\ndraws\n\n%CSIZE%\n5\n\n%ISIZE%\n6\n\n%SHA256SUM%\n" + strings.Repeat("a",
			64) +
			"\n\n%ARCH%\nx86_64\n\n%LICENSE%\nMIT\n\n%CONFLICTS%\nplot1<2\n\n%PROVIDES%\nplotter=2\n" +
			"libplot.so=2-64\n\n%DEPENDS%\nlibecho>=1.8\nbus\n\n%OPTDEPENDS%\npaper: to print\n\n"
		text := m.mutate(base)
		data, err := made.AlpmDatabase(1, func(int) (string, []byte) {
			return "plot-1:2.3-2", []byte(text)
		})
		must.Do(t, err)
		plain, err := archive.Decompress(strings.NewReader(string(data)), "gz", 1<<20)
		must.Do(t, err)
		var tar strings.Builder
		if _, err := bufio.NewReader(plain).WriteTo(&tar); err != nil {
			t.Fatal(err)
		}
		us, err := ours(alpm.Family{}, archive.Source{Name: "wrack", Components: []string{"wrack"},
			Architectures: []string{"x86_64"}}, archive.IndexChoice{Component: "wrack", Arch: "x86_64"},
			tar.String())
		if err != nil {
			continue
		}
		name := fmt.Sprintf("m%05d", i)
		must.Do(t, os.WriteFile(filepath.Join(dir, "sync", name+".db"), data, 0o644))
		for k := range us {
			us[k].Path = filepath.Base(us[k].Path)
		}
		names = append(names, name)
		seen[name], texts[name] = us, text
	}
	both := 0
	for name, they := range python(t, "read_database.py", names, dir) {
		if they.Packages == nil {
			continue
		}
		both++
		comparePackages(t, alpm.Family{}, "x86_64", texts[name], seen[name], they.Packages,
			func(a, b seenPackage) bool {
				bare := func(l []string) (out []string) {
					for _, s := range l {
						out = append(out, strings.ReplaceAll(s, " ", ""))
					}
					slices.Sort(out)
					return out
				}
				return a.Name == b.Name && a.Version == b.Version && a.Arch == b.Arch && a.Path == b.Path &&
					a.Size == b.Size && a.Digest == b.Digest &&
					slices.Equal(bare(a.Requires), bare(b.Requires)) &&
					slices.Equal(bare(a.Provides), bare(b.Provides)) &&
					slices.Equal(bare(a.Conflicts), bare(b.Conflicts))
			})
	}
	enough(t, both, n)
}
