package bench

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/internal/must"
	"stockade/internal/search"
)

// What BenchmarkSearch looks through.
const (
	searchSources  = 4
	searchPackages = 65_000 // of each source
	searchEditions = 50
)

var searchWords = strings.Fields(`pump gate sluice tide table chart lamp driver kernel library runtime
	development files documentation common tools utility python perl rust font language server client network
	packet editor viewer daemon module plugin theme shared static debug symbols transitional dummy package meta
	image video audio codec compression archive format reader writer parser harbour weir buoy`)

// searchQuestions are sixty questions as people type them: whole names, parts of them, as they are typed
// letter by letter, words of descriptions, patterns, and what is not there.
func searchQuestions(names []string) (out []string) {
	r := rand.New(rand.NewPCG(3, 5))
	one := func() string { return names[r.IntN(len(names))] }
	for range 10 {
		name := one()
		out = append(out, name, name[:3], name[:6], name[2:9])
	}
	for range 6 {
		w := searchWords[r.IntN(len(searchWords))]
		out = append(out, w, w+" "+searchWords[r.IntN(len(searchWords))])
	}
	return append(out, "lib*", "*gate*", "pump-?harts*", "nothing-like-it", "tide tab", "p", "li", "zz")
}

// BenchmarkSearch asks the search index sixty questions and tells the longest time but one, against looking
// for one word in all names and summaries as they lie in memory, one after another.
func BenchmarkSearch(b *testing.B) {
	x, err := search.Open(filepath.Join(b.TempDir(), "search.db"))
	must.Do(b, err)
	defer x.Close()
	r := rand.New(rand.NewPCG(1, 2))
	words := func(n int, sep string) string {
		var out []string
		for range n {
			out = append(out, searchWords[r.IntN(len(searchWords))])
		}
		return strings.Join(out, sep)
	}
	var all []search.Package
	var names, texts []string
	began := time.Now()
	for s := range searchSources {
		of := make([]search.Package, searchPackages)
		for i := range of {
			name := fmt.Sprintf("%s%d", words(2, "-"), r.IntN(100))
			of[i] = search.Package{Source: fmt.Sprint("depot-", s), Name: name, Version: "1.0-1",
				Arch:   "amd64",
				Digest: fmt.Sprint(s, i), Size: 1 << 10, Text: search.Text{Summary: words(8, " "),
					Section: "field"}}
			names, texts = append(names, name), append(texts, name+" "+of[i].Summary)
		}
		all = append(all, of...)
		put(b, x, search.List{Kind: search.OfSource, Name: fmt.Sprint("depot-", s), Digest: fmt.Sprint(s)},
			of)
	}
	filled := time.Since(began)
	began = time.Now()
	for n := range searchEditions { // each of a different tenth
		put(b, x, search.List{Kind: search.OfEdition, Name: "store", Number: n + 1,
			Digest: fmt.Sprint("e", n)},
			all[n*1000:n*1000+searchPackages/10])
	}
	editions := time.Since(began)
	questions := searchQuestions(names)
	if len(questions) != 60 {
		b.Fatalf("got %d questions, want 60", len(questions))
	}
	var took []time.Duration
	var scan time.Duration
	for b.Loop() {
		for _, q := range questions {
			began := time.Now()
			_, _, err := x.Find(context.Background(), search.Question{Text: q, Most: 50})
			must.Do(b, err)
			took = append(took, time.Since(began))
		}
		began := time.Now()
		n := 0
		for _, text := range texts {
			if strings.Contains(text, "sluice") {
				n++
			}
		}
		scan += time.Since(began)
		if n == 0 {
			b.Fatal("nothing was found in memory")
		}
	}
	slices.Sort(took)
	at := func(hundredth int) float64 {
		return float64(took[(len(took)-1)*hundredth/100].Microseconds()) / 1000
	}
	b.ReportMetric(at(50), "ms/median")
	b.ReportMetric(at(99), "ms/99th")
	b.ReportMetric(at(99)*1000*float64(b.N)/float64(scan.Microseconds()), "times-a-scan/99th")
	b.ReportMetric(filled.Seconds()/searchSources, "s/list")
	b.ReportMetric(editions.Seconds()/searchEditions*1000, "ms/edition")
}

func put(b *testing.B, x *search.Index, l search.List, of []search.Package) {
	b.Helper()
	must.Do(b, x.Put(context.Background(), l, func(yield func(search.Package) error) error {
		for _, p := range of {
			if err := yield(p); err != nil {
				return err
			}
		}
		return nil
	}))
}
