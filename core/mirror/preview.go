package mirror

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"

	"stockade/core/archive"
	"stockade/core/edition"
)

// Preview is what a build would make of a mirror, against an edition that stands.
type Preview struct {
	Outcome
	Against string           `json:"against"` // MIRROR/N; empty: nothing stands, everything is added
	Changes []edition.Change `json:"changes"`
}

// Preview chooses as a build would and compares what is chosen with the packages of an
// edition: none, if there is none. No package is fetched; what the files have inside,
// and so whether they are what their index says, is found out only by a build.
func (b *Builder) Preview(ctx context.Context, plan Plan, against string, items []edition.Item) (*Preview,
	error) {
	plan.Previous = nil // it is worked out even where nothing changed: against another edition it did
	out, err := b.Estimate(ctx, plan)
	p := &Preview{Outcome: *out, Against: against, Changes: []edition.Change{}}
	if err != nil {
		return p, err
	}
	told, err := b.advisories(ctx, out)
	if err != nil {
		return p, err
	}
	known := map[string]string{} // SHA-256 by SHA-512
	for _, it := range items {
		if it.SHA512 != "" {
			known[it.SHA512] = it.SHA256
		}
	}
	chosen := make([]edition.Item, len(out.selection))
	byName := map[string]archive.Family{}
	for i, x := range out.selection {
		chosen[i] = edition.Item{Source: x.src.Name, Name: x.Name, Version: x.Version, Arch: x.Arch,
			Size: x.Size, SHA256: cmp.Or(x.SHA256, known[x.SHA512], "sha512:"+x.SHA512)}
		byName[x.src.Name] = x.src.Family
	}
	p.Changes = edition.Diff(items, chosen, func(source, v, w string) int {
		if f := byName[source]; f != nil {
			return f.CompareVersions(v, w)
		}
		return strings.Compare(v, w)
	})
	advisories, err := readAdvisories(told)
	if err != nil {
		return p, err
	}
	edition.Advise(p.Changes, advisories)
	return p, nil
}

// readAdvisories reads what Builder.advisories wrote.
func readAdvisories(lines []byte) (out []edition.Advisory, err error) {
	d := json.NewDecoder(bufio.NewReader(bytes.NewReader(lines)))
	for {
		var a edition.Advisory
		if err := d.Decode(&a); errors.Is(err, io.EOF) {
			return out, nil
		} else if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
}
