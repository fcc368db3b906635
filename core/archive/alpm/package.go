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
	"sync"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Limits on a package file, in bytes.
const (
	maxInfo   = 4 << 20
	maxBefore = 256 << 20 // decompressed, before its .PKGINFO
	maxUnder  = 16 << 30  // of a whole package, decompressed
)

func badPackage(format string, args ...any) error {
	return finding.New("content.malformed-package", "", "not a readable alpm package: "+format, args...)
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
				return nil, badPackage("there is no .PKGINFO before its files")
			}
			if before += h.Size; data == nil && before > maxBefore {
				return nil, badPackage("more than %d bytes stand before its .PKGINFO", maxBefore)
			}
			continue
		}
		if data != nil || h.Name != ".PKGINFO" {
			return nil, archive.Ambiguous("the package has .PKGINFO twice, or in another spelling: %q",
				cut(h.Name, 60))
		}
		if h.Typeflag != tar.TypeReg || h.Size > maxInfo {
			return nil, badPackage("its .PKGINFO is no plain file under %d bytes", maxInfo)
		}
		if data, err = io.ReadAll(t); err != nil {
			return nil, badPackage("its .PKGINFO: %v", err)
		}
	}
	if data == nil {
		return nil, badPackage("there is no .PKGINFO before its files")
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
			return nil, badPackage("line %d of its .PKGINFO is no field", n)
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

// Made is a package of a made-up upstream; the demonstration and the tests make
// theirs with it. Relations are written as .PKGINFO has them: "name>=version".
type Made struct {
	Component                                         string
	Name, Version, Arch, Summary                      string
	Depends, Provides, Conflicts, Replaces, OptDepend []string
	Groups                                            []string
	Files                                             []MadeFile
	Packing                                           string // zst if empty
	Time                                              int64  // seconds since 1970
	Fields                                            string // further lines of .PKGINFO
}

// MadeFile is a file that a made package installs.
type MadeFile struct {
	Path string
	Mode int64
	Data []byte
}

// FileName is how the file of the package is called.
func (m Made) FileName() string {
	packing := m.Packing
	if packing == "" {
		packing = "zst"
	}
	return m.Name + "-" + m.Version + "-" + m.Arch + ".pkg.tar." + packing
}

// Info writes the .PKGINFO of the package.
func (m Made) Info() string {
	var b strings.Builder
	total := 0
	for _, f := range m.Files {
		total += len(f.Data)
	}
	fmt.Fprintf(&b, "pkgname = %s\npkgbase = %s\npkgver = %s\npkgdesc = %s\nurl = "+
		"https://workshop.example/\nbuilddate = %d\npackager = Workshop <workshop@skerry.example>\nsize = "+
		"%d\narch = %s\nlicense = MIT\n",
		m.Name, m.Name, m.Version, m.Summary, m.Time, total, m.Arch)
	for _, x := range []struct {
		name   string
		values []string
	}{{"group", m.Groups}, {"replaces", m.Replaces}, {"conflict", m.Conflicts}, {"provides", m.Provides}, {
		"depend", m.Depends}, {"optdepend", m.OptDepend}} {
		for _, v := range x.values {
			fmt.Fprintf(&b, "%s = %s\n", x.name, v)
		}
	}
	b.WriteString(m.Fields)
	return b.String()
}

// before has the packages that were built, by what they are made from: many repositories
// are published with the same ones.
var before sync.Map

// Build makes a package file, once. The result depends on what the package is alone.
func (m Made) Build() ([]byte, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q", m.Info(), m.Packing)
	for _, f := range m.Files {
		data := sha256.Sum256(f.Data)
		fmt.Fprintf(h, " %q %o %x", f.Path, f.Mode, data)
	}
	key := [sha256.Size]byte(h.Sum(nil))
	if file, ok := before.Load(key); ok {
		return slices.Clone(file.([]byte)), nil // whoever has it may spoil it
	}
	file, err := m.build()
	if err == nil {
		before.Store(key, file)
	}
	return slices.Clone(file), err
}

func (m Made) build() ([]byte, error) {
	var tree bytes.Buffer
	tree.WriteString("#mtree\n/set type=file uid=0 gid=0 mode=644\n")
	listed := map[string]bool{}
	for _, f := range m.Files {
		parts := strings.Split(strings.Trim(f.Path, "/"), "/")
		for i := 1; i < len(parts); i++ {
			if dir := strings.Join(parts[:i], "/"); !listed[dir] {
				listed[dir] = true
				fmt.Fprintf(&tree, "./%s time=%d.0 mode=755 type=dir\n", dir, m.Time)
			}
		}
		fmt.Fprintf(&tree, ".%s time=%d.0 size=%d mode=%o sha256digest=%x\n", f.Path, m.Time, len(f.Data),
			f.Mode, sha256.Sum256(f.Data))
	}
	packedTree, err := archive.Compress(tree.Bytes(), "gz")
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	at := time.Unix(m.Time, 0)
	put := func(name string, kind byte, mode int64, data []byte) error {
		if err := w.WriteHeader(&tar.Header{
			Name:     name,
			Typeflag: kind,
			Mode:     mode,
			Size:     int64(len(data)),
			ModTime:  at,
			Uname:    "root",
			Gname:    "root",
			Format:   tar.FormatPAX,
		}); err != nil {
			return err
		}
		_, err := w.Write(data)
		return err
	}
	if err := put(".MTREE", tar.TypeReg, 0o644, packedTree); err != nil {
		return nil, err
	}
	if err := put(".PKGINFO", tar.TypeReg, 0o644, []byte(m.Info())); err != nil {
		return nil, err
	}
	made := map[string]bool{}
	for _, f := range m.Files {
		parts := strings.Split(strings.Trim(f.Path, "/"), "/")
		for i := 1; i < len(parts); i++ {
			if dir := strings.Join(parts[:i], "/") + "/"; !made[dir] {
				made[dir] = true
				if err := put(dir, tar.TypeDir, 0o755, nil); err != nil {
					return nil, err
				}
			}
		}
		if err := put(strings.Join(parts, "/"), tar.TypeReg, f.Mode, f.Data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	packing := m.Packing
	if packing == "" {
		packing = "zst"
	}
	return archive.Compress(b.Bytes(), packing)
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
