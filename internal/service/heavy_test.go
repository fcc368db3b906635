package service

import (
	"archive/tar"
	"bytes"
	"fmt"
	"runtime"
	"runtime/metrics"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/must"
)

// packedFiles is a compressed archive of so many files of one content below a folder.
func packedFiles(t *testing.T, folder, ending, content string, n int) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := range n {
		must.Do(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(content)),
			Name: fmt.Sprintf("%s/x%d%s", folder, i, ending)}))
		_, err := w.Write([]byte(content))
		must.Do(t, err)
	}
	must.Do(t, w.Close())
	out, err := archive.Compress(b.Bytes(), "zst")
	must.Do(t, err)
	return out
}

// peak gives the most that the heap held (bytes) while something was done, beyond what it held before.
func peak(do func()) int64 {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	read := func() int64 { metrics.Read(sample); return int64(sample[0].Value.Uint64()) }
	runtime.GC()
	before, most := read(), int64(0)
	done, ended := make(chan bool), make(chan bool)
	go func() {
		defer close(ended)
		for {
			most = max(most, read())
			select {
			case <-done:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}()
	do()
	close(done)
	<-ended
	return most - before
}

// What the least of roles sends in one request is bounded in what it makes the service hold.
func TestOneRequestHoldsNoMoreThanItsShare(t *testing.T) {
	d := newDesk(t)
	const share = 320 << 20 // bytes; the machine files of before took 8 GiB, unknown keys 1.3 GB
	lines := strings.Repeat("deb http://a.example/x s c\n", (1<<20)/27)
	section := strings.Repeat("[x]\nbaseurl=http://a.example/x\n", (1<<20)/31)
	database := strings.Repeat("[x]\nServer=http://a.example/x\n", (1<<20)/30)
	words := func(format string, n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}
	import4 := func(folder, ending, content string) api.MachineFiles {
		packed := packedFiles(t, folder, ending, content, 60)
		return api.MachineFiles{Files: map[string][]byte{"a.tar.zst": packed, "b.tar.zst": packed,
			"c.tar.zst": packed, "d.tar.zst": packed}}
	}
	one := func(ending, content string) api.MachineFiles {
		return api.MachineFiles{Files: map[string][]byte{ending: []byte(content)}}
	}
	check := func(texts ...string) api.Documents {
		var d api.Documents
		for i, text := range texts {
			d.Documents = append(d.Documents, definition.Text{Name: fmt.Sprint(i, ".yaml"), Text: text})
		}
		return d
	}
	keys := "stockade: 1\n" + words("k%d: 1\n", 200_000)
	source := "{family: deb, release: x, architectures: [amd64], signed_by: [k], upstreams: "
	for name, c := range map[string]struct {
		path   string
		body   any
		status int
		says   string
	}{
		"archives of apt's files": {"/definitions/import",
			import4("etc/apt/sources.list.d", ".list", lines), 422,
			"content.too-large"},
		"archives of dnf's files": {"/definitions/import", import4("etc/yum.repos.d", ".repo", section), 422,
			"content.too-large"},
		"archives of pacman's files": {"/definitions/import", import4("etc/pacman.d", ".conf", database), 422,
			"content.too-large"},
		"one stanza of many sources": {"/definitions/import", one("etc/apt/sources.list.d/x.sources",
			"Types: deb\nURIs: "+words("http://a.example/%d ", 20_000)+"\nSuites: "+words("s%d ", 60_000)+
				"\nComponents: "+words("c%d ", 20_000)+"\n"), 200, "content.too-large"},
		"one file of many sources": {"/definitions/import", one("etc/apt/sources.list", lines), 200,
			"content.too-large"},
		"a list of two million items": {"/definitions/check",
			check("stockade: 1\nmirrors: {m: {want: {packages: [" + strings.Repeat("a,", 1_990_000) +
				"a]}}}"), 200,
			"define.too-many"},
		"fewer unknown keys": {"/definitions/check", check(keys[:len(keys)/2]), 200, "define.too-many"},
		"sources of nothing": {"/definitions/check", check("stockade: 1\nsources:\n" +
			words("  s%d: {}\n", 40_000)), 200, "define.too-many"},
		"packages that are none": {"/definitions/check",
			check("stockade: 1\nmirrors: {m: {copy: tailored, from: [s], want: {packages: [" +
				words("\"a >> %d\",", 100_000) + "]}}}"), 200, "define.too-many"},
		"upstreams of one source": {"/definitions/check",
			check("stockade: 1\nsources:\n  s: " + source + "[" +
				words("{url: \"http://a.example/%d\"},", 30_000) + "]}\n"), 200, ""},
		"sources alike": {"/definitions/check",
			check("stockade: 1\nsources:\n" + words("  s%d: "+source+"[{url: \"http://a.example/\"}]}\n",
				8_000)), 200, "define.too-many"},
		"pins": {"/definitions/check", check("stockade: 1\ngroups: {g: {family: deb, lane: l, pins: [" +
			words("\"a = %d\",", 100_000) + "]}}"), 200, ""},
	} {
		t.Run(name, func(t *testing.T) {
			begun := time.Now()
			held := peak(func() {
				w := d.ask(api.Viewer, "POST", c.path, c.body)
				if w.Code != c.status || !strings.Contains(w.Body.String(), c.says) {
					t.Errorf("got %d, want %d with %q: %.300s", w.Code, c.status, c.says, w.Body)
				}
			})
			t.Logf("%d MiB, %s", held>>20, time.Since(begun).Round(time.Millisecond))
			if held > share {
				t.Errorf("it made the service hold %d MiB, and %d are its share", held>>20, share>>20)
			}
		})
	}
}
