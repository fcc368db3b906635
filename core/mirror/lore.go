package mirror

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"slices"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/solve"
	"stockade/core/upstream"
)

// lore opens a file that a root names beside its lists of packages: fetched
// into the pool where it is not there, and decompressed. What is read was
// verified when it came in, and is compared with its digest again here.
func (b *Builder) lore(ctx context.Context, src *upstream.Source, f archive.IndexFile) (io.ReadCloser,
	error) {
	sum, ok := b.Pooled(f)
	if !ok {
		var err error
		if sum, err = b.FetchInto(ctx, src, upstream.Wanted(f.Path, f.Size, f.SHA256, f.SHA512), f.Paths, nil,
			nil); err != nil {
			return nil, unfetched(ctx, err, src.Name, f.Path, "the release metadata")
		}
	}
	file, err := b.Pool.Open(sum)
	if err != nil {
		return nil, pool.Gone(err, f.Path)
	}
	h := sha256.New()
	if _, err := io.Copy(h, file); err != nil {
		file.Close()
		return nil, finding.Doing(err, "read %s of %s", f.Path, src.Name)
	}
	if hex.EncodeToString(h.Sum(nil)) != sum {
		file.Close()
		if err := b.Pool.SetAside(sum); err != nil {
			return nil, err
		}
		return nil, finding.New(finding.EditionDamaged, "source "+src.Name,
			"%s was changed on disk after it was downloaded", f.Path).Do("run it again: the file " +
			"is downloaded again")
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		file.Close()
		return nil, finding.Doing(err, "read %s of %s", f.Path, src.Name)
	}
	disk := finding.Watching("read " + f.Path + " of " + src.Name)
	plain, err := archive.Decompress(bufio.NewReaderSize(disk.Reader(file), 256<<10), f.Compression,
		upstream.MaxIndex)
	if err != nil {
		file.Close()
		return nil, upstream.About(disk.Blame(err), src.Name)
	}
	return both{plain, file, disk}, nil
}

// both closes a decompressor and the file below it.
type both struct {
	io.ReadCloser
	file io.Closer
	disk *finding.Watch
}

func (b both) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != io.EOF {
		err = b.disk.Blame(err)
	}
	return n, err
}

func (b both) Close() error { return errors.Join(b.ReadCloser.Close(), b.file.Close()) }

// pathsOf asks the lists of files of one source, which the universe has at a place, for what
// packages need by path, or is wanted by path, and nothing is known to have. Only where something
// is asked for is a list fetched.
func (b *Builder) pathsOf(ctx context.Context, pub *upstream.Publication, k int, u *solve.Universe,
	wants ...solve.Want) error {
	src := pub.Source
	filed, ok := src.Family.(archive.Filed)
	if !ok {
		return nil
	}
	lists := filed.FileLists(src.Spec, pub.Root)
	if len(lists) == 0 {
		return nil
	}
	unmet := u.UnmetPaths(wants...)
	if len(unmet) == 0 {
		return nil
	}
	b.Tell(upstream.Event{Step: "files", Text: src.Name, Remaining: -1})
	packages := u.ByFileKey(k, filed.FileKey)
	for _, list := range lists {
		plain, err := b.lore(ctx, src, list)
		if err != nil {
			return err
		}
		err = filed.ReadFiles(plain, func(key, path string) error {
			if unmet[path] {
				for _, p := range packages[key] {
					u.AddPath(k, p, path)
				}
			}
			return ctx.Err()
		})
		plain.Close()
		if err != nil {
			return upstream.About(err, src.Name)
		}
	}
	return nil
}

// maxAdvisories bounds the advisories of one edition.
const maxAdvisories = 100_000

// advisoryList gives the list of advisories of a source, where it has one.
func advisoryList(pub *upstream.Publication) (archive.Advised, archive.IndexFile, bool) {
	advised, ok := pub.Source.Family.(archive.Advised)
	if !ok {
		return nil, archive.IndexFile{}, false
	}
	list, ok := advised.AdvisoryList(pub.Source.Spec, pub.Root)
	return advised, list, ok
}

// advisories gathers what upstreams say about the chosen packages, as lines.
func (b *Builder) advisories(ctx context.Context, out *Outcome) ([]byte, error) {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	count := 0
	for _, pub := range out.Publications {
		src := pub.Source
		advised, list, ok := advisoryList(pub)
		if !ok {
			continue
		}
		chosen := map[archive.AdvisoryPackage]bool{}
		for _, p := range out.selection {
			if p.src == src {
				chosen[archive.AdvisoryPackage{Name: p.Name, Version: p.Version, Arch: p.Arch}] = true
			}
		}
		plain, err := b.lore(ctx, src, list)
		if err != nil {
			return nil, err
		}
		err = advised.ReadAdvisories(plain, func(a *archive.Advisory) error {
			a.Packages = slices.DeleteFunc(a.Packages, func(p archive.AdvisoryPackage) bool {
				return !chosen[p]
			})
			if len(a.Packages) == 0 {
				return nil
			}
			if count++; count > maxAdvisories {
				return finding.New(finding.ContentTooLarge, "", "there are more than %d advisories",
					maxAdvisories)
			}
			return enc.Encode(edition.Advisory{Source: src.Name, Advisory: *a})
		})
		plain.Close()
		if err != nil {
			return nil, upstream.About(err, src.Name)
		}
	}
	return text.Bytes(), nil
}

// signedCompanion takes a file along whose own signature stands for it. One that upstream does
// not have is left out: no client needs it to install. So is one whose signature does not count, or
// that cannot be had now, and that is told.
func (b *Builder) signedCompanion(ctx context.Context, src *upstream.Source, c archive.Companion,
	put func(path, sum string) error) (finding.List, error) {
	if src.House != nil {
		for _, p := range []string{c.Path, c.Signature} {
			if sum, ok := src.House.Files[p]; ok {
				if err := put(p, sum); err != nil {
					return nil, err
				}
			}
		}
		return nil, nil
	}
	signature, err := b.Small(ctx, src, c.Signature, maxSignature)
	if err == nil {
		var sum string
		sum, err = b.FetchInto(ctx, src, pool.Want{Name: c.Path, Size: archive.UnknownSize,
			Authority: pool.BySignature(func(content io.ReadSeeker) error {
				_, err := src.Keyring.Streamed(content, signature)
				return err
			})}, []string{c.Path}, nil, nil)
		if err == nil {
			return nil, b.putSigned(c, sum, signature, put)
		}
	}
	return leftOut(ctx, err, src.Name, c.Path)
}

// leftOut tells of a file that a copy can do without why it is left out; nothing of one that
// upstream does not have. What is no matter of the file, such as a disk that does not answer, is an error.
func leftOut(ctx context.Context, err error, source, path string) (finding.List, error) {
	f, judged := finding.From(err)
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case judged && f.Code == finding.FaultCode:
		return nil, f
	case !judged && errors.Is(err, fetch.ErrNotFound):
		return nil, nil
	case !judged:
		f = finding.New(finding.SourceUpstreamDown, "", "it could not be downloaded: %v", err).
			Do("check the upstream. The file is copied with the next publication, if it can be " +
				"downloaded then")
	}
	f.Object = "source " + source
	f.Text = path + " is omitted from the copy: " + f.Text
	return finding.List{f.Rated(finding.Warning)}, nil
}

// putSigned puts a file whose own signature stands for it into an edition.
func (b *Builder) putSigned(c archive.Companion, sum string, signature []byte,
	put func(path, sum string) error) error {
	by, err := b.Pool.Add(signature)
	if err != nil {
		return err
	}
	if err := put(c.Path, sum); err != nil {
		return err
	}
	return put(c.Signature, by)
}
