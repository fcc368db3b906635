package deb

import (
	"archive/tar"
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

const plainStanza = "Package: sluicectl\nVersion: 1.4-1\nArchitecture: amd64\nDepends: libtide2 (>= 2), " +
	"tide-data | tide-tables\nProvides: gate (= 2)\nFilename: pool/sluicectl.deb\nSize: 5\nSHA256: " +
	"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n" +
	"Description: gate control\n more of it\n"

func readStanzas(text string) ([]*archive.Package, [][]byte, error) {
	var out []*archive.Package
	var raws [][]byte
	err := Family{}.ReadIndex(archive.Source{Name: "tarn", Architectures: []string{"amd64"}},
		archive.IndexChoice{}, strings.NewReader(text), func(p *archive.Package, raw []byte) error {
			out, raws = append(out, p), append(raws, bytes.Clone(raw))
			_, err := p.Needs.Relations()
			return err
		})
	return out, raws, err
}

func TestAStanzaIsWrittenAnewFromWhatWasRead(t *testing.T) {
	text := "package:   sluicectl\nVERSION: 1.4-1\narchitecture: amd64\nDepends: libtide2(>=2) ,\n " +
		"tide-data|tide-tables\nfilename: ./pool/sluicectl.deb\nSize: 5\nMD5sum: x\nSHA256: " +
		strings.Repeat("A", 64) + "\nx-unknown-field:  kept   as it is \t\n and\tgoes on\n \n" +
		"\nPackage: x\nVersion: 1\nArchitecture: amd64\nFilename: x.deb\nSize: 1\nSHA256: " + strings.Repeat(
		"a", 64) + "\n"
	text = strings.Replace(text, " \n\nPackage", " .\n \x1b[2Jend\n\nPackage", 1)
	all, raws, err := readStanzas(text)
	must.Do(t, err)
	var w writer
	must.Do(t, w.stanza(all[0], raws[0]))
	want := "Package: sluicectl\nVersion: 1.4-1\nArchitecture: amd64\nDepends: libtide2 (>= 2), tide-data " +
		"| tide-tables\nFilename: pool/sluicectl.deb\nSize: 5\nSHA256: " +
		strings.Repeat("a", 64) + "\nX-Unknown-Field: kept   as it is\n and goes on\n .\n \\u{1b}[2Jend\n\n"
	if w.String() != want {
		t.Errorf("%s", w.String())
	}
}

// control makes a package file out of members and the files of its control.tar.
func control(t *testing.T, members []string, files ...[2]string) []byte {
	t.Helper()
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	for _, f := range files {
		h := &tar.Header{Name: f[0], Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(f[1])),
			Format: tar.FormatGNU}
		if strings.HasPrefix(f[0], "pax:") {
			h.Name, h.Format, h.PAXRecords = f[0][4:], tar.FormatPAX, map[string]string{"comment": "x"}
		}
		must.Do(t, w.WriteHeader(h))
		w.Write([]byte(f[1]))
	}
	must.Do(t, w.Close())
	out := bytes.NewBufferString("!<arch>\n")
	for _, m := range members {
		data := map[string][]byte{"debian-binary": []byte("2.0\n"), "control.tar": plain.Bytes()}[m]
		if tail, ok := strings.CutPrefix(m, "control.tar+"); ok {
			m, data = "control.tar", append(plain.Bytes(), tail...)
		}
		fmt.Fprintf(out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", m, 0, 0, 0, "100644", len(data))
		out.Write(data)
		if len(data)%2 == 1 {
			out.WriteByte('\n')
		}
	}
	return out.Bytes()
}

// What a package provides for its own architecture in so many words counts; for another one, apt has
// it for that, and here it counts for nothing. A whole list is not refused for it.
func TestWhatIsProvidedForAnArchitecture(t *testing.T) {
	got, err := ParseProvides("gate:amd64 (= 2), lock:i386, bar:any, plain", "amd64")
	want := []archive.Provide{{Name: "gate", Op: archive.Equal, Version: "2"}, {Name: "plain"}}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("got %v %v, want %v", got, err, want)
	}
	_, err = ParseProvides("l:ock", "amd64")
	told.Refused(t, "a name with a colon in it", err, "content.ambiguous",
		"a Provides entry has an invalid architecture")
}
