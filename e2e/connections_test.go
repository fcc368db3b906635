package e2e

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"stockade/internal/must"
	"stockade/internal/service"
)

// from connects from one of the loopback's own addresses.
func from(host int, to string) (net.Conn, error) {
	d := net.Dialer{Timeout: 30 * time.Second,
		LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, byte(1+host/250), byte(1+host%250))}}
	return d.Dial("tcp", to)
}

func address(url string) string { return strings.TrimPrefix(url, "http://") }

func TestConnectionsThatSayNothingKeepNobodyOut(t *testing.T) {
	s := newSiteWith(t, func(c *service.Config) { c.Machines = 40 })
	s.described()
	edition := s.built("steady")
	file := s.service.PackagesURL() + "/lane/steady/tarn/dists/heron/InRelease"
	var silent []net.Conn
	for _, to := range []string{s.service.PackagesURL(), s.service.APIURL()} {
		for range 300 { // all of one address
			if c, err := net.DialTimeout("tcp", address(to), 5*time.Second); err == nil {
				silent = append(silent, c)
			}
		}
	}
	t.Cleanup(func() {
		for _, c := range silent {
			c.Close()
		}
	})
	// Another address still gets in, at both.
	for name, to := range map[string]string{"machines": file, "API": s.service.APIURL() + "/api/v1/about"} {
		c := &http.Client{Timeout: 60 * time.Second,
			Transport: &http.Transport{DialContext: func(_ context.Context, _, to string) (net.Conn, error) {
				return from(3, to)
			}}}
		res, err := c.Get(to)
		if err != nil || res.StatusCode != http.StatusOK {
			t.Errorf("%s: %v", name, err)
			continue
		}
		res.Body.Close()
	}
	// So does somebody at the very address that holds all of these, once it shows
	// that they say nothing.
	until := time.Now().Add(20 * time.Second)
	for {
		res, err := http.Get(s.service.APIURL() + "/api/v1/about")
		if err == nil {
			res.Body.Close()
			break
		}
		if time.Now().After(until) {
			t.Fatalf("somebody at the same address: %v", err)
		}
	}
	// The service's own work has descriptors. Whoever asks for it at that address may have
	// to come again while the silent ones are let go (3: the service could not be reached).
	for until = time.Now().Add(20 * time.Second); ; {
		code, _, log := s.try("edition", "verify", edition)
		if code == 0 {
			break
		}
		if code != 3 || time.Now().After(until) {
			t.Fatalf("exit code %d: %s", code, log)
		}
	}
	// What says nothing is let go in a while.
	silent[0].SetReadDeadline(time.Now().Add(time.Minute))
	if _, err := silent[0].Read(make([]byte, 1)); errors.Is(err, os.ErrDeadlineExceeded) {
		t.Error("a connection that says nothing was held for a minute")
	}
}

// Two thousand machines at once, with forty places: each gets the right bytes.
func TestManyMachinesAreServedInTurn(t *testing.T) {
	s := newSiteWith(t, func(c *service.Config) { c.Machines = 40 })
	s.described()
	s.built("steady")
	path := "/lane/steady/tarn/dists/heron/InRelease"
	code, want, _ := get(t, s.service.PackagesURL()+path)
	if code != http.StatusOK {
		t.Fatal(code)
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	const machines = 2000
	var wait sync.WaitGroup
	var right, peak atomic.Int64
	dialled := make(chan struct{}, 400) // that are under way at once
	for i := range machines {
		wait.Go(func() {
			dialled <- struct{}{}
			defer func() { <-dialled }()
			for try := 0; try < 20; try++ { // as clients do
				if body, err := fetchOnce(i, address(s.service.PackagesURL()), path); err == nil &&
					body == want {
					right.Add(1)
					return
				}
				time.Sleep(time.Duration(50*(try+1)) * time.Millisecond)
			}
		})
		if i%200 == 0 {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak.Store(max(peak.Load(), int64(m.HeapInuse)))
		}
	}
	wait.Wait()
	runtime.ReadMemStats(&after)
	if right.Load() != machines {
		t.Errorf("%d of %d machines got what they asked for", right.Load(), machines)
	}
	if grown := peak.Load() - int64(before.HeapInuse); grown > 256<<20 {
		t.Errorf("the heap grew by %d MiB", grown>>20)
	}
}

func fetchOnce(machine int, to, path string) (string, error) {
	c, err := from(machine, to)
	if err != nil {
		return "", err
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(90 * time.Second))
	if _, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", path); err != nil {
		return "", err
	}
	res, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return "", fmt.Errorf("%s", res.Status)
	}
	body, err := io.ReadAll(res.Body)
	return string(body), err
}

func TestConnectionsThatDoNothingGiveUpTheirPlaces(t *testing.T) {
	s := newSiteWith(t, func(c *service.Config) { c.Machines = 16 })
	s.described()
	s.built("steady")
	path := "/lane/steady/tarn/dists/heron/InRelease"
	// Machines that keep their connections after an answer, as clients do.
	for i := range 16 {
		c, err := from(i, address(s.service.PackagesURL()))
		must.Do(t, err)
		t.Cleanup(func() { c.Close() })
		fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
		res, err := http.ReadResponse(bufio.NewReader(c), nil)
		must.Do(t, err)
		io.Copy(io.Discard, res.Body)
	}
	begun := time.Now()
	if _, err := fetchOnce(99, address(s.service.PackagesURL()), path); err != nil {
		t.Errorf("a new machine: %v", err)
	}
	if took := time.Since(begun); took > 20*time.Second {
		t.Errorf("a new machine waited %s for connections that do nothing", took)
	}
}

func TestAnotherNameIsRefused(t *testing.T) {
	s := newSiteWith(t, func(c *service.Config) { c.Hosts = []string{"stock.reach.example"} })
	for host, want := range map[string]int{address(s.service.APIURL()): 200, "localhost:1": 200,
		"[::1]:8440": 200, "stock.reach.example": 200, "STOCK.reach.example.:8440": 200,
		"evil.example": 421, "127.0.0.1.evil.example:8440": 421, "localhost.evil.example": 421, "": 400} {
		r, err := http.NewRequest(http.MethodGet, s.service.APIURL()+"/api/v1/about", nil)
		must.Do(t, err)
		c, err := net.Dial("tcp", address(s.service.APIURL()))
		must.Do(t, err)
		fmt.Fprintf(c, "GET /api/v1/about HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", host)
		res, err := http.ReadResponse(bufio.NewReader(c), r)
		if err != nil {
			t.Fatalf("%q: %v", host, err)
		}
		if res.StatusCode != want && !(host == "" && res.StatusCode == 421) {
			t.Errorf("%q: %s", host, res.Status)
		}
		c.Close()
	}
}

func TestOtherAccountsOfTheMachineReadNoRecords(t *testing.T) {
	s := newSite(t)
	s.described()
	for _, name := range []string{"", "stockade.db", "stockade.db-wal", "site", "site/key.pgp",
		"warden.token", "pool", "editions"} {
		info, err := os.Stat(filepath.Join(s.dir, "data", name))
		if errors.Is(err, os.ErrNotExist) && strings.HasSuffix(name, "-wal") {
			continue
		}
		must.Do(t, err)
		if info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%q has the mode %o", name, info.Mode().Perm())
		}
	}
}

// Whoever has a right token is let in, whatever else comes from the same address.
func TestWrongTokensLockNobodyOut(t *testing.T) {
	s := newSite(t)
	slowed := 0
	for range 30 {
		if code, _, header := get(t, s.service.APIURL()+"/api/v1/whoami", "Authorization",
			"Bearer wrong"); code == http.StatusTooManyRequests && header.Get("Retry-After") != "" {
			slowed++
		}
	}
	if slowed < 15 {
		t.Errorf("wrong tokens were slowed down %d times of 30", slowed)
	}
	if code, _, _ := get(t, s.service.APIURL()+"/api/v1/whoami", "Authorization",
		"Bearer "+s.token); code != http.StatusOK {
		t.Errorf("the right token: %d", code)
	}
}
