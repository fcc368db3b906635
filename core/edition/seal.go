package edition

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/core/trust"
)

// Folder is where an edition's own files lie.
func Folder(editions string, id ID) string {
	return filepath.Join(editions, id.Mirror, strconv.Itoa(id.Number))
}

// About puts what an edition says of itself into a collection: the certificates that
// its machines need, its packages, advisories and source packages, a README, and edition.json, whose
// bytes are given back. put stores a file and gives its SHA-256.
func About(e *Edition, certificates []*trust.Certificate, packages, advisories, sources []byte,
	files *Collection,
	put func(data []byte) (sha256 string, err error)) (record []byte, err error) {
	add := func(path string, data []byte) error {
		sum, err := put(data)
		if err != nil {
			return err
		}
		return files.Add(Line{path, int64(len(data)), sum})
	}
	for _, c := range certificates {
		if err := add(keysFolder+c.Fingerprint+".asc", []byte(c.Armoured())); err != nil {
			return nil, err
		}
	}
	if err := add(packagesFile, packages); err != nil {
		return nil, err
	}
	if len(advisories) > 0 {
		if err := add(advisoriesFile, advisories); err != nil {
			return nil, err
		}
	}
	if len(sources) > 0 {
		if err := add(sourcesFile, sources); err != nil {
			return nil, err
		}
	}
	if err := add(readmeFile, readme(e)); err != nil {
		return nil, err
	}
	record, err = json.MarshalIndent(e, "", "  ")
	if err != nil {
		return nil, err
	}
	return record, add(recordFile, record)
}

// Seal writes manifest, edition.json and seal durably; the folder appears whole.
func Seal(on disk.System, editions string, e *Edition, m Manifest, record []byte,
	sign archive.SigningKey) error {
	text := m.Text(e)
	signature, err := sign.DetachSign(text, true)
	if err != nil {
		return finding.Doing(err, "seal %s", e.Name())
	}
	final := Folder(editions, e.ID())
	if err := writeFolder(on, final, map[string][]byte{
		ManifestName: text,
		recordName:   record,
		SealName:     signature,
	}); err != nil {
		return finding.Doing(err, "seal %s", e.Name())
	}
	// The folder of the mirror may be as new as the edition in it.
	err = errors.Join(disk.Sync(on, filepath.Dir(final)), disk.Sync(on, editions))
	return finding.Doing(err, "seal %s", e.Name())
}

// Countersign adds the signature of a further key to the seal of an edition in dir, whose
// seal holds by one of keys. An edition that has it already stays as it is.
func Countersign(on disk.System, dir string, keys []*trust.Certificate, sign *trust.SiteKey) error {
	text, err := ownFile(dir, ManifestName, finding.EditionDamaged, "the manifest")
	if err != nil {
		return err
	}
	seal, err := ownFile(dir, SealName, finding.EditionSealBad, "the seal")
	if err != nil {
		return err
	}
	if _, err := sealKeyring([]*trust.Certificate{sign.Certificate()}).Detached(text, seal); err == nil {
		return nil
	}
	if _, err := sealKeyring(keys).Detached(text, seal); err != nil {
		f, _ := finding.From(err)
		return finding.New(finding.EditionSealBad, "", "the seal is not valid: %s", f.Text)
	}
	more, err := sign.DetachSign(text, false)
	if err != nil {
		return err
	}
	both, err := trust.JoinSignatures(seal, more)
	if err != nil {
		return err
	}
	return finding.Doing(disk.Replace(on, filepath.Join(dir, SealName), both, 0o444), "countersign the seal")
}

// writeFolder writes a folder of files that appears whole. What lies in its place was
// left by a build that was killed before its record was made.
func writeFolder(on disk.System, final string, files map[string][]byte) error {
	tmp := final + ".new"
	if err := on.RemoveAll(tmp); err != nil {
		return err
	}
	if err := on.MkdirAll(tmp, 0o755); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		data := files[name]
		if err := disk.WriteNew(on, filepath.Join(tmp, name), data, 0o444); err != nil {
			return err
		}
	}
	if err := disk.Sync(on, tmp); err != nil {
		return err
	}
	if err := on.RemoveAll(final); err != nil {
		return err
	}
	return on.Rename(tmp, final)
}

func readme(e *Edition) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `Stockade edition %s, made %s

This folder is a complete offline mirror. "about/files/SOURCE" lists the files of each source
with their checksums. "manifest" lists all other files, and these lists. "seal.asc" is the
signature over the manifest, by the site key

    %s

To verify the edition, you need only sha256sum and an OpenPGP tool:

    gpg --import about/keys/%s.asc
    gpg --fingerprint            compare it with the fingerprint that you received elsewhere
    gpg --verify seal.asc manifest
    sha256sum --quiet -c manifest about/files/*

To use it, point machines at this folder, or serve it with any web server. Each source has
a folder of its own, with the layout of its upstream:

`, e.Name(), e.Created.Format("2006-01-02 15:04 MST"), e.SiteKey, e.SiteKey)
	for _, s := range e.Sources {
		how := "new indexes, signed with the site key"
		if !s.Tailored {
			how = "copied byte for byte, signed by " + strings.Join(s.Keys, ", ")
		}
		release := ""
		if s.Release != "" {
			release = "release " + s.Release + ", "
		}
		packages := fmt.Sprintf("%d packages", s.Packages)
		if s.Packages == 1 {
			packages = "1 package"
		}
		fmt.Fprintf(&b, "    %s/    %s, %s%s: %s, %s\n", s.Name, s.Family, release,
			strings.Join(s.Architectures, " "), packages, how)
	}
	b.WriteString(`
The files that a machine needs for it come from a Stockade service:

    stockade group files GROUP --at /path/of/this/folder --out ROOT
`)
	return []byte(b.String())
}
