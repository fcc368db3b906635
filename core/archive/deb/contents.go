package deb

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// maxContentsLine bounds a line of a list of files: some files are in thousands of packages.
const maxContentsLine = 4 << 20

// NeedsFiles implements archive.Filed: needs of this family never name files.
func (Family) NeedsFiles() bool { return false }

// NamesFile implements archive.Filed: people ask for files by an absolute path.
func (Family) NamesFile(r archive.Relation) bool { return strings.HasPrefix(r.Name, "/") }

// FileKey implements archive.Filed: the name. The lists know no versions.
func (Family) FileKey(p *archive.Package) string { return p.Name }

// FileLists implements archive.Filed: the Contents indexes that the root names, of each component
// (or, in older repositories, of all of them) and architecture.
func (Family) FileLists(s archive.Source, r *archive.Root) (out []archive.IndexFile) {
	if flat(s) {
		return nil
	}
	for _, component := range append([]string{""}, s.Components...) {
		for _, arch := range append(slices.Clone(s.Architectures), "all") {
			if forms := compressed(r, base(s)+path.Join(component, "Contents-"+arch)); len(forms) > 0 {
				out = append(out, forms[0])
			}
		}
	}
	return out
}

// ReadFiles implements archive.Filed: each line has the path of a file without its leading slash,
// and behind the last blanks the packages that have it, each perhaps with its section before it.
// What stands above a line that begins with FILE is for people.
func (Family) ReadFiles(plain io.Reader, yield func(key, file string) error) error {
	lines := bufio.NewReaderSize(plain, 1<<16)
	for {
		line, err := readLine(lines)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		at := bytes.LastIndexAny(line, " \t")
		if at < 0 {
			continue
		}
		file := "/" + strings.TrimRight(string(line[:at]), " \t")
		for name := range strings.SplitSeq(string(line[at+1:]), ",") {
			if err := yield(name[strings.LastIndexByte(name, '/')+1:], file); err != nil {
				return err
			}
		}
	}
}

func readLine(r *bufio.Reader) ([]byte, error) {
	var whole []byte
	for {
		piece, err := r.ReadSlice('\n')
		if err == nil && whole == nil {
			return bytes.TrimRight(piece, "\r\n"), nil
		}
		whole = append(whole, piece...)
		switch {
		case err == nil, errors.Is(err, io.EOF) && len(whole) > 0:
			return bytes.TrimRight(whole, "\r\n"), nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return nil, err
		case len(whole) > maxContentsLine:
			return nil, finding.New(finding.ContentTooLarge, "",
				"a line of the list of files is longer than %d bytes",
				maxContentsLine)
		}
	}
}
