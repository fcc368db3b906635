package header

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"io"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// File is a package file whose headers were read.
type File struct {
	Signature *Header
	Header    *Header
	Start     int64 // where the header begins (bytes)
	Payload   int64 // where the payload begins
}

// Open reads the headers of a package file from its beginning, and no further.
// Errors are content.malformed-package.
func Open(r io.Reader) (*File, error) {
	var lead [LeadSize]byte
	if _, err := io.ReadFull(r, lead[:]); err != nil ||
		!bytes.Equal(lead[:4], []byte{0xed, 0xab, 0xee, 0xdb}) {
		return nil, Malformed("it does not begin as an rpm file")
	}
	if kind := binary.BigEndian.Uint16(lead[6:]); kind != 0 {
		return nil, Malformed("it is a source package")
	}
	f := &File{}
	var err error
	if f.Signature, err = Read(r, maxSignatures); err != nil {
		return nil, err
	}
	size := int64(len(f.Signature.Blob))
	padding := (8 - size%8) % 8
	if _, err := io.CopyN(io.Discard, r, padding); err != nil {
		return nil, Malformed("it ends after its signatures")
	}
	f.Start = LeadSize + size + padding
	if f.Header, err = Read(r, MaxSize); err != nil {
		return nil, err
	}
	f.Payload = f.Start + int64(len(f.Header.Blob))
	return f, nil
}

// HeaderSignatures gives the signatures over the header, as packets one behind
// the other.
func (f *File) HeaderSignatures() []byte {
	var out []byte
	for _, s := range f.Signature.Strings(SigOpenPGP) {
		raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(s), ""))
		if err != nil {
			raw = []byte(s) // no signature, and none that was left out: it is to be refused
		}
		out = append(out, raw...)
	}
	if len(out) > 0 {
		return out
	}
	for _, tag := range []uint32{SigRSAHeader, SigDSAHeader} {
		out = append(out, f.Signature.Bytes(tag)...)
	}
	return out
}

// CheckDigests compares the digests that the package carries with what it is,
// and tells whether the header binds the payload.
func (f *File) CheckDigests(file io.ReadSeeker) (bound bool, err error) {
	changed := func(what string) error {
		return finding.New(finding.ContentDigestMismatch, "",
			"the package's %s does not match its own checksum",
			what)
	}
	if want := f.Signature.Text(SigSHA256Header); want != "" && want != sumOf(sha256.New(), f.Header.Blob) {
		return false, changed("header")
	}
	if want := f.Signature.Text(SigSHA1Header); want != "" && want != sumOf(sha1.New(), f.Header.Blob) {
		return false, changed("header")
	}
	type check struct {
		want string
		hash.Hash
	}
	var checks []check
	if want := f.Header.Text(TagPayloadDigest); want != "" {
		switch algo := f.Header.Number(TagPayloadAlgo); algo {
		case 0, 8:
			checks = append(checks, check{want, sha256.New()})
		case 10:
			checks = append(checks, check{want, sha512.New()})
		}
	}
	if want := f.Header.Text(TagPayloadSHA512); want != "" {
		checks = append(checks, check{want, sha512.New()})
	}
	if len(checks) == 0 {
		return false, nil
	}
	if _, err := file.Seek(f.Payload, io.SeekStart); err != nil {
		return false, err
	}
	var all []io.Writer
	for _, c := range checks {
		all = append(all, c)
	}
	if _, err := io.Copy(io.MultiWriter(all...), file); err != nil {
		return false, err
	}
	for _, c := range checks {
		if hex.EncodeToString(c.Sum(nil)) != strings.ToLower(c.want) {
			return false, changed("payload")
		}
	}
	return true, nil
}

// Lead writes the beginning of a package file, which readers look at for its magic alone.
func Lead(name string) []byte {
	b := make([]byte, LeadSize)
	copy(b, []byte{0xed, 0xab, 0xee, 0xdb, 3, 0, 0, 0, 0, 1})
	copy(b[10:75], name)
	b[77] = 1 // operating system
	b[79] = 5 // kind of signature: in headers
	return b
}

// Signatures writes the header of digests and signatures, padded. sign may
// be nil. Format 6 has its signatures as texts, and none of the old digests.
func Signatures(header []byte, payload int64, md []byte, sign archive.SigningKey,
	six bool) ([]byte, error) {
	w := &Writer{region: TagSignatures}
	if six {
		w.Text(SigSHA256Header, sumOf(sha256.New(), header))
		if sign != nil {
			raw, err := sign.DetachSign(header, false)
			if err != nil {
				return nil, err
			}
			w.Texts(SigOpenPGP, []string{base64.StdEncoding.EncodeToString(raw)})
		}
		return padded(w.Bytes()), nil
	}
	if sign != nil {
		raw, err := sign.DetachSign(header, false)
		if err != nil {
			return nil, err
		}
		w.Binary(SigRSAHeader, raw)
	}
	w.Text(SigSHA1Header, sumOf(sha1.New(), header))
	w.Text(SigSHA256Header, sumOf(sha256.New(), header))
	if total := int64(len(header)) + payload; total < 1<<32 {
		w.Int32s(SigSize, total)
	}
	w.Binary(SigMD5, md)
	return padded(w.Bytes()), nil
}

func padded(b []byte) []byte {
	for len(b)%8 != 0 {
		b = append(b, 0)
	}
	return b
}

func sumOf(h hash.Hash, data []byte) string {
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil))
}
