package pool

import (
	"bytes"
	"compress/zlib"
	"crypto/md5"
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

func packed(t *testing.T, data []byte, level int) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := zlib.NewWriterLevel(&b, level)
	must.Do(t, err)
	if _, err := w.Write(data); err != nil {
		t.Fatal(err)
	}
	must.Do(t, w.Close())
	return b.Bytes()
}

func says(data []byte) Meaning {
	return Meaning{Transform: "zlib", Most: 1 << 20, Digest: Digest{SHA256, sum(data)},
		Unpack: func(r io.Reader) (io.Reader, error) { return zlib.NewReader(r) }}
}

// What nothing stands behind is refused before a byte of it is asked for.
func TestNothingEntersWithoutAuthority(t *testing.T) {
	broken := says(sent)
	broken.Transform = "../etc"
	weak := says(sent)
	weak.Digest = Digest{MD5, fmt.Sprintf("%x", md5.Sum(sent))}
	endless := says(sent)
	endless.Most = 0
	for name, want := range map[string]Want{
		"nothing":                  {Size: 19},
		"an empty digest":          {Size: 19, Authority: Authority{Digests: []Digest{{SHA256, ""}}}},
		"upper case":               {Size: 19, Authority: ByDigest(strings.ToUpper(sum(sent)), "")},
		"a path":                   {Size: 19, Authority: ByDigest("../../"+sum(sent)[6:], "")},
		"too short":                {Size: 19, Authority: ByDigest(sum(sent)[:62], "")},
		"a digest of another kind": {Size: 19, Authority: ByDigest("", sum(sent))},
		"an unknown kind":          {Size: 19, Authority: Authority{Digests: []Digest{{"crc", sum(sent)}}}},
		"weak alone":               {Size: 19, Authority: Authority{Digests: []Digest{weak.Digest}}},
		"two digests of one kind": {Size: 19,
			Authority: Authority{Digests: []Digest{{SHA256, sum(sent)}, {SHA256, sum(nil)}}}},
		"a size that is none":         {Size: -2, Authority: ByDigest(sum(sent), "")},
		"a transform that is a path":  {Size: -1, Authority: ByMeaning(broken)},
		"a meaning by a weak digest":  {Size: -1, Authority: ByMeaning(weak)},
		"a meaning without any bound": {Size: -1, Authority: ByMeaning(endless)},
	} {
		t.Run(name, func(t *testing.T) {
			d := open(t)
			_, err := d.Ingest(want, func(s Sink) error { t.Error("it was asked for"); return give(sent)(s) },
				nil)
			if f, _ := finding.From(err); f.Code != "content.weak-digest" {
				t.Errorf("%v", err)
			}
			if _, ok := d.Find(want); ok {
				t.Error("it is found")
			}
		})
	}
}

func TestAWeakDigestBesideAStrongOneMustBeRightToo(t *testing.T) {
	right := Digest{MD5, fmt.Sprintf("%x", md5.Sum(sent))}
	wrong := Digest{MD5, fmt.Sprintf("%x", md5.Sum(nil))}
	for _, c := range []struct {
		beside Digest
		code   string
	}{{right, ""}, {wrong, "content.digest-mismatch"}} {
		_, err := open(t).Ingest(Want{Size: 19, Authority: Authority{
			Digests: []Digest{{SHA256, sum(sent)}, c.beside}}}, give(sent), nil)
		if f, _ := finding.From(err); string(f.Code) != c.code {
			t.Errorf("%v: %v", c.beside, err)
		}
	}
}

func TestASignatureAloneCanStandBehindAFile(t *testing.T) {
	d := open(t)
	by := func(content io.ReadSeeker) error {
		data, err := io.ReadAll(content)
		if err != nil {
			return err
		}
		if !bytes.Equal(data, sent) {
			return finding.New("content.signature-bad", "", "it is over another sent")
		}
		return nil
	}
	want := Want{Name: "news", Size: -1, Authority: BySignature(by)}
	_, err := d.Ingest(want, give([]byte("another sent")), nil)
	if f, _ := finding.From(err); f.Code != "content.signature-bad" {
		t.Fatalf("%v", err)
	}
	got, err := d.Ingest(want, give(sent), nil)
	if err != nil || got != sum(sent) {
		t.Fatalf("%s %v", got, err)
	}
	if _, ok := d.Find(want); ok {
		t.Error("a signature names no bytes: nothing can be found by it")
	}
}

// The bytes differ from one time to the next, what they say does not.
func TestAFileIsKnownByWhatItSays(t *testing.T) {
	d := open(t)
	small, large := packed(t, sent, zlib.BestCompression), packed(t, sent, zlib.NoCompression)
	want := Want{Name: "object", Size: -1, Authority: ByMeaning(says(sent))}
	_, err := d.Ingest(want, give(packed(t, []byte("something else"), 6)), nil)
	if f, _ := finding.From(err); f.Code != "content.digest-mismatch" {
		t.Fatalf("%v", err)
	}
	_, err = d.Ingest(want, give([]byte("not packed at all")), nil)
	if f, _ := finding.From(err); f.Code != "content.digest-mismatch" ||
		!strings.Contains(f.Text, "cannot be unpacked") {
		t.Fatalf("%v", err)
	}
	got, err := d.Ingest(want, give(small), nil)
	if err != nil || got != sum(small) {
		t.Fatalf("%s %v", got, err)
	}
	again, err := d.Ingest(want, func(s Sink) error { t.Error("fetched again"); return give(large)(s) }, nil)
	if err != nil || again != got {
		t.Errorf("%s %v", again, err)
	}
	bomb := says(make([]byte, 2<<20))
	_, err = d.Ingest(Want{Name: "bomb", Size: -1, Authority: ByMeaning(bomb)},
		give(packed(t, make([]byte, 2<<20), 9)), nil)
	if f, _ := finding.From(err); f.Code != "content.too-large" {
		t.Errorf("%v", err)
	}
}

// What was admitted and not yet durable when the power failed stays if it is whole,
// and is forgotten if it is not.
func TestWhatWasReadyIsTakenOverIfItIsWhole(t *testing.T) {
	d := open(t)
	whole, err := d.Add(sent)
	must.Do(t, err)
	half, err := d.Add([]byte("of this the disk lost the end"))
	must.Do(t, err)
	if _, err := os.Stat(d.Path(whole)); !errors.Is(err, os.ErrNotExist) {
		t.Fatalf("it stands under its own name before it is durable: %v", err)
	}
	must.Do(t, errors.Join(os.Chmod(d.readyPath(half), 0o644), os.Truncate(d.readyPath(half), 7)))
	again, err := Open(d.root, d.tmp)
	must.Do(t, err)
	if size, ok := again.Has(whole); !ok || size != int64(len(sent)) {
		t.Error("what was whole is gone")
	}
	if _, err := os.Stat(again.Path(whole)); err != nil {
		t.Error(err)
	}
	if _, ok := again.Has(half); ok {
		t.Error("what the disk lost half of is there")
	}
	if _, err := again.Open(half); !errors.Is(err, ErrMissing) {
		t.Errorf("%v", err)
	}
}

func TestABatchIsMadeDurableByItself(t *testing.T) {
	d := open(t)
	var first string
	for i := range batchFiles {
		s, err := d.Add(fmt.Appendf(nil, "file %d", i))
		must.Do(t, err)
		if i == 0 {
			first = s
		}
	}
	if _, err := os.Stat(d.Path(first)); err != nil {
		t.Errorf("%d files are ready, and none is durable: %v", batchFiles, err)
	}
	if len(d.ready) != 0 {
		t.Errorf("%d are still to be made durable", len(d.ready))
	}
	n := 0
	if err := d.Each(func(string, int64) error { n++; return nil }); err != nil || n != batchFiles {
		t.Errorf("%d files, %v", n, err)
	}
}

func TestABlobGivesItsSizeAndAnyPartOfIt(t *testing.T) {
	d := open(t)
	name, err := d.Add(sent)
	must.Do(t, err)
	for _, durable := range []bool{false, true} {
		if durable {
			must.Do(t, d.Flush())
		}
		b, err := d.Open(name)
		must.Do(t, err)
		part := make([]byte, 4)
		if _, err := b.ReadAt(part, 5); err != nil || string(part) != "upst" || b.Size() != 19 {
			t.Errorf("%q of %d bytes, %v", part, b.Size(), err)
		}
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	}
	if _, err := d.Open(fmt.Sprintf("%x", sha512.Sum512(nil))[:64]); !errors.Is(err, ErrMissing) {
		t.Errorf("%v", err)
	}
}
