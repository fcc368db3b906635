package service

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/must"
)

// running lets a desk's service serve, and gives where: of API and machines.
func (d *desk) running() (forAPI, forMachines string) {
	d.t.Helper()
	ctx, cancel := context.WithCancel(d.t.Context())
	ended := make(chan error, 1)
	host := func(of string) string {
		u, err := url.Parse(of)
		must.Do(d.t, err)
		return u.Host
	}
	forAPI, forMachines = host(d.s.APIURL()), host(d.s.PackagesURL())
	go func() { ended <- d.s.Run(ctx) }()
	d.t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			d.t.Error(err)
		}
	})
	return forAPI, forMachines
}

// says sends a text from an address of the loopback, and leaves the connection open.
func (d *desk) says(from byte, to, text string) net.Conn {
	dialer := net.Dialer{Timeout: 10 * time.Second, LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, from)}}
	c, err := dialer.Dial("tcp", to)
	if err != nil {
		return nil // it was kept out, which is what this is about
	}
	d.t.Cleanup(func() { c.Close() })
	io.WriteString(c, text)
	return c
}

// gets asks for something with a token, from 127.0.0.1, as often as clients do.
func (d *desk) gets(role, address string) error {
	var last error
	for until := time.Now().Add(40 * time.Second); time.Now().Before(until); {
		r, err := http.NewRequest(http.MethodGet, address, nil)
		must.Do(d.t, err)
		if role != "" {
			r.Header.Set("Authorization", "Bearer "+d.tokens[role])
		}
		c := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
		res, err := c.Do(r)
		if err == nil {
			res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return nil
			}
			err = fmt.Errorf("%s", res.Status)
		}
		last = err
		time.Sleep(100 * time.Millisecond)
	}
	return last
}

// Who has no token holds no places with bodies that never come, from two addresses and from the one of
// everybody else.
func TestWhoHasNoTokenKeepsNobodyOut(t *testing.T) {
	d := newDesk(t)
	forAPI, forMachines := d.running()
	const never = "Host: 127.0.0.1\r\nContent-Length: 100\r\n\r\n"
	for _, from := range []byte{1, 2} {
		for range 150 {
			d.says(from, forAPI, "POST "+api.Base+"/session HTTP/1.1\r\n"+never)
			d.says(from, forAPI, "POST "+api.Base+"/definitions/check HTTP/1.1\r\n"+never)
			d.says(from, forAPI, "GET / HTTP/1.1\r\n"+never)
		}
	}
	begun := time.Now()
	if err := d.gets(api.Operator, "http://"+forAPI+api.Base+"/sources"); err != nil {
		t.Errorf("a right token from an address that is used for attacks: %v", err)
	}
	t.Logf("the API answered after %s", time.Since(begun))
	path := "http://" + forMachines + "/key/" + d.s.site.Load().main.Certificate().Fingerprint
	held := d.says(2, forMachines, "GET /key/0 HTTP/1.1\r\n"+never)
	held.SetReadDeadline(time.Now().Add(answerTime / 2))
	if n, err := io.Copy(io.Discard, held); err != nil || n == 0 {
		t.Errorf("a body that was announced to the listener for machines: %d bytes, %v", n, err)
	}
	if err := d.gets("", path); err != nil {
		t.Errorf("a machine: %v", err)
	}
}

// An account holds no more than its share with pages that listen and bodies that do not come.
func TestAnAccountKeepsNobodyOut(t *testing.T) {
	d := newDesk(t)
	forAPI, _ := d.running()
	token := "Host: 127.0.0.1\r\nAuthorization: Bearer " + d.tokens[api.Viewer] + "\r\n"
	for range 260 {
		d.says(1, forAPI, "GET "+api.Base+"/events HTTP/1.1\r\n"+token+"\r\n")
	}
	for range 100 {
		d.says(1, forAPI, "POST "+api.Base+"/definitions/check HTTP/1.1\r\n"+token+
			"Content-Length: 100\r\n\r\n{")
	}
	if err := d.gets(api.Operator, "http://"+forAPI+api.Base+"/sources"); err != nil {
		t.Errorf("another account at the same address: %v", err)
	}
	listening := func() int {
		d.s.live.mu.Lock()
		defer d.s.live.mu.Unlock()
		return len(d.s.live.listeners)
	}
	if n := listening(); n > pagesOfOne {
		t.Errorf("%d pages of one account listen, want %d at most", n, pagesOfOne)
	}
}

// A body is taken whole before anything waits for it, and is bounded.
func TestBodiesAreBoundedBeforeTheyAreHeld(t *testing.T) {
	var b bodies
	soon, cancel := context.WithCancel(t.Context())
	cancel()
	for range bodiesOfOne {
		if !b.begin(t.Context(), "account mara") {
			t.Fatal("a place is free")
		}
	}
	if b.begin(soon, "account mara") {
		t.Error("one account has more than its share")
	}
	if !b.begin(t.Context(), "account ines") {
		t.Error("another account has places of its own")
	}
	b.end("account mara")
	if !b.begin(t.Context(), "account mara") {
		t.Error("a place that was given back is free")
	}
	if !b.hold(bodyBytes) || b.hold(1) {
		t.Error("more is held than there is room for")
	}
	if b.hold(-1); !b.hold(1) {
		t.Error("what was given back can be had")
	}
	// Each call has a bound, and where nobody is asked who they are it is small.
	for _, r := range api.Routes {
		if got := limitOf(r); r.Role == api.Open && got != bodyOpen || got > bodyLong {
			t.Errorf("%s takes a body of %d bytes", r.Name, got)
		}
	}
}
