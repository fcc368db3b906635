package archive

import (
	"archive/tar"
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

// Two lists that share most names share most of their samples, in whatever order they are read;
// few names say nothing.
func TestSamplesTellListsApart(t *testing.T) {
	sample := func(from, to int) []string {
		var s Sampler
		for i := to - 1; i >= from; i-- {
			s.Add(fmt.Sprint("package-", i))
			s.Add(fmt.Sprint("package-", i)) // once is enough
		}
		return s.Names()
	}
	all := sample(0, 1000)
	if len(all) != sampleSize || len(slices.Compact(slices.Sorted(slices.Values(all)))) != sampleSize {
		t.Fatalf("%d names: %v", len(all), all)
	}
	var forwards Sampler
	for i := range 1000 {
		forwards.Add(fmt.Sprint("package-", i))
	}
	if !slices.Equal(forwards.Names(), all) {
		t.Error("the sample depends on the order")
	}
	for _, c := range []struct {
		what string
		b    []string
		is   bool
	}{
		{"the same", all, false}, {"nine tenths of it", sample(100, 1000), false},
		{"another", sample(1000, 2000), true}, {"three names of another", sample(2000, 2003), false},
		{"four names of another", sample(2000, 2004), true},
		{"half of a few", append(sample(2000, 2002), all[:2]...), false},
		{"less than half", append(sample(2000, 2003), all[0]), true},
	} {
		if got := OfAnother(all, c.b); got != c.is {
			t.Errorf("%s: of another list: %v", c.what, got)
		}
	}
}

func TestWhatIsLeftOfARootWhereNobodySigns(t *testing.T) {
	inside := RootChoice{{Path: "InRelease"}}
	beside := RootChoice{{Path: "Release"}, {Path: "Release.gpg", Signs: "Release"}}
	got := Unsigned([]RootChoice{inside, beside})
	if len(got) != 1 || len(got[0]) != 1 || got[0][0].Path != "Release" {
		t.Errorf("%+v", got)
	}
	for size, fits := range map[int64]bool{5: true, 4: false, UnknownSize: false} {
		if (Entry{Size: 5}).Fits(size) != fits || !(Entry{Size: UnknownSize}).Fits(size) {
			t.Errorf("%d bytes of 5, or of a size that is not told", size)
		}
	}
}

// Of a package only what lies among a client's keyrings is taken, as plain files of some size and
// number.
func TestKeyringsOfAPackage(t *testing.T) {
	where := []string{"/usr/share/keyrings", "/etc/apt/keyrings"}
	for name, at := range map[string]string{
		"./usr/share/keyrings/tarn.gpg": "usr/share/keyrings/tarn.gpg",
		"/etc/apt/keyrings/a/b":         "etc/apt/keyrings/a/b",
		"usr/share/keyrings":            "", "usr/share/keyrings-old/x": "", "etc/apt/keyrings/../x": "",
		"../etc/apt/keyrings/x": "etc/apt/keyrings/x",
	} {
		if got, inside := Inside(name, where); inside != (at != "") || inside && got != at {
			t.Errorf("%s: %s %v", name, got, inside)
		}
	}
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	put := func(h tar.Header, data string) {
		h.Size = int64(len(data))
		must.Do(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(data))
		must.Do(t, err)
	}
	put(tar.Header{Name: "usr/bin/tarn", Typeflag: tar.TypeReg}, "elsewhere")
	put(tar.Header{Name: "usr/share/keyrings/link", Typeflag: tar.TypeSymlink, Linkname: "/etc/shadow"}, "")
	put(tar.Header{Name: "usr/share/keyrings/large", Typeflag: tar.TypeReg},
		strings.Repeat("x", MaxKeyring+1))
	put(tar.Header{Name: "usr/share/keyrings/whole", Typeflag: tar.TypeReg}, strings.Repeat("x", MaxKeyring))
	for i := range MaxKeyrings {
		put(tar.Header{Name: fmt.Sprint("usr/share/keyrings/", i), Typeflag: tar.TypeReg}, fmt.Sprint(i))
	}
	read := func(data []byte) (got []string, err error) {
		err = Keyrings(tar.NewReader(bytes.NewReader(data)), where, func(path string, data []byte) {
			got = append(got, fmt.Sprintf("%s %d", strings.TrimPrefix(path, "usr/share/keyrings/"),
				len(data)))
		})
		return got, err
	}
	got, err := read(b.Bytes())
	if err != nil || len(got) != MaxKeyrings || got[0] != fmt.Sprint("whole ", MaxKeyring) ||
		got[1] != "0 1" {
		t.Errorf("%v %v", got, err)
	}
	must.Do(t, w.Close())
	if _, err := read(b.Bytes()[:515]); err == nil {
		t.Error("a tar that is cut says nothing")
	}
	if got, err := read(nil); err != nil || len(got) != 0 {
		t.Errorf("nothing: %v %v", got, err)
	}
}

func TestPatternsOfADefinition(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		is            bool
	}{
		{"tide", "tide", true}, {"tide", "tides", false}, {"tide-*", "tide-log", true},
		{"*-dbg", "tide-dbg", true},
		{"t?de", "tide", true}, {"[st]ide", "side", true}, {"[", "[", false},
	} {
		if Matches(c.pattern, c.name) != c.is {
			t.Errorf("%s is about %s: %v", c.pattern, c.name, !c.is)
		}
	}
}

// What is read of a machine is bounded, and says where.
func TestWhatIsReadOfAMachineIsBounded(t *testing.T) {
	var r MachineReader
	if !r.Begin(&MachineFile{Name: "a.list", Data: make([]byte, maxMachineFile)}) ||
		len(r.Read.Findings) != 0 {
		t.Error("a file as long as may be is not read")
	}
	if r.Begin(&MachineFile{Name: "b.list", Data: make([]byte, maxMachineFile+1)}) {
		t.Error("a longer one is")
	}
	if f := r.Read.Findings[0]; f.Code != "content.too-large" || f.Place.File != "b.list" ||
		f.Place.Line != 0 {
		t.Errorf("%+v", f)
	}
	if at := r.Place(3); at.File != "b.list" || at.Line != 3 || at.Column != 1 {
		t.Errorf("%+v", at)
	}
	for range maxConfiguredSources {
		r.Take(ConfiguredSource{})
	}
	if got := r.Done(); len(got.Findings) != 1 || len(got.Sources) != maxConfiguredSources {
		t.Errorf("as many sources as may be: %v", got.Findings)
	}
	r.Take(ConfiguredSource{})
	if got := r.Done(); len(got.Findings) != 2 || len(got.Sources) != maxConfiguredSources {
		t.Errorf("more sources: %v", got.Findings)
	}
	var parts MachineReader
	for range 3 {
		parts.Take(ConfiguredSource{URLs: make([]string, maxConfiguredParts/2)})
	}
	if got := parts.Done(); len(got.Findings) != 1 || len(got.Sources) != 2 {
		t.Errorf("more addresses: %d sources, %v", len(got.Sources), got.Findings)
	}
	var told MachineReader
	for range finding.Most + 2 {
		told.Tell(finding.New("define.syntax", "", "no"), 1)
	}
	if got := told.Done().Findings; len(got) != finding.Most+1 ||
		got[finding.Most].Code != "define.too-many" {
		t.Errorf("%d findings are held", len(got))
	}
}
