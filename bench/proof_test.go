package bench

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/plotutil"
	"gonum.org/v1/plot/vg"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/definition"
	"stockade/core/solve"
	"stockade/internal/made"
	"stockade/internal/must"
)

// lists is the plain lists of packages of one family, as text to be parsed.
type lists struct {
	family archive.Family
	arch   string
	plain  [][]byte
}

// parsed parses them into a universe, and gives how many packages there are.
func (l lists) parsed(b *testing.B, limit int) (*solve.Universe, int) {
	b.Helper()
	var sources []solve.Source
	for i := range l.plain {
		sources = append(sources, solve.Source{Name: fmt.Sprint("s", i), Priority: 20,
			Architectures: []string{l.arch}})
	}
	u := solve.NewUniverse(l.family, sources)
	n := 0
	spec := archive.Source{Name: "s", Family: l.family.Name(), Architectures: []string{l.arch},
		Components: []string{"c"}}
	for i, plain := range l.plain {
		at := 0
		must.Do(b, l.family.ReadIndex(spec, archive.IndexChoice{Component: "c", Arch: l.arch},
			bytes.NewReader(plain), func(p *archive.Package, _ []byte) error {
				if n < limit {
					p.Index, p.Ordinal = i, at
					u.Add(i, p)
					n, at = n+1, at+1
				}
				return nil
			}))
	}
	return u, n
}

// own reads the lists that the machine's own package client keeps of its archive.
func own(b *testing.B) lists {
	b.Helper()
	files, err := filepath.Glob("/var/lib/apt/lists/*_Packages*")
	must.Do(b, err)
	arch, err := exec.Command("dpkg", "--print-architecture").Output()
	if err != nil || len(files) == 0 {
		b.Skip("skipped: this machine's package client has no lists of its archive")
	}
	l := lists{family: deb.Family{}, arch: strings.TrimSpace(string(arch))}
	for _, f := range files {
		plain, err := exec.Command("/usr/lib/apt/apt-helper", "cat-file", f).Output()
		if err != nil {
			b.Skip("skipped: the lists of this machine's package client cannot be read")
		}
		l.plain = append(l.plain, plain)
	}
	return l
}

// drawn makes the relations of n packages, alike to those of a distribution: most needs are of a
// few packages that nearly all need, some are met by either of two, and of those that few need one
// in fifty excludes its neighbour.
func drawn(i, n int, r *rand.Rand) (needs []int, either [2]int, excludes int) {
	if i < 8 {
		return nil, [2]int{-1, -1}, -1
	}
	low := func() int { return int(float64(i) * math.Pow(r.Float64(), 5)) }
	for range 1 + r.IntN(6) {
		needs = append(needs, low())
	}
	if excludes = -1; i%50 == 0 && i > n/4 {
		excludes = i - 1
	}
	return needs, [2]int{low(), low()}, excludes
}

// generated makes plain lists of n packages of the other families.
func generated(b *testing.B, family string, n int) lists {
	b.Helper()
	r := rand.New(rand.NewPCG(4, 2))
	name := func(i int) string { return fmt.Sprintf("pump-%d", i) }
	if family == "rpm" {
		var all bytes.Buffer
		fmt.Fprintf(&all, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<metadata "+
			"xmlns=\"http://linux.duke.edu/metadata/common\" "+
			"xmlns:rpm=\"http://linux.duke.edu/metadata/rpm\" packages=\"%d\">\n", n)
		entry := func(s string) { fmt.Fprintf(&all, "<rpm:entry name=\"%s\"/>", s) }
		for i := range n {
			needs, either, excludes := drawn(i, n, r)
			fmt.Fprintf(&all, "<package type=\"rpm\"><name>%s</name><arch>x86_64</arch>"+
				"<version epoch=\"0\" ver=\"3.2\" rel=\"1\"/>"+
				"<checksum type=\"sha256\" pkgid=\"YES\">%064x</checksum>"+
				"<summary>s</summary><size package=\"5000\" installed=\"9000\" archive=\"9100\"/>"+
				"<location href=\"Packages/%s.rpm\"/><format><rpm:license>MIT</rpm:license><rpm:provides>"+
				"<rpm:entry name=\"%s\" flags=\"EQ\" epoch=\"0\" ver=\"3.2\" rel=\"1\"/>", name(i), i+1,
				name(i), name(i))
			entry(fmt.Sprintf("lib%s.so.3()(64bit)", name(i)))
			all.WriteString("</rpm:provides><rpm:requires>")
			for _, k := range needs {
				entry(fmt.Sprintf("lib%s.so.3()(64bit)", name(k)))
			}
			if either[0] >= 0 {
				entry(fmt.Sprintf("(%s or %s)", name(either[0]), name(either[1])))
			}
			all.WriteString("</rpm:requires>")
			if excludes >= 0 {
				all.WriteString("<rpm:conflicts>")
				entry(name(excludes))
				all.WriteString("</rpm:conflicts>")
			}
			all.WriteString("</format></package>\n")
		}
		all.WriteString("</metadata>\n")
		return lists{rpm.Family{}, "x86_64", [][]byte{all.Bytes()}}
	}
	packed, err := made.AlpmDatabase(n, func(i int) (string, []byte) {
		needs, either, excludes := drawn(i, n, r)
		info := map[string][]string{"pkgname": {name(i)}, "pkgbase": {"pump"}, "pkgdesc": {"a pump"},
			"url": {"https://wrack.example/"}, "license": {"MIT"}, "arch": {"x86_64"}, "pkgver": {"2.3.1-2"},
			"size": {"100000"}, "builddate": {"1790000000"}, "packager": {"Yard <yard@wrack.example>"},
			"provides": {fmt.Sprintf("lib%s.so=3-64", name(i)), fmt.Sprint("way-", i/2)}}
		for _, k := range needs {
			info["depend"] = append(info["depend"], fmt.Sprintf("lib%s.so", name(k)))
		}
		if either[0] >= 0 {
			info["depend"] = append(info["depend"], fmt.Sprint("way-", either[0]/2))
		}
		if excludes >= 0 {
			info["conflict"] = []string{name(excludes)}
		}
		return name(i) + "-2.3.1-2", alpm.Describe(info, name(i)+"-2.3.1-2-x86_64.pkg.tar.zst", 30_000,
			fmt.Sprintf("%064x", i+1))
	})
	must.Do(b, err)
	plain, err := archive.Decompress(bytes.NewReader(packed), "gz", 4<<30)
	must.Do(b, err)
	data, err := io.ReadAll(plain)
	must.Do(b, err)
	return lists{alpm.Family{}, "x86_64", [][]byte{data}}
}

// everything wants all packages; some of them, with what they recommend, the first so many names.
func everything() []solve.Want {
	return []solve.Want{{Source: solve.AllSources, Relation: archive.Relation{Name: "*"}, Versions: 1,
		As: "everything"}}
}

// BenchmarkProof proves of every package of a view whether it can be installed, against parsing
// the lists of the same packages: of the machine's own archive, and of generated ones of the other
// families.
func BenchmarkProof(b *testing.B) {
	for _, c := range []struct {
		name string
		of   func(b *testing.B) lists
	}{
		{"deb-own", own},
		{"rpm-generated", func(b *testing.B) lists { return generated(b, "rpm", many) }},
		{"alpm-generated", func(b *testing.B) lists { return generated(b, "alpm", many) }},
	} {
		b.Run(c.name, func(b *testing.B) {
			l := c.of(b)
			runtime.GC()
			debug.FreeOSMemory()
			must.Do(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0)) // the peak begins anew
			var parse, proof time.Duration
			packages, proved := 0, 0
			for b.Loop() {
				begun := time.Now()
				u, n := l.parsed(b, 1<<30)
				parse += time.Since(begun)
				begun = time.Now()
				s, err := u.Select(b.Context(), everything(),
					[]solve.View{{Architectures: []string{l.arch}}}, solve.Limits{})
				must.Do(b, err)
				proof += time.Since(begun)
				packages, proved = n, s.Proofs[0].Proved
				if len(s.Undecided) > 0 {
					b.Fatalf("%d were not decided", len(s.Undecided))
				}
			}
			ratio := float64(proof) / float64(parse)
			if ratio > 10 {
				b.Errorf("it took %.1f times the parsing", ratio)
			}
			b.ReportMetric(ratio, "times-parsing")
			b.ReportMetric(float64(packages), "packages")
			b.ReportMetric(float64(proved), "proved")
			b.ReportMetric(peak(), "peak-MiB")
		})
	}
}

// point is what was measured of one size.
type point struct {
	family       string
	packages     int
	parse, proof float64 // seconds
}

// drawProof draws the measured times, and for each family the line that n log n would be through
// its largest size.
func drawProof(b *testing.B, path string, points []point) {
	b.Helper()
	p := plot.New()
	p.Title.Text = "Proof of every package"
	p.X.Label.Text, p.Y.Label.Text = "packages", "seconds"
	p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	p.X.Tick.Marker, p.Y.Tick.Marker = plot.LogTicks{Prec: -1}, plot.LogTicks{Prec: -1}
	p.Legend.Top, p.Legend.Left = true, true
	byFamily := map[string]plotter.XYs{}
	for _, x := range points {
		byFamily[x.family] = append(byFamily[x.family], plotter.XY{X: float64(x.packages), Y: x.proof})
	}
	for i, family := range slices.Sorted(maps.Keys(byFamily)) {
		xys := byFamily[family]
		line, dots, err := plotter.NewLinePoints(xys)
		must.Do(b, err)
		line.Color, dots.Color, dots.Shape = plotutil.Color(i), plotutil.Color(i), plotutil.Shape(i)
		last := xys[len(xys)-1]
		ideal := plotter.NewFunction(func(n float64) float64 {
			return last.Y * n * math.Log(n) / (last.X * math.Log(last.X))
		})
		ideal.XMin, ideal.XMax, ideal.Color = xys[0].X, last.X, plotutil.Color(i)
		ideal.Dashes = plotutil.Dashes(1)
		p.Add(line, dots, ideal)
		p.Legend.Add(family, line, dots)
		p.Legend.Add(family+", n log n through its last", ideal)
	}
	must.Do(b, p.Save(6*vg.Inch, 4*vg.Inch, path))
}

// BenchmarkProofBySize does the same on the first 1,000 to 64,000 packages. PROOF_PLOT names a file
// that gets a plot of the times.
func BenchmarkProofBySize(b *testing.B) {
	var points []point
	for _, c := range []struct {
		name string
		of   func(b *testing.B) lists
	}{
		{"deb", own},
		{"rpm", func(b *testing.B) lists { return generated(b, "rpm", 64_000) }},
		{"alpm", func(b *testing.B) lists { return generated(b, "alpm", 64_000) }},
	} {
		b.Run(c.name, func(b *testing.B) {
			l := c.of(b)
			for b.Loop() {
				for size := 1000; size <= 64_000; size *= 2 {
					begun := time.Now()
					u, n := l.parsed(b, size)
					parse := time.Since(begun)
					if n < size/2 {
						break
					}
					begun = time.Now()
					if _, err := u.Select(b.Context(), everything(),
						[]solve.View{{Architectures: []string{l.arch}}}, solve.Limits{}); err != nil {
						b.Fatal(err)
					}
					points = append(points, point{c.name, n, parse.Seconds(), time.Since(begun).Seconds()})
				}
			}
		})
	}
	if path := os.Getenv("PROOF_PLOT"); path != "" {
		drawProof(b, path, points)
	}
}

// BenchmarkChoosing takes a wanted set of some 2,600 packages with everything that they recommend
// out of the machine's own archive, against parsing its lists.
func BenchmarkChoosing(b *testing.B) {
	l := own(b)
	r := rand.New(rand.NewPCG(7, 7))
	var names []string
	for _, plain := range l.plain {
		for line := range bytes.Lines(plain) {
			if name, is := bytes.CutPrefix(line, []byte("Package: ")); is {
				names = append(names, strings.TrimSpace(string(name)))
			}
		}
	}
	r.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	var wants []solve.Want
	for _, n := range names[:min(2600, len(names))] {
		wants = append(wants, solve.Want{Source: solve.AllSources, Relation: archive.Relation{Name: n},
			With: definition.Recommended, Versions: 1, As: n})
	}
	var parse, choice time.Duration
	taken := 0
	for b.Loop() {
		begun := time.Now()
		u, _ := l.parsed(b, 1<<30)
		parse += time.Since(begun)
		begun = time.Now()
		s, err := u.Select(b.Context(), wants, []solve.View{{Architectures: []string{l.arch}}},
			solve.Limits{})
		must.Do(b, err)
		choice += time.Since(begun)
		taken = len(s.Chosen)
	}
	b.ReportMetric(float64(choice)/float64(parse), "times-parsing")
	b.ReportMetric(float64(taken), "taken")
}
