package fetch

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"stockade/internal/must"
)

// asOrdered gives the order in which a client would ask.
func asOrdered(list []Upstream) string {
	var out []string
	for _, u := range list {
		out = append(out, u.URL)
	}
	return strings.Join(out, " ")
}

func TestInWhatOrderAFileIsAskedFor(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	all := []Upstream{{URL: "a"}, {URL: "b"}, {URL: "c"}}
	for _, c := range []struct {
		name  string
		known map[string]measured
		size  int64
		from  string // at which something of it is there
		want  string
	}{
		{"nothing is known", nil, 1 << 20, "", "a b c"},
		{"the first has something to do", map[string]measured{"a": {now: 1}}, 1 << 20, "", "b a c"},
		{"all have", map[string]measured{"a": {now: 2}, "b": {now: 2}, "c": {now: 1}}, 1 << 20, "", "c a b"},
		{"a small file", map[string]measured{"a": {now: 5}}, spreadFrom - 1, "", "a b c"},
		{"a file whose size nobody tells", map[string]measured{"a": {now: 5}}, 0, "", "a b c"},
		{"twice as fast, and nothing to do", map[string]measured{"a": {rate: 1e6}, "b": {rate: 2e6},
			"c": {rate: 1e6}}, 1 << 20, "", "b a c"},
		{"twice as fast, and two to do", map[string]measured{"a": {rate: 1e6}, "b": {rate: 2e6, now: 2},
			"c": {rate: 1e6}}, 1 << 20, "", "a b c"},
		{"one that is not known is tried", map[string]measured{"a": {rate: 2e6, now: 1}, "b": {rate: 1e6,
			now: 1}}, 1 << 20, "", "c a b"},
		{"one that is far too slow is left", map[string]measured{"a": {rate: 9e6, now: 20}, "b": {rate: 1e6},
			"c": {rate: 8e6, now: 30}}, 1 << 20, "", "a b c"},
		{"one that is just fast enough is not", map[string]measured{"a": {rate: 8e6, now: 20},
			"b": {rate: 1e6}, "c": {rate: 8e6, now: 30}}, 1 << 20, "", "b a c"},
		{"one that lacks files is left", map[string]measured{"a": {now: 3},
			"b": {behind: now.Add(time.Second)}, "c": {now: 4}}, 1 << 20, "", "a b c"},
		{"until it had time", map[string]measured{"a": {now: 3}, "b": {behind: now}, "c": {now: 4}}, 1 << 20,
			"", "b a c"},
		{"all lack files", map[string]measured{"a": {behind: now.Add(1)}, "b": {behind: now.Add(1)},
			"c": {behind: now.Add(1)}}, 1 << 20, "", "a b c"},
		{"something of it is there from the last", map[string]measured{"a": {rate: 9e6}}, 1 << 20, "c",
			"c a b"},
	} {
		client := New(Options{Now: func() time.Time { return now }})
		for u, m := range c.known {
			client.spreading[u] = m
		}
		got := asOrdered(client.spread(all, Request{Spread: c.size, Resume: func(u Upstream) (int64, string) {
			return map[bool]int64{true: 9}[u.URL == c.from], ""
		}}))
		if got != c.want {
			t.Errorf("%s: %s, and %s was meant", c.name, got, c.want)
		}
	}
	if got := asOrdered(all); got != "a b c" {
		t.Errorf("what it was given is another now: %s", got)
	}
}

func TestHowFastAnUpstreamIsIsLearned(t *testing.T) {
	c := New(Options{})
	for _, step := range []struct{ bytes, rate float64 }{{1 << 20, 1 << 20}, {2 << 20, 1.3 * (1 << 20)},
		{100, 1.3 * (1 << 20)}} { // what is small says nothing
		c.observe("a", int64(step.bytes), time.Second)
		if got := c.spreading["a"].rate; got != step.rate {
			t.Errorf("after %.0f bytes in a second: %.0f, and %.0f was meant", step.bytes, got, step.rate)
		}
	}
	if c.spreading["b"] != (measured{}) {
		t.Error("another is known too")
	}
	small, large := Request{Spread: spreadFrom - 1}, Request{Spread: spreadFrom}
	c.begins(Upstream{URL: "b"}, small)
	if c.spreading["b"].now != 0 {
		t.Error("a small file counts as a transfer")
	}
	ends := c.begins(Upstream{URL: "b"}, large)
	if c.spreading["b"].now != 1 {
		t.Error("a large one does not")
	}
	if ends(nil); c.spreading["b"] != (measured{}) {
		t.Errorf("when it is over: %+v", c.spreading["b"])
	}
}

// Six large files at once come from three servers, two from each, all under way before the
// first ends; small ones come from the first. What one lacks comes from another, and it is not
// asked for the next.
func TestLargeFilesAreSpreadOverServers(t *testing.T) {
	body := bytes.Repeat([]byte("x"), spreadFrom)
	var mu sync.Mutex
	met := map[string]int{}
	began, go_ := make(chan bool), make(chan bool)
	lacks := ""
	var route Route
	for _, name := range []string{"north", "south", "west"} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			met[name]++
			gone := lacks == name
			mu.Unlock()
			if gone {
				http.NotFound(w, r)
				return
			}
			if strings.HasPrefix(r.URL.Path, "/held") {
				began <- true
				<-go_
			}
			w.Write(body)
		}))
		t.Cleanup(s.Close)
		route.Upstreams = append(route.Upstreams, Upstream{URL: s.URL})
	}
	route.Source = "tarn"
	client := New(Options{Rounds: 1})
	get := func(path string, spread int64) error {
		return client.Get(context.Background(), route, Request{Path: path, Max: spreadFrom, Spread: spread},
			func(r *Response) error {
				_, err := io.Copy(io.Discard, r.Body)
				return err
			}, nil)
	}
	said := func() string {
		mu.Lock()
		defer mu.Unlock()
		defer clear(met)
		return fmt.Sprint(met["north"], " ", met["south"], " ", met["west"])
	}
	ended := make(chan error)
	for i := range 6 {
		go func() { ended <- get(fmt.Sprintf("held%d", i), spreadFrom) }()
		<-began
	}
	if got := said(); got != "2 2 2" {
		t.Errorf("six files at once: %s", got)
	}
	close(go_)
	for range 6 {
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}
	for range 4 {
		must.Do(t, get("small", 0))
	}
	if got := said(); got != "4 0 0" {
		t.Errorf("files that are not spread: %s", got)
	}
	// The one that would be asked first lacks it.
	at := client.spread(route.Upstreams, Request{Spread: spreadFrom})[0].URL
	i := slices.IndexFunc(route.Upstreams, func(u Upstream) bool { return u.URL == at })
	mu.Lock()
	lacks = []string{"north", "south", "west"}[i]
	mu.Unlock()
	for range 3 {
		must.Do(t, get("large", spreadFrom))
	}
	mu.Lock()
	defer mu.Unlock()
	if met[lacks] != 1 || met["north"]+met["south"]+met["west"] != 4 {
		t.Errorf("%s lacks files, and was asked %d times: %v", lacks, met[lacks], met)
	}
	if client.spreading[at].now != 0 {
		t.Errorf("%d transfers are counted as under way", client.spreading[at].now)
	}
}
