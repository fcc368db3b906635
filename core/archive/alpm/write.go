package alpm

import (
	"archive/tar"
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// record is one package of a database that is written.
type record struct {
	folder string
	desc   []byte
	files  []string
}

// writeDatabase packs records as a database; with files as one that lists them.
func writeDatabase(records []record, at time.Time, files bool) ([]byte, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	put := func(name string, kind byte, mode int64, data []byte) error {
		if err := w.WriteHeader(&tar.Header{
			Name:     name,
			Typeflag: kind,
			Mode:     mode,
			Size:     int64(len(data)),
			ModTime:  at.Truncate(time.Second),
			Uname:    "root",
			Gname:    "root",
			Format:   tar.FormatPAX,
		}); err != nil {
			return err
		}
		_, err := w.Write(data)
		return err
	}
	for _, r := range records {
		if err := put(r.folder+"/", tar.TypeDir, 0o755, nil); err != nil {
			return nil, err
		}
		if err := put(r.folder+"/desc", tar.TypeReg, 0o644, r.desc); err != nil {
			return nil, err
		}
		if files {
			if err := put(r.folder+"/files", tar.TypeReg, 0o644,
				[]byte("%FILES%\n"+strings.Join(r.files, "\n")+"\n")); err != nil {
				return nil, err
			}
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return archive.Compress(b.Bytes(), "gz")
}

// order is that in which fields are written.
var order = strings.Fields(
	"FILENAME NAME BASE VERSION DESC GROUPS CSIZE ISIZE SHA256SUM PGPSIG URL LICENSE ARCH BUILDDATE " +
		"PACKAGER REPLACES CONFLICTS PROVIDES DEPENDS OPTDEPENDS MAKEDEPENDS CHECKDEPENDS")

// rewrite writes a description anew from what is read of it, with the signature
// that machines are to find, so that nothing travels on that another reader could
// understand in another way.
func rewrite(p *archive.Package, raw, signature []byte) ([]byte, error) {
	all := map[string][]string{}
	if err := eachField(raw, func(name string, values []string) error {
		all[name] = values
		return nil
	}); err != nil {
		return nil, err
	}
	all["FILENAME"], all["NAME"], all["VERSION"], all["ARCH"] = []string{path.Base(p.Path)}, []string{p.Name},
		[]string{p.Version}, []string{p.Arch}
	all["CSIZE"], all["SHA256SUM"] = []string{strconv.FormatInt(p.Size, 10)}, []string{p.SHA256}
	all["PGPSIG"] = []string{base64.StdEncoding.EncodeToString(signature)}
	var b bytes.Buffer
	for _, name := range order {
		if len(all[name]) == 0 {
			continue
		}
		fmt.Fprintf(&b, "%%%s%%\n", name)
		for _, v := range all[name] {
			b.WriteString(finding.Harmless(v) + "\n")
		}
		b.WriteByte('\n')
	}
	return b.Bytes(), nil
}

// Write implements archive.Family: a database and one with lists of files for
// each component and architecture, both signed by the site. Signatures of
// upstream's on packages stay; a package that has none is signed by the site,
// for the client wants one on each.
func (f Family) Write(w archive.Writing) error {
	s := w.Source
	seen := map[string]bool{}
	for _, c := range s.Components {
		for _, a := range s.Architectures {
			name := database(s, c, a)
			if seen[name] {
				continue
			}
			seen[name] = true
			var records []record
			if err := w.Each(func(x archive.IndexChoice) bool {
				return x.Component == c && (x.Arch == a || x.Arch == "")
			},
				func(p *archive.Package) bool { return rank(p.Arch, a) >= 0 },
				func(p *archive.Package, raw []byte) error {
					r, err := f.record(w, p, raw, folder(s, c, a))
					records = append(records, r)
					return err
				}); err != nil {
				return err
			}
			for _, files := range []bool{false, true} {
				data, err := writeDatabase(records, w.Time, files)
				if err != nil {
					return err
				}
				at := name
				if files {
					at = strings.TrimSuffix(name, ".db") + ".files"
				}
				signature, err := w.Sign.DetachSign(data, false)
				if err != nil {
					return err
				}
				if err := w.Put(at, data); err != nil {
					return err
				}
				if err := w.Put(at+sigSuffix, signature); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (f Family) record(w archive.Writing, p *archive.Package, raw []byte, dir string) (record, error) {
	r := record{folder: p.Name + "-" + p.Version}
	file, err := w.Package(p)
	if err != nil {
		return r, err
	}
	defer file.Close()
	if r.files, err = fileNames(file); err != nil {
		return r, err
	}
	signature := p.Signature
	if len(signature) == 0 {
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return r, err
		}
		if signature, err = w.Sign.SignStream(file); err != nil {
			return r, err
		}
		if err := w.Put(path.Join(dir, path.Base(p.Path))+sigSuffix, signature); err != nil {
			return r, err
		}
	}
	r.desc, err = rewrite(p, raw, signature)
	return r, err
}
