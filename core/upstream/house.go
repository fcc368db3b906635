package upstream

import (
	"context"
	"io"
	"stockade/core/archive"
	"stockade/core/fetch"
	"time"
)

// House is a house source as it was last published: what an upstream would
// serve, by path relative to the source's base, as digests of pool files.
type House struct {
	Digest string            `json:"digest"` // over what it was made from
	Time   time.Time         `json:"time"`
	Files  map[string]string `json:"files"`
}

// HouseUpstream stands as the upstream of a source whose packages are added by hand.
const HouseUpstream = "house"

// small gets a small file of a source whole, from its upstreams or, for a house
// source, from the pool.
func (b *Reader) Small(ctx context.Context, src *Source, p string, limit int64) ([]byte, error) {
	if src.House != nil {
		sum, ok := src.House.Files[p]
		if !ok {
			return nil, fetch.ErrNotFound
		}
		return b.ReadFile(sum)
	}
	var data []byte
	err := b.Fetch.Get(ctx, src.Route, fetch.Request{Path: p, Max: limit},
		func(r *fetch.Response) (err error) {
			data, err = io.ReadAll(r.Body)
			return err
		}, nil)
	return data, err
}

// refreshHouse reads the root of a house source as one of an upstream is read.
func (b *Reader) refreshHouse(ctx context.Context, src *Source, pub *Publication, index int,
	choice archive.RootChoice) error {
	files := map[string][]byte{}
	for _, f := range choice {
		var err error
		if files[f.Path], err = b.Small(ctx, src, f.Path, MaxRoot); err != nil {
			return err
		}
	}
	root, err := b.readRoot(src, choice, files)
	if err != nil {
		return About(err, src.Name)
	}
	return b.accept(src, pub, index, choice, files, root, fetch.Upstream{URL: HouseUpstream}, nil)
}

// AcceptedLists gives the indexes of what was accepted of a source, in their order, as far as they are in the
// pool: nothing is fetched. missing are the paths of the others.
func (b *Reader) AcceptedLists(src *Source) (there map[int]List, missing []string, err error) {
	root, err := b.ReadAccepted(src)
	if err != nil {
		return nil, nil, err
	}
	choices, err := src.Family.Indexes(src.Spec, root)
	if err != nil {
		return nil, nil, About(err, src.Name)
	}
	there = map[int]List{}
	for n, c := range choices {
		if i := b.InPool(c); i >= 0 {
			sum, _ := b.Pooled(c.Files[i])
			there[n] = List{IndexChoice: c, Used: c.Files[i], SHA256: sum}
		} else if len(c.Files) > 0 {
			missing = append(missing, c.Files[0].Path)
		}
	}
	return there, missing, nil
}
