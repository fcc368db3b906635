package rpm

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/rpm/header"
	"stockade/core/finding"
	"stockade/internal/made/told"
)

const (
	bad       = "source.malformed-index"
	ambiguous = "content.ambiguous"
	tooLarge  = "content.too-large"
	unsafe    = "content.unsafe-path"
)

func TestEachRefusalOfXML(t *testing.T) {
	attributes := func(n int) string {
		out := "<a"
		for i := range n {
			out += fmt.Sprintf(` x%d="1"`, i)
		}
		return out + "/>"
	}
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", `<?xml version="1.0" encoding="utf-8"?><!-- c --><a b="1" c='&lt;&#65;&#x41;'>t<![CDATA[<]]><b/></a>`,
			"", ""},
		{"with a byte order mark", "\xef\xbb\xbf<a/>", "", ""},
		{"with an instruction", "<?sheet x?><a/>", "", ""},
		{"not UTF-8", "<a>\xff</a>", bad, "not UTF-8"},
		{"what is no character", "<a>\uFFFE</a>", bad, "not UTF-8"},
		{"another that is none", "<a>\uFFFF</a>", bad, "not UTF-8"},
		{"nothing", "", bad, "ends before its elements do"},
		{"no end", "<a><b></b>", bad, "ends before its elements do"},
		{"text before", "x<a/>", bad, "text outside"},
		{"text behind", "<a/>x", bad, "text outside"},
		{"verbatim text outside", "<a/><![CDATA[x]]>", bad, "text outside"},
		{"the end of verbatim text", "<a>]]></a>", bad, "]]> in a text"},
		{"a control character", "<a>\x01</a>", bad, "XML that cannot be read: the character 0x1"},
		{"a reference without an end", "<a>&lt</a>", bad, "a reference has no end"},
		{"a long reference", "<a>&" + strings.Repeat("x", 20) + ";</a>", bad, "a reference has no end"},
		{"an entity of its own", "<a>&eacute;</a>", bad, `the entity "eacute"`},
		{"a number that is none", "<a>&#x;</a>", bad, `the reference "#x"`},
		{"a number beyond all", "<a>&#x110000;</a>", bad, `the reference "#x110000"`},
		{"half of a character", "<a>&#xD800;</a>", bad, `the reference "#xD800"`},
		{"a control character by number", "<a>&#1;</a>", bad, `the reference "#1"`},
		{"no character by number", "<a>&#xFFFF;</a>", bad, `the reference "#xFFFF"`},
		{"a tab by number", "<a>&#9;&#10;&#13;</a>", "", ""},
		{"a comment without an end", "<!-- <a/>", bad, "<!-- has no end"},
		{"a comment with dashes", "<!-- -- --><a/>", bad, "two dashes"},
		{"a comment with a dash at its end", "<!-- ---><a/>", bad, "two dashes"},
		{"verbatim text without an end", "<a><![CDATA[x</a>", bad, "<![CDATA[ has no end"},
		{"a document type", "<!DOCTYPE a><a/>", bad, "document type"},
		{"an instruction without an end", "<?x <a/>", bad, "<? has no end"},
		{"an instruction of nothing", "<? x?><a/>", bad, "a <? that begins nothing"},
		{"a second declaration", `<?xml version="1.0"?><?xml version="1.0"?><a/>`, bad, "not stand at the beginning"},
		{"another version", `<?xml version="1.1"?><a/>`, bad, "not version 1.0 in UTF-8"},
		{"another encoding", `<?xml version="1.0" encoding="latin1"?><a/>`, bad, "not version 1.0 in UTF-8"},
		{"an end of another", "<a></b>", bad, `"b" ends where it did not begin`},
		{"an end of nothing", "</a>", bad, `"a" ends where it did not begin`},
		{"an end without an end", "<a></a", bad, "</ has no end"},
		{"a start of nothing", "<a>< b/></a>", bad, "a < that begins nothing"},
		{"a name with two colons", "<a:b:c/>", bad, "a < that begins nothing"},
		{"a name that is a number", "<1/>", bad, "a < that begins nothing"},
		{"a second root", "<a/><b/>", bad, "data after the end of the XML"},
		{"as deep as may be", strings.Repeat("<a>", maxDepth) + strings.Repeat("</a>", maxDepth), "", ""},
		{"deeper", strings.Repeat("<a>", maxDepth+1) + strings.Repeat("</a>", maxDepth+1), bad,
			"nested more than 24"},
		{"an end inside a start", "<a b", bad, "an attribute of a has no value"},
		{"an end behind a start", "<a ", bad, "it ends inside a"},
		{"attributes without a space", `<a b="1"c="2"/>`, bad, "without a space between"},
		{"as many attributes as may be", attributes(maxAttributes), "", ""},
		{"more attributes", attributes(maxAttributes + 1), bad, "more than 64 attributes"},
		{"an attribute without a name", `<a ="1"/>`, bad, "an attribute of a has no name"},
		{"an attribute without a value", `<a b/>`, bad, "an attribute of a has no value"},
		{"an attribute without quotes", `<a b=1/>`, bad, "an attribute of a has no quotes"},
		{"an attribute of nothing", `<a b=`, bad, "an attribute of a has no quotes"},
		{"an attribute without an end", `<a b="1/>`, bad, "an attribute of a has no end"},
		{"a start inside an attribute", `<a b="<"/>`, bad, "a < in an attribute"},
		{"an attribute twice", `<a b="1" b="2"/>`, bad, `the attribute "b" twice`},
		{"a reference in an attribute", `<a b="&x;"/>`, bad, `the entity "x"`},
	} {
		told.Refused(t, c.name, walk([]byte(c.text), nil, nil), c.code, c.says)
	}
	long := strings.Repeat("x", maxText)
	told.Refused(t, "as long as may be", walk([]byte("<a>"+long+"</a>"), nil, nil), "", "")
	told.Refused(t, "longer", walk([]byte("<a>"+long+"y</a>"), nil, nil), tooLarge, "an XML text is longer")
	told.Refused(t, "longer in two", walk([]byte("<a>"+long+"<b/>y</a>"), nil, nil), tooLarge,
		"an XML text is longer")
	told.Refused(t, "longer and verbatim", walk([]byte("<a>"+long+"<![CDATA[y]]></a>"), nil, nil), tooLarge,
		"longer")
}

func TestEachRefusalOfAnIndexOfElements(t *testing.T) {
	read := func(text string) error {
		e := newElements(strings.NewReader(text), "metadata", "package")
		for {
			if _, err := e.next(); err == io.EOF {
				return nil
			} else if err != nil {
				return err
			}
		}
	}
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", `<?xml version="1.0"?>` + "\n<metadata x='1'>\n<package>a</package> <package a=''>b</package>\n</metadata>\n",
			"", ""},
		{"empty", "<metadata></metadata>", "", ""},
		{"empty, in one", "<metadata/>", "", ""},
		{"nothing", "", bad, "does not begin with an XML element"},
		{"text", "hello", bad, "does not begin with an XML element"},
		{"a document type", "<!DOCTYPE metadata><metadata/>", bad, "document type"},
		{"an entity", "<!ENTITY a 'b'><metadata/>", bad, "document type"},
		{"another root", "<otherdata></otherdata>", bad, `the index begins with "otherdata", but metadata is expected`},
		{"a comment before", "<!-- --><metadata/>", ambiguous,
			"the index begins with something other than its"},
		{"an instruction before", "<?sheet?><metadata/>", ambiguous,
			"the index begins with something other than its"},
		{"a root that is none", "<metadata x></metadata>", bad, "has no value"},
		{"no end", "<metadata>\n<package>a</package>", bad, "the index ends before its first element does"},
		{"an element without an end", "<metadata><package>a", bad, "ends in the middle of an element"},
		{"something between", "<metadata><package>a</package>x</metadata>", ambiguous,
			"between the elements"},
		{"a comment between", "<metadata><!-- --><package>a</package></metadata>", ambiguous,
			"between the elements"},
		{"another element", "<metadata><packages></packages></metadata>", ambiguous, "between the elements"},
		{"something behind", "<metadata></metadata><package>a</package>", ambiguous,
			"the index has data after its end"},
		{"something behind one that is empty", "<metadata/>x", ambiguous, "the index has data after its end"},
	} {
		told.Refused(t, c.name, read(c.text), c.code, c.says)
	}
}

const element = `<package type="rpm"><name>pumpctl</name><arch>x86_64</arch>` +
	`<version epoch="2" ver="3.2.0" rel="1"/><checksum type="sha256" pkgid="YES">` +
	`aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa</checksum>` +
	`<size package="5" installed="9"/><location href="Packages/pumpctl.rpm"/><format>` +
	`<rpm:requires><rpm:entry name="libbrine" flags="GE" ver="3"/></rpm:requires>` +
	`<file>/usr/bin/pumpctl</file></format></package>`

func TestEachRefusalOfAPackageInAnIndex(t *testing.T) {
	read := func(text string) error {
		return Family{}.ReadIndex(archive.Source{Name: "brine", Architectures: []string{"x86_64"}},
			archive.IndexChoice{},
			strings.NewReader(`<metadata xmlns:rpm="x">`+text+"</metadata>"), func(p *archive.Package, _ []byte) error {
				_, err := p.Needs.Relations()
				return err
			})
	}
	change := func(old, to string) string { return told.Change(t, element, old, to) }
	sum := strings.Repeat("a", 64)
	entry := `<rpm:entry name="libbrine" flags="GE" ver="3"/>`
	many := func(n int) string { return change(entry, strings.Repeat(entry, n)) }
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", element, "", ""},
		{"another type", change(`type="rpm"`, `type="deb"`), ambiguous, `a package has the type "deb", which clients skip`},
		{"two names", change("<name>", "<name>x</name><name>"), ambiguous,
			"the element \"name\" occurs twice below package"},
		{"a name with a prefix", change("<name>", "<x:name>y</x:name><name>"), ambiguous, `could be read as "name"`},
		{"an element in a name", change("<name>", "<name><b>x</b>"), ambiguous, `an element is inside "name", which contains only text`},
		{"a blank before a name", change("<name>", "<name> "), ambiguous, `the text of "name" begins or ends with white space`},
		{"a name in an unknown one", change("<name>", "<more><name>x</name></more><name>"), ambiguous,
			"the element \"name\" is below package/more, where"},
		{"a name below format", change("<format>", "<format><name>x</name>"), ambiguous,
			"the element \"name\" is below package/format, where"},
		{"a place below format", change("<format>", `<format><location href="x.rpm"/>`), ambiguous,
			"the element \"location\" is below package/format,"},
		{"a digest below format", change("<format>", `<format><checksum type="sha256">`+sum+"</checksum>"),
			ambiguous, "the element \"checksum\" is below package/format,"},
		{"an entry outside a list", change("<format>", `<format><rpm:entry name="bus"/>`), ambiguous,
			"the element \"rpm:entry\" is below package/format,"},
		{"a list twice", change("<rpm:requires>", "<rpm:requires></rpm:requires><rpm:requires>"), ambiguous,
			"the element \"rpm:requires\" occurs twice below"},
		{"a size with a sign", change(`package="5"`, `package="+5"`), bad, `the size "+5" is not a number`},
		{"no name", change("<name>pumpctl</name>", ""), bad,
			"name, version or architecture of a package is missing"},
		{"no version", change(`<version epoch="2" ver="3.2.0" rel="1"/>`, ""), bad, "name, version or architecture"},
		{"no architecture", change("<arch>x86_64</arch>", ""), bad, "name, version or architecture"},
		{"an architecture that is none", change("x86_64", "x86/64"), bad,
			"\"x86/64\" is not an architecture"},
		{"a name that is none", change("<name>pumpctl", "<name>-pumpctl"), "content.bad-name", "-pumpctl"},
		{"a version that is none", change("3.2.0", "3;2"), bad, "';'"},
		{"a version with a dash", change("3.2.0", "3-2"), ambiguous, "can be split in two ways"},
		{"an empty release", change(`rel="1"`, `rel=""`), ambiguous, "can be split in two ways"},
		{"an epoch that is none", change(`epoch="2"`, `epoch="02"`), ambiguous, "can be split in two ways"},
		{"no digest", change(`<checksum type="sha256" pkgid="YES">`+sum+"</checksum>", ""), "content.weak-digest", `only a ""`},
		{"a weak digest", change(`"sha256"`, `"md5"`), "content.weak-digest", `has only a "md5" checksum`},
		{"a digest that is none", change(sum, sum[1:]), bad, "pumpctl has an invalid checksum"},
		{"SHA-512", strings.Replace(change(`"sha256"`, `"sha512"`), sum, sum+sum, 1), "", ""},
		{"a SHA-512 that is none", change(`"sha256"`, `"sha512"`), bad, "pumpctl has an invalid checksum"},
		{"no size", change(`<size package="5" installed="9"/>`, ""), bad, "pumpctl has no size"},
		{"a size that is none", change(`package="5"`, `package="five"`), bad, `the size "five" is not a number`},
		{"no place", change(`<location href="Packages/pumpctl.rpm"/>`, ""), unsafe, "is empty"},
		{"a place upward", change("Packages/", "../Packages/"), unsafe,
			"has an empty part, or one of dots only"},
		{"a place of another meaning", change("Packages/", "Pack%61ges/"), unsafe,
			"contains a character that clients interpret in a URL: a space or %"},
		{"a place among the indexes", change("Packages/", "repodata/"), unsafe, "among the indexes"},
		{"a place elsewhere", change("<location ", `<location xml:base="https://store.brine.example/el" `), "", ""},
		{"a place in no place", change("<location ", `<location xml:base="el" `), unsafe, "a package is placed at \"el\", which is not an http"},
		{"a place by another scheme", change("<location ", `<location xml:base="ftp://a.example/" `), unsafe, "a package is placed at \"ftp://a.example/\", which"},
		{"a place with a user", change("<location ", `<location xml:base="https://m:p@a.example/" `), unsafe,
			"which is more than the URL of a folder"},
		{"a place with a query", change("<location ", `<location xml:base="https://a.example/?x" `), unsafe, "more than"},
		{"a place with a fragment", change("<location ", `<location xml:base="https://a.example/#x" `), unsafe, "more than"},
		{"a relation without a name", change(`name="libbrine"`, `name=""`), bad, `a relation "" "GE"`},
		{"a relation compared in another way", change(`"GE"`, `"NE"`), bad, `a relation "libbrine" "NE"`},
		{"a relation that would move the screen", change(`"libbrine"`, "\"lib\u202e\""), bad, "a relation \"lib\\u202e\" \"GE\" cannot be parsed"},
		{"a comparison with nothing", change(`flags="GE" ver="3"`, `flags="GE"`), ambiguous, "has a comparison, but no version"},
		{"more relations than may be",
			strings.Replace(many(maxRelations+1), "<file>/usr/bin/pumpctl</file>", "", 1),
			tooLarge, "more than"},
		{"more files than may be", change("<file>/usr/bin/pumpctl</file>", strings.Repeat("<file>/a</file>",
			maxRelations)), tooLarge, "more than"},
		{"a file that is no path", change("/usr/bin/pumpctl", "usr/bin/pumpctl"), ambiguous,
			"which is not a path"},
		{"a file of nothing", change("<file>/usr/bin/pumpctl", "<file>"), ambiguous, "which is not a path"},
		{"a file that would move the screen", change("/usr/bin/pumpctl", "/usr/\u202e"), ambiguous,
			"which is not a path"},
	} {
		told.Refused(t, c.name, read(c.text), c.code, c.says)
	}
	f, _ := finding.From(read(element + change(`<size package="5" installed="9"/>`, "")))
	if f.Object != "source brine" || !strings.Contains(f.Text, "package 2") {
		t.Errorf("%+v", f)
	}
}

// A root is of the release that is described, where it says which it is of, and names a list of packages.
func TestARootIsComparedWithTheDefinition(t *testing.T) {
	for name, c := range map[string]struct {
		names   []string
		release string
		same    bool
	}{
		"it says nothing":           {nil, "9", true},
		"the same":                  {[]string{"9"}, "9", true},
		"a point release":           {[]string{"9.4"}, "9", true},
		"one of several":            {[]string{"8", "9"}, "9", true},
		"another":                   {[]string{"8"}, "9", false},
		"one that begins alike":     {[]string{"90"}, "9", false},
		"nothing is asked for":      {[]string{"8"}, "", true},
		"the definition has points": {[]string{"9"}, "9.4", true},
	} {
		found := Family{}.CheckRoot(archive.Source{Name: "brine", Release: c.release},
			&archive.Root{Names: c.names})
		if same := len(found) == 0; same != c.same || !same && found[0].Code != "source.release-mismatch" {
			t.Errorf("%s: got %v", name, found)
		}
	}
	_, err := Family{}.Indexes(archive.Source{Name: "brine"}, &archive.Root{Fields: map[string]string{
		"data:filelists": "repodata/filelists.xml.gz"}, Entries: map[string]archive.Entry{}})
	told.Refused(t, "the release metadata lists no primary index", err, "source.malformed-index",
		"the release metadata lists no primary index")
	_, err = Family{}.Indexes(archive.Source{Name: "brine"}, &archive.Root{Fields: map[string]string{
		"data:primary": "repodata/primary.xml.gz"}, Entries: map[string]archive.Entry{}})
	told.Refused(t, "a primary list without a digest", err, "source.malformed-index",
		"the release metadata lists no primary index")
}

func TestEachRefusalOfARoot(t *testing.T) {
	sum := strings.Repeat("a", 64)
	list := func(kind, digest, rest string) string {
		return `<data type="` + kind + `"><checksum type="sha256">` + digest + `</checksum>` + rest + `</data>`
	}
	primary := list("primary", sum, `<location href="repodata/p.xml.gz"/><size>5</size><timestamp>1790000000</timestamp>`)
	root := func(inside string) string { return "<repomd>" + inside + "</repomd>" }
	many := func(n int) string {
		out := primary
		for i := range n {
			out += list(fmt.Sprint("x", i), sum, fmt.Sprintf(`<location href="repodata/%d"/>`, i))
		}
		return out
	}
	weak := `<data type="primary"><checksum type="sha">` + sum[:40] + `</checksum><location href="repodata/p"/></data>`
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", root(primary), "", ""},
		{"another root", "<metadata>" + primary + "</metadata>", bad, "the release metadata is a"},
		{"no lists", root(""), bad, "the release metadata lists no primary index"},
		{"weak digests", root(weak), "content.weak-digest", "only MD5 or SHA-1"},
		{"weak digests of another list", root(strings.Replace(weak, "primary", "other", 1)), bad,
			"the release metadata lists no primary index"},
		{"a list twice", root(primary + primary), bad, `the release metadata lists two indexes of the kind "primary"`},
		{"a file twice", root(primary + strings.Replace(primary, `"primary"`, `"other"`, 1)), bad, "the release metadata lists repodata/p.xml.gz twice"},
		{"as many lists as may be", root(many(199)), "", ""},
		{"more lists", root(many(200)), tooLarge, "the release metadata lists more than 200 indexes"},
		{"a size that is none", root(strings.Replace(primary, "<size>5", "<size>five", 1)), bad, `the release metadata has the invalid size "five"`},
		{"a size with a space", root(strings.Replace(primary, "<size>5", "<size> 5", 1)), ambiguous, "size"},
		{"a digest that is none", root(strings.Replace(primary, sum, sum[1:], 1)), bad,
			"the checksum of the primary index in the release metadata is invalid"},
		{"a digest with a space", root(strings.Replace(primary, sum, " "+sum, 1)), ambiguous, "checksum"},
		{"a place elsewhere", root(strings.Replace(primary, "<location ", `<location xml:base="https://a.example/" `, 1)), unsafe,
			"index elsewhere, at"},
		{"a place upward", root(strings.Replace(primary, "repodata/p", "../p", 1)), unsafe,
			"has an empty part, or one of dots only"},
		{"no place", root(strings.Replace(primary, `<location href="repodata/p.xml.gz"/>`, "", 1)), unsafe, "is empty"},
	} {
		r, err := ParseRoot([]byte(c.text))
		told.Refused(t, c.name, err, c.code, c.says)
		if err == nil && (r.Entries["repodata/p.xml.gz"].Size != 5 || r.Date.Unix() != 1790000000) {
			t.Errorf("%s: %+v", c.name, r)
		}
	}
}

func TestEachRefusalOfAVersion(t *testing.T) {
	for v, says := range map[string]string{
		"1": "", "1.0-1": "", "2:1.0~rc1^git-1.el9": "", "1234567890:1": "",
		"": "no version in it", "2:": "no version in it", "-1": "no version in it",
		"12345678901:1":                 "has too large an epoch",
		"1." + strings.Repeat("1", 511): "longer than 512 bytes",
		"1 2":                           "' '", "1;2": "';'", "1-2-3": "more than one dash",
	} {
		if err := CheckVersion(v); (err == nil) != (says == "") || err != nil &&
			!strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", v, err)
		}
	}
}

func TestEachRefusalOfModuleStreams(t *testing.T) {
	const plain = "---\ndocument: modulemd\nversion: 2\ndata:\n  name: drive\n  stream: \"1\"\n...\n"
	nested := "---\ndata: " + strings.Repeat("{a: ", maxYAMLDepth+2) + "x" + strings.Repeat("}",
		maxYAMLDepth+2) + "\n...\n"
	keys := func(n int) string {
		out := "---\ndata:\n"
		for i := range n {
			out += fmt.Sprintf("  k%d: 1\n", i)
		}
		return out
	}
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", plain, "", ""}, {"two", plain + plain, "", ""}, {"nothing", "---\n...\n", "", ""},
		{"no YAML", "---\n: [\n", bad, "a module stream cannot be read"},
		{"another shape", "---\ndata: [a]\n", bad, "a module stream cannot be read"},
		{"two documents in one", "---\na: 1\n--- {b: 1}\n", "", ""},
		{"an anchor", "---\ndata: &a {name: x}\n", ambiguous, "anchors, aliases or merges"},
		{"a merge", "---\ndata:\n  <<: {name: x}\n", ambiguous, "anchors, aliases or merges"},
		{"a key twice", "---\ndata:\n  name: a\n  name: b\n", ambiguous, `a module stream has the key "name" twice, or an invalid key`},
		{"a key that is a list", "---\ndata:\n  ? [a]\n  : b\n", ambiguous, "twice, or an invalid key"},
		{"nested", nested, tooLarge, "nested more than 24"},
		{"as many keys as may be", keys(maxModuleKeys), "", ""},
		{"more keys", keys(maxModuleKeys + 1), tooLarge, "more than 1024 keys"},
		{"a document that is too large", "---\ndata: " + strings.Repeat("x", maxModule) + "\n", tooLarge,
			"larger than"},
	} {
		told.Refused(t, c.name, eachModule(strings.NewReader(c.text),
			func(*moduleDocument) error { return nil }), finding.Code(c.code), c.says)
	}
	told.Refused(t, "a list that is too large",
		eachModule(zeros{}, func(*moduleDocument) error { return nil }),
		tooLarge, "the list of module streams is larger than 134217728 bytes")
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func TestEachRefusalOfAdvisories(t *testing.T) {
	read := func(text string) error {
		return Family{}.ReadAdvisories(strings.NewReader("<updates>"+text+"</updates>"),
			func(*archive.Advisory) error {
				return nil
			})
	}
	told.Refused(t, "as it is", read("<update><id>B-1</id></update>"), "", "")
	told.Refused(t, "without an id", read("<update><title>x</title></update>"), bad, "an advisory has no id")
	told.Refused(t, "with an empty id", read("<update><id> </id></update>"), bad, "an advisory has no id")
}

func TestEachRefusalOfConditions(t *testing.T) {
	parse := func(text string) error {
		_, err := ParseRich(text, false)
		return err
	}
	for _, c := range []struct{ text, says string }{
		{"(a with b)", ""}, {"(a with (b or c))", ""}, {"(a without b)", ""},
		{"((a and b) with c)", "has a condition that two packages could"},
		{"((a if b) with c)", "has a condition inside with"},
	} {
		err := parse(c.text)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.text, err)
		}
	}
}

// ownHeader makes a package whose header has only these.
func ownHeader(tags map[uint32]string, digest string) []byte {
	own, signatures := header.NewWriter(header.TagImmutable), header.NewWriter(header.TagSignatures)
	for _, tag := range slices.Sorted(maps.Keys(tags)) {
		own.Text(tag, tags[tag])
	}
	if digest != "" {
		own.Texts(header.TagPayloadDigest, []string{digest})
	}
	signatures.Text(header.SigSHA1Header, "")
	sig := signatures.Bytes()
	out := append(header.Lead("pumpctl"), sig...)
	return append(append(out, make([]byte, (8-len(sig)%8)%8)...), own.Bytes()...)
}

func TestEachRefusalOfAPackageFile(t *testing.T) {
	all := map[uint32]string{header.TagName: "pumpctl", header.TagVersion: "3", header.TagRelease: "1",
		header.TagArch: "x86_64"}
	inspect := func(data []byte) error {
		_, err := Family{}.Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(data)}, nil)
		return err
	}
	told.Refused(t, "as it is", inspect(ownHeader(all, "")), "", "")
	told.Refused(t, "no package", inspect([]byte("hello")), "content.malformed-package",
		"not a readable rpm package")
	for tag := range all {
		less := maps.Clone(all)
		delete(less, tag)
		told.Refused(t, fmt.Sprint("without ", tag), inspect(ownHeader(less, "")),
			"content.malformed-package", "its header lacks name, version, release or architecture")
	}
	_, _, err := Family{}.Endorse(bytes.NewReader(ownHeader(all, "")), nil, io.Discard)
	told.Refused(t, "nothing that binds the payload", err, "content.malformed-package",
		"the header of the package has no checksum of")
}

func TestEachRefusalOfAnInventory(t *testing.T) {
	const none = "the line is not name-version-release.arch"
	for _, c := range []struct{ text, gives, says string }{
		{"pump 2:3-1.el9 x86_64\ngpg-pubkey 1-1 (none)\n", "pump 2:3-1.el9 x86_64", ""},
		{"pump-desk-0:3-1.el9.x86_64\npump-2:3-1.noarch\n",
			"pump-desk 3-1.el9 x86_64, pump 2:3-1 noarch", ""},
		{"pump 0:3-1\n", "pump 3-1 ", ""},
		{"pump\n", "", none}, {"-3-1.noarch\n", "", none}, {"pump--1.noarch\n", "", none},
		{"pump-3-.noarch\n", "", none}, {"pump-3-1.\n", "", none}, {"3-1.noarch\n", "", none},
		{"pump 3 noarch x\n", "", none}, {"pump 3;1 noarch\n", "", "';'"},
	} {
		ids, err := Family{}.ReadInventory([]byte(c.text))
		var all []string
		for _, id := range ids {
			all = append(all, id.Name+" "+id.Version+" "+id.Arch)
		}
		if got := strings.Join(all, ", "); got != c.gives {
			t.Errorf("%q: %s", c.text, got)
		}
		told.Refused(t, c.text, err, map[bool]string{true: "define.bad-value"}[c.says != ""], c.says)
	}
	for text, lacks := range map[string]bool{"pump-3-1.noarch": true, "pump-2:3-1.noarch": false,
		"# x":            false,
		"gpg-pubkey-1-1": false, "#x": false, "pump 3-1 noarch": false} {
		if got := (Family{}).Lacks([]byte(text)); (got != "") != lacks {
			t.Errorf("%q: %s", text, got)
		}
	}
}
