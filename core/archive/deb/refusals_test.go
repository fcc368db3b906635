package deb

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

func TestEachRefusalOfAStanza(t *testing.T) {
	without := func(field string) string {
		var out strings.Builder
		for line := range strings.Lines(plainStanza) {
			if !strings.HasPrefix(line, field+":") {
				out.WriteString(line)
			}
		}
		return out.String()
	}
	change := func(old, new string) string { return told.Change(t, plainStanza, old, new) }
	with := func(field, value string) string { return without(field) + field + ": " + value + "\n" }
	many := func(n int) string {
		out := plainStanza
		for i := range n {
			out += fmt.Sprintf("X-%d: 1\n", i)
		}
		return out
	}
	const bad, ambiguous = "source.malformed-index", "content.ambiguous"
	sha512 := strings.Repeat("b", 128)
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", plainStanza, "", ""},
		{"no name", without("Package"), bad, "Package, Version or Architecture is missing"},
		{"no version", without("Version"), bad, "Package, Version or Architecture is missing"},
		{"no architecture", without("Architecture"), bad, "Package, Version or Architecture is missing"},
		{"an architecture that is none", with("Architecture", "amd 64"), bad,
			"\"amd 64\" is not an architecture"},
		{"no path", without("Filename"), bad, "sluicectl has no Filename"},
		{"a path of something else", with("Filename", "pool/sluicectl.rpm"), bad,
			"which is not the path of a package"},
		{"a path of an installer's package", with("Filename", "pool/sluicectl.udeb"), "", ""},
		{"an absolute path", with("Filename", "/pool/sluicectl.deb"), "content.unsafe-path", "is absolute"},
		{"no size", without("Size"), bad, "sluicectl has no Size"},
		{"no digest", without("SHA256"), "content.weak-digest", "no SHA-256 or SHA-512"},
		{"SHA-512 alone", without("SHA256") + "SHA512: " + sha512 + "\n", "", ""},
		{"a short digest", with("SHA256", strings.Repeat("a", 63)), bad,
			"sluicectl has an invalid checksum"},
		{"a digest that is no number", with("SHA256", strings.Repeat("g", 64)), bad,
			"has an invalid checksum"},
		{"a short SHA-512", plainStanza + "SHA512: " + sha512[1:] + "\n", bad, "has an invalid checksum"},
		{"a version that is none", with("Version", "1.4_1"), bad, `sluicectl: version "1.4_1"`},
		{"as many fields as may be", many(maxFields - 9), "", ""},
		{"more fields", many(maxFields - 8), "content.too-large", "more than 256 fields"},
		{"a field of a long name", plainStanza + strings.Repeat("X", maxField) + ": 1\n", "", ""},
		{"a field of a longer name", plainStanza + strings.Repeat("X", maxField+1) + ": 1\n",
			"content.ambiguous", "longer than 64 bytes"},
		{"a need of nothing", with("Depends", "(>= 2)"), bad, "has no valid package name"},
		{"a need of two names", with("Depends", "libtide2 libtide3"), bad, "has no valid package name"},
		{"a need for no architecture", with("Depends", "libtide2:a-m-d!"), bad,
			"has an invalid architecture qualifier"},
		{"a need compared in another way", with("Depends", "libtide2 (~ 2)"), bad, "Depends"},
		{"a need of a version that is none", with("Depends", "libtide2 (>= a_b)"), bad,
			"has an invalid version"},
		{"a recommendation that is none", plainStanza + "Recommends: (x)\n", bad, "Recommends: "},
		{"a blank before a colon", change("Depends:", "Depends :"), ambiguous, "before its colon"},
		{"a tab before a colon", change("Depends:", "Depends\t:"), ambiguous, "before its colon"},
		{"a line of one blank", change("Depends:", " \nDepends:"), ambiguous, "a line of white space is in"},
		{"a line of a tab", change("Depends:", "\t\nDepends:"), ambiguous, "a line of white space is in"},
		{"a line of a carriage return", change("Depends:", "\r\nDepends:"), ambiguous,
			"a line of white space is in"},
		{"a blank line between stanzas", plainStanza + " \n" + plainStanza, ambiguous,
			"a line of white space is in"},
		{"a field twice", plainStanza + "Depends: x\n", ambiguous, "occurs twice in one stanza"},
		{"an unread twice", plainStanza + "Xa: 1\nxA: 2\n", ambiguous, "occurs twice in one stanza"},
		{"a comment", "# " + plainStanza, ambiguous, "comment"},
		{"a field that begins as a comment", change("Depends:", "#Depends:"), ambiguous, "comment"},
		{"a field that begins with a dash", change("Depends:", "-Depends:"), ambiguous, "begins with"},
		{"a name over two lines", change("Package: sluicectl", "Package: sluicectl\n other"),
			ambiguous, "continues on a second line"},
		{"a version over two lines", change("Version: 1.4-1", "Version:\n 1.4-1\n 2"),
			ambiguous, "continues on a second line"},
		{"a digest over two lines", change("SHA256: ", "SHA256: b\n "), ambiguous,
			"continues on a second line"},
		{"a zero byte", change("gate control", "gate\x00control"), ambiguous, "zero byte"},
		{"a field that is no field", change("Depends:", "Depends\n:"), bad, "of a stanza is not a field"},
		{"a size with a sign", change("Size: 5", "Size: +5"), bad, "+5"},
		{"an essential that is no answer", plainStanza + "Essential: true\n", ambiguous,
			"it must be yes or no"},
		{"a multi-arch that nobody knows", plainStanza + "Multi-Arch: Foreign\n", ambiguous, "Multi-Arch"},
		{"an empty relation", change("libtide2 (>= 2),", "libtide2 (>= 2),,"),
			ambiguous, "between two commas"},
		{"a provide with alternatives", change("gate (= 2)", "gate | lock"), ambiguous, "alternatives"},
		{"a provide with a bound", change("gate (= 2)", "gate (>= 2)"), ambiguous,
			"a Provides entry has a comparison instead of one"},
		{"a conflict with alternatives", plainStanza + "Conflicts: a | b\n", ambiguous, "alternatives"},
		{"a name in capital letters", change("Package: sluicectl", "Package: SluiceCtl"),
			ambiguous, "capital letters"},
		{"a name that is an option", change("Package: sluicectl", "Package: -sluicectl"),
			"content.bad-name", "-sluicectl"},
		{"a name with a quote", change("Package: sluicectl", "Package: sluice'ctl"),
			"content.bad-name", "character"},
		{"a name with a shell's sign", change("Package: sluicectl", "Package: sluice$(id)"),
			"content.bad-name", "character"},
		{"a name turned around", change("Package: sluicectl", "Package: sluice\u202ectl"),
			"content.bad-name", "character"},
		{"a need of such a name", change("libtide2", "lib;tide2"), "content.bad-name", "lib;tide2"},
		{"a path with a fragment", change("pool/sluicectl.deb", "pool/#sluicectl.deb"),
			"content.unsafe-path", "#"},
	} {
		_, _, err := readStanzas(c.text)
		told.Refused(t, c.name, err, c.code, c.says)
	}
	// Which package it was is told.
	_, _, err := readStanzas(plainStanza + "\n" + without("Size"))
	f, _ := finding.From(err)
	if f.Object != "source tarn" || !strings.HasPrefix(f.Text, "package 2 of the index") {
		t.Errorf("%+v", f)
	}
}

func TestEachRefusalOfAVersion(t *testing.T) {
	long := strings.Repeat("1", 512)
	for v, says := range map[string]string{
		"1.4-1": "", "0:1": "", "1:2:3": "", long: "", "a.b+c~d-1": "",
		"": "is empty", long + "1": "longer than 512 bytes", ":1": "epoch", "a:1": "epoch", "-1:1": "epoch",
		"1:": "nothing follows the epoch", "1_2": "'_'", "1 2": "' '", "1\x00": `'\x00'`,
	} {
		if err := CheckVersion(v); (err == nil) != (says == "") || err != nil &&
			!strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", v, err)
		}
	}
}

func TestEachRefusalOfARelease(t *testing.T) {
	sum, other := strings.Repeat("a", 64), strings.Repeat("b", 64)
	begin := "Suite: steady\nDate: Sat, 21 Nov 2026 08:00:00 UTC\n"
	good := begin + "SHA256:\n " + sum + " 12 core/Packages\n"
	const bad = "source.malformed-index"
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", good, "", ""},
		{"behind empty lines", "\n\n" + good, "", ""},
		{"before empty lines", good + "\n\n", "", ""},
		{"both digests", good + "SHA512:\n " + sum + sum + " 12 core/Packages\n", "", ""},
		{"a path with a dot before it", begin + "SHA256:\n " + sum + " 12 ./core/Packages\n", "", ""},
		{"one file twice the same", good + " " + sum + " 12 core/Packages\n", "", ""},
		{"a date of one digit", strings.Replace(good, "Sat, 21", "Sat,  7", 1), "", ""},
		{"a date by number", strings.Replace(good, "UTC", "+0000", 1), "", ""},
		{"nothing", "", bad, "is empty"},
		{"empty lines", "\n\n\n", bad, "is empty"},
		{"a field twice", good + "Suite: other\n", "content.ambiguous", "occurs twice in one stanza"},
		{"a line that is no field", "hello\n" + good, bad, "of a stanza is not a field"},
		{"two stanzas", good + "\nSuite: other\n", "content.ambiguous", "more than one stanza"},
		{"a line of blanks", begin + " \n" + good[len(begin):], "content.ambiguous",
			"a line of white space is in"},
		{"no date", strings.Replace(good, "Date", "Dated", 1), bad,
			"the Date of the Release file cannot be parsed: it is missing"},
		{"a date that is none", strings.Replace(good, "21 Nov", "yesterday", 1), bad,
			"is not a date as in RFC 5322"},
		{"a date of another zone", strings.Replace(good, "UTC", "EST", 1), bad, "is not in UTC"},
		{"an end that is none", good + "Valid-Until: soon\n", bad,
			"the Valid-Until of the Release file cannot be"},
		{"weak digests alone", begin + "MD5Sum:\n " + sum[:32] + " 12 core/Packages\n",
			"content.weak-digest", "MD5 or SHA-1"},
		{"weak digests of the other kind", begin + "SHA1:\n " + sum[:40] + " 12 core/Packages\n",
			"content.weak-digest", "MD5 or SHA-1"},
		{"a line of two words", begin + "SHA256:\n " + sum + " 12\n", bad,
			"a line in the checksum table of the Release"},
		{"a line of four words", begin + "SHA256:\n " + sum + " 12 core/Packages x\n", bad,
			"a line in the checksum table of the Release"},
		{"a short digest", begin + "SHA256:\n " + sum[1:] + " 12 core/Packages\n", bad,
			"a line in the checksum table of the Release"},
		{"a size that is none", begin + "SHA256:\n " + sum + " twelve core/Packages\n", bad, `not a number: "twelve"`},
		{"two sizes", good + " " + sum + " 13 core/Packages\n", bad, "two sizes for core/Packages"},
		{"two digests", good + " " + other + " 12 core/Packages\n", bad,
			"the Release file has two checksums"},
		{"two sizes by two digests", good + "SHA512:\n " + sum + sum + " 13 core/Packages\n", bad,
			"two sizes"},
		{"a path upward", begin + "SHA256:\n " + sum + " 12 ../core/Packages\n", "content.unsafe-path",
			"has an empty part, or one of dots only"},
	} {
		root, err := ParseRelease([]byte(c.text), "dists/heron/")
		told.Refused(t, c.name, err, c.code, c.says)
		if err == nil && len(root.Entries) != 1 {
			t.Errorf("%s: %d entries", c.name, len(root.Entries))
		}
	}
	var many strings.Builder
	many.WriteString(begin + "SHA256:\n")
	for i := range maxEntries + 1 {
		fmt.Fprintf(&many, " %s 12 p%d\n", sum, i)
	}
	_, err := ParseRelease([]byte(many.String()), "")
	told.Refused(t, "too many files", err, "content.too-large", "more than")
}

// failing gives some bytes, and then that the disk does not answer.
type failing struct{ r io.Reader }

var errDisk = errors.New("the disk does not answer")

func (f failing) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	if err == io.EOF {
		err = errDisk
	}
	return n, err
}

func TestAStanzaThatCannotBeReadOn(t *testing.T) {
	for text, want := range map[string]error{"": errDisk, "Package: a": errDisk, "Package: a\n": errDisk} {
		if _, err := NewStanzaReader(failing{strings.NewReader(text)}).Next(); !errors.Is(err, want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	r := NewStanzaReader(strings.NewReader("Package: a"))
	if s, err := r.Next(); err != nil || string(s) != "Package: a\n" {
		t.Errorf("without its last line's end: %q %v", s, err)
	}
	for range 2 {
		if _, err := r.Next(); err != io.EOF {
			t.Errorf("%v", err)
		}
	}
	if _, err := oneStanza([]byte("Package: a\n\nPackage: b\n")); err == nil {
		t.Error("two stanzas are one")
	}
}

// ar makes an archive of members as they are given.
func ar(members ...[2]string) []byte {
	out := bytes.NewBufferString("!<arch>\n")
	for _, m := range members {
		fmt.Fprintf(out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", m[0], 0, 0, 0, "100644", len(m[1]))
		out.WriteString(m[1])
		if len(m[1])%2 == 1 {
			out.WriteByte('\n')
		}
	}
	return out.Bytes()
}

func TestEachRefusalOfAPackageFile(t *testing.T) {
	const stanza = "Package: a\nVersion: 1\nArchitecture: all\n"
	usual := []string{"debian-binary", "control.tar", "data.tar"}
	whole := control(t, usual, [2]string{"./control", stanza})
	version := [2]string{"debian-binary", "2.0\n"}
	tarOf := func(files ...[2]string) [2]string {
		data := control(t, usual[1:2], files...)
		return [2]string{"control.tar", string(data[8+60 : len(data)-len(data)%2])}
	}
	data := [2]string{"data.tar", ""}
	good := tarOf([2]string{"./control", stanza})
	extras := func(n int) [][2]string {
		out := [][2]string{version}
		for range n {
			out = append(out, [2]string{"_note", "x"})
		}
		return append(out, good, data)
	}
	damaged := func(at int, b byte) []byte {
		out := bytes.Clone(whole)
		out[at] = b
		return out
	}
	const bad, ambiguous = "content.malformed-package", "content.ambiguous"
	one := [2]string{"./control", stanza}
	large := [2]string{"./templates", string(make([]byte, maxControlTar))}
	bomb, err := archive.Compress([]byte(tarOf(large, one)[1]), "gz")
	must.Do(t, err)
	for _, c := range []struct {
		name       string
		file       []byte
		code, says string
	}{
		{"as it is", whole, "", ""},
		{"a version of another minor", ar([2]string{"debian-binary", "2.9\n"}, good, data), "", ""},
		{"nothing", nil, bad, "does not begin as an ar archive"},
		{"another archive", []byte("!<bigaf>\n"), bad, "does not begin as an ar archive"},
		{"no members", []byte("!<arch>\n"), bad, "ends before its debian-binary"},
		{"no control", ar(version), bad, "ends before its control.tar"},
		{"no data", ar(version, good), bad, "ends before its data.tar"},
		{"as many members of others as may be", ar(extras(8)...), "", ""},
		{"more members of others", ar(extras(9)...), bad, "the file has more than 8 additional members"},
		{"another first member", ar(good), bad, `its first member is "control.tar", but must be debian-binary`},
		{"half a header", whole[:8+30], bad, "the header of a member is truncated"},
		{"a damaged header", damaged(8+58, 'x'), bad, "the header of a member is damaged"},
		{"another damaged header", damaged(8+59, 'x'), bad, "the header of a member is damaged"},
		{"a size that is none", damaged(8+48, 'x'), bad, "the size of a member is not a number"},
		{"a member that is cut", whole[:8+60+4+60+100], bad, "control.tar: unexpected EOF"},
		{"data that is cut", ar(version, good, [2]string{"data.tar",
			"abcd"})[:len(ar(version, good, data))+2], bad, `its member "data.tar" is truncated`},
		{"another format", ar([2]string{"debian-binary", "3.0\n"}, good, data), bad, "debian-binary: "},
		{"a long format", ar([2]string{"debian-binary", "2." + strings.Repeat("0", 63)}, good, data), bad,
			"it has 65 bytes"},
		{"a control file that is a link", ar(version, linked(t), data), bad,
			"its control file is not a regular file of at"},
		{"no control file", ar(version, tarOf([2]string{"./md5sums", "x"}), data), bad,
			"it contains no file named control"},
		{"an empty control file", ar(version, tarOf([2]string{"./control", ""}), data), bad,
			"control file is empty"},
		{"empty lines in the control file", ar(version, tarOf([2]string{"./control", "\n\n"}), data), bad,
			"control file is empty"},
		{"a control file without a name", ar(version,
			tarOf([2]string{"./control", "Version: 1\nArchitecture: all\n"}), data),
			bad, "lacks Package, Version or Architecture"},
		{"a control file without a version", ar(version,
			tarOf([2]string{"./control", "Package: a\nArchitecture: all\n"}),
			data), bad, "lacks Package, Version or Architecture"},
		{"a control file without an architecture", ar(version,
			tarOf([2]string{"./control", "Package: a\nVersion: 1\n"}),
			data), bad, "lacks Package, Version or Architecture"},
		{"a control file that is none", ar(version, tarOf([2]string{"./control", "hello\n"}), data),
			"source.malformed-index", "of a stanza is not a field"},
		{"no tar", ar(version, [2]string{"control.tar", strings.Repeat("x", 512)}, data), bad,
			"control.tar: "},
		{"another member in between", control(t, []string{"debian-binary", "_note", "control.tar",
			"_more", "data.tar"}, one), "", ""},
		{"two files called control", control(t, usual, one, [2]string{"./control",
			"Package: b\nVersion: 1\nArchitecture: all\n"}), ambiguous,
			"the package contains two files named control"},
		{"control in two spellings", control(t, usual, one, [2]string{"control", stanza}),
			ambiguous, "the package contains two files named control"},
		{"control by way of a folder", control(t, usual, one, [2]string{"./x/../control", stanza}),
			ambiguous, "the package contains two files named control"},
		{"extended headers", control(t, usual, [2]string{"pax:./control", stanza}), ambiguous,
			"in a way that readers interpret differently"},
		{"two control members", control(t, []string{"debian-binary", "control.tar", "control.tar",
			"data.tar"}, one), ambiguous, "the package file has the member \"control.tar\" in"},
		{"a member behind the data", control(t, append(usual[:3:3], "control.tar"), one),
			ambiguous, "the package file has the member \"control.tar\" in"},
		{"control behind the data", control(t, []string{"debian-binary", "data.tar", "control.tar"},
			one), ambiguous, `the package file has the member "data.tar" in the wrong place`},
		{"a second stanza", control(t, usual, [2]string{"./control", stanza + "\n" + stanza}),
			ambiguous, "more than one stanza"},
		{"a line of one blank", control(t, usual, [2]string{"./control", stanza +
			" \nDepends: x\n"}), ambiguous, "a line of white space is in"},
		{"a field twice", control(t, usual, [2]string{"./control", stanza + "Version: 2\n"}),
			ambiguous, "the field \"version\" occurs twice in one stanza"},
		{"something behind the tar's end", control(t, []string{"debian-binary", "control.tar+more",
			"data.tar"}, one), ambiguous, "control.tar has data after its end"},
		{"a control.tar without end", ar(version, [2]string{"control.tar.gz", string(bomb)}, data),
			"content.too-large", "more than 67108864 bytes"},
		{"another compression", ar(version, [2]string{"control.tar.rot", "x"}, data), bad,
			"control.tar.rot: "},
	} {
		_, err := ReadIdentity(bytes.NewReader(c.file))
		told.Refused(t, c.name, err, c.code, c.says)
	}
}

// linked gives a control.tar whose control file is a link.
func linked(t *testing.T) [2]string {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	must.Do(t, errors.Join(w.WriteHeader(&tar.Header{Name: "./control", Typeflag: tar.TypeSymlink,
		Linkname: "/etc/passwd", Format: tar.FormatGNU}), w.Close()))
	return [2]string{"control.tar", b.String()}
}

func TestARootWithoutAnIndexOfAFlatSource(t *testing.T) {
	s := archive.Source{Name: "kelp", Release: "./", Architectures: []string{"amd64"}}
	_, err := Family{}.Indexes(s, &archive.Root{Entries: map[string]archive.Entry{}})
	told.Refused(t, "flat", err, "source.malformed-index", "the release metadata lists no Packages index")
	s = archive.Source{Name: "kelp", Release: "heron", Components: []string{"core"},
		Architectures: []string{"amd64"}}
	_, err = Family{}.Indexes(s, &archive.Root{Components: []string{"core"},
		Entries: map[string]archive.Entry{}})
	told.Refused(t, "an architecture", err, "source.architecture-missing",
		"no index for component core on amd64")
}
