package deb

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Examine implements archive.Family. The package goes into the first component
// of the source, at the path that pools of this family give it.
func (f Family) Examine(s archive.Source, file io.ReadSeeker) (archive.Examined, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Examined{}, err
	}
	control, err := ReadControl(file)
	if err != nil {
		return archive.Examined{}, err
	}
	stanza, err := controlStanza(control)
	if err != nil {
		return archive.Examined{}, err
	}
	raw := bytes.Clone(withoutFields(stanza, "filename", "size", "sha256", "sha512", "md5sum", "sha1"))
	fields, err := Fields(raw)
	if err != nil {
		return archive.Examined{}, finding.New(finding.ContentMalformedPackage, "",
			"the package's control file: %v", err)
	}
	component := ""
	if len(s.Components) > 0 {
		component = s.Components[0]
	}
	name := fields["package"]
	if err := archive.CheckName(name); err != nil {
		return archive.Examined{}, err
	}
	version := fields["version"]
	if i := strings.IndexByte(version, ':'); i >= 0 {
		version = version[i+1:]
	}
	at := path.Join("pool", component, name[:1], name, name+"_"+version+"_"+fields["architecture"]+".deb")
	// The stanza is read as an index has it, so that what an index cannot say is
	// refused now and not by the machines.
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Examined{}, err
	}
	digest := sha256.New()
	size, err := io.Copy(digest, file)
	if err != nil {
		return archive.Examined{}, err
	}
	raw = fmt.Appendf(raw, "Filename: %s\nSize: %d\nSHA256: %x\n", at, size, digest.Sum(nil))
	p, err := parsePackage(raw, &reading{names: text.Names{}})
	if err != nil {
		return archive.Examined{}, err
	}
	if _, err := p.Needs.Relations(); err != nil {
		return archive.Examined{}, err
	}
	p.Component = component
	return archive.Examined{Package: p, Raw: raw}, nil
}

// Endorse implements archive.Family: machines of this family check the index.
func (Family) Endorse(io.ReadSeeker, archive.SigningKey, io.Writer) (bool, []byte, error) {
	return false, nil, nil
}
