package cli

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/api"
)

// online judges what the upstreams of described sources serve now, without a service and
// keeping nothing. Sources that are described wrongly, need a secret, or whose certificates
// are in no file here, are left out, and that is told.
func (a *app) online(ctx context.Context, in api.Documents) (finding.List, string, error) {
	set, found := definition.Read(in.Documents...)
	wrong := definition.Blocking(append(found, definition.Check(set, surroundings(in))...))
	set.TakeFiles(in.Files, families.All)
	dir, err := os.MkdirTemp("", "stockade-check-")
	if err != nil {
		return nil, "", finding.Doing(err, "make a folder for downloads")
	}
	defer os.RemoveAll(dir)
	store, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	if err != nil {
		return nil, "", err
	}
	b := &upstream.Reader{Pool: store, Fetch: fetch.New(fetch.Options{Rounds: 1}), Families: families.All,
		Now: time.Now}
	var out finding.List
	asked := 0
	for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
		src := set.Sources[name]
		if src.Disabled || src.Managed() {
			continue
		}
		object, at := "source "+name, set.Place("sources."+name)
		certs, why := certificatesOf(set, in, name)
		switch {
		case slices.ContainsFunc(wrong, func(f finding.Finding) bool { return f.Object == object }):
			why = "its definition has errors; correct them first"
		case len(src.Credentials) > 0 || set.Proxies[src.Proxy].Credential != "":
			why = "it needs a credential, and only the service has that"
		}
		if why != "" {
			out = append(out, finding.New(finding.SourceNotAsked, object,
				"its upstreams were not contacted: %s",
				why).At(at))
			continue
		}
		a.say("contacting the upstreams of %s", name)
		told, err := b.Online(ctx, set, name, certs)
		if err != nil {
			return nil, "", err
		}
		for _, f := range told {
			out = append(out, f.At(at))
		}
		asked++
	}
	definition.Excerpts(out, in.Documents...)
	return out, "the upstreams of " + number(asked, "source") + " as they are now", nil
}

// certificatesOf gives the certificates that a source names, from the files of the documents;
// why says why it could not be judged by them.
func certificatesOf(set *definition.Set, in api.Documents, name string) (out []*trust.Certificate,
	why string) {
	src := set.Sources[name]
	for _, k := range src.SignedBy {
		key := set.Keys[k]
		certs, err := trust.ReadCertificates(in.Files[set.Resolve(k)])
		if err != nil {
			continue
		}
		for _, c := range certs {
			named := slices.ContainsFunc(key.All(), func(text string) bool {
				f, err := trust.ParseFingerprint(text)
				return err == nil && f == c.Fingerprint
			})
			if named || len(key.All()) == 0 {
				out = append(out, c)
			}
		}
	}
	if len(out) == 0 && src.Unsigned == (definition.Unsigned{}) {
		return nil, "no file here contains a certificate of its keys (" + strings.Join(src.SignedBy,
			", ") + ")"
	}
	return out, ""
}

// surroundings are what documents are checked in without a service.
func surroundings(in api.Documents) definition.Surroundings {
	return definition.Surroundings{Families: families.All, Now: time.Now(),
		ReadFile: func(path string) ([]byte, error) {
			if raw, ok := in.Files[path]; ok {
				return raw, nil
			}
			return os.ReadFile(path)
		}}
}
