package mirror

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/rpm"
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

// rpmWorld is a made-up upstream of the rpm family.
type rpmWorld struct {
	*world
	rpm made.RPMRepository
}

func newRPMWorld(t *testing.T) *rpmWorld {
	w := &rpmWorld{world: bareWorld(t)}
	w.rpm = made.RPMRepository{Name: "brine", CPE: "cpe:/o:brine:drives:9", Distro: "Brine 9",
		Date: w.now.Add(-time.Hour), Built: map[string][]byte{}, Packages: []made.RPM{
			{Name: "pumpctl", Version: "3.2-1", Arch: "x86_64",
				Requires: []string{"libbrine >= 3", "/usr/share/brine/table"}},
			{Name: "libbrine", Version: "3.4-1", Arch: "x86_64", Packing: "zst"},
			{Name: "tables", Version: "1-1", Arch: "noarch", Packing: "xz",
				Files: []made.File{{Path: "/usr/share/brine/table", Mode: 0o644, Data: []byte("x")}}},
			{Name: "panel", Version: "2-1", Arch: "x86_64"}, {Name: "panel", Version: "3-1", Arch: "x86_64"},
		}, Modules: "---\ndocument: modulemd\ndata: {name: panel, stream: \"2\", artifacts: {rpms: " +
			"[\"panel-0:2-1.x86_64\"]}}\n...\n---\ndocument: modulemd\ndata: {name: panel, stream: \"3\", " +
			"artifacts: {rpms: [\"panel-0:3-1.x86_64\"]}}\n...\n---\ndocument: modulemd-defaults\ndata: " +
			"{module: panel, stream: \"2\"}\n...\n",
		Updates: `<update type="security"><id>B-1</id><title>t</title><pkglist><collection><package name="pumpctl" version="3.2" release="1" epoch="0" arch="x86_64"/></collection></pkglist></update>`}
	w.source = &upstream.Source{Name: "brine", Standing: "vendor", Priority: 40, Family: rpm.Family{},
		Spec: archive.Source{Name: "brine", Family: "rpm", Release: "9",
			Architectures: []string{"x86_64"}},
		Route:   fetch.Route{Source: "brine", Upstreams: []fetch.Upstream{{URL: w.server.URL + "/tarn"}}},
		Keyring: w.ring("brine"), Want: definition.Want{Packages: []string{"pumpctl", "panel"},
			With: "required", Versions: 1}}
	w.plan.Sources = []*upstream.Source{w.source}
	w.republish()
	return w
}

func (w *world) ring(source string) *trust.Keyring {
	return trust.NewKeyring(source,
		[]trust.Known{{Certificate: keys()[0].Certificate(), VouchedFor: []string{source}}},
		func() time.Time {
			return w.now
		})
}

func (w *world) put(files map[string][]byte, err error) {
	w.t.Helper()
	must.Do(w.t, err)
	w.mu.Lock()
	w.files = files
	w.mu.Unlock()
}

func (w *rpmWorld) republish() { w.put(w.rpm.Publish(w.key)) }

// resign signs the root anew after something was changed in it.
func (w *rpmWorld) resign(change func(root string) string) {
	root := []byte(change(string(w.files["repodata/repomd.xml"])))
	signature, err := w.key.DetachSign(root, true)
	must.Do(w.t, err)
	w.files["repodata/repomd.xml"], w.files["repodata/repomd.xml.asc"] = root, signature
}

// alter changes every file whose path has match in it.
func (w *world) alter(match string, f func([]byte) []byte) {
	n := 0
	for p, data := range w.files {
		if strings.Contains(p, match) {
			w.files[p] = f(bytes.Clone(data))
			n++
		}
	}
	if n == 0 {
		w.t.Fatalf("nothing has %s in its path: %v", match, slices.Sorted(maps.Keys(w.files)))
	}
}

func flip(b []byte) []byte { b[len(b)/2] ^= 1; return b }

func items(t *testing.T, w *world, n int) (out []string) {
	t.Helper()
	_, m := w.open(n)
	must.Do(t, m.Items(func(i edition.Item) error {
		out = append(out, strings.TrimSpace(i.Name+" "+i.Version+" "+i.Attributes["stream"]))
		return nil
	}))
	slices.Sort(out)
	return out
}

func TestWhatUpstreamSaysLaterAndWhichStreamIsWanted(t *testing.T) {
	w := newRPMWorld(t)
	out, err := w.build()
	must.Do(t, err)
	// What upstream says later about a package that is there is a new edition.
	w.plan.Previous, w.plan.Number = out.Edition, 2
	w.rpm.Date = w.rpm.Date.Add(time.Minute)
	w.republish()
	if again, err := w.build(); err != nil || !again.Unchanged {
		t.Errorf("nothing new was said: unchanged %v, %v", again.Unchanged, err)
	}
	w.rpm.Updates += `<update type="bugfix"><id>B-2</id><title>u</title><pkglist><collection><package name="libbrine" version="3.4" release="1" epoch="0" arch="x86_64"/></collection></pkglist></update>`
	w.rpm.Date = w.rpm.Date.Add(time.Minute)
	w.republish()
	if again, err := w.build(); err != nil || again.Unchanged || again.Edition.Advisories != 2 {
		t.Errorf("an advisory came: unchanged %v, %v", again.Unchanged, err)
	}
	w.plan.Previous = nil
	// Another stream, wanted by name; and one that does not exist.
	w.source.Want.Streams = []string{"panel:3"}
	w.plan.Number = 2
	if _, err := w.build(); err != nil || !slices.Contains(items(t, w.world, 2), "panel 3-1 panel:3") {
		t.Errorf("%v %v", err, items(t, w.world, 2))
	}
	w.source.Want.Streams, w.plan.Number = []string{"panel:4"}, 3
	if f := w.refused("mirror.stream-missing"); !strings.Contains(f.WayOut, "panel:2, panel:3") {
		t.Error(f.WayOut)
	}
	// What nobody signed is told, and carried.
	w.source.Want.Streams = nil
	w.rpm.Unsigned, w.rpm.Date = true, w.rpm.Date.Add(time.Minute)
	w.republish()
	if out, err = w.build(); err != nil || len(out.Findings.With("content.package-unsigned")) != 1 {
		t.Errorf("%v %v", out.Findings, err)
	}
}

// Upstreams that a Metalink names are asked, best first; what they send is
// verified like everything else.
func TestUpstreamsOfAMetalinkAreAskedAndNotBelieved(t *testing.T) {
	w := newRPMWorld(t)
	w.files["metalink"] = []byte(`<metalink><file name="repomd.xml"><url priority="2">` + w.server.URL +
		`/tarn/repodata/repomd.xml</url><url priority="1">` + w.server.URL +
		`/nowhere/repodata/repomd.xml</url></file></metalink>`)
	w.source.Route.Upstreams, w.source.Route.Lists = nil,
		[]fetch.List{{URL: w.server.URL + "/tarn/metalink", Metalink: true}}
	if out, err := w.build(); err != nil || out.Publications[0].Accepted.Upstream != w.server.URL+"/tarn" {
		t.Fatal(err)
	}
	w.plan.Number = 2
	w.source.Route.Upstreams, w.source.Route.Lists = nil,
		[]fetch.List{{URL: w.server.URL + "/tarn/metalink", Metalink: true}}
	w.alter("-primary", flip)
	w.source.Want.Packages = []string{"pumpctl"}
	must.Do(t, w.builder.Pool.Remove(firstList(t, w.world)))
	w.refused("content.digest-mismatch")
}

// firstList gives the digest of the list of packages that the last build read.
func firstList(t *testing.T, w *world) string {
	t.Helper()
	e, _ := w.open(1)
	return e.Sources[0].Indexes[0].SHA256
}

// Parts of two publications on one server are refused by digest, and taken whole
// from the next server; a server that lags is stepped over in the same way.
func TestMixedPublicationsAreTakenWholeFromAnotherUpstream(t *testing.T) {
	for name, mix := range map[string]func(old, now map[string][]byte) map[string][]byte{
		"a new root over old lists": func(old, now map[string][]byte) map[string][]byte {
			out := maps.Clone(old)
			for p, data := range now {
				if strings.HasPrefix(p, "repodata/repomd") {
					out[p] = data
				}
			}
			for p, data := range now { // lists by the new names, with the old content
				if i := strings.LastIndexByte(p, '-'); strings.HasSuffix(p, "-primary.xml.gz") && i > 0 {
					out[p] = bytes.Clone(data)
					out[p][len(data)/2] ^= 1
				}
			}
			return out
		},
		"a new root with the signature of the old": func(old, now map[string][]byte) map[string][]byte {
			out := maps.Clone(now)
			out["repodata/repomd.xml.asc"] = old["repodata/repomd.xml.asc"]
			return out
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newRPMWorld(t)
			old := maps.Clone(w.files)
			w.rpm.Date = w.rpm.Date.Add(time.Minute)
			w.rpm.Packages[0].Version = "3.3-1"
			w.republish()
			now := maps.Clone(w.files)
			w.files = mix(old, now)
			w.broken = func(rw http.ResponseWriter, r *http.Request) bool {
				p, ok := strings.CutPrefix(r.URL.Path, "/whole/")
				if !ok {
					return false
				}
				if data, there := now[p]; there {
					rw.Write(data)
				} else {
					http.NotFound(rw, r)
				}
				return true
			}
			w.source.Route.Upstreams = append(w.source.Route.Upstreams, fetch.Upstream{URL: w.server.URL +
				"/whole"})
			if _, err := w.build(); err != nil {
				t.Fatal(err)
			}
			if got := items(t, w.world, 1); !slices.Contains(got, "pumpctl 3.3-1") {
				t.Error(got)
			}
		})
	}
}

// Old repositories say how long their lists are in no place: the digest alone
// has to do, and what never ends is given up all the same.
func TestListsWithoutASizeAreTakenByTheirDigest(t *testing.T) {
	w := newRPMWorld(t)
	w.resign(func(s string) string {
		return regexp.MustCompile(`\s*<size>\d+</size>`).ReplaceAllString(s, "")
	})
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w = newRPMWorld(t)
	w.resign(func(s string) string {
		return regexp.MustCompile(`\s*<size>\d+</size>`).ReplaceAllString(s, "")
	})
	w.alter("-primary", flip)
	w.refused("content.digest-mismatch")
}

func TestFaithfulCopiesOfTheOtherFamiliesKeepEveryByte(t *testing.T) {
	r := newRPMWorld(t)
	a := newALPMWorld(t)
	for name, w := range map[string]*world{"rpm": r.world, "alpm": a.world} {
		w.plan.Mirror.Copy, w.plan.Mirror.Complete = "faithful", "told"
		w.source.Want = definition.Want{Everything: true}
		if _, err := w.build(); err != nil {
			t.Fatal(name, err)
		}
		_, m := w.open(1)
		for path, data := range w.files {
			if l, ok := m.Find(w.source.Name + "/" + path); !ok || l.SHA256 != sha256Of(data) {
				t.Errorf("%s: %s was not copied as it is", name, path)
			}
		}
		if found := m.Verify(nil, nil); len(found) > 0 {
			t.Error(name, found)
		}
	}
}

func TestAttacksOnRPMSourcesAreRefused(t *testing.T) {
	for _, c := range []struct {
		name  string
		code  finding.Code
		mount func(w *rpmWorld)
	}{
		{"signed by a key nobody brought in", "content.signature-bad", func(w *rpmWorld) {
			w.key = keys()[1]
			w.republish()
		}},
		{"signed by a key vouched for another source", "key.unvouched", func(w *rpmWorld) {
			w.source.Keyring = w.ring("tarn")
			w.source.Keyring = trust.NewKeyring("brine",
				[]trust.Known{{Certificate: keys()[0].Certificate(), VouchedFor: []string{"tarn"}}},
				w.builder.Now)
		}},
		{"signed by a barred key", "key.barred", func(w *rpmWorld) {
			w.source.Keyring = trust.NewKeyring("brine",
				[]trust.Known{{Certificate: keys()[0].Certificate(), VouchedFor: []string{"brine"},
					Barred: "lost"}}, w.builder.Now)
		}},
		{"signature taken off", "content.signature-bad", func(w *rpmWorld) {
			delete(w.files, "repodata/repomd.xml.asc")
		}},
		{"signature over another text", "content.signature-bad", func(w *rpmWorld) {
			w.alter("repomd.xml", func(b []byte) []byte { return append(b, ' ') })
		}},
		{"an empty signature", "content.signature-bad", func(w *rpmWorld) {
			w.files["repodata/repomd.xml.asc"] = nil
		}},
		{"a list changed", "content.digest-mismatch", func(w *rpmWorld) { w.alter("-primary", flip) }},
		{"a list of files changed", "content.digest-mismatch", func(w *rpmWorld) {
			w.alter("-filelists", flip)
		}},
		{"a list of streams changed", "content.digest-mismatch", func(w *rpmWorld) {
			w.alter("-modules", flip)
		}},
		{"advisories changed", "content.digest-mismatch", func(w *rpmWorld) {
			w.alter("-updateinfo", flip)
		}},
		{"a list cut short", "content.size-mismatch", func(w *rpmWorld) {
			w.alter("-primary", func(b []byte) []byte { return b[:len(b)-9] })
		}},
		{"a package changed", "content.digest-mismatch", func(w *rpmWorld) { w.alter("libbrine", flip) }},
		{"a package longer than declared", "content.too-large", func(w *rpmWorld) {
			w.alter("libbrine", func(b []byte) []byte { return append(b, 0) })
		}},
		{"a package of another identity", "content.identity-mismatch", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.ReplaceAll(text, []byte(`ver="3.4"`), []byte(`ver="3.5"`))
			}
			w.republish()
		}},
		{"a package signed by a stranger, in a list signed by the owner",
			"content.signature-bad", func(w *rpmWorld) {
				w.rpm.AmendPackages = func(m made.RPM, file []byte) []byte {
					m.Time = 1_700_000_000
					other, err := m.Build(keys()[1])
					must.Do(t, err)
					return other
				}
				w.republish()
			}},
		{"a package whose payload is not the one that was signed",
			"content.digest-mismatch", func(w *rpmWorld) {
				w.rpm.AmendPackages = func(m made.RPM, file []byte) []byte {
					file[len(file)-20] ^= 1
					return file
				}
				w.rpm.Built = nil
				w.republish()
			}},
		{"a root of another release", "source.release-mismatch", func(w *rpmWorld) {
			w.rpm.CPE = "cpe:/o:brine:drives:10"
			w.republish()
		}},
		{"a list that lies elsewhere", "content.unsafe-path", func(w *rpmWorld) {
			w.resign(func(s string) string {
				return strings.Replace(s, `<location href="repodata/`, `<location href="../repodata/`, 1)
			})
		}},
		{"only SHA-1", "content.weak-digest", func(w *rpmWorld) {
			w.resign(func(s string) string { return strings.ReplaceAll(s, `"sha256"`, `"sha1"`) })
		}},
		{"an entity in the root", "source.malformed-index", func(w *rpmWorld) {
			w.resign(func(s string) string {
				return strings.Replace(s, "<repomd",
					`<!DOCTYPE r [<!ENTITY x SYSTEM "file:///etc/passwd">]><repomd`, 1)
			})
		}},
		{"a path out of the folder", "content.unsafe-path", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.ReplaceAll(text, []byte(`href="Packages/p/`), []byte(`href="../../p/`))
			}
			w.republish()
		}},
		{"two packages whose paths differ only by case", "content.unsafe-path", func(w *rpmWorld) {
			w.rpm.Packages = append(w.rpm.Packages,
				made.RPM{Name: "PUMPCTL", Version: "3.2-1", Arch: "x86_64"})
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.ReplaceAll(text, []byte("Packages/P/PUMPCTL"), []byte("Packages/p/PUMPCTL"))
			}
			w.source.Want.Packages = []string{"pumpctl", "PUMPCTL"}
			w.republish()
			w.files["Packages/p/PUMPCTL-3.2-1.x86_64.rpm"] = w.files["Packages/P/PUMPCTL-3.2-1.x86_64.rpm"]
		}},
		{"a name at another place", "content.ambiguous", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.Replace(text, []byte("<format>"), []byte("<format><name>other</name>"), 1)
			}
			w.republish()
		}},
		{"a location at another place", "content.ambiguous", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.Replace(text, []byte("<format>"),
					[]byte(`<format><location href="Packages/o/other.rpm"/>`), 1)
			}
			w.republish()
		}},
		{"an element in a comment before the first", "content.ambiguous", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.Replace(text, []byte("<package "),
					[]byte(`<!-- <package type="rpm"></package> --><package `), 1)
			}
			w.republish()
		}},
		{"a second place in the root", "content.ambiguous", func(w *rpmWorld) {
			w.resign(func(root string) string {
				return strings.Replace(root, "<location ",
					`<location href="repodata/other.xml.gz"/><location `, 1)
			})
		}},
		{"a module stream with a key twice", "content.ambiguous", func(w *rpmWorld) {
			w.rpm.Modules = strings.Replace(w.rpm.Modules, `stream: "2"`, `stream: "2", stream: "9"`, 1)
			w.republish()
		}},
		{"a mapping of twenty thousand keys", "content.too-large", func(w *rpmWorld) {
			var keys strings.Builder
			for i := range 20_000 {
				fmt.Fprintf(&keys, "k%d: 1, ", i)
			}
			w.rpm.Modules = strings.Replace(w.rpm.Modules, "data: {", "data: {"+keys.String(), 1)
			w.republish()
		}},
		{"an entity bomb in a list", "source.malformed-index", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.Replace(text, []byte("<metadata"),
					[]byte(`<!DOCTYPE m [<!ENTITY a "`+strings.Repeat("lol", 1000)+`">]><metadata`), 1)
			}
			w.republish()
		}},
		{"nesting without end", "source.malformed-index", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				return bytes.Replace(text, []byte("<summary>"), []byte(strings.Repeat("<a>", 10_000)+
					"<summary>"), 1)
			}
			w.republish()
		}},
		{"a field of many megabytes", "content.too-large", func(w *rpmWorld) {
			w.rpm.Amend = func(kind string, text []byte) []byte {
				if kind != "primary" {
					return text
				}
				return bytes.Replace(text, []byte("<summary>"),
					append([]byte("<summary>"), bytes.Repeat([]byte("a"), 80<<20)...), 1)
			}
			w.republish()
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newRPMWorld(t)
			c.mount(w)
			w.refused(c.code)
		})
	}
}

// alpmWorld is a made-up upstream of the alpm family.
type alpmWorld struct {
	*world
	alpm made.AlpmRepository
	at   time.Time // when its owner signs
}

func newALPMWorld(t *testing.T) *alpmWorld {
	w := &alpmWorld{world: bareWorld(t)}
	w.now = w.now.Add(48 * time.Hour) // so that owners could sign earlier than now with keys made just now
	w.at = w.now.Add(-time.Minute)
	w.alpm = made.AlpmRepository{Components: []string{"wrack"}, Arch: "x86_64", Date: w.now.Add(-time.Hour),
		Signed: map[string][]byte{}, Packages: []made.Alpm{
			{Component: "wrack", Name: "echo-plot", Version: "2.3-2", Arch: "x86_64",
				Depends: []string{"libecho>=1.8", "bus"}, OptDepend: []string{"paper: to print"}},
			{Component: "wrack", Name: "libecho", Version: "1.9-1", Arch: "x86_64",
				Summary: "reads echoes", Packing: "xz"},
			{Component: "wrack", Name: "serial", Version: "1-1", Arch: "x86_64",
				Provides: []string{"bus=1"}},
			{Component: "wrack", Name: "paper", Version: "7-1", Arch: "any", Packing: "gz"},
		}}
	w.source = &upstream.Source{Name: "wrack", Standing: "community", Priority: 30,
		Family: alpm.Family{}, Spec: archive.Source{Name: "wrack", Family: "alpm",
			Components: []string{"wrack"}, Architectures: []string{"x86_64"}},
		Route:   fetch.Route{Source: "wrack", Upstreams: []fetch.Upstream{{URL: w.server.URL + "/tarn"}}},
		Keyring: w.ring("wrack"), Want: definition.Want{Packages: []string{"echo-plot"},
			With: "required", Versions: 1}}
	w.plan.Sources = []*upstream.Source{w.source}
	w.republish()
	return w
}

func (w *alpmWorld) republish() {
	w.put(w.alpm.Publish(w.key.At(func() time.Time { return w.at })))
}

const db = "wrack/os/x86_64/wrack.db"

func TestAttacksOnALPMSourcesAreRefused(t *testing.T) {
	amend := func(old, new string) func(w *alpmWorld) {
		return func(w *alpmWorld) {
			w.alpm.Amend = func(m made.Alpm, desc []byte) []byte {
				if m.Name == "libecho" {
					return bytes.Replace(desc, []byte(old), []byte(new), 1)
				}
				return desc
			}
			w.republish()
		}
	}
	for _, c := range []struct {
		name  string
		code  finding.Code
		mount func(w *alpmWorld)
	}{
		{"signed by a key nobody brought in", "content.signature-bad", func(w *alpmWorld) {
			w.key = keys()[1]
			w.republish()
		}},
		{"signed by a key vouched for another source", "key.unvouched", func(w *alpmWorld) {
			w.source.Keyring = trust.NewKeyring("wrack",
				[]trust.Known{{Certificate: keys()[0].Certificate(), VouchedFor: []string{"tarn"}}},
				w.builder.Now)
		}},
		{"signed by a barred key", "key.barred", func(w *alpmWorld) {
			w.source.Keyring = trust.NewKeyring("wrack",
				[]trust.Known{{Certificate: keys()[0].Certificate(), VouchedFor: []string{"wrack"},
					Barred: "lost"}}, w.builder.Now)
		}},
		{"signature taken off", "content.signature-bad", func(w *alpmWorld) { delete(w.files, db+".sig") }},
		{"a database changed", "content.signature-bad", func(w *alpmWorld) {
			w.files[db] = flip(w.files[db])
		}},
		{"the signature of another database", "content.signature-bad", func(w *alpmWorld) {
			w.files[db+".sig"] = w.files["wrack/os/x86_64/wrack.files.sig"]
		}},
		{"a package changed", "content.digest-mismatch", func(w *alpmWorld) {
			w.alter("libecho-1.9-1-x86_64.pkg.tar.xz", flip)
		}},
		{"a package's signature changed", "content.signature-bad", func(w *alpmWorld) {
			w.alter("libecho-1.9-1-x86_64.pkg.tar.xz.sig", flip)
		}},
		{"a package signed by a stranger", "content.signature-bad", func(w *alpmWorld) {
			for p, data := range w.files {
				if strings.HasSuffix(p, ".pkg.tar.xz") {
					var err error
					w.files[p+".sig"], err = keys()[1].DetachSign(data, false)
					must.Do(w.t, err)
				}
			}
		}},
		{"a package of another identity", "content.identity-mismatch", func(w *alpmWorld) {
			w.alpm.Packages[1].Fields = ""
			w.alpm.Amend = func(m made.Alpm, desc []byte) []byte {
				if m.Name == "libecho" {
					return bytes.Replace(desc, []byte("%ARCH%\nx86_64"), []byte("%ARCH%\nany"), 1)
				}
				return desc
			}
			w.republish()
		}},
		{"a file name that leads out", "content.unsafe-path", amend("%FILENAME%\n", "%FILENAME%\n../")},
		{"only MD5", "content.weak-digest", amend("%SHA256SUM%", "%MD5SUM%")},
		{"a control character in a field", "source.malformed-index", amend("%DESC%\n", "%DESC%\n\x1b[2J")},
		{"a need smuggled into another field", "content.ambiguous", amend("%VERSION%\n1.9-1\n",
			"%VERSION%\n1.9-1\n%DEPENDS%\nother\n")},
		{"a description of gigabytes", "content.ambiguous", func(w *alpmWorld) {
			w.alpm.Amend = func(m made.Alpm, desc []byte) []byte {
				return append(desc, bytes.Repeat([]byte("%X%\ny\n\n"), 100_000)...)
			}
			w.republish()
		}},
		{"another name than the folder's", "source.malformed-index", amend("%NAME%\nlibecho",
			"%NAME%\nlibecho2")},
		{"a database that unpacks without end", "content.too-large", func(w *alpmWorld) {
			w.alpm.Amend = func(m made.Alpm, desc []byte) []byte {
				return append(desc, bytes.Repeat([]byte("a"), 8<<20)...)
			}
			w.republish()
		}},
		{"databases of another architecture", "source.architecture-missing", func(w *alpmWorld) {
			for i := range w.alpm.Packages {
				w.alpm.Packages[i].Arch = "aarch64"
			}
			w.republish()
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newALPMWorld(t)
			c.mount(w)
			w.refused(c.code)
		})
	}
}

// A database has no date: that of its signature is what may not go back, for
// each database by itself; and one of another repository, signed by the same
// key, is not taken for this one.
func TestOlderAndForeignDatabasesAreRefused(t *testing.T) {
	w := newALPMWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w.plan.Number = 2
	w.at = w.at.Add(-time.Hour)
	w.alpm.Packages = append(w.alpm.Packages, made.Alpm{Component: "wrack", Name: "more",
		Version: "1-1", Arch: "any"})
	w.republish()
	w.refused("source.older-than-accepted")
	w.at = w.now
	many := func(prefix string) {
		w.alpm.Packages = w.alpm.Packages[:4]
		for i := range 20 {
			w.alpm.Packages = append(w.alpm.Packages,
				made.Alpm{Component: "wrack", Name: fmt.Sprintf("%s-%d", prefix, i),
					Version: "1-1", Arch: "any"})
		}
		w.republish()
	}
	many("ours")
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w.plan.Number, w.at = 3, w.at.Add(time.Second)
	w.alpm.Packages = w.alpm.Packages[:0]
	for i := range 40 {
		w.alpm.Packages = append(w.alpm.Packages,
			made.Alpm{Component: "wrack", Name: fmt.Sprintf("theirs-%d", i), Version: "1-1", Arch: "any"})
	}
	w.republish()
	w.refused("source.other-repository")
}

// Of a root that is several, each is compared with what was accepted of it: one that is held back is
// refused, although another has moved on.
func TestEachPartOfARootMovesOn(t *testing.T) {
	w := newALPMWorld(t)
	w.alpm.Components = []string{"wrack", "tide"}
	w.alpm.Packages = append(w.alpm.Packages, made.Alpm{Component: "tide", Name: "tables", Version: "1-1",
		Arch: "any"})
	w.source.Spec.Components = w.alpm.Components
	n := 0
	at := func(wrack, tide time.Duration) {
		t.Helper()
		for _, name := range []string{"wrack", "tide"} { // each has something else than before
			n++
			w.alpm.Packages = append(w.alpm.Packages, made.Alpm{Component: name,
				Name: fmt.Sprintf("new-%d", n), Version: "1-1", Arch: "any"})
		}
		both := map[string][]byte{}
		for component, ago := range map[string]time.Duration{"wrack": wrack, "tide": tide} {
			files, err := w.alpm.Publish(w.key.At(func() time.Time { return w.now.Add(-ago) }))
			must.Do(t, err)
			for path, data := range files {
				if strings.HasPrefix(path, component+"/") {
					both[path] = data
				}
			}
		}
		w.put(both, nil)
	}
	at(30*time.Minute, 10*time.Minute)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w.plan.Number = 2
	at(40*time.Minute, 5*time.Minute)
	if f := w.refused("source.older-than-accepted"); !strings.HasPrefix(f.Text, db+" was signed on") {
		t.Error(f.Text)
	}
	at(20*time.Minute, 20*time.Minute)
	w.refused("source.older-than-accepted")
	at(20*time.Minute, 5*time.Minute)
	if _, err := w.build(); err != nil {
		t.Error(err)
	}
}

func sha256Of(data []byte) string { return fmt.Sprintf("%x", sha256.Sum256(data)) }

// elsewhere puts a package into another folder of the upstream's host.
func (w *rpmWorld) elsewhere() {
	w.rpm.Packages[1].Base = w.server.URL + "/tarn/parts" // libbrine
	w.republish()
	moved := map[string][]byte{}
	for p, data := range w.files {
		if strings.Contains(p, "libbrine-3.4") {
			p = "parts/" + p
		}
		moved[p] = data
	}
	w.put(moved, nil)
}

// A package may lie in another folder of the upstream's own host, and nowhere else.
func TestAPackageElsewhereOnTheUpstreamsHostIsFetched(t *testing.T) {
	w := newRPMWorld(t)
	w.elsewhere()
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	e, m := w.open(1)
	line, ok := m.Find("brine/Packages/l/libbrine-3.4-1.x86_64.rpm")
	if !ok || line.Size == 0 {
		t.Errorf("it is not in %s", e.Name())
	}
	for _, l := range m.all() {
		if strings.HasSuffix(l.Path, "primary.xml.gz") {
			if text := string(gunzip(t, w.world, l)); strings.Contains(text, "xml:base") ||
				strings.Contains(text, "/parts") {
				t.Error("machines are sent elsewhere for it")
			}
		}
	}
	w.rpm.Packages[1].Base, w.plan.Number = "http://elsewhere.tarn.example/parts", 2
	w.republish()
	w.plan.Sources[0].Accepted = nil
	b := *w.builder
	b.Pool = emptyPool(t)
	if _, err := b.Build(t.Context(), w.plan); err == nil || !strings.Contains(err.Error(),
		"which is not a host of the source's upstreams") {
		t.Errorf("a package on a stranger's host: %v", err)
	}
}

func emptyPool(t *testing.T) pool.Store {
	t.Helper()
	dir := t.TempDir()
	p, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	return p
}

func gunzip(t *testing.T, w *world, l edition.Line) []byte {
	t.Helper()
	f, err := w.builder.Pool.Open(l.SHA256)
	must.Do(t, err)
	defer f.Close()
	plain, err := gzip.NewReader(f)
	must.Do(t, err)
	data, err := io.ReadAll(plain)
	must.Do(t, err)
	return data
}

// A stream that is wanted puts on what it needs, in a stream that is no default;
// and what that hides is not taken.
func TestAStreamBringsTheStreamsThatItNeeds(t *testing.T) {
	w := newRPMWorld(t)
	w.rpm.Packages = []made.RPM{
		{Name: "app", Version: "1-1", Arch: "x86_64", Requires: []string{"lib"}},
		{Name: "lib", Version: "1-1", Arch: "x86_64"}, {Name: "lib", Version: "2-1", Arch: "x86_64"},
		{Name: "lib", Version: "9-1", Arch: "x86_64"},
	}
	doc := func(name, stream, needs, artifact string) string {
		return fmt.Sprintf("---\ndocument: modulemd\ndata: {name: %s, stream: %q, version: 1, "+
			"dependencies: [{requires: {%s}}], artifacts: {rpms: [%s]}}\n...\n",
			name, stream, needs, artifact)
	}
	w.rpm.Updates = ""
	w.rpm.Modules = doc("app", "1", `platform: [el9], lib: ["2"]`, "app-0:1-1.x86_64") + doc("lib", "1", "",
		"lib-0:1-1.x86_64") + doc("lib", "2", "", "lib-0:2-1.x86_64")
	w.source.Want = definition.Want{Packages: []string{"app"}, With: "required", Versions: 1,
		Streams: []string{"app:1"}}
	w.republish()
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(items(t, w.world, 1), ", "); got != "app 1-1 app:1, lib 2-1 lib:2" {
		t.Errorf("chosen: %s", got)
	}
	// A stream whose need nobody has cannot be on, and that is told.
	w.rpm.Modules = doc("app", "1", `gone: []`, "app-0:1-1.x86_64")
	w.rpm.Date = w.rpm.Date.Add(time.Minute)
	w.republish()
	w.plan.Number = 2
	if out, err := w.build(); err == nil || len(out.Findings.With("mirror.stream-missing")) != 1 ||
		!strings.Contains(out.Findings.With("mirror.stream-missing")[0].Text, "gone") {
		t.Errorf("%v, %v", err, out.Findings)
	}
}

// A source whose index names packages by SHA-512 alone: they are fetched once, and
// every list that is written names them alike.
func TestPackagesNamedBySHA512AreFetchedOnceAndNamedAlike(t *testing.T) {
	w := newRPMWorld(t)
	long := map[string]string{} // SHA-256 → SHA-512
	w.rpm.AmendPackages = func(m made.RPM, file []byte) []byte {
		a, b := sha256.Sum256(file), sha512.Sum512(file)
		long[hex.EncodeToString(a[:])] = hex.EncodeToString(b[:])
		return file
	}
	w.rpm.Amend = func(kind string, text []byte) []byte {
		out := string(text)
		for short, l := range long {
			out = strings.ReplaceAll(out, `type="sha256" pkgid="YES">`+short, `type="sha512" pkgid="YES">`+l)
			out = strings.ReplaceAll(out, `pkgid="`+short, `pkgid="`+l)
		}
		return []byte(out)
	}
	w.republish()
	out, err := w.build()
	must.Do(t, err)
	_, m := w.open(1)
	checked := 0
	for _, l := range m.all() {
		if strings.HasSuffix(l.Path, "filelists.xml.gz") || strings.HasSuffix(l.Path, "other.xml.gz") ||
			strings.HasSuffix(l.Path, "primary.xml.gz") {
			checked++
			text := string(gunzip(t, w.world, l))
			for short := range long {
				if strings.Contains(text, short) {
					t.Errorf("%s names a package by SHA-256", l.Path)
				}
			}
			if strings.Count(text, `pkgid="`) == 0 {
				t.Errorf("%s names nothing", l.Path)
			}
		}
	}
	if checked != 3 {
		t.Fatalf("%d lists were looked at", checked)
	}
	var kept []edition.Item
	must.Do(t, m.Items(func(i edition.Item) error { kept = append(kept, i); return nil }))
	for _, i := range kept {
		if len(i.SHA256) != 64 || i.SHA512 != long[i.SHA256] {
			t.Errorf("%s is kept as %q and %q", i.Name, i.SHA256, i.SHA512)
		}
	}
	for name, prepare := range map[string]func(){
		"with the edition before it": func() { w.plan.Previous, w.plan.Items = out.Edition, kept },
		"from the pool alone":        func() { w.plan.Previous, w.plan.Items = nil, nil },
	} {
		prepare()
		w.plan.Number++
		w.rpm.Date = w.rpm.Date.Add(time.Minute)
		w.republish()
		w.mu.Lock()
		clear(w.hits)
		w.mu.Unlock()
		again, err := w.build()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for path := range w.hits {
			if strings.HasSuffix(path, ".rpm") {
				t.Errorf("%s, %s was fetched again", name, path)
			}
		}
		if again.FetchFiles != 0 {
			t.Errorf("%s, %d files are said to be fetched", name, again.FetchFiles)
		}
	}
	// Of what the pool lost, too, an edition knows which it is: nothing would change.
	for _, i := range kept {
		must.Do(t, w.builder.Pool.Remove(i.SHA256))
	}
	w.plan.Previous, w.plan.Items = nil, nil
	p, err := w.builder.Preview(t.Context(), w.plan, "barrage/1", kept)
	if err != nil || len(p.Changes) > 0 || p.FetchFiles != len(kept) {
		t.Errorf("%d files are to be fetched, and what would change is %+v: %v", p.FetchFiles, p.Changes, err)
	}
}
