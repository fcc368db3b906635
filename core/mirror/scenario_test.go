package mirror

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
	"stockade/internal/made/faults"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

// scenario is what upstreams have, what is defined of them, and what is asked then.
type scenario struct {
	Name  string
	Steps []step
}

// step changes what there is, and asks one thing.
type step struct {
	Upstreams  map[string]carried // what they have from then on, by name: served as http://up/NAME
	House      map[string]carried // what is given to house sources besides what they have
	Definition string             // what is defined from then on
	Do, Of     string             // what is asked, of which mirror, source or package
	For        string             // one package of which the whole way is to be told
	Every      bool               // of every package
	Once       string             // why another root is accepted
	Renewed    string             // the keys that the site signs with since
}

// upstream is a made-up repository of one family.
type carried struct {
	Deb   *made.DebRepository
	Debs  string // "COMPONENT/NAME VERSION ARCH // FIELD: VALUE // PATH", a line each
	RPM   *made.RPMRepository
	Alpm  *made.AlpmRepository
	By    int // which of the keys signs
	Hours int // how long ago, or until, it was made
	// Other are files that have other bytes, by what is in their path; "-": none, "!": no answer.
	Other map[string]string
	Plain map[string]string // further files, by their path
	Moved map[string]string // folders that lie elsewhere
}

func debs(t *testing.T, text string) (out []made.Deb) {
	for line := range strings.Lines(text) {
		parts := strings.Split(strings.TrimSpace(line), " // ")
		of := strings.Fields(parts[0])
		component, name, _ := strings.Cut(of[0], "/")
		p := made.Deb{Component: component, Name: name, Version: of[1], Arch: of[2], Summary: "made up"}
		for _, field := range parts[1:] {
			if path, ok := strings.CutPrefix(field, "/"); ok {
				p.Files = append(p.Files, made.File{Path: "/" + path, Mode: 0o644, Data: []byte("x")})
			} else {
				p.Fields += field + "\n"
			}
		}
		out = append(out, p)
	}
	return out
}

func (u carried) files(t *testing.T, now time.Time) map[string][]byte {
	t.Helper()
	by, at := keys()[u.By], now.Add(-time.Duration(cmp.Or(u.Hours, 1))*time.Hour)
	var out map[string][]byte
	var err error
	switch {
	case u.RPM != nil:
		u.RPM.Date = at
		out, err = u.RPM.Publish(by)
	case u.Alpm != nil:
		u.Alpm.Date = at
		out, err = u.Alpm.Publish(by.At(func() time.Time { return at }))
	default:
		r := *cmp.Or(u.Deb, &made.DebRepository{})
		r.Origin, r.Label = cmp.Or(r.Origin, "Tarn"), cmp.Or(r.Label, "Tarn")
		r.Suite, r.Codename = cmp.Or(r.Suite, "steady"), cmp.Or(r.Codename, "heron")
		if r.Architectures == nil {
			r.Architectures = []string{"amd64", "all"}
		}
		if r.Components == nil {
			r.Components = []string{"core"}
		}
		r.Date, r.Packages = at, debs(t, u.Debs)
		out, err = r.Publish(by)
	}
	must.Do(t, err)
	for path, text := range u.Plain {
		out[path] = []byte(text)
	}
	for _, path := range slices.Collect(maps.Keys(out)) {
		for from, to := range u.Moved {
			if below, ok := strings.CutPrefix(path, from); ok {
				out[to+below] = out[path]
			}
		}
	}
	for _, part := range slices.Sorted(maps.Keys(u.Other)) {
		n := 0
		for path := range out {
			if strings.Contains(path, part) {
				if n++; u.Other[part] == "-" {
					delete(out, path)
				} else {
					out[path] = []byte(u.Other[part])
				}
			}
		}
		if n == 0 {
			t.Fatalf("no path has %q in it: %v", part, slices.Sorted(maps.Keys(out)))
		}
	}
	return out
}

// stage is where scenarios are played: one world for each.
type stage struct {
	*world
	upstreams map[string]map[string][]byte
	set       *definition.Set
	accepted  map[string]*upstream.Accepted
	editions  map[string][]*edition.Edition
	given     map[string][]HousePackage
	houses    map[string]*upstream.House
	out       strings.Builder
	ctx       func() context.Context
	places    *faults.Places // that do not fail while a plan is made
	looked    atomic.Int64   // how often a family looked inside a package
	steps     atomic.Int64
}

func newStage(t *testing.T) *stage {
	s := &stage{world: bareWorld(t), upstreams: map[string]map[string][]byte{},
		accepted: map[string]*upstream.Accepted{}, editions: map[string][]*edition.Edition{},
		given: map[string][]HousePackage{}, houses: map[string]*upstream.House{}, ctx: t.Context,
		places: &faults.Places{}}
	s.now = s.now.Add(48 * time.Hour) // so that owners could sign earlier than now with keys made just now
	s.builder.Families = failingFamilies(s.places, &s.looked)
	// Who does not answer rests until the next step.
	s.builder.Fetch = fetch.New(fetch.Options{Rounds: 1, FloorWindow: 200 * time.Millisecond,
		Now: func() time.Time { return s.now.Add(time.Duration(s.steps.Load()) * 100 * time.Hour) }})
	s.server.Close()
	s.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, path, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		s.mu.Lock()
		defer s.mu.Unlock()
		s.hits[r.URL.Path]++
		switch data, ok := s.upstreams[name][path]; {
		case ok && string(data) == "!":
			http.Error(w, "not now", http.StatusServiceUnavailable)
		case ok:
			w.Header().Set("ETag", fmt.Sprintf(`"%x"`, sha256.Sum256(data)))
			http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(s.server.Close)
	return s
}

// source is what a build needs of a defined source: that its keys count is decided.
func (s *stage) source(name string) (src *upstream.Source) {
	s.places.Off(func() { src = s.sourced(name) })
	return src
}

func (s *stage) sourced(name string) *upstream.Source {
	src, err := upstream.Described(s.set, name, s.builder.Families)
	must.Do(s.t, err)
	if s.set.Sources[name].Managed() {
		src.House, err = s.builder.PublishHouse(src.Spec, src.Family, s.given[name], s.houses[name])
		must.Do(s.t, err)
		s.houses[name] = src.House
		src.Keyring = trust.NewKeyring(name, []trust.Known{{Certificate: s.builder.Site.Certificate(),
			VouchedFor: []string{name}}}, s.builder.Now)
		return src
	}
	var known []trust.Known
	for _, key := range s.set.Sources[name].SignedBy {
		k := keys()[int(key[len(key)-1]-'0')]
		known = append(known, trust.Known{Certificate: k.Certificate(), VouchedFor: []string{name}})
	}
	src.Keyring, src.Accepted = trust.NewKeyring(name, known, s.builder.Now), s.accepted[name]
	return src
}

func (s *stage) planOf(name string, asked step) (p Plan) {
	s.places.Off(func() { p = s.planned(name, asked) })
	return p
}

func (s *stage) planned(name string, asked step) Plan {
	p := Plan{Name: name, Mirror: s.set.Mirrors[name], Number: 1, Groups: map[string]definition.Group{},
		Lists: map[string]definition.List{}, For: asked.For, Every: asked.Every, Renewed: asked.Renewed}
	in := map[string]bool{}
	for _, from := range p.Mirror.From {
		src := s.source(from.Source)
		src.Want, src.AcceptOnce, in[from.Source] = from.Want, asked.Once, true
		p.Sources = append(p.Sources, src)
	}
	for _, other := range slices.Sorted(maps.Keys(s.set.Sources)) {
		if !in[other] && !s.set.Sources[other].Disabled {
			p.Others = append(p.Others, s.source(other))
		}
	}
	for group, g := range s.set.Groups {
		if s.set.Lanes[g.Lane].Mirror == name {
			p.Groups[group] = g
		}
	}
	for _, list := range s.set.ListsOf(name) {
		p.Lists[list] = s.set.Lists[list]
	}
	if made := s.editions[name]; len(made) > 0 {
		p.Previous, p.Number = made[len(made)-1], len(made)+1
		p.Items = s.items(p.Previous)
	}
	return p
}

func (s *stage) sealed(e *edition.Edition) *edition.Sealed {
	sealed, err := edition.Open(edition.Folder(s.builder.Editions, e.ID()),
		[]*trust.Certificate{s.builder.Site.Certificate()}, s.builder.Pool)
	must.Do(s.t, err)
	return sealed
}

func (s *stage) items(e *edition.Edition) (out []edition.Item) {
	must.Do(s.t, s.sealed(e).Items(func(it edition.Item) error {
		out = append(out, it)
		return nil
	}))
	return out
}

func (s *stage) accept(all []*upstream.Publication) {
	for _, p := range all {
		a := p.Accepted
		s.accepted[p.Source.Name] = &a
	}
}

// handed are package files of what is given to a house source.
func (s *stage) handed(has carried) (files [][]byte) {
	add := func(file []byte, err error) {
		must.Do(s.t, err)
		files = append(files, file)
	}
	for _, p := range debs(s.t, has.Debs) {
		add(made.BuildDeb(p.Control(), p.Files, p.Packing))
	}
	if has.RPM != nil {
		for _, p := range has.RPM.Packages {
			p.Time = 1_700_000_000
			add(p.Build(keys()[has.By]))
		}
	}
	if has.Alpm != nil {
		for _, p := range has.Alpm.Packages {
			add(p.Build())
		}
	}
	return files
}

// hand takes one file into a house source.
func (s *stage) hand(name string, file []byte) error {
	f, err := os.CreateTemp(s.t.TempDir(), "given")
	must.Do(s.t, err)
	defer f.Close()
	_, err = f.Write(file)
	must.Do(s.t, err)
	h := Handed{Set: s.set, Source: name, Family: s.builder.Families[s.set.Sources[name].Family],
		From: "recipe 12", Why: "the old lamps need it", By: "ada", File: f}
	for _, other := range slices.Sorted(maps.Keys(s.set.Sources)) {
		if src := s.set.Sources[other]; src.Family == s.set.Sources[name].Family && !src.Managed() {
			h.Others = append(h.Others, s.source(other))
		}
	}
	id, rec, found, err := s.builder.TakeIn(h, s.ring(name))
	if err != nil {
		return err
	}
	s.set.Packages[id] = rec
	s.given[name] = append(s.given[name], HousePackage{rec.SHA256, int64(rec.Size), rec.Signature})
	fmt.Fprintf(&s.out, "handed in: %s\n%s", varying.ReplaceAllString(plainJSON(s.t, rec), "$1 0"),
		kept.Findings(found))
	return nil
}

// contents tells what an edition holds and serves.
func (s *stage) contents(e *edition.Edition) {
	for _, it := range s.items(e) {
		fmt.Fprintf(&s.out, "holds %s\n", plainJSON(s.t, it))
	}
	sealed := s.sealed(e)
	must.Do(s.t, sealed.SourcePackages(func(p edition.SourcePackage) error {
		fmt.Fprintf(&s.out, "holds the source %s\n", plainJSON(s.t, p))
		return nil
	}))
	var serves []string
	for l, err := range sealed.Files() {
		must.Do(s.t, err)
		serves = append(serves, hexDigest.ReplaceAllString(l.Path, "DIGEST"))
	}
	slices.Sort(serves)
	fmt.Fprintf(&s.out, "serves %s\n", strings.Join(serves, "\nserves "))
}

// answer does what a step asks.
func (s *stage) answer(asked step) (any, error) {
	b, ctx := s.builder, s.ctx()
	switch asked.Do {
	case "build", "estimate":
		do := b.Estimate
		if asked.Do == "build" {
			do = b.Build
		}
		out, err := do(ctx, s.planOf(asked.Of, asked))
		if out == nil {
			return nil, err
		}
		for _, p := range out.selection {
			fmt.Fprintf(&s.out, "takes %s %s %s of %s: wanted %v, %s %s\n", p.Name, p.Version, p.Arch,
				p.src.Name, p.wanted, p.how, p.why)
		}
		s.accept(slices.Concat(out.Publications, out.Besides))
		if err == nil && asked.Do == "build" && !out.Unchanged {
			s.editions[asked.Of] = append(s.editions[asked.Of], out.Edition)
			s.places.Off(func() { s.contents(out.Edition) })
			out = inOrder(out)
		}
		return out, err
	case "preview":
		made := s.editions[asked.Of]
		return b.Preview(ctx, s.planOf(asked.Of, asked), made[len(made)-1].Name(), s.items(made[len(made)-1]))
	case "where":
		var sources []*upstream.Source
		for _, name := range slices.Sorted(maps.Keys(s.set.Sources)) {
			sources = append(sources, s.source(name))
		}
		var plans []Plan
		for _, name := range slices.Sorted(maps.Keys(s.set.Mirrors)) {
			plans = append(plans, s.planOf(name, step{}))
		}
		return b.Where(ctx, asked.Of, sources, plans)
	case "probe":
		_, found, err := b.Probe(ctx, s.source(asked.Of))
		return map[string]any{"findings": found}, err
	case "online":
		found, err := b.Online(ctx, s.set, asked.Of, []*trust.Certificate{keys()[0].Certificate()})
		return map[string]any{"findings": found}, err
	case "examine":
		src := s.source(asked.Of)
		src.Accepted = nil
		return b.Examine(ctx, *src, []*trust.Certificate{keys()[1].Certificate(), keys()[0].Certificate()})
	case "refresh":
		src := s.source(asked.Of)
		src.AcceptOnce = asked.Once
		p, err := b.Refresh(ctx, src)
		if p == nil || err != nil {
			return nil, err
		}
		s.accept([]*upstream.Publication{p})
		p.Accepted.Conditional = nil
		return map[string]any{"changed": p.Changed, "findings": p.Findings, "failures": p.Failures,
			"accepted": p.Accepted, "judged": p.Judged}, nil
	}
	return nil, fmt.Errorf("%q is nothing that can be asked", asked.Do)
}

// inOrder gives an outcome with the signers of its basis in the order of the made-up keys: their
// fingerprints are others each time.
func inOrder(out *Outcome) *Outcome {
	shown, sealed, basis := *out, *out.Edition, *out.Edition.Basis
	number := func(signer string) int {
		return slices.IndexFunc(keys(), func(k *trust.SiteKey) bool {
			return strings.HasPrefix(signer, k.Certificate().Fingerprint)
		})
	}
	ordered := func(sources []edition.BasisSource) (out []edition.BasisSource) {
		for _, src := range sources {
			src.Signers = slices.Clone(src.Signers)
			slices.SortFunc(src.Signers, func(a, b string) int { return number(a) - number(b) })
			out = append(out, src)
		}
		return out
	}
	basis.Sources, basis.Beside = ordered(basis.Sources), ordered(basis.Beside)
	sealed.Basis, shown.Edition = &basis, &sealed
	return &shown
}

// scenarios reads those of a file.
func scenarios(t *testing.T, file string) (all []scenario) {
	docs := yaml.NewDecoder(strings.NewReader(must.Read(t, "testdata/scenarios/"+file+".yaml")))
	docs.KnownFields(true)
	for {
		var c scenario
		err := docs.Decode(&c)
		if errors.Is(err, io.EOF) {
			return all
		}
		must.Do(t, err)
		all = append(all, c)
	}
}

// Scenarios, and all that comes of them: testdata/scenarios holds both.
func TestWhatComesOfScenarios(t *testing.T) {
	files, err := filepath.Glob("testdata/scenarios/*.yaml")
	must.Do(t, err)
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".yaml")
		for n, c := range scenarios(t, name) {
			t.Run(c.Name, func(t *testing.T) {
				s := newStage(t)
				for _, asked := range c.Steps {
					s.step(c.Name, asked)
				}
				kept.Same(t, fmt.Sprintf("scenarios/%s-%d.txt", name, n+1),
					"# "+c.Name+"\n"+(&words{map[string]string{}}).of(s.out.String()))
			})
		}
	}
}

// fields writes each field of an answer, and each of a list, on a line of its own; findings in words.
func (s *stage) fields(given any) {
	var fields map[string]json.RawMessage
	must.Do(s.t, json.Unmarshal([]byte(plainJSON(s.t, given)), &fields))
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		raw := varying.ReplaceAllString(blob.ReplaceAllString(string(fields[name]), `"BYTES"`), "$1 0")
		var found finding.List
		var list []json.RawMessage
		switch {
		case name == "free_bytes" || name == "seconds": // other ones each time
			if raw == "-1" || name == "free_bytes" && raw == "0" {
				fmt.Fprintf(&s.out, "%s: not known\n", name)
			}
		case name == "findings" && json.Unmarshal([]byte(raw), &found) == nil:
			s.out.WriteString(kept.Findings(found))
		case json.Unmarshal([]byte(raw), &list) == nil:
			for _, each := range list {
				fmt.Fprintf(&s.out, "%s: %s\n", name, each)
			}
		default:
			fmt.Fprintf(&s.out, "%s: %s\n", name, raw)
		}
	}
}

// prepare changes what there is.
func (s *stage) prepare(name string, asked step) {
	s.t.Helper()
	s.steps.Add(1)
	s.mu.Lock()
	for up, has := range asked.Upstreams {
		for path, text := range has.Plain {
			has.Plain[path] = strings.ReplaceAll(text, "http://up/", s.server.URL+"/")
		}
		s.upstreams[up] = has.files(s.t, s.now)
	}
	clear(s.hits)
	s.mu.Unlock()
	if asked.Definition != "" {
		set, found := definition.Read(definition.Text{Name: "site.yaml",
			Text: "stockade: 1\n" + strings.ReplaceAll(asked.Definition, "http://up/", s.server.URL+"/")})
		if found.HasErrors() {
			s.t.Fatalf("%s: %v", name, found)
		}
		s.set = set
	}
	for _, name := range slices.Sorted(maps.Keys(asked.House)) {
		for _, file := range s.handed(asked.House[name]) {
			if err := s.hand(name, file); err != nil {
				fmt.Fprintf(&s.out, "a source is commented out here, and was not imported: %v", err)
			}
		}
	}
}

func (s *stage) step(name string, asked step) {
	s.t.Helper()
	s.prepare(name, asked)
	r := &recorder{}
	s.builder.Sink = r.note
	fmt.Fprintf(&s.out, "## %s %s\n", asked.Do, asked.Of)
	s.looked.Store(0)
	given, err := s.answer(asked)
	if n := s.looked.Load(); n > 0 && err == nil {
		fmt.Fprintf(&s.out, "looked inside %d\n", n)
	}
	r.failed = err != nil
	fmt.Fprintf(&s.out, "told on the way: %s\n", r)
	if err != nil {
		fmt.Fprintf(&s.out, "it ended with %v\n", err)
		if _, many := err.(finding.List); many {
			s.out.WriteString(kept.Findings(reasonsOf(err)))
		}
	}
	if given != nil {
		s.fields(given)
	}
	if r.failed { // what was asked for before is not the same each time
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	// A path with a digest is as good as another, and so is any that the same bytes have.
	first := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(s.upstreams)) {
		for _, path := range slices.Sorted(maps.Keys(s.upstreams[name])) {
			if data := string(s.upstreams[name][path]); first[data] == "" {
				first[data] = "/" + name + "/" + path
			}
		}
	}
	times := map[string]int{}
	for path, n := range s.hits {
		name, below, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
		if data, ok := s.upstreams[name][below]; ok {
			path = first[string(data)]
		}
		times[hexDigest.ReplaceAllString(path, "DIGEST")] += n
	}
	for _, path := range slices.Sorted(maps.Keys(times)) {
		fmt.Fprintf(&s.out, "asked for %s: %d\n", path, times[path])
	}
}
