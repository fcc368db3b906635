package deb

import (
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/internal/made/told"
)

func TestEachRefusalOfASourcePackage(t *testing.T) {
	sum := strings.Repeat("a", 64)
	const begin = "Package: tide\nVersion: 2.1-1\nDirectory: pool/t\n"
	files := "Checksums-Sha256:\n " + sum + " 9 tide_2.1.tar.xz\n " + sum + " 5 tide_2.1-1.dsc\n"
	many := func(n int) string { return files + strings.Repeat(" "+sum+" 9 tide.tar\n", n) }
	change := func(old, to string) string { return strings.Replace(begin+files, old, to, 1) }
	const bad, unsafe = "source.malformed-index", "content.unsafe-path"
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", begin + files, "", ""},
		{"with an empty line of digests", begin + strings.Replace(files, "256:\n", "256: \n", 1), "", ""},
		{"at the top", change("pool/t", "."), "", ""},
		{"as many files as may be", begin + many(maxSourceFiles-2), "", ""},
		{"more files", begin + many(maxSourceFiles-1), bad, "has more than 256 files"},
		{"no field", "tide\n", bad, "of a stanza is not a field"},
		{"a name that is none", change("tide", "-tide"), "content.bad-name", "-tide"},
		{"a version that is none", change("2.1-1", "2_1"), bad, `the source package tide: version "2_1"`},
		{"no digests", begin, "content.weak-digest", "the source package tide has no SHA-256 checksums"},
		{"a digest that is none", change(sum, sum[1:]), bad, "tide has an invalid checksum"},
		{"a file without a size", change(" 9 ", " "), bad, "has an invalid checksum"},
		{"a size that is none", change(" 9 ", " -9 "), bad, "has an invalid size"},
		{"a file in another folder", change("tide_2.1.tar", "x/tide.tar"), unsafe, `the file "x/tide.tar.xz"`},
		{"a file with a backslash", change("tide_2.1.tar", `x\tide.tar`), unsafe, "has the file"},
		{"a file upward", change("tide_2.1.tar.xz", ".."), unsafe, `has the file ".." in "pool/t"`},
		{"a folder upward", change("pool/t", "../t"), unsafe, "has an empty part, or one of dots only"},
		{"two descriptions", change("tar.xz", "dsc"), bad, "has two descriptions"},
		{"no description", change(".dsc", ".asc"), bad, "has no description (.dsc)"},
	} {
		got := 0
		err := Family{}.ReadSources(archive.IndexChoice{Component: "core"}, strings.NewReader(c.text),
			func(string, string) bool { return true }, func(p *archive.SourcePackage) error {
				if got++; p.Component != "core" || !strings.HasSuffix(p.Files[0].Path, ".dsc") {
					t.Errorf("%s: %+v", c.name, p)
				}
				return nil
			})
		told.Refused(t, c.name, err, c.code, c.says)
		if (got == 1) != (c.code == "") {
			t.Errorf("%s: %d packages", c.name, got)
		}
	}
	p := &archive.SourcePackage{Name: "tide", Version: "2.1-1",
		Files: []archive.Entry{{Path: "pool/tide.dsc"}}}
	const inside = "Format: 3.0 (quilt)\nSource: tide\nVersion: 2.1-1\n"
	signed := "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n" + inside +
		"\n-----BEGIN PGP SIGNATURE-----\n\nSource: other\n"
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", inside, "", ""}, {"signed", signed, "", ""},
		{"of another name", strings.Replace(inside, "tide", "tid", 1), "content.identity-mismatch",
			"contains tid 2.1-1, but the index says tide 2.1-1"},
		{"of another version", strings.Replace(inside, "2.1-1", "2.1-2", 1), "content.identity-mismatch",
			"tide 2.1-2"},
		{"no field", "tide\n", bad, "of a stanza is not a field"},
		{"longer than may be", inside + strings.Repeat("x", maxDescription), "content.too-large",
			"pool/tide.dsc is longer than 4194304 bytes"},
	} {
		told.Refused(t, c.name, Family{}.InspectSource(p, strings.NewReader(c.text)), c.code, c.says)
	}
}

func TestALineOfTheListOfFilesIsBounded(t *testing.T) {
	read := func(text string) (files int, err error) {
		err = Family{}.ReadFiles(strings.NewReader(text), func(_, _ string) error { files++; return nil })
		return files, err
	}
	long := strings.Repeat("x", maxContentsLine-9)
	if n, err := read("usr/" + long + " tide\nusr/b core/tide,plot"); n != 3 || err != nil {
		t.Errorf("%d files, %v", n, err)
	}
	_, err := read("usr/" + strings.Repeat("x", maxContentsLine+1<<16) + " tide\n")
	told.Refused(t, "a longer line", err, "content.too-large", "a line of the list of files is longer than")
	if err := (Family{}).ReadFiles(failing{strings.NewReader("usr/a tide\n")},
		func(string, string) error { return nil }); err != errDisk {
		t.Errorf("a disk that does not answer: %v", err)
	}
}

func TestWhatIsReadOfAnInventory(t *testing.T) {
	const table = "Desired=Unknown/Install/Remove/Purge/Hold\n| Status=Not/Inst/Conf-files\n|/ " +
		"Err?=(none)\n" +
		"||/ Name Version Arch Description\n+++-====-====\n"
	for _, c := range []struct{ name, text, gives, says string }{
		{"as it is printed", "ii  tide 1-1 amd64\nhi plot:i386 2 i386\nrc old 1 all\n# a note\n\n",
			"tide 1-1 amd64, plot 2 i386 held", ""},
		{"what is not finished",
			"iU tide 1-1 amd64\niF plot 2 i386\niHR buoy 3 all\niW weir 1 all\nit lamp 1 all\n" +
				"hF gate 1 all\niH new <none> all\npc old 1 all\n",
			"tide 1-1 amd64 unpacked, plot 2 i386 half-configured, " +
				"buoy 3 all half-installed, weir 1 all, lamp 1 all, gate 1 all held half-configured", ""},
		{"a state that is none", "iX tide 1-1 amd64\n", "", "dpkg has no state"},
		{"as a table", table + "ii  tide 1-1 amd64 tide tables\nun  old <none> <none> (no description)\n",
			"tide 1-1 amd64", ""},
		{"names", "tide\nplot:i386\n", "tide  , plot  i386", ""},
		{"names and versions", "tide 1-1\n", "tide 1-1 ", ""},
		{"selections", "tide install\nplot:i386 hold\nold deinstall\nolder purge\n",
			"tide  , plot  i386 held", ""},
		{"the states of the status file",
			"Package: tide\nStatus: hold ok installed\nVersion: 1-1\nArchitecture: amd64\n\n" +
				"Package: plot\nStatus: install ok half-configured\nVersion: 1-1\nArchitecture: amd64\n\n" +
				"Package: weir\nStatus: install ok triggers-pending\nVersion: 1-1\nArchitecture: amd64\n\n" +
				"Package: new\nStatus: install reinstreq half-installed\nArchitecture: amd64\n",
			"tide 1-1 amd64 held, plot 1-1 amd64 half-configured, weir 1-1 amd64", ""},
		{"the status file",
			"Package: tide\nStatus: install ok installed\nVersion: 1-1\nArchitecture: amd64\n\n" +
				"Package: old\nStatus: deinstall ok config-files\nVersion: 1\nArchitecture: all\n",
			"tide 1-1 amd64", ""},
		{"a status file of a name that is none", "\nPackage: -x\n", "", "-x"},
		{"a status file of a version that is none", "Package: tide\nVersion: 1_1\n", "", `version "1_1"`},
		{"a status file that is none", "Package: tide\nhello\n", "", "of a stanza is not a field"},
		{"a version that is none", "ii tide 1_1 amd64\n", "", `line 1 of the list, "ii tide 1_1 amd64"`},
		{"a name that is none", "ii -tide 1-1 amd64\n", "", "line 1 of the list"},
		{"three words", "tide 1-1 amd64\n", "", "neither the form of dpkg-query -W nor that of dpkg -l"},
		{"four words that are no row", "tide is not here\n", "", "neither the form"},
	} {
		ids, err := Family{}.ReadInventory([]byte(c.text))
		var all []string
		for _, id := range ids {
			text := id.Name + " " + id.Version + " " + id.Arch
			if id.Held {
				text += " held"
			}
			if id.Unfinished != "" {
				text += " " + id.Unfinished
			}
			all = append(all, text)
		}
		if got := strings.Join(all, ", "); got != c.gives || (err == nil) != (c.says == "") ||
			err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
	for text, lacks := range map[string]string{
		"tide 1-1\n": "whether tide is installed", "tide install\n": "", "tide hold\n": "",
		"tide purge\n":     "",
		"tide deinstall\n": "", "tide\n": "", "# tide\n": "", "Package: tide\n": "",
		"ii tide 1 amd64\n": "", table + "ii  tide 1-1 amd64 tide tables\n": "",
	} {
		if got := (Family{}).Lacks([]byte(text)); !strings.Contains(got, lacks) ||
			(got == "") != (lacks == "") {
			t.Errorf("%q lacks %q", text, got)
		}
	}
}
