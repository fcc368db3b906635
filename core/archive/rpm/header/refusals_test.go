package header

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"strings"
	"testing"

	"stockade/internal/made/told"
	"stockade/internal/must"
)

// some is a header of a few values.
func some() []byte {
	w := NewWriter(TagImmutable)
	w.Text(TagName, "pumpctl")
	w.Texts(TagBaseNames, []string{"a", "bb"})
	w.Int32s(TagFileSizes, 7, 1<<31)
	w.Binary(SigPGP, []byte{1, 2, 3})
	return w.Bytes()
}

const bad = "content.malformed-package"

func TestEachRefusalOfAHeader(t *testing.T) {
	// The first line of the index is that of the region, the second that of the name.
	change := func(at int, to uint32) []byte {
		out := some()
		binary.BigEndian.PutUint32(out[at:], to)
		return out
	}
	const count, size, second = 8, 12, 16 + 16
	for _, c := range []struct {
		name string
		data []byte
		says string
	}{
		{"as it is", some(), ""},
		{"nothing", nil, "a header is truncated"},
		{"half a beginning", some()[:15], "a header is truncated"},
		{"a beginning alone", some()[:16], "a header is truncated"},
		{"cut at its end", some()[:len(some())-1], "a header is truncated"},
		{"another beginning", change(0, 0), "does not begin with its magic"},
		{"no entries", change(count, 0), "a header of 0 entries"},
		{"more entries than may be", change(count, maxEntries+1), "is over the limit"},
		{"more bytes than may be", change(size, MaxSize+1), "is over the limit"},
		{"a kind that is none", change(second+4, typeI18NString+1),
			"entry 1000 of a header is over the limit"},
		{"a place behind its end", change(second+8, 4000), "entry 1000 of a header is over the limit"},
		{"no value", change(second+12, 0), "entry 1000 of a header is over the limit"},
		{"more values than bytes may be", change(second+12, MaxSize+1),
			"entry 1000 of a header is over the limit"},
		{"one entry twice", change(second, TagImmutable), "occurs twice in a header"},
		{"numbers that run over its end", func() []byte {
			w := NewWriter(TagImmutable)
			w.put(TagFileSizes, typeInt32, 9, []byte{0, 0, 0, 1})
			return w.Bytes()
		}(), "is over the limit"},
	} {
		code := bad
		if c.says == "" {
			code = ""
		}
		_, err := Read(bytes.NewReader(c.data), MaxSize)
		told.Refused(t, c.name, err, code, c.says)
	}
	_, err := Read(bytes.NewReader(some()), 20)
	told.Refused(t, "beyond the bound that is given", err, bad, "is over the limit")
}

func TestAHeaderGivesWhatWasPut(t *testing.T) {
	h, err := Read(bytes.NewReader(some()), MaxSize)
	must.Do(t, err)
	if h.Text(TagName) != "pumpctl" || strings.Join(h.Strings(TagBaseNames), " ") != "a bb" ||
		h.Number(TagFileSizes) != 7 || !bytes.Equal(h.Bytes(SigPGP), []byte{1, 2, 3}) ||
		!bytes.Equal(h.Blob, some()) {
		t.Errorf("%q %q %d %v", h.Text(TagName), h.Strings(TagBaseNames), h.Number(TagFileSizes),
			h.Bytes(SigPGP))
	}
	if h.Text(TagFileSizes) != "" || h.Strings(SigPGP) != nil || h.Number(TagName) != 0 ||
		h.Bytes(TagName) != nil ||
		h.Text(TagVersion) != "" || h.Bytes(TagVersion) != nil || h.Number(TagVersion) != 0 {
		t.Error("a value of another kind, or none, is given")
	}
}

// packed makes a package file.
func packed(signatures, own *Writer, payload string) []byte {
	sig := signatures.Bytes()
	out := append(Lead("pumpctl"), sig...)
	out = append(out, make([]byte, (8-len(sig)%8)%8)...)
	return append(append(out, own.Bytes()...), payload...)
}

func TestEachRefusalOfAFile(t *testing.T) {
	own := func() *Writer {
		w := NewWriter(TagImmutable)
		w.Text(TagName, "pumpctl")
		return w
	}
	signatures := func() *Writer {
		w := NewWriter(TagSignatures)
		w.Text(SigSHA1Header, "x")
		return w
	}
	whole := packed(signatures(), own(), "payload")
	source := bytes.Clone(whole)
	source[7] = 1
	magic := bytes.Clone(whole)
	magic[3] = 0
	for _, c := range []struct {
		name string
		data []byte
		says string
	}{
		{"as it is", whole, ""},
		{"nothing", nil, "it does not begin as an rpm file"},
		{"half a beginning", whole[:LeadSize-1], "it does not begin as an rpm file"},
		{"another beginning", magic, "it does not begin as an rpm file"},
		{"a package of sources", source, "it is a source package"},
		{"no signatures", whole[:LeadSize], "a header is truncated"},
		{"nothing behind the signatures", whole[:LeadSize+len(signatures().Bytes())],
			"it ends after its signatures"},
		{"no header", whole[:LeadSize+(len(signatures().Bytes())+7)/8*8], "a header is truncated"},
	} {
		code := bad
		if c.says == "" {
			code = ""
		}
		f, err := Open(bytes.NewReader(c.data))
		told.Refused(t, c.name, err, code, c.says)
		if err == nil && (f.Header.Text(TagName) != "pumpctl" || string(whole[f.Payload:]) != "payload" ||
			!bytes.HasPrefix(whole[f.Start:], headerMagic)) {
			t.Errorf("%s: %+v", c.name, f)
		}
	}
}

// What a package says of itself by digests, and whether the header binds the payload.
func TestEachDigestOfAFile(t *testing.T) {
	const payload = "payload"
	hexOf := func(sum []byte) string { return hex.EncodeToString(sum) }
	two56, five12 := sha256.Sum256([]byte(payload)), sha512.Sum512([]byte(payload))
	header := func(digest string, algo int64, second string) *Writer {
		w := NewWriter(TagImmutable)
		w.Text(TagName, "pumpctl")
		if digest != "" {
			w.Texts(TagPayloadDigest, []string{digest})
		}
		if algo != 0 {
			w.Int32s(TagPayloadAlgo, algo)
		}
		if second != "" {
			w.Texts(TagPayloadSHA512, []string{second})
		}
		return w
	}
	good := hexOf(two56[:])
	of := func(w *Writer) (one, two string) {
		a, b := sha1.Sum(w.Bytes()), sha256.Sum256(w.Bytes())
		return hexOf(a[:]), hexOf(b[:])
	}
	for _, c := range []struct {
		name     string
		own      *Writer
		sha1, sh string // of the header; "right", "wrong", or none
		bound    bool
		says     string
	}{
		{"nothing", header("", 0, ""), "", "", false, ""},
		{"the payload", header(good, 0, ""), "", "", true, ""},
		{"the payload, by its algorithm", header(good, 8, ""), "", "", true, ""},
		{"the payload in capitals", header(strings.ToUpper(good), 8, ""), "", "", true, ""},
		{"the payload by SHA-512", header(hexOf(five12[:]), 10, ""), "", "", true, ""},
		{"the payload by both", header(good, 8, hexOf(five12[:])), "right", "right", true, ""},
		{"the payload by the second alone", header("", 0, hexOf(five12[:])), "", "", true, ""},
		{"an algorithm that nobody knows", header(good, 99, ""), "", "", false, ""},
		{"another payload", header(strings.Repeat("a", 64), 8, ""), "", "", false, "the package's payload"},
		{"another payload by the second", header(good, 8, strings.Repeat("a", 128)), "", "", false,
			"the package's payload"},
		{"another header by SHA-1", header(good, 8, ""), "wrong", "", false, "the package's header"},
		{"another header by SHA-256", header(good, 8, ""), "right", "wrong", false, "the package's header"},
	} {
		signatures := NewWriter(TagSignatures)
		signatures.Binary(SigPGP, []byte{1})
		one, two := of(c.own)
		for tag, d := range map[uint32][2]string{SigSHA1Header: {c.sha1, one}, SigSHA256Header: {c.sh, two}} {
			switch d[0] {
			case "right":
				signatures.Text(tag, d[1])
			case "wrong":
				signatures.Text(tag, strings.Repeat("0", len(d[1])))
			}
		}
		file := bytes.NewReader(packed(signatures, c.own, payload))
		f, err := Open(file)
		must.Do(t, err)
		bound, err := f.CheckDigests(file)
		code := ""
		if c.says != "" {
			code = "content.digest-mismatch"
		}
		told.Refused(t, c.name, err, code, c.says)
		if bound != c.bound {
			t.Errorf("%s: bound %v", c.name, bound)
		}
		if c.bound {
			if _, err := f.CheckDigests(broken{file, errDisk, nil}); !errors.Is(err, errDisk) {
				t.Errorf("%s, and cannot be read: %v", c.name, err)
			}
			if _, err := f.CheckDigests(broken{file, nil, errDisk}); !errors.Is(err, errDisk) {
				t.Errorf("%s, and cannot be found: %v", c.name, err)
			}
		}
	}
}

var errDisk = errors.New("the disk does not answer")

type broken struct {
	io.ReadSeeker
	read, seek error
}

func (b broken) Read(p []byte) (int, error) {
	if b.read != nil {
		return 0, b.read
	}
	return b.ReadSeeker.Read(p)
}

func (b broken) Seek(offset int64, whence int) (int64, error) {
	if b.seek != nil {
		return 0, b.seek
	}
	return b.ReadSeeker.Seek(offset, whence)
}

func TestWhichSignaturesAreOverTheHeader(t *testing.T) {
	for _, c := range []struct {
		name string
		put  func(w *Writer)
		want string
	}{
		{"none", func(*Writer) {}, ""},
		{"over the payload too", func(w *Writer) { w.Binary(SigPGP, []byte("p")) }, ""},
		{"of the older kinds", func(w *Writer) {
			w.Binary(SigDSAHeader, []byte("d"))
			w.Binary(SigRSAHeader, []byte("r"))
		}, "rd"},
		{"of the newer kind, which goes first", func(w *Writer) {
			w.Binary(SigRSAHeader, []byte("r"))
			w.Texts(SigOpenPGP, []string{base64.StdEncoding.EncodeToString([]byte("one")), "dH\ndv"})
		}, "onetwo"},
		{"of the newer kind, and no base64", func(w *Writer) {
			w.Binary(SigRSAHeader, []byte("r"))
			w.Texts(SigOpenPGP, []string{"!!"})
		}, "!!"},
	} {
		w := NewWriter(TagSignatures)
		c.put(w)
		w.Text(SigSHA1Header, "x")
		h, err := Read(bytes.NewReader(w.Bytes()), MaxSize)
		must.Do(t, err)
		if got := string((&File{Signature: h}).HeaderSignatures()); got != c.want {
			t.Errorf("%s: %q", c.name, got)
		}
	}
}
