package mirror

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
	"stockade/internal/must"
)

// world is a made-up upstream and a builder, on loopback.
type world struct {
	t       *testing.T
	key     *trust.SiteKey
	repo    made.DebRepository
	mu      sync.Mutex
	files   map[string][]byte
	hits    map[string]int
	broken  func(w http.ResponseWriter, r *http.Request) bool
	server  *httptest.Server
	builder *Builder
	source  *upstream.Source
	plan    Plan
	now     time.Time
}

func keys() []*trust.SiteKey {
	const desk = "desk@tarn.example"
	return made.Keys(made.Owner{Name: "Key 0", Address: desk}, made.Owner{Name: "Key 1", Address: desk},
		made.Owner{Name: "Key 2", Address: desk})
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := bareWorld(t)
	w.publish()
	return w
}

// bareWorld is one of which the upstream has nothing yet.
func bareWorld(t *testing.T) *world {
	t.Helper()
	k := keys()
	w := &world{t: t, key: k[0], now: time.Now(), hits: map[string]int{}}
	w.repo = made.DebRepository{Origin: "Tarn", Label: "Tarn", Suite: "steady", Codename: "heron",
		Date: w.now.Add(-time.Hour), ValidUntil: w.now.Add(7 * 24 * time.Hour),
		Architectures: []string{"amd64", "arm64", "all"}, Components: []string{"core", "field"},
		ByHash: true, Packages: []made.Deb{
			{Component: "core", Name: "sluicectl", Version: "1.4-1", Arch: "amd64",
				Summary: "gate control", Fields: "Depends: libtide2 (>= 2), tide-data\n"},
			{Component: "core", Name: "libtide2", Version: "2.1-1", Arch: "amd64",
				Summary: "tide library", Packing: "xz"},
			{Component: "core", Name: "tide-data", Version: "2026", Arch: "all", Summary: "tide data",
				Packing: "zst"},
			{Component: "field", Name: "tide-tables", Version: "2.4.1-1", Arch: "amd64",
				Summary: "tables", Fields: "Depends: tide-data\nRecommends: libtide2\n"},
			{Component: "field", Name: "tide-tables", Version: "2.3-1", Arch: "amd64", Summary: "tables",
				Fields: "Depends: tide-data\n"},
			{Component: "field", Name: "buoy", Version: "1", Arch: "amd64",
				Summary: "requires what does not exist", Fields: "Depends: libabsent\n"},
		}}
	w.server = httptest.NewServer(http.HandlerFunc(w.serve))
	t.Cleanup(w.server.Close)
	dir := t.TempDir()
	store, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	clock := func() time.Time { return w.now }
	w.builder = &Builder{Reader: upstream.Reader{Pool: store, Fetch: fetch.New(fetch.Options{Rounds: 1,
		DownFor: time.Millisecond, FloorWindow: 200 * time.Millisecond}),
		Families: archive.NewRegistry(deb.Family{}), Now: clock},
		Site: k[2], Editions: filepath.Join(dir, "editions")}
	w.source = &upstream.Source{Name: "tarn", Standing: "official", Priority: 20, Family: deb.Family{},
		Spec: archive.Source{Name: "tarn", Family: "deb", Release: "heron",
			Components: []string{"core", "field"}, Architectures: []string{"amd64"},
			Languages: []string{"en"}},
		Route:   fetch.Route{Source: "tarn", Upstreams: []fetch.Upstream{{URL: w.server.URL + "/tarn"}}},
		Keyring: w.keyring("tarn"), Want: definition.Want{Packages: []string{"sluicectl", "tide-tables"},
			With: "required", Versions: 1}}
	w.plan = Plan{Name: "barrage", Number: 1,
		Mirror: definition.Mirror{Copy: "tailored",
			Complete: "strict"}, Sources: []*upstream.Source{w.source}}
	return w
}

func (w *world) keyring(vouchedFor ...string) *trust.Keyring {
	return trust.NewKeyring("tarn", []trust.Known{{Certificate: w.key.Certificate(),
		VouchedFor: vouchedFor}}, func() time.Time { return w.now })
}

func (w *world) publish() {
	w.t.Helper()
	files, err := w.repo.Publish(w.key)
	must.Do(w.t, err)
	w.mu.Lock()
	w.files = files
	w.mu.Unlock()
}

func (w *world) serve(rw http.ResponseWriter, r *http.Request) {
	p := strings.TrimPrefix(r.URL.Path, "/tarn/")
	w.mu.Lock()
	data, ok := w.files[p]
	w.hits[p]++
	broken := w.broken
	w.mu.Unlock()
	if broken != nil && broken(rw, r) {
		return
	}
	if !ok {
		http.NotFound(rw, r)
		return
	}
	rw.Header().Set("ETag", fmt.Sprintf(`"%x"`, sha256.Sum256(data)))
	http.ServeContent(rw, r, "", time.Time{}, bytes.NewReader(data))
}

func (w *world) build() (*Outcome, error) {
	w.t.Helper()
	out, err := w.builder.Build(context.Background(), w.plan)
	if err == nil {
		for _, p := range out.Publications {
			a := p.Accepted
			p.Source.Accepted = &a
		}
	}
	return out, err
}

// open opens a sealed edition of the mirror anew, as somebody else would.
func (w *world) open(number int) (*edition.Edition, shelf) {
	w.t.Helper()
	e, err := edition.Open(w.folder(number), []*trust.Certificate{w.builder.Site.Certificate()},
		w.builder.Pool)
	must.Do(w.t, err)
	return e.Edition, shelf{e, w.t}
}

func (w *world) folder(number int) string {
	return edition.Folder(w.builder.Editions, edition.ID{Mirror: "barrage", Number: number})
}

// shelf is a sealed edition of which each list can be read.
type shelf struct {
	*edition.Sealed
	t *testing.T
}

func (s shelf) Find(path string) (edition.Line, bool) {
	s.t.Helper()
	l, ok, err := s.Sealed.Find(path)
	must.Do(s.t, err)
	return l, ok
}

func (s shelf) all() (out []edition.Line) {
	s.t.Helper()
	for l, err := range s.Files() {
		must.Do(s.t, err)
		out = append(out, l)
	}
	return out
}

// amend changes the lists of packages before they are signed for.
func (w *world) amend(old, new string) {
	w.repo.Amend = func(files map[string][]byte) {
		plain := files["core/binary-amd64/Packages"]
		field := files["field/binary-amd64/Packages"]
		if !bytes.Contains(plain, []byte(old)) && !bytes.Contains(field, []byte(old)) {
			w.t.Fatalf("nothing to change: %q", old)
		}
		for name, data := range map[string][]byte{"core/binary-amd64/Packages": plain,
			"field/binary-amd64/Packages": field} {
			data = bytes.Replace(data, []byte(old), []byte(new), 1)
			for _, z := range []string{"", ".gz", ".xz"} {
				packed, err := archive.Compress(data, strings.TrimPrefix(z, "."))
				must.Do(w.t, err)
				files[name+z] = packed
			}
		}
	}
	w.publish()
}

// repackaged puts another file in place of a package, rightly described.
func (w *world) repackaged(name string, file []byte) {
	var path string
	for p := range w.files {
		if strings.Contains(p, "/"+name+"_") {
			path = p
		}
	}
	old := w.files[path]
	w.amend(fmt.Sprintf("Filename: %s\nSize: %d\nSHA256: %x\n", path, len(old), sha256.Sum256(old)),
		fmt.Sprintf("Filename: %s\nSize: %d\nSHA256: %x\n", path, len(file), sha256.Sum256(file)))
	w.files[path] = file
}

// refused asserts that a build ends with a finding of that code and that
// nothing was sealed.
func (w *world) refused(code finding.Code) finding.Finding {
	w.t.Helper()
	_, err := w.build()
	f, ok := finding.From(err)
	if list, many := err.(finding.List); many && len(list) > 0 {
		f, ok = list[0], true
	}
	if !ok || f.Code != code {
		w.t.Fatalf("the build should be refused with %s, and ended with %v", code, err)
	}
	if f.WayOut == "" {
		w.t.Errorf("the refusal %s has no way out", code)
	}
	if _, err := os.Stat(edition.Folder(w.builder.Editions,
		edition.ID{Mirror: "barrage", Number: w.plan.Number})); err == nil {
		w.t.Error("an edition was sealed all the same")
	}
	return f
}

func TestNothingChangedMakesNoEditionAndAsksOnlyForRoots(t *testing.T) {
	w := newWorld(t)
	out, err := w.build()
	must.Do(t, err)
	w.plan.Previous, w.plan.Number = out.Edition, 2
	w.mu.Lock()
	clear(w.hits)
	w.mu.Unlock()
	if out, err = w.build(); err != nil || !out.Unchanged {
		t.Fatalf("unchanged %v, error %v", out.Unchanged, err)
	}
	if len(w.hits) != 1 {
		t.Errorf("asked for %v, and one root would do", w.hits)
	}
	// Upstream publishes something that the mirror does not take.
	w.repo.Date = w.repo.Date.Add(time.Minute)
	w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core", Name: "newcomer", Version: "1",
		Arch: "amd64", Summary: "x"})
	w.publish()
	if out, err = w.build(); err != nil || !out.Unchanged {
		t.Fatalf("a publication that does not concern the mirror: unchanged %v, error %v", out.Unchanged,
			err)
	}
	// That is remembered: the next build with the same does not work it out again.
	w.plan.Alike = out.Inputs
	steps := map[string]bool{}
	w.builder.Sink = func(e upstream.Event) { steps[e.Step] = true }
	if out, err = w.build(); err != nil || !out.Unchanged || steps["select"] {
		t.Errorf("the same once more: unchanged %v, steps %v, error %v", out.Unchanged, steps, err)
	}
	w.builder.Sink = nil
	// And something that it does.
	w.repo.Date = w.repo.Date.Add(time.Minute)
	w.repo.Packages[0].Version = "1.5-1"
	w.publish()
	if out, err = w.build(); err != nil || out.Unchanged || out.FetchFiles != 1 {
		t.Fatalf("one new package: unchanged %v, to fetch %d, error %v", out.Unchanged, out.FetchFiles, err)
	}
}

func TestFaithfulCopyKeepsEveryByte(t *testing.T) {
	w := newWorld(t)
	w.plan.Mirror.Copy, w.plan.Mirror.Complete = "faithful", "told"
	w.source.Want = definition.Want{Everything: true}
	out, err := w.build()
	must.Do(t, err)
	if len(out.Findings.With("mirror.missing-dependency")) != 1 || out.Findings.HasErrors() {
		t.Errorf("what upstream itself left unfit should be told as a warning: %v", out.Findings)
	}
	_, m := w.open(1)
	copied := 0
	for path, data := range w.files {
		if strings.Contains(path, "arm64") {
			continue
		}
		l, ok := m.Find("tarn/" + path)
		if !ok {
			t.Errorf("%s was not copied", path)
			continue
		}
		if l.SHA256 != fmt.Sprintf("%x", sha256.Sum256(data)) {
			t.Errorf("%s was changed", path)
		}
		copied++
	}
	if copied < 15 {
		t.Errorf("only %d files were compared", copied)
	}
}

func TestStrictMirrorIsNotSealedWhileSomethingIsMissing(t *testing.T) {
	w := newWorld(t)
	w.source.Want.Packages = []string{"buoy"}
	f := w.refused("mirror.missing-dependency")
	for _, word := range []string{"buoy", "libabsent", "amd64"} {
		if !strings.Contains(f.Text, word) {
			t.Errorf("the finding does not name %s: %s", word, f.Text)
		}
	}
	w.source.Want.Packages = []string{"sluicectk"}
	if f := w.refused("mirror.want-no-match"); !strings.Contains(f.WayOut, "sluicectl") {
		t.Errorf("no near name in: %s", f.WayOut)
	}
	w.source.Want.Packages = []string{"tide-tables >= 9"}
	if f := w.refused("mirror.want-no-match"); !strings.Contains(f.WayOut, "2.4.1-1") {
		t.Errorf("the versions that exist are not told: %s", f.WayOut)
	}
}

func TestAttacksFromUpstreamAreRefused(t *testing.T) {
	in := "dists/heron/InRelease"
	change := func(data []byte, old, new string) []byte {
		if !bytes.Contains(data, []byte(old)) {
			panic("nothing to change: " + old)
		}
		return bytes.Replace(data, []byte(old), []byte(new), 1)
	}
	republish := func(w *world) { w.publish() }
	for _, c := range []struct {
		name, code string
		mount      func(w *world)
	}{
		{"signed by a key nobody brought in", "content.signature-bad", func(w *world) {
			w.key = keys()[1]
			republish(w)
		}},
		{"signed by a key vouched for another source", "key.unvouched", func(w *world) {
			w.source.Keyring = w.keyring("brine-drivers")
		}},
		{"signed by a barred key", "key.barred", func(w *world) {
			w.source.Keyring = trust.NewKeyring("tarn",
				[]trust.Known{{Certificate: w.key.Certificate(), VouchedFor: []string{"tarn"},
					Barred: "lost"}}, w.builder.Now)
		}},
		{"signature taken off", "content.signature-bad", func(w *world) {
			w.files[in] = w.files["dists/heron/Release"]
		}},
		{"signature over other text", "content.signature-bad", func(w *world) {
			w.files[in] = change(w.files[in], "Label: Tarn", "Label: Torn")
		}},
		{"unsigned line before the signed text", "content.signature-bad", func(w *world) {
			w.files[in] = append([]byte("Suite: other\n"), w.files[in]...)
		}},
		{"unsigned line behind it", "content.signature-bad", func(w *world) {
			w.files[in] = append(w.files[in], "Suite: other\n"...)
		}},
		{"a dash that is not escaped", "content.signature-bad", func(w *world) {
			w.files[in] = change(w.files[in], "Label: Tarn", "-Label: Tarn")
		}},
		{"detached signature gone", "content.signature-bad", func(w *world) {
			delete(w.files, in)
			delete(w.files, "dists/heron/Release.gpg")
		}},
		{"release of another name", "source.release-mismatch", func(w *world) {
			w.repo.Codename, w.repo.Suite = "gannet", "old"
			republish(w)
			for p, d := range maps.Clone(w.files) {
				w.files[strings.Replace(p, "gannet", "heron", 1)] = d
			}
		}},
		{"release whose end date has passed", "source.expired-index", func(w *world) {
			w.repo.ValidUntil = w.now.Add(-time.Minute)
			republish(w)
		}},
		{"only weak digests", "content.weak-digest", func(w *world) {
			text := bytes.Replace(w.files["dists/heron/Release"], []byte("SHA256:"), []byte("MD5Sum:"), 1)
			var err error
			w.files[in], err = w.key.Clearsign(text)
			must.Do(t, err)
		}},
		{"a blank before a colon", "content.ambiguous", func(w *world) {
			w.amend("\nDepends: ", "\nDepends : ")
		}},
		{"a line of one blank in a stanza", "content.ambiguous", func(w *world) {
			w.amend("\nDescription: gate", "\n \nDescription: gate")
		}},
		{"a second value of a field", "content.ambiguous", func(w *world) {
			w.amend("\nDescription: gate", "\nDepends: other\nDescription: gate")
		}},
		{"a name that is an option", "content.bad-name", func(w *world) {
			w.amend("Package: tide-tables\n", "Package: --tide-tables\n")
		}},
		{"a package file that says itself twice", "content.ambiguous", func(w *world) {
			file := bytes.Clone(w.files["pool/core/l/libtide2/libtide2_2.1-1_amd64.deb"])
			w.repackaged("libtide2", append(file, file[8:]...))
		}},
		{"index changed by one byte", "content.digest-mismatch", func(w *world) {
			for p, d := range w.files {
				if strings.Contains(p, "core/binary-amd64") {
					d = bytes.Clone(d)
					d[len(d)/2] ^= 1
					w.files[p] = d
				}
			}
		}},
		{"index of another publication", "content.size-mismatch", func(w *world) {
			old := maps.Clone(w.files)
			w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core", Name: "more", Version: "1",
				Arch: "amd64", Summary: "x"})
			republish(w)
			for p := range w.files {
				if strings.Contains(p, "core/binary-amd64/Packages") {
					w.files[p] = old[p]
				}
				if strings.Contains(p, "core/binary-amd64/by-hash") {
					delete(w.files, p)
				}
			}
		}},
		{"package changed by one byte", "content.digest-mismatch", func(w *world) {
			d := bytes.Clone(w.files["pool/core/s/sluicectl/sluicectl_1.4-1_amd64.deb"])
			d[len(d)-9] ^= 1
			w.files["pool/core/s/sluicectl/sluicectl_1.4-1_amd64.deb"] = d
		}},
		{"package cut short", "content.size-mismatch", func(w *world) {
			p := "pool/core/s/sluicectl/sluicectl_1.4-1_amd64.deb"
			w.files[p] = w.files[p][:100]
		}},
		{"package longer than declared", "content.too-large", func(w *world) {
			p := "pool/core/s/sluicectl/sluicectl_1.4-1_amd64.deb"
			w.files[p] = append(bytes.Clone(w.files[p]), 0)
		}},
		{"package that is another inside", "content.identity-mismatch", func(w *world) {
			p := "pool/core/s/sluicectl/sluicectl_1.4-1_amd64.deb"
			other := w.files["pool/core/l/libtide2/libtide2_2.1-1_amd64.deb"]
			w.repo.Amend = func(idx map[string][]byte) {
				old := idx["core/binary-amd64/Packages"]
				text := change(old, fmt.Sprintf("Filename: %s\nSize: %d\nSHA256: %x", p, len(w.files[p]),
					sha256.Sum256(w.files[p])),
					fmt.Sprintf("Filename: %s\nSize: %d\nSHA256: %x", p, len(other), sha256.Sum256(other)))
				delete(idx, "core/binary-amd64/Packages.xz")
				delete(idx, "core/binary-amd64/Packages.gz")
				idx["core/binary-amd64/Packages"] = text
			}
			republish(w)
			w.files[p] = other
		}},
		{"path that leads outside", "content.unsafe-path", func(w *world) {
			w.repo.Amend = func(idx map[string][]byte) {
				text := change(idx["core/binary-amd64/Packages"], "Filename: pool/core/s",
					"Filename: ../../../etc/s")
				clear(idx)
				idx["core/binary-amd64/Packages"] = text
				idx["field/binary-amd64/Packages"] = nil
			}
			republish(w)
		}},
		{"index that unpacks without end", "content.too-large", func(w *world) {
			w.repo.Amend = func(idx map[string][]byte) {
				bomb, err := archive.Compress(bytes.Repeat([]byte("A"), maxStanzaTest), "gz")
				must.Do(t, err)
				clear(idx)
				idx["core/binary-amd64/Packages.gz"] = bomb
				idx["field/binary-amd64/Packages"] = nil
			}
			republish(w)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			c.mount(w)
			w.refused(finding.Code(c.code))
		})
	}
}

// maxStanzaTest is more than one stanza may have.
const maxStanzaTest = 64 << 20

func TestReplayedRootIsRefusedAndMayBeAcceptedOnce(t *testing.T) {
	w := newWorld(t)
	old := maps.Clone(w.files)
	w.repo.Date = w.repo.Date.Add(30 * time.Minute)
	w.repo.Packages[0].Version = "1.5-1"
	w.publish()
	out, err := w.build()
	must.Do(t, err)
	w.files = old
	w.plan.Number, w.plan.Previous = 2, out.Edition
	if f := w.refused("source.older-than-accepted"); !strings.Contains(f.WayOut, "--accept-once") {
		t.Errorf("the way out does not tell how to accept it: %s", f.WayOut)
	}
	w.source.AcceptOnce = "upstream took a bad release back"
	if out, err = w.build(); err != nil || out.Edition == nil {
		t.Fatalf("accepted once, and still: %v", err)
	}
}

func TestAnotherUpstreamIsTriedWhenOneIsWrongOrDown(t *testing.T) {
	for _, c := range []struct {
		name  string
		mount func(bad *world)
	}{
		{"down", func(b *world) { b.server.Close() }},
		{"answers 503", func(b *world) {
			b.broken = func(w http.ResponseWriter, r *http.Request) bool {
				w.Header().Set("Retry-After", "30")
				w.WriteHeader(503)
				return true
			}
		}},
		{"sends other packages", func(b *world) {
			for p, d := range b.files {
				if strings.HasSuffix(p, ".deb") {
					b.files[p] = bytes.Repeat([]byte{1}, len(d))
				}
			}
		}},
		{"sends endlessly slowly", func(b *world) {
			b.broken = func(w http.ResponseWriter, r *http.Request) bool {
				w.Header().Set("Content-Length", "1000")
				for range 100 {
					if _, err := w.Write([]byte("a")); err != nil {
						break
					}
					w.(http.Flusher).Flush()
					select {
					case <-r.Context().Done():
						return true
					case <-time.After(20 * time.Millisecond):
					}
				}
				return true
			}
		}},
		{"breaks off in the middle", func(b *world) {
			b.broken = func(w http.ResponseWriter, r *http.Request) bool {
				w.Header().Set("Content-Length", "100000")
				w.Write([]byte("half"))
				panic(http.ErrAbortHandler)
			}
		}},
		{"sends to another host", func(b *world) {
			b.broken = func(w http.ResponseWriter, r *http.Request) bool {
				http.Redirect(w, r, "http://localhost:9/", http.StatusFound)
				return true
			}
		}},
		{"sends in a circle", func(b *world) {
			b.broken = func(w http.ResponseWriter, r *http.Request) bool {
				http.Redirect(w, r, r.URL.Path, http.StatusFound)
				return true
			}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			bad, good := newWorld(t), newWorld(t)
			bad.files = maps.Clone(good.files)
			c.mount(bad)
			good.source.Route.Upstreams = []fetch.Upstream{{URL: bad.server.URL + "/tarn"},
				{URL: good.server.URL + "/tarn"}}
			out, err := good.build()
			must.Do(t, err)
			if out.Packages != 4 {
				t.Errorf("%d packages", out.Packages)
			}
		})
	}
}

func TestInterruptedDownloadGoesOnWhereItStopped(t *testing.T) {
	w := newWorld(t)
	big := made.Deb{Component: "core", Name: "sluicectl", Version: "2", Arch: "amd64", Summary: "x",
		Files: []made.File{{Path: "/usr/share/big", Mode: 0o644, Data: randomish(300_000)}}}
	w.repo.Packages[0] = big
	w.publish()
	target := big.Filename()
	var ranges []string
	w.broken = func(rw http.ResponseWriter, r *http.Request) bool {
		if !strings.HasSuffix(r.URL.Path, target) {
			return false
		}
		ranges = append(ranges, r.Header.Get("Range"))
		if len(ranges) > 1 {
			return false
		}
		data := w.files[target]
		rw.Header().Set("Content-Length", fmt.Sprint(len(data)))
		rw.Write(data[:len(data)/2])
		rw.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}
	if _, err := w.build(); err == nil {
		t.Fatal("half a package should not do")
	}
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	if len(ranges) != 2 || !strings.HasPrefix(ranges[1], "bytes=") || ranges[1] == "bytes=0-" {
		t.Errorf("the second try asked for %q", ranges)
	}
}

func randomish(n int) []byte {
	out := make([]byte, 0, n)
	for sum := sha256.Sum256(nil); len(out) < n; sum = sha256.Sum256(sum[:]) {
		out = append(out, sum[:]...)
	}
	return out[:n]
}
