package edition

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"strings"

	"stockade/core/finding"
	"stockade/core/pool"
)

// maxFaults bounds the files that could not be read before a check ends.
const maxFaults = 20

// Verify reads every file of the edition and compares size and digest. progress
// may be nil. The findings name what is damaged: read whole, and something else
// than was sealed, or not there. Such a file is set aside: the next build fetches
// it anew, and meanwhile it is not served. A file that this machine could not
// read is told as that (site.fault) and stays where it is. Where the list of a
// source's files cannot be read, that is told, and its files are not looked at.
func (s *Sealed) Verify(stop <-chan struct{}, progress func(files int, bytes int64)) finding.List {
	v := &verifier{s: s, stop: stop, progress: progress, checked: map[string]bool{}}
	if !v.all(s.Manifest.Lines) {
		return v.found
	}
	for _, p := range s.Manifest.Parts {
		lines, err := s.list(p)
		if err != nil {
			v.unread(p, err)
			continue
		}
		if !v.all(lines) {
			break
		}
	}
	return v.found
}

// verifier is one check of an edition.
type verifier struct {
	s        *Sealed
	stop     <-chan struct{}
	progress func(files int, bytes int64)
	checked  map[string]bool // by digest
	found    finding.List
	files    int
	bytes    int64
	faults   int
}

// all checks files; false means that the check is over.
func (v *verifier) all(lines Lines) bool {
	for _, l := range lines {
		select {
		case <-v.stop:
			v.tell(finding.New(finding.EditionDamaged, "", "the check was stopped after %d of %d files",
				v.files, v.s.Manifest.Files()))
			return false
		default:
		}
		if !v.one(l) {
			return false
		}
		v.files++
		v.bytes += l.Size
		if v.progress != nil {
			v.progress(v.files, v.bytes)
		}
	}
	return true
}

// one checks a file whose digest was not checked before.
func (v *verifier) one(l Line) bool {
	if v.checked[l.SHA256] {
		return true
	}
	v.checked[l.SHA256] = true
	f, ok := verifyFile(v.s.store, l)
	if ok {
		return true
	}
	v.tell(f)
	if f.Code != finding.FaultCode {
		return true
	}
	if v.faults++; v.faults < maxFaults {
		return true
	}
	v.tell(finding.New(finding.FaultCode, "",
		"the check was stopped after %d of %d files: this machine could not read %d of them", v.files+1,
		v.s.Manifest.Files(), v.faults))
	return false
}

// unread tells that the files of a source were not looked at.
func (v *verifier) unread(p Part, err error) {
	f, ok := finding.From(err)
	if !ok {
		f = finding.Unread(err, p.path())
	}
	f.Text = strings.TrimSuffix(f.Text, ".") + "; the files of " + p.Source +
		" that it lists were not checked"
	v.tell(f)
}

func (v *verifier) tell(f finding.Finding) {
	f.Object = "edition " + v.s.Name()
	v.found = append(v.found, f)
}

// verifyFile looks at one file. What is not what its name says is set aside.
func verifyFile(store pool.Store, l Line) (finding.Finding, bool) {
	damaged := func(format string, args ...any) (finding.Finding, bool) {
		return finding.New(finding.EditionDamaged, "", l.Path+": "+format, args...), false
	}
	f, err := store.Open(l.SHA256)
	if fault, ok := finding.Fault(err, "open "+l.Path); ok {
		return fault, false
	}
	if err != nil {
		return damaged("the file is missing from the pool")
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	if err != nil {
		return finding.Unread(err, l.Path), false
	}
	sum := hex.EncodeToString(h.Sum(nil))
	if n == l.Size && sum == l.SHA256 {
		return finding.Finding{}, true
	}
	if err := store.SetAside(l.SHA256); err != nil {
		return damaged("the file was changed, and cannot be moved aside: %v", err)
	}
	if n != l.Size {
		return damaged("the file has %d bytes, but the manifest says %d. Stockade moved it "+
			"aside", n, l.Size)
	}
	return damaged("the file was changed: its SHA-256 is %s. Stockade moved it aside", sum)
}
