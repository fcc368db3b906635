package deb

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Limits on the control part of a package file, in bytes.
const (
	maxControlTar  = 64 << 20
	maxControlFile = 4 << 20
)

// ReadControl gives the control stanza out of a binary package file (deb(5)):
// an ar archive whose second member is a tar with the file "control". It
// reads no further than that member. Errors are content.malformed-package.
func ReadControl(file io.Reader) ([]byte, error) {
	bad := func(format string, args ...any) error {
		return finding.New("content.malformed-package", "", "not a readable deb package: "+format, args...)
	}
	magic := make([]byte, 8)
	if _, err := io.ReadFull(file, magic); err != nil || string(magic) != "!<arch>\n" {
		return nil, bad("it does not begin as an ar archive")
	}
	name, size, err := arMember(file)
	if err != nil {
		return nil, bad("%v", err)
	}
	if name != "debian-binary" || size > 64 {
		return nil, bad("its first member is %q where debian-binary belongs", name)
	}
	version := make([]byte, size+size%2)
	if _, err := io.ReadFull(file, version); err != nil {
		return nil, bad("debian-binary is cut short")
	}
	if !bytes.HasPrefix(version, []byte("2.")) {
		return nil, bad("its format version is %q, and 2.0 is known", strings.TrimSpace(cut(version, 20)))
	}
	for range 8 { // members whose name begins with an underscore may stand in between
		if name, size, err = arMember(file); err != nil {
			return nil, bad("%v", err)
		}
		if !strings.HasPrefix(name, "_") {
			break
		}
		if _, err := io.CopyN(io.Discard, file, size+size%2); err != nil {
			return nil, bad("the member %q is cut short", name)
		}
	}
	ext, ok := strings.CutPrefix(name, "control.tar")
	if !ok {
		return nil, bad("its member %q stands where control.tar belongs", name)
	}
	plain, err := archive.Decompress(io.LimitReader(file, size), strings.TrimPrefix(ext, "."), maxControlTar)
	if err != nil {
		return nil, bad("%s: %v", name, err)
	}
	defer plain.Close()
	t := tar.NewReader(plain)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil, bad("%s holds no file named control", name)
		}
		if err != nil {
			return nil, bad("%s: %v", name, err)
		}
		if strings.TrimPrefix(h.Name, "./") != "control" {
			continue
		}
		if h.Typeflag != tar.TypeReg || h.Size > maxControlFile {
			return nil, bad("its control file is no plain file under %d bytes", maxControlFile)
		}
		data, err := io.ReadAll(t)
		if err != nil {
			return nil, bad("its control file: %v", err)
		}
		return data, nil
	}
}

// arMember reads one 60-byte member header.
func arMember(r io.Reader) (name string, size int64, err error) {
	var h [60]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return "", 0, fmt.Errorf("the archive ends before its control member")
	}
	if h[58] != '`' || h[59] != '\n' {
		return "", 0, fmt.Errorf("a member header is damaged")
	}
	size, err = strconv.ParseInt(strings.TrimRight(string(h[48:58]), " "), 10, 64)
	if err != nil || size < 0 {
		return "", 0, fmt.Errorf("a member's size is no number")
	}
	return strings.TrimRight(strings.TrimRight(string(h[:16]), " "), "/"), size, nil
}

// ReadIdentity gives name, version and architecture out of a package file.
func ReadIdentity(file io.Reader) (archive.Identity, error) {
	control, err := ReadControl(file)
	if err != nil {
		return archive.Identity{}, err
	}
	stanza, err := NewStanzaReader(bytes.NewReader(control)).Next()
	if err != nil {
		return archive.Identity{}, finding.New("content.malformed-package", "", "the package's control file is empty")
	}
	f, err := Fields(stanza)
	if err != nil {
		return archive.Identity{}, finding.New("content.malformed-package", "", "the package's control file: %v", err)
	}
	id := archive.Identity{Name: f["package"], Version: f["version"], Arch: f["architecture"]}
	if id.Name == "" || id.Version == "" || id.Arch == "" {
		return id, finding.New("content.malformed-package", "", "the package's control file lacks Package, Version or Architecture")
	}
	return id, nil
}

// File is one file that a package made by Build installs.
type File struct {
	Path string // absolute on the machine, such as /usr/bin/sluicectl
	Mode int64
	Data []byte
}

// Build makes a binary package file (deb(5)) from a control stanza and the
// files that it installs. It is the writer that the demonstration and the
// tests make their packages with. The result depends on its arguments alone.
func Build(control string, files []File, compression string) ([]byte, error) {
	if !strings.HasSuffix(control, "\n") {
		control += "\n"
	}
	controlTar, err := tarOf([]File{{Path: "/control", Mode: 0o644, Data: []byte(control)}})
	if err != nil {
		return nil, err
	}
	dataTar, err := tarOf(files)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.WriteString("!<arch>\n")
	member := func(name string, data []byte) {
		fmt.Fprintf(&out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", name, 0, 0, 0, "100644", len(data))
		out.Write(data)
		if len(data)%2 == 1 {
			out.WriteByte('\n')
		}
	}
	member("debian-binary", []byte("2.0\n"))
	for _, part := range []struct {
		name string
		data []byte
	}{{"control.tar", controlTar}, {"data.tar", dataTar}} {
		packed, err := archive.Compress(part.data, compression)
		if err != nil {
			return nil, err
		}
		name := part.name
		if compression != "" {
			name += "." + compression
		}
		member(name, packed)
	}
	return out.Bytes(), nil
}

func tarOf(files []File) ([]byte, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	made := map[string]bool{}
	if err := w.WriteHeader(&tar.Header{Name: "./", Typeflag: tar.TypeDir, Mode: 0o755, Format: tar.FormatGNU}); err != nil {
		return nil, err
	}
	for _, f := range files {
		parts := strings.Split(strings.Trim(f.Path, "/"), "/")
		for i := 1; i < len(parts); i++ {
			dir := "./" + strings.Join(parts[:i], "/") + "/"
			if made[dir] {
				continue
			}
			made[dir] = true
			if err := w.WriteHeader(&tar.Header{Name: dir, Typeflag: tar.TypeDir, Mode: 0o755, Format: tar.FormatGNU}); err != nil {
				return nil, err
			}
		}
		h := &tar.Header{Name: "./" + strings.Join(parts, "/"), Typeflag: tar.TypeReg, Mode: f.Mode, Size: int64(len(f.Data)), Format: tar.FormatGNU}
		if err := w.WriteHeader(h); err != nil {
			return nil, err
		}
		if _, err := w.Write(f.Data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
