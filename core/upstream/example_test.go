package upstream_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/fetch"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
)

// What a source offers is read from its upstream: the root under a key that is vouched for, the lists under
// the digests that the root gives.
func ExampleReader_Refresh() {
	now := time.Now()
	key := made.Keys(made.Owner{Name: "Tarn release desk", Address: "desk@tarn.example"})[0]
	repository := made.DebRepository{Origin: "Tarn", Label: "Tarn", Suite: "steady", Codename: "heron",
		Date: now.Add(-time.Hour), Architectures: []string{"amd64"}, Components: []string{"core"},
		Packages: []made.Deb{{Component: "core", Name: "sluicectl", Version: "1.4-1", Arch: "amd64"}}}
	files, err := repository.Publish(key)
	if err != nil {
		panic(err)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if data, ok := files[strings.TrimPrefix(r.URL.Path, "/")]; ok {
			w.Write(data)
			return
		}
		http.NotFound(w, r)
	}))
	defer server.Close()
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	store, err := pool.Open(dir+"/pool", dir+"/tmp")
	if err != nil {
		panic(err)
	}
	reader := &upstream.Reader{Pool: store, Fetch: fetch.New(fetch.Options{}), Now: time.Now}
	source := &upstream.Source{Name: "tarn", Family: deb.Family{},
		Spec: archive.Source{Name: "tarn", Family: "deb", Release: "heron", Components: []string{"core"},
			Architectures: []string{"amd64"}},
		Route: fetch.Route{Source: "tarn", Upstreams: []fetch.Upstream{{URL: server.URL}}},
		Keyring: trust.NewKeyring("tarn", []trust.Known{{Certificate: key.Certificate(),
			VouchedFor: []string{"tarn"}}}, time.Now)}
	offered, err := reader.Refresh(context.Background(), source)
	if err != nil {
		panic(err)
	}
	lists, err := reader.Lists(context.Background(), offered)
	if err != nil {
		panic(err)
	}
	fmt.Println(offered.Root.Codename, "signed by", offered.Root.Signer.UserID)
	for n, l := range lists {
		if err := reader.Read(source, n, l, func(p *archive.Package, _ []byte) error {
			fmt.Println(l.Component, l.Arch, p)
			return nil
		}); err != nil {
			panic(err)
		}
	}
	// Output:
	// heron signed by Tarn release desk <desk@tarn.example>
	// core amd64 sluicectl 1.4-1 (amd64)
}
