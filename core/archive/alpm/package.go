package alpm

import (
	"archive/tar"
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Limits on a package file, in bytes.
const (
	maxInfo   = 4 << 20
	maxBefore = 256 << 20 // decompressed, before its .PKGINFO
	maxUnder  = 16 << 30  // of a whole package, decompressed
)

func badPackage(format string, args ...any) error {
	return finding.New(finding.ContentMalformedPackage, "", "not a readable alpm package: "+format, args...)
}

// openTar opens the tar inside a package file, whatever its compression.
func openTar(file io.Reader, limit int64) (*tar.Reader, io.Closer, error) {
	b := bufio.NewReaderSize(file, 64<<10)
	head, _ := b.Peek(6)
	plain, err := archive.Decompress(b, archive.Sniff(head), limit)
	if err != nil {
		return nil, nil, badPackage("%v", err)
	}
	return tar.NewReader(plain), plain, nil
}

// ReadInfo gives the .PKGINFO of a package file. It stands before the files
// that are installed, once: the client reads on to the end and believes the last.
func ReadInfo(file io.Reader) (map[string][]string, error) {
	t, plain, err := openTar(file, maxUnder)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	var data []byte
	var before int64
	for {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, badPackage("%v", err)
		}
		if path.Clean("/"+h.Name) != "/.PKGINFO" {
			if data == nil && !strings.HasPrefix(h.Name, ".") {
				return nil, badPackage(".PKGINFO is missing before the files")
			}
			if before += h.Size; data == nil && before > maxBefore {
				return nil, badPackage("more than %d bytes come before .PKGINFO", maxBefore)
			}
			continue
		}
		if data != nil || h.Name != ".PKGINFO" {
			return nil, archive.Ambiguous("the package contains .PKGINFO twice, or in another "+
				"spelling: %q",
				text.Cut(h.Name, 60))
		}
		if h.Typeflag != tar.TypeReg || h.Size > maxInfo {
			return nil, badPackage(".PKGINFO is not a regular file of at most %d bytes", maxInfo)
		}
		if data, err = io.ReadAll(t); err != nil {
			return nil, badPackage("its .PKGINFO: %v", err)
		}
	}
	if data == nil {
		return nil, badPackage(".PKGINFO is missing before the files")
	}
	return ParseInfo(data)
}

// ParseInfo reads the text of a .PKGINFO: lines of "name = value", a name
// standing as often as it has values.
func ParseInfo(data []byte) (map[string][]string, error) {
	out := map[string][]string{}
	n := 0
	for line := range bytes.Lines(data) {
		n++
		s := strings.TrimRight(string(line), "\r\n")
		if s == "" || strings.HasPrefix(s, "#") {
			continue
		}
		name, value, ok := strings.Cut(s, "=")
		name = strings.TrimSpace(name)
		if !ok || name == "" {
			return nil, badPackage("line %d of .PKGINFO is not a field", n)
		}
		out[name] = append(out[name], strings.TrimSpace(value))
	}
	for _, name := range []string{"pkgname", "pkgver", "arch"} {
		if len(out[name]) != 1 {
			return nil, badPackage("its .PKGINFO has %s %d times", name, len(out[name]))
		}
	}
	return out, nil
}

// Inspect implements archive.Family.
func (Family) Inspect(file archive.PackageFile, v archive.Verifier) (archive.Inspected, error) {
	var out archive.Inspected
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	info, err := ReadInfo(file)
	if err != nil {
		return out, err
	}
	out.Identity = archive.Identity{Name: info["pkgname"][0],
		Version: info["pkgver"][0], Arch: info["arch"][0]}
	if v == nil || len(file.Signature) == 0 {
		return out, nil
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	if out.Signer, err = v.Streamed(file, file.Signature); err != nil {
		if f, ok := finding.From(err); ok {
			f.Text = "the package itself: " + f.Text
			return out, f
		}
	}
	return out, err
}

// Examine implements archive.Family. The package goes into the first component
// and architecture of the source.
func (f Family) Examine(s archive.Source, file io.ReadSeeker) (archive.Examined, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Examined{}, err
	}
	info, err := ReadInfo(file)
	if err != nil {
		return archive.Examined{}, err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Examined{}, err
	}
	digest := sha256.New()
	head := make([]byte, 6)
	n, _ := io.ReadFull(file, head)
	digest.Write(head[:n])
	rest, err := io.Copy(digest, file)
	if err != nil {
		return archive.Examined{}, err
	}
	ext := archive.Sniff(head)
	name := info["pkgname"][0] + "-" + info["pkgver"][0] + "-" + info["arch"][0] + ".pkg.tar"
	if ext != "" {
		name += "." + ext
	}
	component, arch := "", info["arch"][0]
	if len(s.Components) > 0 {
		component = s.Components[0]
	}
	if i := slices.IndexFunc(s.Architectures, func(m string) bool { return rank(arch, m) >= 0 }); i >= 0 {
		arch = s.Architectures[i]
	}
	raw := Describe(info, name, int64(n)+rest, hex.EncodeToString(digest.Sum(nil)))
	p, err := ReadDescription(raw, folder(s, component, arch))
	if err != nil {
		return archive.Examined{}, err
	}
	if _, err := p.Needs.Relations(); err != nil {
		return archive.Examined{}, err
	}
	p.Component = component
	return archive.Examined{Package: p, Raw: raw}, nil
}

// Endorse implements archive.Family: a signature beside the file.
func (Family) Endorse(file io.ReadSeeker, sign archive.SigningKey, _ io.Writer) (bool, []byte, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return false, nil, err
	}
	signature, err := sign.SignStream(file)
	return false, signature, err
}

// Describe writes what a database says of a package file, from its .PKGINFO.
func Describe(info map[string][]string, filename string, size int64, sha string) []byte {
	var b bytes.Buffer
	field := func(name string, values ...string) {
		wrote := false
		for _, v := range values {
			if v == "" {
				continue
			}
			if !wrote {
				fmt.Fprintf(&b, "%%%s%%\n", name)
				wrote = true
			}
			b.WriteString(finding.Harmless(v) + "\n")
		}
		if wrote {
			b.WriteByte('\n')
		}
	}
	field("FILENAME", filename)
	field("NAME", info["pkgname"]...)
	field("BASE", info["pkgbase"]...)
	field("VERSION", info["pkgver"]...)
	field("DESC", info["pkgdesc"]...)
	field("GROUPS", info["group"]...)
	field("CSIZE", strconv.FormatInt(size, 10))
	field("ISIZE", info["size"]...)
	field("SHA256SUM", sha)
	field("URL", info["url"]...)
	field("LICENSE", info["license"]...)
	field("ARCH", info["arch"]...)
	field("BUILDDATE", info["builddate"]...)
	field("PACKAGER", info["packager"]...)
	field("REPLACES", info["replaces"]...)
	field("CONFLICTS", info["conflict"]...)
	field("PROVIDES", info["provides"]...)
	field("DEPENDS", info["depend"]...)
	field("OPTDEPENDS", info["optdepend"]...)
	return b.Bytes()
}

// fileNames lists what a package installs, as .files databases have it.
func fileNames(file io.Reader) ([]string, error) {
	t, plain, err := openTar(file, maxUnder)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	var out []string
	for {
		h, err := t.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, badPackage("%v", err)
		}
		name := strings.TrimPrefix(h.Name, "./")
		if strings.HasPrefix(name, ".") || name == "" {
			continue
		}
		if h.Typeflag == tar.TypeDir && !strings.HasSuffix(name, "/") {
			name += "/"
		}
		if path.Clean("/"+name) == "/" {
			continue
		}
		out = append(out, finding.Harmless(name))
	}
}
