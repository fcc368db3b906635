// Package bench compares what Stockade does with the physical limit of the same
// work in the same run, as ratios: machines are shared and noisy, so nothing
// here says how long anything takes in seconds.
package bench

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/metrics"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/fetch"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/demo"
	"stockade/internal/must"
	"stockade/internal/service"
)

func builder(b *testing.B, site *trust.SiteKey) *mirror.Builder {
	b.Helper()
	dir := b.TempDir()
	store, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(b, err)
	return &mirror.Builder{Reader: upstream.Reader{Pool: store, Fetch: fetch.New(fetch.Options{}),
		Families: archive.NewRegistry(deb.Family{}), Now: time.Now}, Site: site,
		Editions: filepath.Join(dir, "editions")}
}

// BenchmarkRealIndex verifies, decompresses and parses the index of the archive
// that this machine is configured for, against `xz -dc` of the same file.
func BenchmarkRealIndex(b *testing.B) {
	uri, suite, keyring := demo.OwnArchive()
	if uri == "" || demo.Reachable(uri+"/dists/"+suite+"/InRelease") != 200 {
		b.Skip("skipped: the machine's own archive is not reachable")
	}
	raw, err := os.ReadFile(keyring)
	if err != nil {
		b.Skip("skipped: ", err)
	}
	certs, err := trust.ReadCertificates(raw)
	must.Do(b, err)
	var known []trust.Known
	for _, c := range certs {
		known = append(known, trust.Known{Certificate: c, VouchedFor: []string{"own"}})
	}
	src := &upstream.Source{Name: "own", Family: deb.Family{},
		Route: fetch.Route{Source: "own", Upstreams: []fetch.Upstream{{URL: uri}}}, Spec: archive.Source{
			Name:          "own",
			Family:        "deb",
			Release:       suite,
			Components:    []string{"main"},
			Architectures: []string{"amd64"},
		},
		Keyring: trust.NewKeyring("own", known, time.Now)}
	bl := builder(b, nil)
	pub, err := bl.Refresh(context.Background(), src)
	must.Do(b, err)
	lists, err := bl.Lists(context.Background(), pub)
	must.Do(b, err)
	src.Accepted = &pub.Accepted
	if err := bl.Pool.Flush(); err != nil { // only then does it lie under its own name
		b.Fatal(err)
	}
	file := bl.Pool.(*pool.Dir).Path(lists[0].SHA256)
	if lists[0].Used.Compression != "xz" {
		b.Skip("skipped: the archive has no xz index")
	}
	var ours, theirs time.Duration
	packages := 0
	for b.Loop() {
		begun := time.Now()
		must.Do(b, exec.Command("sh", "-c", "xz -dc < "+file+" > /dev/null").Run())
		theirs += time.Since(begun)
		begun = time.Now()
		if _, err := bl.ReadAccepted(src); err != nil { // the signature
			b.Fatal(err)
		}
		packages = 0
		// Reading compares the digest with the root's.
		must.Do(b, bl.Read(src, 0, lists[0],
			func(*archive.Package, []byte) error { packages++; return nil }))
		ours += time.Since(begun)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(ours)/float64(theirs), "times-xz")
	b.ReportMetric(float64(packages), "packages")
	b.ReportMetric(peak(), "peak-MiB")
}

// peak is the largest resident memory of this process so far, in MiB.
func peak() float64 {
	raw, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(raw)) {
		var kib float64
		if n, _ := fmt.Sscanf(line, "VmHWM: %f kB", &kib); n == 1 {
			return kib / 1024
		}
	}
	return 0
}

// BenchmarkDownload takes 64 files of 4 MiB into the pool from loopback, eight
// at once, against downloading and hashing them alone. The pool also writes
// each to disk, durably.
func BenchmarkDownload(b *testing.B) {
	const files, size = 64, 4 << 20
	data := make([][]byte, files)
	sums := make([]string, files)
	for i := range data {
		data[i] = bytes.Repeat([]byte{byte(i), 1, 2, 3, 5, 7, 11, 13}, size/8)
		sums[i] = fmt.Sprintf("%x", sha256.Sum256(data[i]))
	}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var i int
		fmt.Sscanf(r.URL.Path, "/%d", &i)
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data[i]))
	}))
	defer srv.Close()
	client := fetch.New(fetch.Options{})
	route := fetch.Route{Source: "x", Upstreams: []fetch.Upstream{{URL: srv.URL}}}
	each := func(f func(i int) error) time.Duration {
		begun := time.Now()
		var wait sync.WaitGroup
		next := make(chan int)
		for range 8 {
			wait.Go(func() {
				for i := range next {
					if err := f(i); err != nil {
						b.Error(err)
					}
				}
			})
		}
		for i := range files {
			next <- i
		}
		close(next)
		wait.Wait()
		return time.Since(begun)
	}
	var ours, floor time.Duration
	for b.Loop() {
		floor += each(func(i int) error {
			res, err := http.Get(fmt.Sprintf("%s/%d", srv.URL, i))
			if err != nil {
				return err
			}
			defer res.Body.Close()
			h := sha256.New()
			_, err = io.Copy(h, res.Body)
			return err
		})
		store, err := pool.Open(filepath.Join(b.TempDir(), "pool"), b.TempDir())
		must.Do(b, err)
		ours += each(func(i int) error {
			_, err := store.Ingest(pool.Want{Name: "x", Size: size, Authority: pool.ByDigest(sums[i], "")},
				func(s pool.Sink) error {
					return client.Get(context.Background(), route, fetch.Request{
						Path:   fmt.Sprint(i),
						Max:    size,
						Resume: func(fetch.Upstream) (int64, string) { return s.Offset(), "" },
					}, func(r *fetch.Response) error {
						_, err := io.Copy(s, r.Body)
						return err
					}, nil)
				}, nil)
			return err
		})
		begun := time.Now() // what is not durable is not taken in
		must.Do(b, store.Flush())
		ours += time.Since(begun)
	}
	b.ReportMetric(float64(ours)/float64(floor), "times-hashing-alone")
}

// BenchmarkNothingChanged builds a mirror again after which nothing changed
// upstream, against one conditional request for its root.
func BenchmarkNothingChanged(b *testing.B) {
	s, err := demo.NewScenario(time.Now())
	must.Do(b, err)
	defer s.Close()
	bl := builder(b, s.KelpKey)
	src := &upstream.Source{Name: "tarn", Family: deb.Family{}, Priority: 20,
		Route: fetch.Route{Source: "tarn", Upstreams: []fetch.Upstream{{URL: s.North.URL}}},
		Spec: archive.Source{Name: "tarn", Family: "deb", Release: "heron",
			Components: []string{"core", "field"}, Architectures: []string{"amd64"}},
		Keyring: trust.NewKeyring("tarn",
			[]trust.Known{{Certificate: s.TarnKey.Certificate(), VouchedFor: []string{"tarn"}}}, time.Now),
		Want: definition.Want{Packages: []string{"sluicectl"}, With: "required", Versions: 1}}
	plan := mirror.Plan{Name: "barrage", Number: 1,
		Mirror: definition.Mirror{Copy: "tailored", Complete: "strict"}, Sources: []*upstream.Source{src}}
	out, err := bl.Build(context.Background(), plan)
	must.Do(b, err)
	src.Accepted, plan.Previous, plan.Number = &out.Publications[0].Accepted, out.Edition, 2
	s.North.Hits()
	var ours, floor time.Duration
	requests := 0
	for b.Loop() {
		for range 20 {
			begun := time.Now()
			req, err := http.NewRequest("GET", s.North.URL+"/dists/heron/InRelease", nil)
			must.Do(b, err)
			req.Header.Set("If-None-Match",
				fmt.Sprintf(`"%x"`, sha256.Sum256(s.North.Files()["dists/heron/InRelease"])))
			res, err := http.DefaultClient.Do(req)
			if err != nil || res.StatusCode != http.StatusNotModified {
				b.Fatal(err, res.StatusCode)
			}
			res.Body.Close()
			floor += time.Since(begun)
		}
		s.North.Hits()
		for range 20 {
			begun := time.Now()
			out, err := bl.Build(context.Background(), plan)
			if err != nil || !out.Unchanged {
				b.Fatal(err)
			}
			ours += time.Since(begun)
		}
		requests = 0
		for _, n := range s.North.Hits() {
			requests += n
		}
	}
	b.ReportMetric(float64(ours)/float64(floor), "times-one-request")
	b.ReportMetric(float64(requests)/20, "requests")
}

// BenchmarkManyMachines asks a service with 200 places for one small file from
// ten thousand machines, a few hundred at once, against the same from a bare file
// server, and tells the most that lay on the heap meanwhile (the asking machines'
// share is in both figures) and what of it stayed.
func BenchmarkManyMachines(b *testing.B) {
	const machines, atOnce = 10_000, 400
	dir := b.TempDir()
	s, err := service.Open(service.Config{Data: filepath.Join(dir, "data"), Listen: "127.0.0.1:0",
		Packages: "127.0.0.1:0", Machines: 200})
	must.Do(b, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	defer func() { cancel(); <-ended }()
	// The site's own key is served to machines, and takes no edition.
	about := struct {
		SiteKey string `json:"site_key"`
	}{}
	res, err := http.Get(s.APIURL() + "/api/v1/about")
	must.Do(b, err)
	must.Do(b, json.NewDecoder(res.Body).Decode(&about))
	res.Body.Close()
	address := s.PackagesURL() + "/key/" + about.SiteKey
	want := fetchAll(b, address)
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, want)
	}))
	defer bare.Close()
	all := func(address string) time.Duration {
		begun := time.Now()
		var wait sync.WaitGroup
		places := make(chan struct{}, atOnce)
		var wrong atomic.Int64
		for i := range machines {
			places <- struct{}{}
			wait.Go(func() {
				defer func() { <-places }()
				host := net.IPv4(127, 0, byte(1+i/250%100), byte(1+i%250))
				d := net.Dialer{LocalAddr: &net.TCPAddr{IP: host}, Timeout: time.Minute}
				c := &http.Client{Transport: &http.Transport{DialContext: d.DialContext,
					DisableKeepAlives: true}}
				for range 10 { // as clients do
					if res, err := c.Get(address); err == nil {
						body, err := io.ReadAll(res.Body)
						res.Body.Close()
						if err == nil && string(body) == want {
							return
						}
					}
				}
				wrong.Add(1)
			})
		}
		wait.Wait()
		if n := wrong.Load(); n > 0 {
			b.Errorf("%d of %d machines did not get the file", n, machines)
		}
		return time.Since(begun)
	}
	var ours, floor time.Duration
	var ourPeak, barePeak uint64
	var before, after runtime.MemStats
	for b.Loop() {
		done := peakHeap(&barePeak)
		floor += all(bare.URL)
		done()
		runtime.GC()
		runtime.ReadMemStats(&before)
		done = peakHeap(&ourPeak)
		ours += all(address)
		done()
		runtime.GC()
		runtime.ReadMemStats(&after)
	}
	b.ReportMetric(float64(ours)/float64(floor), "times-bare-server")
	b.ReportMetric(max(0, float64(after.HeapInuse)-float64(before.HeapInuse))/(1<<20), "heap-MiB-stayed")
	b.ReportMetric(float64(ourPeak)/(1<<20), "heap-MiB")
	b.ReportMetric(float64(barePeak)/(1<<20), "heap-MiB-bare")
}

// peakHeap samples the bytes of objects on the heap, living or not yet collected,
// fifty times a second until the returned function is called, and leaves the
// greatest in most.
func peakHeap(most *uint64) (done func()) {
	end := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		every := time.NewTicker(20 * time.Millisecond)
		defer every.Stop()
		for {
			metrics.Read(sample)
			*most = max(*most, sample[0].Value.Uint64())
			select {
			case <-end:
				return
			case <-every.C:
			}
		}
	})
	return func() { close(end); wait.Wait() }
}

func fetchAll(b *testing.B, address string) string {
	b.Helper()
	res, err := http.Get(address)
	must.Do(b, err)
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		b.Fatal(err, res.Status)
	}
	return string(data)
}
