package archive

import (
	"bytes"
	"io"
	"runtime"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

func TestStreamsAreBoundedWhateverTheirCompression(t *testing.T) {
	plain := bytes.Repeat([]byte("tide "), 1<<18)
	for _, z := range []string{"", "gz", "xz", "zst"} {
		packed, err := Compress(plain, z)
		must.Do(t, err)
		read := func(data []byte, limit int64) ([]byte, error) {
			r, err := Decompress(bytes.NewReader(data), z, limit)
			if err != nil {
				return nil, err
			}
			defer r.Close()
			return io.ReadAll(r)
		}
		if got, err := read(packed, int64(len(plain))); err != nil || !bytes.Equal(got, plain) {
			t.Errorf("%q: %d bytes, %v", z, len(got), err)
		}
		got, err := read(packed, 1000)
		if f, _ := finding.From(err); f.Code != "content.too-large" || len(got) > 1000 {
			t.Errorf("%q over its limit: %d bytes, %v", z, len(got), err)
		}
		if z == "" {
			continue
		}
		for name, broken := range map[string][]byte{
			"cut short": packed[:len(packed)/2],
			"changed":   flip(packed, len(packed)/2),
			"nothing":   nil,
			"text":      []byte("this is no archive at all, only text"),
		} {
			if got, err := read(broken, 1<<30); err == nil && bytes.Equal(got, plain) {
				t.Errorf("%q %s was read as if it were whole", z, name)
			} else if err == nil {
				t.Errorf("%q %s gave %d bytes and no error", z, name, len(got))
			}
		}
	}
	if _, err := Decompress(nil, "rot13", 1); err == nil {
		t.Error("an unknown compression was accepted")
	}
}

func flip(b []byte, i int) []byte {
	b = bytes.Clone(b)
	b[i] ^= 0x55
	return b
}

func TestCompressingIsRepeatable(t *testing.T) {
	for _, z := range []string{"gz", "xz", "zst"} {
		a, err := Compress([]byte("the same text"), z)
		must.Do(t, err)
		b, err := Compress([]byte("the same text"), z)
		must.Do(t, err)
		if !bytes.Equal(a, b) {
			t.Errorf("%s gives different bytes for the same text", z)
		}
	}
}

func TestAFamilyIsRegisteredOnce(t *testing.T) {
	defer func() {
		if recover() == nil {
			t.Error("a family twice was not noticed")
		}
	}()
	NewRegistry(onlyName{}, onlyName{})
}

// onlyName is a family that has only a name.
type onlyName struct{ Family }

func (onlyName) Name() string { return "named" }

func FuzzDecompress(f *testing.F) {
	for _, z := range []string{"gz", "xz", "zst"} {
		packed, err := Compress([]byte("tide tide tide"), z)
		must.Do(f, err)
		f.Add(z, packed)
	}
	f.Add("bz2", []byte("BZh9"))
	f.Fuzz(func(t *testing.T, z string, data []byte) {
		r, err := Decompress(bytes.NewReader(data), z, 1<<20)
		if err != nil {
			return
		}
		defer r.Close()
		if n, _ := io.Copy(io.Discard, r); n > 1<<20 {
			t.Errorf("%d bytes came out", n)
		}
	})
}

func FuzzCheckPath(f *testing.F) {
	for _, p := range []string{"a/b", "../a", "a\\b", "a//b"} {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, p string) {
		if CheckPath(p) == nil && (strings.HasPrefix(p, "/") || strings.Contains("/"+p+"/", "/../") ||
			strings.ContainsAny(p, "\x00\n\\")) {
			t.Errorf("%q was accepted", p)
		}
	})
}

// 41 bytes that ask for a window of 128 MiB do not get it; what real compressors write is read.
func TestAShortStreamTakesLittleMemory(t *testing.T) {
	// a frame with a window descriptor of 128 MiB (RFC 8878, 3.1.1.1.2: exponent 17) and one raw block
	asks := append([]byte{0x28, 0xb5, 0x2f, 0xfd, 0x00, 17 << 3, 0x01 | 28<<3, 0, 0},
		bytes.Repeat([]byte("x"), 28)...)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	plain, err := Decompress(bytes.NewReader(asks), "zst", 1<<20)
	if err == nil {
		_, err = io.ReadAll(plain)
		plain.Close()
	}
	runtime.ReadMemStats(&after)
	if err == nil {
		t.Error("a window of 128 MiB was given to 37 bytes")
	}
	if took := after.TotalAlloc - before.TotalAlloc; took > 32<<20 {
		t.Errorf("%d MiB were taken", took>>20)
	}
	text := bytes.Repeat([]byte("sluicectl 2.4.1-1\n"), 1<<16)
	packed, err := Compress(text, "zst")
	must.Do(t, err)
	plain, err = Decompress(bytes.NewReader(packed), "zst", 8<<20)
	must.Do(t, err)
	got, err := io.ReadAll(plain)
	if err != nil || !bytes.Equal(got, text) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
}
