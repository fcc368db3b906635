package deb

import (
	"archive/tar"
	"bytes"
	"fmt"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/finding"
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

func TestStanzasThatCouldBeReadInTwoWaysAreRefused(t *testing.T) {
	change := func(old, new string) string {
		if !strings.Contains(plainStanza, old) {
			t.Fatalf("nothing to change: %q", old)
		}
		return strings.Replace(plainStanza, old, new, 1)
	}
	if _, _, err := readStanzas(plainStanza + "\n" + strings.ReplaceAll(plainStanza,
		"sluicectl", "other")); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ text, code, says string }{
		"a blank before a colon": {change("Depends:", "Depends :"), "content.ambiguous",
			"before its colon"},
		"a tab before a colon": {change("Depends:", "Depends\t:"), "content.ambiguous",
			"before its colon"},
		"a line of one blank": {change("Depends:", " \nDepends:"), "content.ambiguous",
			"nothing but blanks"},
		"a line of a tab": {change("Depends:", "\t\nDepends:"), "content.ambiguous",
			"nothing but blanks"},
		"a line of a carriage return": {change("Depends:", "\r\nDepends:"), "content.ambiguous",
			"nothing but blanks"},
		"a blank line between stanzas": {plainStanza + " \n" + plainStanza, "content.ambiguous",
			"nothing but blanks"},
		"a field twice": {plainStanza + "Depends: other\n", "content.ambiguous",
			"stands twice"},
		"an unread field twice": {plainStanza + "X-A: 1\nx-a: 2\n", "content.ambiguous",
			"stands twice"},
		"a comment":                        {"# " + plainStanza, "content.ambiguous", "comment"},
		"a field that begins as a comment": {change("Depends:", "#Depends:"), "content.ambiguous", "comment"},
		"a field that begins with a dash": {change("Depends:", "-Depends:"), "content.ambiguous",
			"begins with"},
		"a name over two lines": {change("Package: sluicectl", "Package: sluicectl\n other"),
			"content.ambiguous", "goes on over its line"},
		"a version over two lines": {change("Version: 1.4-1", "Version:\n 1.4-1\n 2"),
			"content.ambiguous", "goes on over its line"},
		"a digest over two lines": {change("SHA256: ", "SHA256: b\n "), "content.ambiguous",
			"goes on over its line"},
		"a zero byte": {change("gate control", "gate\x00control"), "content.ambiguous",
			"zero byte"},
		"a field that is no field": {change("Depends:", "Depends\n:"), "source.malformed-index",
			"no field"},
		"a size with a sign": {change("Size: 5", "Size: +5"), "source.malformed-index", "+5"},
		"an essential that is no answer": {plainStanza + "Essential: true\n", "content.ambiguous",
			"neither yes nor no"},
		"a multi-arch that nobody knows": {plainStanza + "Multi-Arch: Foreign\n", "content.ambiguous",
			"Multi-Arch"},
		"an empty relation": {change("libtide2 (>= 2),", "libtide2 (>= 2),,"),
			"content.ambiguous", "between two commas"},
		"a provide with alternatives": {change("gate (= 2)", "gate | lock"), "content.ambiguous",
			"alternatives"},
		"a provide with a bound": {change("gate (= 2)", "gate (>= 2)"), "content.ambiguous",
			"bound"},
		"a provide with a qualifier": {change("gate (= 2)", "gate:any"), "content.ambiguous",
			"qualified"},
		"a conflict with alternatives": {plainStanza + "Conflicts: a | b\n", "content.ambiguous",
			"alternatives"},
		"a name in capital letters": {change("Package: sluicectl", "Package: SluiceCtl"),
			"content.ambiguous", "capital letters"},
		"a name that is an option": {change("Package: sluicectl", "Package: -sluicectl"),
			"content.bad-name", "-sluicectl"},
		"a name with a quote": {change("Package: sluicectl", "Package: sluice'ctl"),
			"content.bad-name", "character"},
		"a name with a shell's sign": {change("Package: sluicectl", "Package: sluice$(id)"),
			"content.bad-name", "character"},
		"a name turned around": {change("Package: sluicectl", "Package: sluice\u202ectl"),
			"content.bad-name", "character"},
		"a need of such a name": {change("libtide2", "lib;tide2"),
			"content.bad-name", "lib;tide2"},
		"a path with a fragment": {change("pool/sluicectl.deb", "pool/#sluicectl.deb"),
			"content.unsafe-path", "#"},
	} {
		_, _, err := readStanzas(c.text)
		f, _ := finding.From(err)
		if f.Code != c.code || !strings.Contains(f.Text, c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestAStanzaIsWrittenAnewFromWhatWasRead(t *testing.T) {
	text := "package:   sluicectl\nVERSION: 1.4-1\narchitecture: amd64\nDepends: libtide2(>=2) ,\n " +
		"tide-data|tide-tables\nfilename: ./pool/sluicectl.deb\nSize: 5\nMD5sum: x\nSHA256: " +
		strings.Repeat("A", 64) + "\nx-unknown-field:  kept   as it is \t\n and\tgoes on\n \n" +
		"\nPackage: x\nVersion: 1\nArchitecture: amd64\nFilename: x.deb\nSize: 1\nSHA256: " + strings.Repeat(
		"a", 64) + "\n"
	text = strings.Replace(text, " \n\nPackage", " .\n \x1b[2Jend\n\nPackage", 1)
	all, raws, err := readStanzas(text)
	if err != nil {
		t.Fatal(err)
	}
	var w writer
	if err := w.stanza(all[0], raws[0]); err != nil {
		t.Fatal(err)
	}
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
		h := &tar.Header{
			Name:     f[0],
			Typeflag: tar.TypeReg,
			Mode:     0o644,
			Size:     int64(len(f[1])),
			Format:   tar.FormatGNU,
		}
		if strings.HasPrefix(f[0], "pax:") {
			h.Name, h.Format, h.PAXRecords = f[0][4:], tar.FormatPAX, map[string]string{"comment": "x"}
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		w.Write([]byte(f[1]))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
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

func TestPackageFilesThatCouldBeReadInTwoWaysAreRefused(t *testing.T) {
	const stanza = "Package: a\nVersion: 1\nArchitecture: all\n"
	usual := []string{"debian-binary", "control.tar", "data.tar"}
	one := [2]string{"./control", stanza}
	for name, c := range map[string]struct {
		file []byte
		code string
	}{
		"good": {control(t, usual, one), ""},
		"another member in between": {control(t, []string{"debian-binary", "_note", "control.tar",
			"_more", "data.tar"}, one), ""},
		"two files called control": {control(t, usual, one, [2]string{"./control",
			"Package: b\nVersion: 1\nArchitecture: all\n"}), "content.ambiguous"},
		"control in two spellings": {control(t, usual, one, [2]string{"control", stanza}),
			"content.ambiguous"},
		"control by way of a folder": {control(t, usual, one, [2]string{"./x/../control", stanza}),
			"content.ambiguous"},
		"extended headers": {control(t, usual, [2]string{"pax:./control", stanza}),
			"content.ambiguous"},
		"two control members": {control(t, []string{"debian-binary", "control.tar", "control.tar",
			"data.tar"}, one), "content.ambiguous"},
		"a member behind the data": {control(t, append(usual[:3:3], "control.tar"), one),
			"content.ambiguous"},
		"control behind the data": {control(t, []string{"debian-binary", "data.tar", "control.tar"},
			one), "content.ambiguous"},
		"a second stanza": {control(t, usual, [2]string{"./control", stanza + "\n" + stanza}),
			"content.ambiguous"},
		"a line of one blank": {control(t, usual, [2]string{"./control", stanza +
			" \nDepends: x\n"}), "content.ambiguous"},
		"a field twice": {control(t, usual, [2]string{"./control", stanza + "Version: 2\n"}),
			"content.ambiguous"},
		"something behind the tar's end": {control(t, []string{"debian-binary", "control.tar+more",
			"data.tar"}, one), "content.ambiguous"},
		"no data": {control(t, usual[:2], one), "content.malformed-package"},
		"no control": {control(t, usual, [2]string{"./md5sums", ""}),
			"content.malformed-package"},
	} {
		_, err := ReadIdentity(bytes.NewReader(c.file))
		if f, _ := finding.From(err); f.Code != c.code || err != nil && c.code == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
}
