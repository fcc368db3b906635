package deb

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Limits on the control part of a package file, in bytes.
const (
	maxControlTar  = 64 << 20
	maxControlFile = 4 << 20
)

// members are what a package file consists of (deb(5)), in their order; others
// may stand between them whose names begin with an underscore.
var members = []string{"debian-binary", "control.tar", "data.tar"}

// ReadControl gives the control stanza out of a binary package file (deb(5)):
// an ar archive whose second member is a tar with the file "control". The file
// must have these members and no others, and one file "control", so that every
// reader finds the same. Of data.tar nothing is read. Errors are
// content.malformed-package, and content.ambiguous where readers could differ.
func ReadControl(file io.ReadSeeker) ([]byte, error) {
	bad := func(format string, args ...any) error {
		return finding.New(finding.ContentMalformedPackage, "", "not a readable deb package: "+format,
			args...)
	}
	magic := make([]byte, 8)
	if _, err := io.ReadFull(file, magic); err != nil || string(magic) != "!<arch>\n" {
		return nil, bad("the file does not begin as an ar archive")
	}
	var control []byte
	next := 0
	for extra := 0; ; {
		name, size, err := arMember(file)
		if err == io.EOF && next == len(members) {
			return control, nil
		}
		if err == io.EOF {
			return nil, bad("the file ends before its %s", members[next])
		}
		if err != nil {
			return nil, bad("%v", err)
		}
		begin, err := file.Seek(0, io.SeekCurrent)
		if err != nil {
			return nil, err
		}
		ext := ""
		if next < len(members) {
			ext = strings.TrimPrefix(name, members[next])
		}
		switch {
		case next > 0 && strings.HasPrefix(name, "_"):
			if extra++; extra > 8 {
				return nil, bad("the file has more than 8 additional members")
			}
		case next == len(members) || !strings.HasPrefix(name, members[next]):
			if next == 0 {
				return nil, bad("its first member is %q, but must be debian-binary", name)
			}
			return nil, archive.Ambiguous("the package file has the member %q in the wrong "+
				"place", name)
		case next == 0:
			err = formatVersion(file, size)
			next++
		case next == 1:
			control, err = controlFile(io.LimitReader(file, size), ext)
			next++
		default:
			next++
		}
		if err != nil {
			f, judged := finding.From(err)
			if judged && f.Code != finding.SourceMalformedIndex {
				return nil, f
			}
			if judged {
				return nil, bad("%s: %s", name, f.Text)
			}
			return nil, bad("%s: %v", name, err)
		}
		end, err := file.Seek(begin+size+size%2, io.SeekStart)
		if err != nil {
			return nil, err
		}
		if whole, err := file.Seek(0, io.SeekEnd); err != nil || whole < begin+size {
			return nil, bad("its member %q is truncated", name)
		}
		if _, err := file.Seek(end, io.SeekStart); err != nil {
			return nil, err
		}
	}
}

func formatVersion(file io.Reader, size int64) error {
	if size > 64 {
		return fmt.Errorf("it has %d bytes", size)
	}
	version := make([]byte, size)
	if _, err := io.ReadFull(file, version); err != nil {
		return fmt.Errorf("it is truncated")
	}
	if !bytes.HasPrefix(version, []byte("2.")) {
		return fmt.Errorf("its format version is %q; only 2.0 is supported",
			strings.TrimSpace(text.Cut(version, 20)))
	}
	return nil
}

// controlFile gives the one file "control" of a control.tar.
func controlFile(packed io.Reader, ext string) ([]byte, error) {
	plain, err := archive.Decompress(packed, strings.TrimPrefix(ext, "."), maxControlTar)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	t := tar.NewReader(plain)
	var control []byte
	for {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if h.Format == tar.FormatPAX {
			return nil, archive.Ambiguous(
				"control.tar names %q in a way that readers interpret differently",
				text.Cut(h.Name, 80))
		}
		if path.Clean("/"+h.Name) != "/control" {
			continue
		}
		if control != nil {
			return nil, archive.Ambiguous("the package contains two files named control")
		}
		if h.Typeflag != tar.TypeReg || h.Size > maxControlFile {
			return nil, fmt.Errorf("its control file is not a regular file of at most %d bytes",
				maxControlFile)
		}
		if control, err = io.ReadAll(t); err != nil {
			return nil, err
		}
		if control == nil {
			control = []byte{}
		}
	}
	if control == nil {
		return nil, fmt.Errorf("it contains no file named control")
	}
	// What stands behind a tar's end is read by some readers.
	rest := make([]byte, 32<<10)
	for {
		n, err := plain.Read(rest)
		if len(bytes.Trim(rest[:n], "\x00")) > 0 {
			return nil, archive.Ambiguous("control.tar has data after its end")
		}
		if err == io.EOF {
			return control, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// controlStanza gives the one stanza of a control file.
func controlStanza(control []byte) ([]byte, error) {
	stanza, err := oneStanza(control)
	if err == io.EOF {
		return nil, finding.New(finding.ContentMalformedPackage, "", "the package's control file is empty")
	}
	return stanza, err
}

// arMember reads one 60-byte member header.
func arMember(r io.Reader) (name string, size int64, err error) {
	var h [60]byte
	if n, err := io.ReadFull(r, h[:]); err == io.EOF && n == 0 {
		return "", 0, io.EOF
	} else if err != nil {
		return "", 0, fmt.Errorf("the header of a member is truncated")
	}
	if h[58] != '`' || h[59] != '\n' {
		return "", 0, fmt.Errorf("the header of a member is damaged")
	}
	size, ok := text.Number(bytes.TrimRight(h[48:58], " "))
	if !ok {
		return "", 0, fmt.Errorf("the size of a member is not a number")
	}
	return strings.TrimRight(strings.TrimRight(string(h[:16]), " "), "/"), size, nil
}

// ReadIdentity gives name, version and architecture out of a package file.
func ReadIdentity(file io.ReadSeeker) (archive.Identity, error) {
	control, err := ReadControl(file)
	if err != nil {
		return archive.Identity{}, err
	}
	stanza, err := controlStanza(control)
	if err != nil {
		return archive.Identity{}, err
	}
	f, err := Fields(stanza)
	if err != nil {
		return archive.Identity{}, err
	}
	id := archive.Identity{Name: f["package"], Version: f["version"], Arch: f["architecture"]}
	if id.Name == "" || id.Version == "" || id.Arch == "" {
		return id, finding.New(finding.ContentMalformedPackage, "",
			"the package's control file lacks Package, Version or Architecture")
	}
	return id, nil
}
