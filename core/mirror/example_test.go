package mirror_test

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
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
)

// A build takes what is wanted with all that it needs, proves that machines can install it, and seals it.
func ExampleBuilder_Build() {
	now := time.Now()
	keys := made.Keys(made.Owner{Name: "Tarn release desk", Address: "desk@tarn.example"},
		made.Owner{Name: "Skerry Reach", Address: "stores@reach.example"})
	key, site := keys[0], keys[1]
	repository := made.DebRepository{Origin: "Tarn", Label: "Tarn", Suite: "steady", Codename: "heron",
		Date: now.Add(-time.Hour), Architectures: []string{"amd64"}, Components: []string{"core"},
		Packages: []made.Deb{
			{Component: "core", Name: "sluicectl", Version: "1.4-1", Arch: "amd64",
				Fields: "Depends: libtide2\n"},
			{Component: "core", Name: "libtide2", Version: "2.1-1", Arch: "amd64"},
			{Component: "core", Name: "buoy", Version: "1", Arch: "amd64"}}}
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
	builder := &mirror.Builder{Reader: upstream.Reader{Pool: store, Fetch: fetch.New(fetch.Options{}),
		Families: archive.NewRegistry(deb.Family{}), Now: time.Now}, Site: site, Editions: dir + "/editions"}
	source := &upstream.Source{Name: "tarn", Family: deb.Family{},
		Spec: archive.Source{Name: "tarn", Family: "deb", Release: "heron", Components: []string{"core"},
			Architectures: []string{"amd64"}},
		Route: fetch.Route{Source: "tarn", Upstreams: []fetch.Upstream{{URL: server.URL}}},
		Keyring: trust.NewKeyring("tarn", []trust.Known{{Certificate: key.Certificate(),
			VouchedFor: []string{"tarn"}}}, time.Now),
		Want: definition.Want{Packages: []string{"sluicectl"}, With: definition.Required, Versions: 1}}
	out, err := builder.Build(context.Background(), mirror.Plan{Name: "barrage", Number: 1,
		Mirror:  definition.Mirror{Copy: definition.Tailored, Complete: definition.Strict},
		Sources: []*upstream.Source{source}})
	if err != nil {
		panic(err)
	}
	sealed, err := edition.Open(edition.Folder(dir+"/editions", edition.ID{Mirror: "barrage", Number: 1}),
		[]*trust.Certificate{site.Certificate()}, store)
	if err != nil {
		panic(err)
	}
	fmt.Println(sealed.Name(), out.Edition.Packages, "packages")
	if err := sealed.Items(func(it edition.Item) error {
		fmt.Println(it.Name, it.Version, it.Reason())
		return nil
	}); err != nil {
		panic(err)
	}
	// Output:
	// barrage/1 2 packages
	// sluicectl 1.4-1 wanted: sluicectl
	// libtide2 2.1-1 required by sluicectl
}
