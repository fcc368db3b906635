package made

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"stockade/core/archive"
)

// Alpm is a package of a made-up upstream; the demonstration and the tests make
// theirs with it. Relations are written as .PKGINFO has them: "name>=version".
type Alpm struct {
	Component                                         string
	Name, Version, Arch, Summary                      string
	Depends, Provides, Conflicts, Replaces, OptDepend []string
	Groups                                            []string
	Files                                             []File
	Packing                                           string // zst if empty
	Time                                              int64  // seconds since 1970
	Fields                                            string // further lines of .PKGINFO
}

// FileName is how the file of the package is called.
func (m Alpm) FileName() string {
	packing := m.Packing
	if packing == "" {
		packing = "zst"
	}
	return m.Name + "-" + m.Version + "-" + m.Arch + ".pkg.tar." + packing
}

// Info writes the .PKGINFO of the package.
func (m Alpm) Info() string {
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

// alpmsBefore has the packages that were built, by what they are made from: many repositories
// are published with the same ones.
var alpmsBefore sync.Map

// Build makes a package file, once. The result depends on what the package is alone.
func (m Alpm) Build() ([]byte, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q", m.Info(), m.Packing)
	for _, f := range m.Files {
		data := sha256.Sum256(f.Data)
		fmt.Fprintf(h, " %q %o %x", f.Path, f.Mode, data)
	}
	key := [sha256.Size]byte(h.Sum(nil))
	if file, ok := alpmsBefore.Load(key); ok {
		return slices.Clone(file.([]byte)), nil // whoever has it may spoil it
	}
	file, err := m.build()
	if err == nil {
		alpmsBefore.Store(key, file)
	}
	return slices.Clone(file), err
}

func (m Alpm) build() ([]byte, error) {
	var tree bytes.Buffer
	tree.WriteString("#mtree\n/set type=file uid=0 gid=0 mode=644\n")
	listed := map[string]bool{}
	for _, f := range m.Files {
		for _, dir := range folders(f.Path, listed) {
			fmt.Fprintf(&tree, "./%s time=%d.0 mode=755 type=dir\n", dir, m.Time)
		}
		fmt.Fprintf(&tree, ".%s time=%d.0 size=%d mode=%o sha256digest=%x\n", f.Path, m.Time, len(f.Data),
			f.Mode, sha256.Sum256(f.Data))
	}
	packedTree, err := archive.Compress(tree.Bytes(), "gz")
	if err != nil {
		return nil, err
	}
	w := newTar(time.Unix(m.Time, 0))
	w.file(".MTREE", 0o644, packedTree)
	w.file(".PKGINFO", 0o644, []byte(m.Info()))
	made := map[string]bool{}
	for _, f := range m.Files {
		for _, dir := range folders(f.Path, made) {
			w.folder(dir + "/")
		}
		w.file(strings.Trim(f.Path, "/"), f.Mode, f.Data)
	}
	return w.packed(cmp.Or(m.Packing, "zst"))
}
