package service

import (
	"context"
	"errors"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/core/upstream"
	"stockade/internal/store"
)

// What no upstream has is kept beside the pool, so that a lost pool can be refilled: of each edition in its
// folder, of packages that were added by hand in a folder of the house.
const (
	ownFolder   = "own"
	houseFolder = "house"
)

// keepHouse keeps a file that was added by hand, by its SHA-256; none for the empty text.
func (s *Service) keepHouse(sum string) error {
	if sum == "" {
		return nil
	}
	dir := filepath.Join(s.cfg.Data, houseFolder)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return finding.Doing(err, "keep a file beside the pool")
	}
	return s.pool.Lay(sum, filepath.Join(dir, sum))
}

// dropHouse removes from beside the pool what was added by hand and is held by nothing any more.
func (s *Service) dropHouse(held *edition.Holdings) error {
	dir := filepath.Join(s.cfg.Data, houseFolder)
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if !held.Needed(e.Name()) {
			err = errors.Join(err, os.Remove(filepath.Join(dir, e.Name())))
		}
	}
	return finding.Doing(err, "sweep what is kept beside the pool")
}

// keepAllOwn keeps what is not kept yet: of each edition that is not retired, and of the house.
func (s *Service) keepAllOwn(ctx context.Context) error {
	m, err := s.model()
	if err != nil {
		return err
	}
	var failed error
	for _, p := range m.set.Packages {
		for _, sum := range []string{p.SHA256, p.Signature} {
			if err := s.keepHouse(sum); err != nil && !errors.Is(err, pool.ErrMissing) {
				failed = errors.Join(failed, err)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.editions)) {
		for _, e := range m.editions[name] {
			err := s.inBackground(ctx, func() error { return s.keepOwn(e.Mirror, e.Number) })
			if ctx.Err() != nil {
				return ctx.Err()
			}
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// keepOwn keeps, in the folder of an edition, what of it no upstream has. The folder of that appears whole.
func (s *Service) keepOwn(name string, number int) error {
	final := filepath.Join(s.editionFolder(name, number), ownFolder)
	if _, err := os.Stat(final); err == nil {
		return nil
	}
	open, err := s.editions.open(s, name, number)
	if err != nil {
		return nil // what is wrong with it is told where it is looked at
	}
	sums, err := open.Own(upstream.HouseUpstream)
	if err != nil {
		return err
	}
	part := final + ".part"
	if err := os.RemoveAll(part); err != nil {
		return finding.Doing(err, "keep a file beside the pool")
	}
	if err := os.Mkdir(part, 0o700); err != nil {
		return finding.Doing(err, "keep a file beside the pool")
	}
	for _, sum := range sums {
		err := s.pool.Lay(sum, filepath.Join(part, sum))
		if errors.Is(err, pool.ErrMissing) { // the pool is not whole: tried again when it is
			return finding.Doing(os.RemoveAll(part), "keep a file beside the pool")
		}
		if err != nil {
			return err
		}
	}
	return finding.Doing(os.Rename(part, final), "keep a file beside the pool")
}

// kept opens a file that is kept beside the pool, for an edition; nil where there is none.
func (s *Service) kept(name string, number int) func(sum string) io.ReadCloser {
	return func(sum string) io.ReadCloser {
		for _, dir := range []string{filepath.Join(s.editionFolder(name, number), ownFolder),
			filepath.Join(s.cfg.Data, houseFolder)} {
			if f, err := os.Open(filepath.Join(dir, sum)); err == nil {
				return f
			}
		}
		return nil
	}
}

// refill brings back what the pool lacks of the editions of a mirror that are not retired, and of packages
// that were added by hand, where it is known that something is lacking. It says what could not be brought
// back.
func (s *Service) refill(ctx context.Context, b *mirror.Builder, name string,
	by actor) (finding.List, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	var out finding.List
	sources := map[string]*upstream.Source{}
	files, bytes, of := 0, int64(0), []string{}
	for _, rec := range s.notWhole(m, name) {
		open, err := s.editions.open(s, name, rec.Number)
		if err != nil {
			continue // what is wrong with it is told where it is looked at
		}
		for _, src := range open.Sources {
			if _, known := sources[src.Name]; !known {
				sources[src.Name] = nil
				if found, err := s.source(m.set, m.trusted, src.Name); err == nil {
					sources[src.Name] = found
				}
			}
		}
		came, err := b.Refill(ctx, open, sources, s.kept(name, rec.Number))
		if err != nil {
			return nil, err
		}
		if came.Files > 0 {
			files, bytes, of = files+came.Files, bytes+came.Bytes, append(of, open.Name())
		}
		if len(came.Lacks) == 0 {
			if err := s.db.Drop("verify", open.Name()); err != nil {
				return nil, err
			}
			continue
		}
		why, way := came.Why.Error(), "restore it from a backup of the pool, or retire the "+
			"edition"
		if f, ok := finding.From(came.Why); ok {
			why, way = f.Text, f.WayOut
		}
		out = append(out, finding.New(finding.EditionDamaged, "edition "+open.Name(),
			"%s of the edition could not be restored to the pool: %s", finding.Count(len(came.Lacks), "file"),
			why).Rated(finding.Warning).Do("%s", way))
	}
	if files > 0 {
		s.usage.forget()
		s.lacking.nudge()
		err = s.record(by, "pool.refill", "mirror "+name, map[string]string{"files": strconv.Itoa(files),
			"bytes": strconv.FormatInt(bytes, 10), "editions": finding.Names(of, len(of))})
	}
	return out, err
}

// notWhole gives the editions of a mirror that the pool has not whole. The newest is looked at for each
// build, and the others where something is known to be lacking.
func (s *Service) notWhole(m *model, name string) (out []edition.ID) {
	all := m.editions[name]
	lacks := func(e store.Edition) bool {
		open, err := s.editions.open(s, e.Mirror, e.Number)
		if err != nil {
			return false // what is wrong with it is told where it is looked at
		}
		missing, err := open.Missing()
		return err != nil || missing != ""
	}
	suspect := func(e store.Edition) bool {
		name := edition.ID{Mirror: e.Mirror, Number: e.Number}.String()
		_, lacking := s.lacking.found(name)
		return lacking || len(decode[checked](m.kept["verify"][name].Body).Findings) > 0
	}
	if len(all) > 0 && !slices.ContainsFunc(all, suspect) && !lacks(all[0]) {
		return nil
	}
	for _, e := range all {
		if lacks(e) {
			out = append(out, edition.ID{Mirror: e.Mirror, Number: e.Number})
		}
	}
	return out
}
