package made

import (
	"cmp"
	"encoding/base64"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
)

// AlpmRepository is a made-up upstream; the demonstration and the tests publish with it.
type AlpmRepository struct {
	Components []string
	Arch       string
	Date       time.Time // of the folders in the database; its signature's time is the key's
	Packages   []Alpm
	Embed      bool   // signatures of packages stand in the database too
	Unsigned   bool   // packages have no signatures
	Packing    string // of databases: gz if empty
	// Signed keeps the signatures that were made before, as owners do not sign twice; nil: none.
	Signed map[string][]byte
	// Amend, if not nil, may change a description before it is packed and signed.
	Amend func(m Alpm, desc []byte) []byte
}

// alpmRecord is one package of a database.
type alpmRecord struct {
	folder string
	desc   []byte
	files  []string
}

// Publish builds the packages, writes and signs the databases, and gives all
// files by their path relative to the base.
func (r AlpmRepository) Publish(sign archive.SigningKey) (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, c := range r.Components {
		dir := c + "/os/" + r.Arch + "/"
		var records []alpmRecord
		for _, m := range r.Packages {
			if m.Component != c {
				continue
			}
			m.Time = max(m.Time, 1_700_000_000)
			one, err := r.add(out, dir, m, sign)
			if err != nil {
				return nil, err
			}
			records = append(records, one)
		}
		for suffix, files := range map[string]bool{".db": false, ".files": true} {
			data, err := alpmDatabase(records, r.Date, files, cmp.Or(r.Packing, "gz"))
			if err != nil {
				return nil, err
			}
			signature, err := sign.DetachSign(data, false)
			if err != nil {
				return nil, err
			}
			out[dir+c+suffix], out[dir+c+suffix+".sig"] = data, signature
		}
	}
	return out, nil
}

// add builds a package, lays it and its signature into the folder, and describes it.
func (r AlpmRepository) add(out map[string][]byte, dir string, m Alpm,
	sign archive.SigningKey) (alpmRecord, error) {
	file, err := m.Build()
	if err != nil {
		return alpmRecord{}, err
	}
	info, err := alpm.ParseInfo([]byte(m.Info()))
	if err != nil {
		return alpmRecord{}, err
	}
	digest := sha256Hex(file)
	desc := alpm.Describe(info, m.FileName(), int64(len(file)), digest)
	out[dir+m.FileName()] = file
	if !r.Unsigned {
		signature := r.Signed[digest]
		if signature == nil {
			if signature, err = sign.DetachSign(file, false); err != nil {
				return alpmRecord{}, err
			}
			if r.Signed != nil {
				r.Signed[digest] = signature
			}
		}
		out[dir+m.FileName()+".sig"] = signature
		if r.Embed {
			desc = append(desc, "%PGPSIG%\n"+base64.StdEncoding.EncodeToString(signature)+"\n\n"...)
		}
	}
	if r.Amend != nil {
		desc = r.Amend(m, desc)
	}
	var files []string
	seen := map[string]bool{}
	for _, f := range m.Files {
		for _, dir := range folders(f.Path, seen) {
			files = append(files, dir+"/")
		}
		files = append(files, strings.Trim(f.Path, "/"))
	}
	return alpmRecord{m.Name + "-" + m.Version, desc, files}, nil
}

// alpmDatabase packs records as a database; with files as one that lists them.
func alpmDatabase(records []alpmRecord, at time.Time, files bool, packing string) ([]byte, error) {
	w := newTar(at.Truncate(time.Second))
	for _, r := range records {
		w.folder(r.folder + "/")
		w.file(r.folder+"/desc", 0o644, r.desc)
		if files {
			w.file(r.folder+"/files", 0o644, []byte("%FILES%\n"+strings.Join(r.files, "\n")+"\n"))
		}
	}
	return w.packed(packing)
}

// AlpmDatabase packs n made-up descriptions as a database, for benchmarks.
// one gives the folder and the description of each.
func AlpmDatabase(n int, one func(i int) (folder string, desc []byte)) ([]byte, error) {
	records := make([]alpmRecord, n)
	for i := range n {
		folder, desc := one(i)
		records[i] = alpmRecord{folder: folder, desc: desc}
	}
	return alpmDatabase(records, time.Unix(1_790_000_000, 0), false, "gz")
}
