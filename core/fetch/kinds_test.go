package fetch

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/must"
)

// dripping gives a body of a length that it says, so many bytes each 10 ms.
func dripping(t *testing.T, each, length int) *httptest.Server {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", fmt.Sprint(length))
		for sent := 0; sent < length; sent += each {
			if _, err := w.Write(make([]byte, min(each, length-sent))); err != nil {
				return
			}
			w.(http.Flusher).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}))
	t.Cleanup(s.Close)
	return s
}

func swallow(r *Response) error {
	_, err := io.Copy(io.Discard, r.Body)
	return err
}

// An upstream above the floor rate is left for one that gives far more; the last one is not left.
func TestASlowUpstreamIsLeftForAFastOne(t *testing.T) {
	slow, fast := dripping(t, 40, 200_000), dripping(t, 200_000, 200_000) // 4 kB/s and all at once
	c := New(Options{Floor: 100, FloorWindow: 200 * time.Millisecond})
	ups := []Upstream{{URL: slow.URL}, {URL: fast.URL}}
	var failed []*Failure
	begun := time.Now()
	must.Do(t, c.Get(t.Context(), Route{Source: "tarn", Upstreams: ups}, Request{Path: "x"}, swallow,
		func(f *Failure) { failed = append(failed, f) }))
	if len(failed) != 1 || failed[0].Kind() != Slow || failed[0].Upstream.URL != slow.URL {
		t.Errorf("%v after %s", failed, time.Since(begun))
	}
	if f := failed[0].Told("tarn"); f.Code != "source.upstream-slow" {
		t.Errorf("it is told as %s", f.Code)
	}
	// It rests: the next file is asked of the fast one first.
	failed = nil
	must.Do(t, c.Get(t.Context(), Route{Source: "tarn", Upstreams: ups}, Request{Path: "x"}, swallow,
		func(f *Failure) { failed = append(failed, f) }))
	if len(failed) > 0 {
		t.Errorf("the slow one was asked first again: %v", failed)
	}
	// Alone it is good enough.
	c = New(Options{Floor: 100, FloorWindow: 200 * time.Millisecond})
	alone := dripping(t, 40, 4000)
	must.Do(t, c.Get(t.Context(), Route{Source: "tarn", Upstreams: []Upstream{{URL: alone.URL}}},
		Request{Path: "x"}, swallow, nil))
}

// What our own limit holds back is not the upstream's doing.
func TestOurOwnLimitBlamesNoUpstream(t *testing.T) {
	fast := dripping(t, 200_000, 200_000)
	c := New(Options{Floor: 1 << 20, FloorWindow: 100 * time.Millisecond, Limit: 100_000, Rounds: 1})
	if err := c.Get(t.Context(), Route{Source: "tarn", Upstreams: []Upstream{{URL: fast.URL}}},
		Request{Path: "x"}, swallow, nil); err != nil {
		t.Error(err)
	}
}

// A server that says when to come again is waited for, and is not stepped over for longer than it said,
// however many files it said it of.
func TestRetryAfterIsWhatItSays(t *testing.T) {
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) <= 8 {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	defer s.Close()
	c := New(Options{Rounds: 1})
	up := Upstream{URL: s.URL}
	for range 8 {
		c.Get(t.Context(), Route{Source: "tarn", Upstreams: []Upstream{up}}, Request{Path: "x"}, swallow, nil)
	}
	if rest := time.Until(c.down[up.URL].until); rest > 2*time.Second {
		t.Errorf("it rests for %s, and asked for one second", rest)
	}
	asked.Store(7)
	c = New(Options{})
	begun := time.Now()
	if err := c.Get(t.Context(), Route{Source: "tarn", Upstreams: []Upstream{up}}, Request{Path: "x"},
		swallow,
		nil); err != nil || time.Since(begun) < 800*time.Millisecond {
		t.Errorf("one upstream, that asked to come again: %v after %s", err, time.Since(begun))
	}
}

// How an upstream failed has a type; wrong bytes are told as that, and others are asked before it then.
func TestAnUpstreamThatGivesWrongBytesRests(t *testing.T) {
	wrong, right := dripping(t, 10, 10), dripping(t, 10, 10)
	c := New(Options{})
	route := Route{Source: "tarn", Upstreams: []Upstream{{URL: wrong.URL}, {URL: right.URL}}}
	from := ""
	var failed []*Failure
	get := func() {
		t.Helper()
		must.Do(t, c.Get(t.Context(), route, Request{Path: "x"}, func(r *Response) error {
			if from = r.Upstream.URL; from == wrong.URL {
				return finding.New("content.digest-mismatch", "",
					"An upstream served files that do not match the")
			}
			return swallow(r)
		}, func(f *Failure) { failed = append(failed, f) }))
	}
	get()
	if len(failed) != 1 || failed[0].Kind() != Wrong ||
		failed[0].Told("tarn").Code != "source.upstream-wrong" {
		t.Fatalf("%v", failed)
	}
	get()
	if len(failed) != 1 {
		t.Error("it was asked first again")
	}
	for err, want := range map[error]Kind{ErrNotFound: Missing, passing{errors.New("x")}: Down,
		errors.New("the upstream answered 403"): Refused, errSlow: Slow,
		finding.New("source.older-than-accepted", "", "x"): Refused} {
		if got := (&Failure{Err: err}).Kind(); got != want {
			t.Errorf("%v: got %s, want %s", err, got, want)
		}
	}
}
