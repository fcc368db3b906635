package definition

import (
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

const named_ = `stockade: 1
authorities:
  roots: {file: roots.pem}
credentials:
  login: {kind: token, hosts: ["x.example"]}
proxies:
  office: {url: "http://proxy.example:3128", credential: login, authority: roots}
keys:
  archive: {fingerprint: ABABABABABABABABABABABABABABABABABABABAB, vouched_for: [tarn]}
sources:
  tarn: # the distribution itself
    family: deb
    standing: official
    upstreams: [{url: "https://x.example/tarn"}]
    release: heron
    components: [core]
    architectures: [amd64]
    signed_by: [archive]
    proxy: office
    credentials: [login]
    authority: roots
lists:
  bench: {family: deb, file: bench.txt}
mirrors:
  barrage: {copy: tailored, from: [tarn, {source: tarn, want: {lists: [bench]}}],
	want: {packages: [tarn], lists: [bench]}, baseline: {list: bench, sources: [tarn]}}
lanes:
  steady: {mirror: barrage}
groups:
  gatehouse: {family: deb, lane: steady, baseline: {list: bench, sources: [tarn]}}
`

// An object that is called another way is followed by every field that names it, and by nothing
// else: a package, a host or a family of the same name stays as it is.
func TestWhatNamesAnObjectFollows(t *testing.T) {
	for kind, name := range map[string]string{"authority": "roots", "credential": "login", "proxy": "office",
		"key": "archive", "source": "tarn", "list": "bench", "mirror": "barrage", "lane": "steady",
		"group": "gatehouse"} {
		set, found := Read(Text{Name: "x", Text: named_})
		if found.HasErrors() {
			t.Fatal(found)
		}
		must.Do(t, set.Rename(kind, name, "other-one"))
		got, err := set.YAML()
		must.Do(t, err)
		// What it should be: each word that is the name, but for packages, addresses and files.
		lines := strings.Split(named_, "\n")
		for i, l := range lines {
			keep := strings.NewReplacer("packages: ["+name+"]", "packages: [\x00]", "/"+name, "/\x00",
				name+".", "\x00.")
			back := strings.NewReplacer("\x00", name)
			lines[i] = back.Replace(strings.ReplaceAll(keep.Replace(l), name, "other-one"))
		}
		expected, found := Read(Text{Name: "x", Text: strings.Join(lines, "\n")})
		if found.HasErrors() {
			t.Fatal(found, strings.Join(lines, "\n"))
		}
		want, err := expected.YAML()
		if err != nil || got != want {
			t.Errorf("%s: %v\n%s\nand not\n%s", kind, err, got, want)
		}
	}
}

// What people wrote of an object goes along, and says the new name where it names the object
// itself; what they wrote of others stays.
func TestWordsGoAlongWithAName(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"behind the name", "stockade: 1\nlanes:\n  tarn: # where tarn: is\n    mirror: tarn\n",
			"other:  # where tarn: is"},
		{"before it", "stockade: 1\nlanes:\n  # the first\n  tarn: {mirror: tarn}\n" +
			"  weir: {mirror: tarn} # kept\n", "# the first"},
		{"quoted", "stockade: 1\nlanes:\n  \"tarn\": # as tarn\n    mirror: tarn\n", "# as tarn"},
	} {
		set, found := Read(Text{Name: "x", Text: c.text})
		if found.HasErrors() {
			t.Fatal(found)
		}
		before := len(set.Words)
		must.Do(t, set.Rename("lane", "tarn", "other"))
		got, err := set.YAML()
		must.Do(t, err)
		if !strings.Contains(got, strings.ReplaceAll(c.want, "  #", " #")) &&
			!strings.Contains(got, c.want) ||
			strings.Contains(got, "  tarn:") || !strings.Contains(got, "mirror: tarn") {
			t.Errorf("%s:\n%s", c.name, got)
		}
		if len(set.Words) != before || set.Words["lane tarn"] != "" || set.Words["lane/tarn"] != "" {
			t.Errorf("%s: words %q", c.name, set.Words)
		}
		if strings.Contains(c.text, "kept") && !strings.Contains(got, "# kept") {
			t.Errorf("%s: what stood at another is lost:\n%s", c.name, got)
		}
	}
}

func TestWhatCannotBeRenamed(t *testing.T) {
	for what, c := range map[string]struct{ kind, from, to, code string }{
		"nothing of that name": {"source", "tarm", "x", "define.dangling-reference"},
		"no kind":              {"edition", "tarn", "x", "define.bad-value"},
		"nothing like that":    {"mirror", "zzzzzzzz", "x", "define.dangling-reference"},
		"a package":            {"package", "tarn", "x", "define.bad-value"},
		"a rule":               {"rule", "official", "vendor", "define.bad-value"},
		"no name":              {"source", "tarn", "Tarn Archive", "define.bad-value"},
		"a name that is taken": {"key", "archive", "archive", "define.duplicate-name"},
	} {
		set, _ := Read(Text{Name: "x", Text: named_})
		before, err := set.YAML()
		must.Do(t, err)
		f, ok := finding.From(set.Rename(c.kind, c.from, c.to))
		if near := what == "nothing of that name"; near != strings.Contains(f.WayOut, `"tarn"`) {
			t.Errorf("%s: what to do: %s", what, f.WayOut)
		}
		if after, err := set.YAML(); err != nil || !ok || string(f.Code) != c.code || after != before {
			t.Errorf("%s: %+v", what, f)
		}
	}
}
