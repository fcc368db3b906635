package mirror

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/upstream"
)

// Handed is a package file that somebody hands in for a house source.
type Handed struct {
	Set       *definition.Set // what is described
	Source    string          // which of it
	Family    archive.Family
	From, Why string // where the file came from, and what it is there for
	By        string
	File      *os.File
	Signature []byte             // the detached one that came with it, if any
	Others    []*upstream.Source // of the family, whose offers are compared
}

func (h Handed) object() string { return "source " + h.Source }

// Check tells why nothing can be handed in like that, before the file is there.
func (h Handed) Check() error {
	if src := h.Set.Sources[h.Source]; !src.Managed() {
		return finding.New(finding.DefineBadValue, h.object(),
			"packages can only be added to a house source without upstreams").
			Do("define a source with standing: house and no upstreams")
	}
	if strings.TrimSpace(h.From) == "" || strings.TrimSpace(h.Why) == "" {
		return finding.New(finding.DefineMissingField, h.object(),
			"the origin or the purpose of the file is missing").
			Do("add --from and --why, so that others know later where the file came from")
	}
	return nil
}

// TakeIn takes a file that was handed in into the pool, and gives what is to be
// described of it, under which name, and what was found about it: who else offers the
// same package, with which bytes. v judges the signature that it came with.
func (b *Builder) TakeIn(h Handed, v archive.Verifier) (id string, rec definition.Package,
	found finding.List, err error) {
	if err := h.Check(); err != nil {
		return "", rec, nil, err
	}
	given, long, err := digestsOf(h.File)
	if err != nil {
		return "", rec, nil, finding.Doing(err, "read the file")
	}
	src := h.Set.Sources[h.Source]
	taken, err := b.TakeIntoHouse(src.Archive(h.Source), h.Family, h.File, h.Signature, v)
	if err != nil {
		return "", rec, nil, h.explained(err)
	}
	p := taken.Package
	rec = definition.Package{Source: h.Source, Name: p.Name, Version: p.Version, Architecture: p.Arch,
		SHA256: taken.SHA256, Size: int(taken.Size), Signature: taken.Signature,
		Given: given, From: finding.Harmless(h.From), Why: finding.Harmless(h.Why), By: h.By,
		At: b.Now().UTC().Format(time.RFC3339)}
	if f, ok := finding.From(taken.Unsure); ok {
		rec.SignedBy = "not verified: " + f.Text
	} else if taken.Signer.Fingerprint != "" {
		rec.SignedBy = taken.Signer.Fingerprint
	}
	if err := h.twice(rec); err != nil {
		return "", rec, nil, err
	}
	return packageID(p, given), rec, b.compared(h, rec, long), nil
}

// explained gives a refusal of the file with a way out that is about files: the general
// ones are about upstreams.
func (h Handed) explained(err error) error {
	f, ok := finding.From(err)
	if !ok {
		return err
	}
	if f.Object == "" {
		f.Object = h.object()
	}
	switch f.Code {
	case finding.ContentDigestMismatch:
		f = f.Do("get the file again from its origin, and compare its checksum with the owner")
	case finding.ContentMalformedPackage:
		f = f.Do("choose a package file of the family %s", h.Family.Name())
	}
	return f
}

// twice refuses what is in the source already.
func (h Handed) twice(rec definition.Package) error {
	for _, id := range h.Set.HousePackages(h.Source) {
		o := h.Set.Packages[id]
		if o.Name != rec.Name || o.Version != rec.Version || o.Architecture != rec.Architecture {
			continue
		}
		if o.Given == rec.Given {
			return finding.New(finding.DefineDuplicateName, h.object(),
				"this file is already in the source, as %s",
				id)
		}
		return finding.New(finding.DefineDuplicateName, h.object(),
			"%s %s (%s) is already in the source with other content, as %s", rec.Name, rec.Version,
			rec.Architecture, id).
			Do("give the new build a version of its own, or remove the other first: stockade package "+
				"remove %s", id)
	}
	return nil
}

// compared tells who else offers the package.
func (b *Builder) compared(h Handed, rec definition.Package, long string) finding.List {
	found := finding.List{}
	id := archive.Identity{Name: rec.Name, Version: rec.Version, Arch: rec.Architecture}
	offers, unknown := b.Offered(id, rec.Given, long, h.Others)
	for _, other := range unknown {
		found = append(found, finding.New(finding.HouseNotCompared, h.object(),
			"the index of %s is not available, so Stockade cannot tell whether it also offers "+
				"%s %s",
			other, rec.Name, rec.Version).
			Do("run stockade source refresh %s, then remove the package and add it again", other))
	}
	for _, o := range offers {
		if o.Same {
			found = append(found, finding.New(finding.HouseOfferedElsewhere, h.object(),
				"%s also offers %s %s, with the same content", o.Source, rec.Name, rec.Version))
		} else {
			found = append(found, finding.New(finding.HouseOtherBytes, h.object(),
				"%s also offers %s %s, but with other content: its index has the checksum %s", o.Source,
				rec.Name, rec.Version, o.Digest))
		}
	}
	return found
}

var notInNames = regexp.MustCompile(`[^a-z0-9.-]+`)

// packageID makes the name that a house package is recorded by.
func packageID(p *archive.Package, sum string) string {
	id := strings.ToLower(p.Name + "-" + p.Version + "." + p.Arch)
	id = strings.Trim(notInNames.ReplaceAllString(id, "-"), ".-")
	return id[:min(len(id), 50)] + "-" + sum[:8]
}

// digestsOf gives the SHA-256 and the SHA-512 of a whole file.
func digestsOf(f *os.File) (short, long string, err error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", "", err
	}
	h, h512 := sha256.New(), sha512.New()
	_, err = io.Copy(io.MultiWriter(h, h512), f)
	return hex.EncodeToString(h.Sum(nil)), hex.EncodeToString(h512.Sum(nil)), err
}
