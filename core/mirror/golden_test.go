package mirror

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

// What a build makes of a repository that is made the same way each time, down to the record that
// is sealed, each package, each file, what was fetched and what was told, is kept in testdata as
// somebody read it and found it right (GOLDEN=write writes it anew). Digests, dates, addresses and
// what depends on signatures made at the time stand there as words.

var (
	hexDigest   = regexp.MustCompile(`\b[0-9A-Fa-f]{40,128}\b`)
	spacedPrint = regexp.MustCompile(`\b[0-9A-F]{4}(?: ?  ?[0-9A-F]{4}){9}\b`)
	moment      = regexp.MustCompile(`\b20\d\d-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?Z?`)
	day         = regexp.MustCompile(`\b20\d\d-\d\d-\d\d\b`)
	loopback    = regexp.MustCompile(`http://127\.0\.0\.1:\d+`)
	dated       = regexp.MustCompile(`^(Date:|Valid-Until:) .*`)
	// of files that have signatures or times in them
	sized = regexp.MustCompile(`(?:^( [0-9a-f]{64}) +\d+( .*)|(<(?:open-)?size>)\d+(<.*))`)
	unix  = regexp.MustCompile(`\b1[789]\d{8}\b`)
	says  = regexp.MustCompile(`(its index says) \d+`)
)

// words puts words in place of what differs from one run to the next. A digest is known by the
// order in which it is met.
type words struct{ seen map[string]string }

func (w *words) of(text string) string {
	text = loopback.ReplaceAllString(text, "http://upstream")
	text = spacedPrint.ReplaceAllString(text, "FINGERPRINT")
	text = moment.ReplaceAllString(text, "TIME")
	text = day.ReplaceAllString(text, "DAY")
	text = unix.ReplaceAllString(text, "SECONDS")
	text = says.ReplaceAllString(text, "$1 SIZE")
	return hexDigest.ReplaceAllStringFunc(text, func(d string) string {
		if w.seen[d] == "" {
			kind := "digest"
			if len(d) == 40 {
				kind = "key"
			}
			w.seen[d] = fmt.Sprintf("%s-%d", kind, len(w.seen)+1)
		}
		return w.seen[d]
	})
}

// recorder notes what a build tells while it goes on: of each step the last of it.
type recorder struct {
	mu     sync.Mutex
	steps  []upstream.Event
	failed bool // how far it came is not the same each time
}

func (r *recorder) note(e upstream.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e.Upstreams = maps.Clone(e.Upstreams) // the build goes on counting in it
	if n := len(r.steps); n == 0 || r.steps[n-1].Step != e.Step {
		r.steps = append(r.steps, e)
	} else {
		r.steps[n-1] = e
	}
}

func (r *recorder) String() string {
	var out []string
	for _, e := range r.steps {
		text, from := e.Step, int64(0)
		for _, n := range e.Upstreams {
			from += n
		}
		if !r.failed && (e.FilesTotal > 0 || e.Files > 0) {
			text += fmt.Sprintf(" (%d of %d files, all bytes %v, by upstreams %v)", e.Files, e.FilesTotal,
				e.Bytes == e.BytesTotal, e.Bytes == from)
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// kept builds, and compares what came of it with what is kept under a name.
func (w *world) kept(name string) *Outcome {
	w.t.Helper()
	r := &recorder{}
	w.builder.Sink = r.note
	w.mu.Lock()
	clear(w.hits)
	w.mu.Unlock()
	out, err := w.build()
	w.builder.Sink, r.failed = nil, err != nil
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("told on the way: %s", r)
	if err != nil {
		say("it ended with %d findings: %v", len(reasonsOf(err)), err)
	}
	if out != nil {
		say("packages %d, wanted %d, refused %d, to fetch %d of %d files; unchanged %v", out.Packages,
			out.Wanted, out.Refused, out.FetchFiles, out.Files, out.Unchanged)
		for _, src := range slices.Sorted(maps.Keys(out.BySource)) {
			say("of %s: %d", src, out.BySource[src])
		}
		for _, f := range out.Findings {
			say("%s %s, %s: %s [%s] %s %s %s", f.Severity, f.Code, f.Object, f.Text, f.WayOut, f.Cause,
				f.Way.Does, f.Way.Of)
		}
		for _, v := range []any{out.Proofs, out.Refusals, out.Certified} {
			for line := range strings.SplitSeq(plainJSON(w.t, v), "\n") {
				say("%s", line)
			}
		}
		for _, p := range out.Publications {
			say("accepted %s", plainJSON(w.t, p.Accepted))
		}
	}
	w.mu.Lock()
	asked := map[string]int{} // a path with a digest is as good as another
	for path, n := range w.hits {
		asked[hexDigest.ReplaceAllString(path, "DIGEST")] += n
	}
	for _, path := range slices.Sorted(maps.Keys(asked)) {
		say("asked for %s: %d", path, asked[path])
	}
	w.mu.Unlock()
	if err == nil && out.Edition != nil {
		w.sealedAs(out.Edition, say)
	}
	kept.Same(w.t, "builds/"+name+".txt", (&words{map[string]string{}}).of(b.String()))
	return out
}

func reasonsOf(err error) finding.List {
	if l, ok := err.(finding.List); ok {
		return l
	}
	return finding.List{{}}
}

// sealedAs says what is in the edition that was sealed.
func (w *world) sealedAs(made *edition.Edition, say func(string, ...any)) {
	w.t.Helper()
	e, shelf := w.open(made.Number)
	record := plainJSON(w.t, e)
	say("edition %s", record)
	must.Do(w.t, shelf.Items(func(it edition.Item) error {
		say("package %s", plainJSON(w.t, it))
		return nil
	}))
	must.Do(w.t, shelf.ReadAdvisories(func(a edition.Advisory) error {
		say("advisory %s", plainJSON(w.t, a))
		return nil
	}))
	must.Do(w.t, shelf.SourcePackages(func(p edition.SourcePackage) error {
		say("source package %s", plainJSON(w.t, p))
		return nil
	}))
	var paths []string
	for _, l := range shelf.all() {
		paths = append(paths, hexDigest.ReplaceAllString(l.Path, "DIGEST"))
		base := filepath.Base(l.Path)
		written := strings.HasPrefix(l.Path, "about/README") || base == "repomd.xml" ||
			!strings.HasPrefix(l.Path, "about/") && (base == "Release" || base == "Packages" ||
				base == "Sources")
		if !written {
			continue
		}
		f, err := w.builder.Pool.Open(l.SHA256)
		must.Do(w.t, err)
		raw, err := io.ReadAll(f)
		if err != nil || f.Close() != nil {
			w.t.Fatal(err)
		}
		for line := range strings.Lines(string(raw)) {
			line = dated.ReplaceAllString(line, "$1 TIME")
			say("%s| %s", base, sized.ReplaceAllString(strings.TrimRight(line, "\n"), "$1$3 SIZE$2$4"))
		}
	}
	slices.Sort(paths)
	for _, path := range paths {
		say("file %s", path)
	}
}

func plainJSON(t *testing.T, v any) string {
	t.Helper()
	raw, err := json.Marshal(v)
	must.Do(t, err)
	return string(raw)
}

func TestABuildIsWhatWasFoundRight(t *testing.T) {
	faithful := func(w *world) {
		w.plan.Mirror = definition.Mirror{Copy: "faithful", Complete: "told"}
		w.source.Want = definition.Want{Everything: true}
	}
	for name, of := range map[string]func(t *testing.T) *world{
		"deb-tailored": newWorld,
		"deb-recommended": func(t *testing.T) *world {
			w := newWorld(t)
			w.source.Want.With, w.source.Want.Versions = "recommended", 2
			w.gatehouse("tide-tables = 2.3-1")
			return w
		},
		"deb-sources": withSources,
		"deb-faithful": func(t *testing.T) *world {
			w := newWorld(t)
			faithful(w)
			w.gatehouse()
			return w
		},
		"deb-two-sources": func(t *testing.T) *world {
			w := newWorld(t)
			rival("3.0-1", "vendor", 10)(w)
			return w
		},
		"deb-missing": func(t *testing.T) *world {
			w := newWorld(t)
			w.source.Want.Packages = append(w.source.Want.Packages, "buoy", "bouy")
			w.plan.Mirror.Complete = "told"
			return w
		},
		"deb-strict": func(t *testing.T) *world {
			w := newWorld(t)
			w.source.Want.Packages = append(w.source.Want.Packages, "buoy")
			return w
		},
		"deb-unsigned": func(t *testing.T) *world {
			w := newWorld(t)
			w.unsigned()
			return w
		},
		"rpm-tailored": func(t *testing.T) *world {
			w := newRPMWorld(t)
			w.plan.Groups = map[string]definition.Group{"pumps": {Family: "rpm", Release: "9",
				Lane: "steady", Architectures: []string{"x86_64"}}}
			return w.world
		},
		"rpm-faithful": func(t *testing.T) *world {
			w := newRPMWorld(t)
			faithful(w.world)
			return w.world
		},
		"house-deb": func(t *testing.T) *world {
			return newHouse(t, deb.Family{}, archive.Source{Family: "deb", Release: "heron",
				Components: []string{"core"}, Architectures: []string{"amd64"}},
				func() ([]byte, error) {
					return made.BuildDeb("Package: lamp-ctl\nVersion: 2-1\nArchitecture: amd64\nMaintainer: "+
						"Workshop <workshop@skerry.example>\nDescription: lamps\n", nil, "gz")
				})
		},
		"house-rpm": func(t *testing.T) *world {
			return newHouse(t, rpm.Family{}, archive.Source{Family: "rpm",
				Architectures: []string{"x86_64"}},
				func() ([]byte, error) {
					return made.RPM{Name: "relay", Version: "1-1", Arch: "noarch",
						Time: 1_700_000_000}.Build(nil)
				})
		},
		"house-alpm": func(t *testing.T) *world {
			return newHouse(t, alpm.Family{}, archive.Source{Family: "alpm", Components: []string{"reach"},
				Architectures: []string{"x86_64"}},
				func() ([]byte, error) {
					return made.Alpm{Name: "log", Version: "1-1", Arch: "any"}.Build()
				})
		},
		"alpm-tailored": func(t *testing.T) *world { return newALPMWorld(t).world },
		"alpm-faithful": func(t *testing.T) *world {
			w := newALPMWorld(t)
			faithful(w.world)
			return w.world
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := of(t)
			w.kept(name)
			w.plan.Number = 2 // and once more: nothing changed
			if e, err := edition.Open(w.folder(1), []*trust.Certificate{w.builder.Site.Certificate()},
				w.builder.Pool); err == nil {
				w.plan.Previous = e.Edition
				w.kept(name + "-again")
			}
		})
	}
}

// newHouse is a world whose one source is filled by hand with a package.
func newHouse(t *testing.T, family archive.Family, spec archive.Source,
	build func() ([]byte, error)) *world {
	t.Helper()
	w := newWorld(t)
	spec.Name = "house"
	raw, err := build()
	must.Do(t, err)
	f, err := os.CreateTemp(t.TempDir(), "given")
	must.Do(t, err)
	defer f.Close()
	if _, err := f.Write(raw); err != nil {
		t.Fatal(err)
	}
	taken, err := w.builder.TakeIntoHouse(spec, family, f, nil, w.ring("house"))
	must.Do(t, err)
	house, err := w.builder.PublishHouse(spec, family, []HousePackage{taken.HousePackage}, nil)
	must.Do(t, err)
	w.source = &upstream.Source{Name: "house", Standing: "house", Priority: 10, Family: family, Spec: spec,
		House: house, Want: definition.Want{Everything: true}, Keyring: trust.NewKeyring("house",
			[]trust.Known{{Certificate: keys()[2].Certificate(), VouchedFor: []string{"house"}}},
			w.builder.Now)}
	w.plan.Sources = []*upstream.Source{w.source}
	return w
}

// What is answered beside builds, kept in the same way.
func TestAnAnswerIsWhatWasFoundRight(t *testing.T) {
	type answer struct {
		name string
		give func(t *testing.T) any
	}
	given := func(t *testing.T, v any, err error) any {
		t.Helper()
		must.Do(t, err)
		return v
	}
	for _, c := range []answer{
		{"preview-advisories", func(t *testing.T) any {
			w := newRPMWorld(t)
			x, err := w.builder.Preview(t.Context(), w.plan, "", nil)
			return given(t, x, err)
		}},
		{"examine", func(t *testing.T) any {
			w := newWorld(t)
			k := keys()
			x, err := w.builder.Examine(t.Context(), *w.source, []*trust.Certificate{k[1].Certificate(),
				k[0].Certificate()})
			return given(t, x, err)
		}},
		{"online", func(t *testing.T) any {
			w := newWorld(t)
			set, found := definition.Read(definition.Text{Name: "x",
				Text: "stockade: 1\nsources:\n  tarn: " +
					"{family: deb, standing: official, upstreams: [{url: \"" + w.server.URL +
					"/tarn\"}, {url: \"" +
					w.server.URL + "/none\"}], release: heron, components: [core, meadow], architectures: " +
					"[amd64, s390x], max_age: 30m}\n"})
			if len(found.With("define.syntax")) > 0 {
				t.Fatal(found)
			}
			x, err := w.builder.Online(t.Context(), set, "tarn", []*trust.Certificate{w.key.Certificate()})
			return given(t, x, err)
		}},
		{"handed-in", func(t *testing.T) any {
			w := newWorld(t)
			w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core", Name: "lamp-ctl",
				Version: "2.0-1", Arch: "amd64", Summary: "lamps"})
			w.publish()
			if _, err := w.builder.Refresh(t.Context(), w.source); err != nil {
				t.Fatal(err)
			}
			if _, err := w.build(); err != nil {
				t.Fatal(err)
			}
			id, rec, found, err := w.builder.TakeIn(handed(t, w, "2.0-1"), w.ring("reach-lamps"))
			return given(t, map[string]any{"id": id, "record": rec, "found": found}, err)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			raw, err := json.MarshalIndent(c.give(t), "", " ")
			must.Do(t, err)
			text := varying.ReplaceAllString(string(raw), "$1 0")
			text = blob.ReplaceAllString(text, `"BYTES"`)
			kept.Same(t, "builds/answer-"+c.name+".txt", (&words{map[string]string{}}).of(text+"\n"))
		})
	}
}

var (
	// what depends on the disk, and on how fast it went
	varying = regexp.MustCompile(`("(?:free_bytes|seconds)":) -?\d+`)
	blob    = regexp.MustCompile(`"[A-Za-z0-9+/]{120,}={0,2}"`)
)
