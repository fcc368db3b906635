// Package header reads and writes the headers of an rpm package file (format 4 and 6): the
// lead, the header of signatures, and the header of the package itself, as values by tag.
//
// It trusts nothing: what it reads is bounded in bytes, entries and values, and an entry that
// points outside its header is refused. A package is compared with the digests that it carries
// itself; whether a signature
// holds, and whose it must be, is the family's question.
package header

import (
	"bytes"
	"encoding/binary"
	"io"

	"stockade/core/finding"
)

// Limits on the headers of a package file.
const (
	LeadSize      = 96
	maxEntries    = 65_536
	MaxSize       = 64 << 20 // bytes
	maxSignatures = 4 << 20
	maxCount      = 2_000_000 // values of one entry, but bytes
	maxCounts     = 8_000_000 // values of all entries of a header, but bytes
)

// Types of header entries (rpm's header format).
const (
	typeNull = iota
	typeChar
	typeInt8
	typeInt16
	typeInt32
	typeInt64
	typeString
	typeBinary
	typeStringArray
	typeI18NString
)

var headerMagic = []byte{0x8e, 0xad, 0xe8, 0x01, 0, 0, 0, 0}

// Malformed tells that a package file cannot be read, and why (content.malformed-package).
func Malformed(format string, args ...any) error {
	return finding.New(finding.ContentMalformedPackage, "", "not a readable rpm package: "+format, args...)
}

// entry is one line of a header's index.
type entry struct {
	kind, count uint32
	at          uint32
}

// Header is a header of a package file: values by tag.
type Header struct {
	Blob    []byte // as it stands in the file, with its magic: what header digests and signatures are over
	data    []byte
	entries map[uint32]entry
}

// Read reads one header. limit bounds its size in bytes.
func Read(r io.Reader, limit int) (*Header, error) {
	var intro [16]byte
	if _, err := io.ReadFull(r, intro[:]); err != nil {
		return nil, Malformed("a header is truncated")
	}
	if !bytes.Equal(intro[:8], headerMagic) {
		return nil, Malformed("a header does not begin with its magic")
	}
	n, size := binary.BigEndian.Uint32(intro[8:]), binary.BigEndian.Uint32(intro[12:])
	if n == 0 || n > maxEntries || size > uint32(limit) {
		return nil, Malformed("a header of %d entries and %d bytes is over the limit", n, size)
	}
	total := 16 + int64(n)*16 + int64(size)
	// Grown as it is read: a header that only claims to be large costs nothing.
	var buf bytes.Buffer
	buf.Write(intro[:])
	if got, err := io.CopyN(&buf, r, total-16); err != nil || got != total-16 {
		return nil, Malformed("a header is truncated")
	}
	h := &Header{Blob: buf.Bytes(), entries: make(map[uint32]entry, n)}
	h.data = h.Blob[16+16*n:]
	total = 0 // values that would be made of it
	for i := range n {
		line := h.Blob[16+16*i:]
		tag := binary.BigEndian.Uint32(line)
		e := entry{
			kind:  binary.BigEndian.Uint32(line[4:]),
			at:    binary.BigEndian.Uint32(line[8:]),
			count: binary.BigEndian.Uint32(line[12:]),
		}
		if e.kind > typeI18NString || e.at > size || e.count == 0 || e.count > uint32(limit) {
			return nil, Malformed("entry %d of a header is over the limit", tag)
		}
		if width := uint64(widths[e.kind]); width > 0 && uint64(e.at)+width*uint64(e.count) > uint64(size) {
			return nil, Malformed("entry %d of a header is over the limit", tag)
		}
		if e.kind != typeBinary {
			if total += int64(e.count); e.count > maxCount || total > maxCounts {
				return nil, finding.New(finding.ContentTooLarge, "",
					"a header has more than %d values in one entry, or %d in total", maxCount, maxCounts)
			}
		}
		if _, twice := h.entries[tag]; twice {
			return nil, Malformed("entry %d occurs twice in a header", tag)
		}
		h.entries[tag] = e
	}
	return h, nil
}

var widths = [...]int{
	typeChar:       1,
	typeInt8:       1,
	typeInt16:      2,
	typeInt32:      4,
	typeInt64:      8,
	typeBinary:     1,
	typeI18NString: 0,
}

// Stored reads a header as rpm's database has it: without its magic.
func Stored(row []byte, limit int) (*Header, error) {
	return Read(io.MultiReader(bytes.NewReader(headerMagic), bytes.NewReader(row)), limit)
}

// Strings gives the strings of a tag; nil where it is not there or is of
// another kind. Strings that run beyond the header end there.
func (h *Header) Strings(tag uint32) []string {
	e, ok := h.entries[tag]
	if !ok || e.kind != typeString && e.kind != typeStringArray && e.kind != typeI18NString {
		return nil
	}
	n := e.count
	if e.kind == typeString {
		n = 1
	}
	rest := h.data[e.at:]
	out := make([]string, 0, min(n, uint32(len(rest))+1))
	for range n {
		i := bytes.IndexByte(rest, 0)
		if i < 0 {
			return out
		}
		out = append(out, string(rest[:i]))
		rest = rest[i+1:]
	}
	return out
}

// Text gives the first string of a tag, or "".
func (h *Header) Text(tag uint32) string {
	if s := h.Strings(tag); len(s) > 0 {
		return s[0]
	}
	return ""
}

// Numbers gives the numbers of a tag.
func (h *Header) Numbers(tag uint32) []int64 {
	e, ok := h.entries[tag]
	if !ok {
		return nil
	}
	out := make([]int64, 0, e.count)
	for i := range e.count {
		switch e.kind {
		case typeInt8, typeChar:
			out = append(out, int64(h.data[e.at+i]))
		case typeInt16:
			out = append(out, int64(binary.BigEndian.Uint16(h.data[e.at+2*i:])))
		case typeInt32:
			out = append(out, int64(binary.BigEndian.Uint32(h.data[e.at+4*i:])))
		case typeInt64:
			out = append(out, int64(binary.BigEndian.Uint64(h.data[e.at+8*i:])))
		default:
			return nil
		}
	}
	return out
}

// Number gives the first number of a tag, or 0.
func (h *Header) Number(tag uint32) int64 {
	if n := h.Numbers(tag); len(n) > 0 {
		return n[0]
	}
	return 0
}

// Bytes gives the bytes of a binary tag.
func (h *Header) Bytes(tag uint32) []byte {
	if e, ok := h.entries[tag]; ok && e.kind == typeBinary {
		return h.data[e.at : e.at+e.count]
	}
	return nil
}

// Has tells whether a tag is there.
func (h *Header) Has(tag uint32) bool {
	_, ok := h.entries[tag]
	return ok
}
