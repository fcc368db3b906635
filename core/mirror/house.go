package mirror

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/upstream"
)

// HousePackage is one package of a house source; its files are in the pool.
type HousePackage struct {
	SHA256    string `json:"sha256"`
	Size      int64  `json:"size"`                // bytes
	Signature string `json:"signature,omitempty"` // SHA-256 of the detached signature beside it
}

// houseDigest is a digest over all that the publication of a house source
// follows from, but its time.
func (b *Builder) houseDigest(spec archive.Source, packages []HousePackage) string {
	h := sha256.New()
	enc := json.NewEncoder(h)
	enc.Encode(spec)
	for _, f := range b.Site.Fingerprints() {
		enc.Encode(f)
	}
	enc.Encode(packages)
	return hex.EncodeToString(h.Sum(nil))
}

// asHoused gives the family of a house source, or why it cannot have one.
func asHoused(spec archive.Source, family archive.Family) (archive.Housed, error) {
	h, ok := family.(archive.Housed)
	if !ok {
		return nil, finding.New(finding.DefineBadValue, "source "+spec.Name,
			"packages of the family %s cannot be added by hand", family.Name())
	}
	return h, nil
}

// PublishHouse writes the repository of a house source into the pool: each
// package examined, the indexes written and signed by the site. last is what
// was published before (or nil): where nothing changed, it stays.
func (b *Builder) PublishHouse(spec archive.Source, family archive.Family, packages []HousePackage,
	last *upstream.House) (*upstream.House, error) {
	digest := b.houseDigest(spec, packages)
	if last != nil && last.Digest == digest && b.houseStands(last) {
		return last, nil
	}
	now := b.Now().UTC().Truncate(time.Second)
	if last != nil && !now.After(last.Time) {
		now = last.Time.Add(time.Second) // roots never go back
	}
	housed, err := asHoused(spec, family)
	if err != nil {
		return nil, err
	}
	out := &upstream.House{Digest: digest, Time: now, Files: map[string]string{}}
	var all []archive.Examined
	for _, hp := range packages {
		f, err := b.Pool.Open(hp.SHA256)
		if fault, ok := finding.Fault(err, "open a package of the house source"); ok {
			return nil, fault
		}
		if err != nil {
			return nil, finding.New(finding.EditionDamaged, "source "+spec.Name,
				"the file %s of the house source is missing from the pool", hp.SHA256).
				Do("add the file again: stockade package add FILE --source %s", spec.Name)
		}
		disk := finding.Watching("read a package of the house source")
		x, err := housed.Examine(spec, disk.ReadSeeker(f))
		if err = disk.Blame(err); err != nil {
			if g, _ := finding.From(err); g.Code != finding.FaultCode && changed(f, hp.SHA256) {
				err = finding.New(finding.EditionDamaged, "source "+spec.Name,
					"a package of the house source was changed in the pool and can no longer "+
						"be read: %s",
					hp.SHA256).Do("add the file again: stockade package add FILE --source %s", spec.Name)
			}
			f.Close()
			return nil, upstream.About(err, spec.Name)
		}
		f.Close()
		if x.Package.SHA256 != hp.SHA256 || x.Package.Size != hp.Size {
			return nil, finding.New(finding.EditionDamaged, "source "+spec.Name,
				"%s of the house source was changed in the pool", x.Package.Name)
		}
		if hp.Signature != "" {
			if x.Package.Signature, err = b.ReadFile(hp.Signature); err != nil {
				return nil, upstream.About(err, spec.Name)
			}
			out.Files[archive.SignatureOf(family, x.Package.Path)] = hp.Signature
		}
		if _, twice := out.Files[x.Package.Path]; twice {
			return nil, finding.New(finding.ContentUnsafePath, "source "+spec.Name,
				"two packages have the path %s", x.Package.Path).
				Do("remove one of the two: stockade package remove")
		}
		out.Files[x.Package.Path] = hp.SHA256
		all = append(all, x)
	}
	slices.SortStableFunc(all, func(a, b archive.Examined) int {
		return strings.Compare(a.Package.Path, b.Package.Path)
	})
	reading := finding.Watching("read the packages of " + spec.Name)
	err = reading.Blame(family.Write(archive.Writing{
		Source: spec, Root: &archive.Root{Origin: "Stockade house source", Label: spec.Name,
			Codename: spec.Release}, Time: now, Note: spec.Name, Sign: b.signs(family),
		Each: func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
			f func(*archive.Package, []byte) error) error {
			for _, x := range all {
				if list(archive.IndexChoice{Component: x.Package.Component}) && want(x.Package) {
					if err := f(x.Package, x.Raw); err != nil {
						return err
					}
				}
			}
			return nil
		},
		Package: b.packages(reading),
		Put: func(p string, data []byte) error {
			sum, err := b.Pool.Add(data)
			out.Files[p] = sum
			return err
		},
	}))
	return out, upstream.About(err, spec.Name)
}

// changed tells whether a file of the pool is not what its name says; not where it cannot be read.
func changed(f pool.Blob, sha256sum string) bool {
	h := sha256.New()
	_, err := io.Copy(h, io.NewSectionReader(f, 0, f.Size()))
	return err == nil && hex.EncodeToString(h.Sum(nil)) != sha256sum
}

func (b *Builder) houseStands(h *upstream.House) bool {
	for _, sum := range h.Files {
		if _, ok := b.Pool.Has(sum); !ok {
			return false
		}
	}
	return true
}

// Offer is a package of a defined source that has the name, version and
// architecture of one that is looked for.
type Offer struct {
	Source string
	Digest string // as its index gives it
	Same   bool   // the bytes are the same
}

// Offered looks through the accepted indexes of sources for a package. Only
// what is in the pool is read: nothing is fetched. unknown names the sources of
// which not everything could be looked at. sha256 and sha512 are of the file
// that is compared: an index may give either.
func (b *Builder) Offered(id archive.Identity, sha256, sha512 string, among []*upstream.Source) (out []Offer,
	unknown []string) {
	for _, src := range among {
		if src.House != nil {
			continue
		}
		lists, missing, err := b.AcceptedLists(src)
		if err != nil || len(missing) > 0 {
			unknown = append(unknown, src.Name)
		}
		for _, n := range slices.Sorted(maps.Keys(lists)) {
			found := errors.New("found")
			err := b.Read(src, n, lists[n], func(p *archive.Package, _ []byte) error {
				if p.Name == id.Name && p.Version == id.Version && p.Arch == id.Arch {
					o := Offer{src.Name, p.SHA256, p.SHA256 == sha256}
					if p.SHA256 == "" {
						o.Digest, o.Same = p.SHA512, p.SHA512 == sha512
					}
					out = append(out, o)
					return found
				}
				return nil
			})
			if errors.Is(err, found) {
				break
			}
			if err != nil && !slices.Contains(unknown, src.Name) { // it cannot be read to its end
				unknown = append(unknown, src.Name)
			}
		}
	}
	return out, unknown
}

// Taken is what came of taking a file into a house source.
type Taken struct {
	HousePackage
	Package *archive.Package
	Signer  archive.Signer // of the signature that it came with, if that could be verified
	Unsure  error          // why it could not
}

// TakeIntoHouse takes a file that somebody handed in into the pool as a package
// of a house source: examined, and made such that machines take it for signed by
// the site. signature is the detached one that came with it, if any, and v
// judges the signature that it has already; what v says is told, not decided on.
func (b *Builder) TakeIntoHouse(spec archive.Source, family archive.Family, file *os.File, signature []byte,
	v archive.Verifier) (*Taken, error) {
	housed, err := asHoused(spec, family)
	if err != nil {
		return nil, err
	}
	disk := finding.Watching("read the package")
	x, err := housed.Examine(spec, disk.ReadSeeker(file))
	if err = disk.Blame(err); err != nil {
		return nil, err
	}
	out := &Taken{Package: x.Package}
	if !slices.ContainsFunc(spec.Architectures, func(a string) bool {
		return family.Rank(x.Package.Arch, a) >= 0
	}) {
		return nil, finding.New(finding.SourceArchitectureMissing, "source "+spec.Name,
			"%s is for %s, but the source is for %s", x.Package.Name, x.Package.Arch,
			strings.Join(spec.Architectures, ", ")).
			Do("add the architecture to the source, or choose another file")
	}
	inspected, err := family.Inspect(archive.PackageFile{ReadSeeker: disk.ReadSeeker(file),
		Signature: signature}, v)
	err = disk.Blame(err)
	if f, _ := finding.From(err); err != nil && f.Code != finding.ContentSignatureBad &&
		!f.Code.In("key") {
		return nil, err // damaged, not merely signed by somebody unknown
	}
	out.Signer, out.Unsure = inspected.Signer, err
	out.HousePackage, err = b.endorsed(housed, file)
	return out, err
}

// Endorsed signs a package of a house source as the site, where its family has such
// signatures, and takes it into the pool. What it gives is the file as it was where not.
func (b *Builder) Endorsed(family archive.Family, spec archive.Source, file *os.File) (HousePackage, error) {
	housed, err := asHoused(spec, family)
	if err != nil {
		return HousePackage{}, err
	}
	return b.endorsed(housed, file)
}

func (b *Builder) endorsed(housed archive.Housed, file *os.File) (HousePackage, error) {
	none, out := HousePackage{}, HousePackage{}
	tmp, err := os.CreateTemp(path.Dir(file.Name()), "house-")
	if err != nil {
		return none, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	changed, made, err := housed.Endorse(file, b.Site.Alone(), tmp)
	if err != nil {
		return none, err
	}
	from := file
	if changed {
		from = tmp
	}
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return none, err
	}
	h := sha256.New()
	if out.Size, err = io.Copy(h, from); err != nil {
		return none, err
	}
	out.SHA256 = hex.EncodeToString(h.Sum(nil))
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return none, err
	}
	if err := b.takeFile(from, out); err != nil {
		return none, err
	}
	if len(made) > 0 {
		if out.Signature, err = b.Pool.Add(made); err != nil {
			return none, err
		}
	}
	return out, b.Pool.Flush()
}

// takeFile copies a file on this disk into the pool.
func (b *Builder) takeFile(from io.Reader, p HousePackage) error {
	_, err := b.Pool.Ingest(upstream.Wanted("the package", p.Size, p.SHA256, ""),
		func(sink pool.Sink) error {
			if err := sink.Restart(); err != nil {
				return err
			}
			if _, err := io.Copy(sink, from); err != nil {
				return err
			}
			return sink.Verify()
		}, nil)
	return err
}
