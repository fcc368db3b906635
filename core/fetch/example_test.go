package fetch_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"

	"stockade/core/fetch"
)

// Upstreams are asked in their order. Of one that fails it is told how, and the next one is asked.
func ExampleClient_Get() {
	north := httptest.NewServer(http.NotFoundHandler())
	defer north.Close()
	south := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "Suite: steady\n")
	}))
	defer south.Close()
	route := fetch.Route{Source: "tarn", Upstreams: []fetch.Upstream{{URL: north.URL}, {URL: south.URL}}}
	err := fetch.New(fetch.Options{}).Get(context.Background(), route,
		fetch.Request{Path: "dists/heron/Release", Max: 1 << 20},
		func(r *fetch.Response) error {
			text, err := io.ReadAll(r.Body)
			fmt.Print(string(text))
			return err
		},
		func(f *fetch.Failure) { fmt.Println("the first one:", f.Err) })
	fmt.Println(err)
	// Output:
	// the first one: the upstream does not have this file
	// Suite: steady
	// <nil>
}
