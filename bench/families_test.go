package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/rpm"
	"stockade/core/archive/rpm/header"
	"stockade/core/fetch"
	"stockade/core/solve"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
	"stockade/internal/must"
)

// many is how many packages a generated index has.
const many = 60_000

// rpmRepository gives the files of an rpm-md repository with a generated
// primary list: each package provides four names, needs nine, and has three files.
func rpmRepository(b *testing.B, key *trust.SiteKey, packing string) map[string][]byte {
	b.Helper()
	m := made.RPM{Name: "pump-NAME", Version: "3.2.0-1.el9", Arch: "x86_64",
		Summary: "package NAME of a generated repository",
		Requires: []string{"libbrine >= 3", "libc.so.6()(64bit)", "libm.so.6(GLIBC_2.34)(64bit)",
			"pump-PREV = 3.2.0-1.el9", "/usr/bin/sh", "rtld(GNU_HASH)", "pkgconfig(brine) >= 3",
			"(a-NAME if b-NAME)", "pump-common"},
		Provides: []string{"pump-NAME(x86-64) = 3.2.0-1.el9", "libpumpNAME.so.3()(64bit)",
			"pkgconfig(pump-NAME) = 3.2"}, Recommends: []string{"pump-doc"},
		Files: []made.File{{Path: "/usr/bin/pump-NAME", Mode: 0o755, Data: []byte("x")},
			{Path: "/etc/pump-NAME.conf", Mode: 0o644, Data: []byte("x")},
			{Path: "/usr/share/pump/NAME", Mode: 0o644, Data: []byte("x")}}}
	file, err := m.Build(nil)
	must.Do(b, err)
	o, err := header.Open(bytes.NewReader(file))
	must.Do(b, err)
	one := rpm.Description{File: o, Path: "Packages/p/pump-NAME.rpm", SHA256: "DIGEST",
		Size: int64(len(file))}.Primary()
	r := made.RPMRepository{Name: "generated", Date: time.Now().Add(-time.Hour), Packing: packing,
		Amend: func(kind string, text []byte) []byte {
			if kind != "primary" {
				return text
			}
			var all bytes.Buffer
			fmt.Fprintf(&all, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<metadata "+
				"xmlns=\"http://linux.duke.edu/metadata/common\" "+
				"xmlns:rpm=\"http://linux.duke.edu/metadata/rpm\" packages=\"%d\">\n", many)
			for i := range many {
				all.WriteString(strings.NewReplacer("NAME", fmt.Sprint(i), "PREV", fmt.Sprint(max(i-1, 0)),
					"DIGEST", fmt.Sprintf("%064x", uint64(i)*0x9E3779B97F4A7C15)).Replace(one))
				all.WriteByte('\n')
			}
			all.WriteString("</metadata>\n")
			return all.Bytes()
		}}
	files, err := r.Publish(key)
	must.Do(b, err)
	return files
}

// alpmRepository gives the files of a generated sync database.
func alpmRepository(b *testing.B, key *trust.SiteKey) map[string][]byte {
	b.Helper()
	info := map[string][]string{"pkgbase": {"echo"}, "pkgdesc": {"package of a generated database"}, "url": {
		"https://wrack.example/"}, "license": {"MIT"}, "arch": {"x86_64"}, "pkgver": {"2.3.1-2"}, "size": {
		"100000"},
		"builddate": {"1790000000"}, "packager": {"Yard <yard@wrack.example>"}, "depend": {"libecho>=1.8",
			"glibc", "gcc-libs", "libm.so=6-64", "chart-data", "sounder-bus"}, "optdepend": {
			"paper: to print", "ink: to draw"}}
	data, err := made.AlpmDatabase(many, func(i int) (string, []byte) {
		name := fmt.Sprintf("echo-%d", i)
		info["pkgname"], info["provides"] = []string{name}, []string{fmt.Sprintf("libecho%d.so=1-64", i)}
		return name + "-2.3.1-2", alpm.Describe(info, name+"-2.3.1-2-x86_64.pkg.tar.zst", 30_000, fmt.Sprintf(
			"%064x", uint64(i)*0x9E3779B97F4A7C15))
	})
	must.Do(b, err)
	signature, err := key.DetachSign(data, false)
	must.Do(b, err)
	return map[string][]byte{"wrack/os/x86_64/wrack.db": data, "wrack/os/x86_64/wrack.db.sig": signature}
}

// BenchmarkGeneratedIndex verifies, decompresses and parses generated indexes of
// 60,000 packages of the other families and holds all packages for selection,
// against decompressing the same file alone.
func BenchmarkGeneratedIndex(b *testing.B) {
	made := func() time.Time { return time.Now().Add(-48 * time.Hour) }
	key, err := trust.NewKey("Generated", "", "g@wrack.example", made)
	must.Do(b, err)
	key = key.At(func() time.Time { return time.Now().Add(-time.Hour) })
	for _, c := range []struct {
		name   string
		family archive.Family
		spec   archive.Source
		files  func(b *testing.B) map[string][]byte
	}{
		{"rpm-gz", rpm.Family{}, archive.Source{Name: "g", Family: "rpm", Architectures: []string{"x86_64"}},
			func(b *testing.B) map[string][]byte { return rpmRepository(b, key, "gz") }},
		{"rpm-zst", rpm.Family{}, archive.Source{Name: "g", Family: "rpm", Architectures: []string{"x86_64"}},
			func(b *testing.B) map[string][]byte { return rpmRepository(b, key, "zst") }},
		{"alpm-gz", alpm.Family{}, archive.Source{
			Name:          "g",
			Family:        "alpm",
			Components:    []string{"wrack"},
			Architectures: []string{"x86_64"},
		}, func(b *testing.B) map[string][]byte { return alpmRepository(b, key) }},
	} {
		b.Run(c.name, func(b *testing.B) {
			files := c.files(b)
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				data, ok := files[strings.TrimPrefix(r.URL.Path, "/")]
				if !ok {
					http.NotFound(w, r)
					return
				}
				w.Write(data)
			}))
			src := &upstream.Source{Name: "g", Family: c.family, Spec: c.spec,
				Route: fetch.Route{Source: "g", Upstreams: []fetch.Upstream{{URL: srv.URL}}},
				Keyring: trust.NewKeyring("g",
					[]trust.Known{{Certificate: key.Certificate(), VouchedFor: []string{"g"}}}, time.Now)}
			bl := builder(b, nil)
			pub, err := bl.Refresh(context.Background(), src)
			must.Do(b, err)
			lists, err := bl.Lists(context.Background(), pub)
			must.Do(b, err)
			src.Accepted = &pub.Accepted
			srv.Close()
			files, pub = nil, nil
			runtime.GC()
			debug.FreeOSMemory()
			must.Do(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0)) // the peak begins anew
			var ours, alone time.Duration
			var plainBytes int64
			packages := 0
			for b.Loop() {
				begun := time.Now()
				f, err := bl.Pool.Open(lists[0].SHA256)
				must.Do(b, err)
				plain, err := archive.Decompress(f, lists[0].Used.Compression, 4<<30)
				must.Do(b, err)
				if plainBytes, err = io.Copy(io.Discard, plain); err != nil {
					b.Fatal(err)
				}
				f.Close()
				alone += time.Since(begun)
				begun = time.Now()
				if _, err := bl.ReadAccepted(src); err != nil { // the signature
					b.Fatal(err)
				}
				u := solve.NewUniverse(c.family,
					[]solve.Source{{Name: "g", Architectures: c.spec.Architectures}})
				packages = 0
				must.Do(b, bl.Read(src, 0, lists[0], func(p *archive.Package, _ []byte) error {
					packages++
					u.Add(0, p)
					return nil
				}))
				ours += time.Since(begun)
				runtime.KeepAlive(u)
			}
			if packages != many {
				b.Fatalf("%d packages", packages)
			}
			if most := peak(); most > 400 {
				b.Errorf("the peak is %.0f MiB", most)
			}
			b.ReportMetric(float64(ours)/float64(alone), "times-decompressing")
			b.ReportMetric(float64(plainBytes)/(1<<20), "plain-MiB")
			b.ReportMetric(peak(), "peak-MiB")
		})
	}
}
