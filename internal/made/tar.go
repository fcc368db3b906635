package made

import (
	"archive/tar"
	"bytes"
	"strings"
	"time"

	"stockade/core/archive"
)

// tarWriter writes an archive in memory. The first error stands until the end.
type tarWriter struct {
	out bytes.Buffer
	tar *tar.Writer
	at  time.Time // of everything in it; zero: none is written
	err error
}

func newTar(at time.Time) *tarWriter {
	w := &tarWriter{at: at}
	w.tar = tar.NewWriter(&w.out)
	return w
}

func (w *tarWriter) put(h tar.Header, data []byte) {
	if w.err != nil {
		return
	}
	h.Format = tar.FormatGNU
	if !w.at.IsZero() {
		h.ModTime, h.Uname, h.Gname, h.Format = w.at, "root", "root", tar.FormatPAX
	}
	if w.err = w.tar.WriteHeader(&h); w.err == nil {
		_, w.err = w.tar.Write(data)
	}
}

func (w *tarWriter) folder(name string) {
	w.put(tar.Header{Name: name, Typeflag: tar.TypeDir, Mode: 0o755}, nil)
}

func (w *tarWriter) file(name string, mode int64, data []byte) {
	w.put(tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: mode, Size: int64(len(data))}, data)
}

// packed ends the archive and compresses it.
func (w *tarWriter) packed(packing string) ([]byte, error) {
	if w.err == nil {
		w.err = w.tar.Close()
	}
	if w.err != nil {
		return nil, w.err
	}
	return archive.Compress(w.out.Bytes(), packing)
}

// folders gives the folders above a file that were not met before, outermost first.
func folders(file string, met map[string]bool) (out []string) {
	parts := strings.Split(strings.Trim(file, "/"), "/")
	for i := 1; i < len(parts); i++ {
		if dir := strings.Join(parts[:i], "/"); !met[dir] {
			met[dir] = true
			out = append(out, dir)
		}
	}
	return out
}
