package edition

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"iter"
	"os"
	"path/filepath"
	"sync"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
)

// Sealed is an edition whose seal was checked. The list of a source's files is read
// when one of them is asked for, compared with its digest, and held from then on. It is
// safe for concurrent use.
type Sealed struct {
	*Edition
	Manifest Manifest
	SealedBy archive.Signer // whose signature the seal was found to hold by
	store    pool.Store
	mu       sync.Mutex
	lists    map[string]Lines // by source
}

// Open reads an edition's own files from its folder, and checks its seal with the site
// keys that may have made it. Its other files are looked for in store.
func Open(dir string, keys []*trust.Certificate, store pool.Store) (*Sealed, error) {
	text, err := ownFile(dir, ManifestName, finding.EditionDamaged, "the manifest")
	if err != nil {
		return nil, err
	}
	signature, err := ownFile(dir, SealName, finding.EditionSealBad, "the seal")
	if err != nil {
		return nil, err
	}
	by, err := sealKeyring(keys).Detached(text, signature)
	if err != nil {
		f, _ := finding.From(err)
		return nil, finding.New(finding.EditionSealBad, "", "the seal is not valid: %s", f.Text)
	}
	m, err := ReadManifest(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	raw, err := ownFile(dir, recordName, finding.EditionDamaged, recordName)
	if err != nil {
		return nil, err
	}
	l, ok := m.Lines.Find(recordFile)
	if sum := sha256.Sum256(raw); !ok || hex.EncodeToString(sum[:]) != l.SHA256 {
		return nil, finding.New(finding.EditionDamaged, "", "edition.json was changed after "+
			"the edition was sealed")
	}
	e, err := ReadRecord(raw)
	if err != nil {
		return nil, err
	}
	return &Sealed{Edition: e, Manifest: m, SealedBy: by, store: store, lists: map[string]Lines{}}, nil
}

// ownFile reads one of the files in an edition's own folder. One that cannot be read
// is told by code, a fault of this machine as that.
func ownFile(dir, name string, code finding.Code, what string) ([]byte, error) {
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err == nil {
		return data, nil
	}
	if f, ok := finding.Fault(err, "read "+what); ok {
		return nil, f
	}
	return nil, finding.New(code, "", "%s cannot be read: %v", what, err)
}

// ReadRecord reads an edition.json. Nothing is verified: it says what it says.
func ReadRecord(raw []byte) (*Edition, error) {
	var e Edition
	if err := json.Unmarshal(raw, &e); err != nil || e.Mirror == "" {
		return nil, finding.New(finding.EditionDamaged, "", "edition.json is not the record of "+
			"an edition: %v", err)
	}
	if e.Format < OneList || e.Format > newest {
		return nil, finding.New(finding.EditionDamaged, "edition "+e.Name(),
			"the edition has the format %d; this version of Stockade reads the formats %d to %d", e.Format,
			OneList, newest).
			Do("open it with the version of Stockade that made it, or with a newer one")
	}
	return &e, nil
}

func sealKeyring(keys []*trust.Certificate) *trust.Keyring {
	var known []trust.Known
	for _, k := range keys {
		known = append(known, trust.Known{Certificate: k, VouchedFor: []string{"seal"}})
	}
	return trust.NewKeyring("seal", known, nil)
}

// list gives the files of a source.
func (s *Sealed) list(p Part) (Lines, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l, ok := s.lists[p.Source]; ok {
		return l, nil
	}
	line, ok := s.Manifest.Lines.Find(p.path())
	if !ok {
		return nil, finding.New(finding.EditionDamaged, "edition "+s.Name(),
			"the manifest does not list %s",
			p.path())
	}
	f, err := s.store.Open(line.SHA256)
	if err != nil {
		return nil, s.of(pool.Gone(err, p.path()))
	}
	defer f.Close()
	l, err := checkedList(f, line, p)
	if err == nil {
		s.lists[p.Source] = l
	}
	return l, s.of(err)
}

// lineBytes is about what a line takes: its texts, and what leads to them.
const lineBytes = 180

// Held is about how much memory the edition takes (bytes), with the lists that were read of it so far.
func (s *Sealed) Held() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := len(s.Manifest.Lines)
	for _, l := range s.lists {
		n += len(l)
	}
	return int64(n)*lineBytes + 64<<10
}

// of names the edition in a finding that has no object yet.
func (s *Sealed) of(err error) error {
	if f, ok := finding.From(err); ok && f.Object == "" && f.Code != finding.FaultCode {
		f.Object = "edition " + s.Name()
		return f
	}
	return err
}

// checkedList reads the list of a source and compares it with its digest.
func checkedList(r io.Reader, line Line, p Part) (Lines, error) {
	h := sha256.New()
	l, err := readList(io.TeeReader(r, h), p)
	if _, rest := io.Copy(h, r); rest != nil {
		return nil, finding.Doing(rest, "read %s", line.Path)
	}
	if hex.EncodeToString(h.Sum(nil)) != line.SHA256 {
		return nil, finding.New(finding.EditionDamaged, "", "%s was changed after the edition "+
			"was sealed", line.Path)
	}
	return l, err
}

// Find gives the line of a file. ok is false where the edition has none of that path;
// an error tells that the list in which it would stand cannot be read.
func (s *Sealed) Find(path string) (line Line, ok bool, err error) {
	if l, ok := s.Manifest.Lines.Find(path); ok {
		return l, true, nil
	}
	p, ok := s.Manifest.part(path)
	if !ok {
		return Line{}, false, nil
	}
	l, err := s.list(p)
	if err != nil {
		return Line{}, false, err
	}
	line, ok = l.Find(path)
	return line, ok, nil
}

// Files gives every file: those beside the sources, then source by source. An error
// tells that a list cannot be read; nothing follows it.
func (s *Sealed) Files() iter.Seq2[Line, error] {
	return func(yield func(Line, error) bool) {
		for _, l := range s.Manifest.Lines {
			if !yield(l, nil) {
				return
			}
		}
		for _, p := range s.Manifest.Parts {
			lines, err := s.list(p)
			if err != nil {
				yield(Line{}, err)
				return
			}
			for _, l := range lines {
				if !yield(l, nil) {
					return
				}
			}
		}
	}
}

// Missing gives the path of a file that is not in the pool, or has another size there;
// "" where all are there. The bytes are not looked at.
func (s *Sealed) Missing() (string, error) { return s.MissingBut(func(string) bool { return false }) }

// MissingBut is Missing but for files of which is known that they are there, by SHA-256.
func (s *Sealed) MissingBut(known func(sha256 string) bool) (string, error) {
	for l, err := range s.Files() {
		if err != nil {
			return "", err
		}
		if known(l.SHA256) {
			continue
		}
		if size, ok := s.store.Has(l.SHA256); !ok || size != l.Size {
			return l.Path, nil
		}
	}
	return "", nil
}

// ErrNoLine is returned for an offset at which no line of a list begins.
var ErrNoLine = errors.New("no entry of the package list begins there")
