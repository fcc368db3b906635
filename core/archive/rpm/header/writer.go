package header

import (
	"bytes"
	"encoding/binary"
	"strings"
)

// Writer collects the entries of a header that is to be written. They are put in
// the order of their tags, as the format asks.
type Writer struct {
	region  uint32
	entries []struct {
		tag uint32
		entry
	}
	data bytes.Buffer
}

// NewWriter begins a header that is one region: TagImmutable for a package's own, TagSignatures
// for the one of its signatures.
func NewWriter(region uint32) *Writer { return &Writer{region: region} }

func (w *Writer) put(tag, kind uint32, count int, data []byte) {
	width := 1
	if int(kind) < len(widths) && widths[kind] > 1 {
		width = widths[kind]
	}
	for w.data.Len()%width != 0 {
		w.data.WriteByte(0)
	}
	w.entries = append(w.entries, struct {
		tag uint32
		entry
	}{tag, entry{kind, uint32(count), uint32(w.data.Len())}})
	w.data.Write(data)
}

// Text puts one string.
func (w *Writer) Text(tag uint32, s string) { w.put(tag, typeString, 1, append([]byte(s), 0)) }

// I18n puts one string of the table of languages.
func (w *Writer) I18n(tag uint32, s string) {
	w.put(tag, typeI18NString, 1, append([]byte(s), 0))
}

// Texts puts a list of strings; nothing where it is empty.
func (w *Writer) Texts(tag uint32, s []string) {
	if len(s) > 0 {
		w.put(tag, typeStringArray, len(s), []byte(strings.Join(s, "\x00")+"\x00"))
	}
}

// Int32s puts numbers of 32 bits; nothing where there are none.
func (w *Writer) Int32s(tag uint32, n ...int64) {
	if len(n) == 0 {
		return
	}
	b := make([]byte, 0, 4*len(n))
	for _, v := range n {
		b = binary.BigEndian.AppendUint32(b, uint32(v))
	}
	w.put(tag, typeInt32, len(n), b)
}

// Int16s puts numbers of 16 bits; nothing where there are none.
func (w *Writer) Int16s(tag uint32, n ...int64) {
	if len(n) == 0 {
		return
	}
	b := make([]byte, 0, 2*len(n))
	for _, v := range n {
		b = binary.BigEndian.AppendUint16(b, uint16(v))
	}
	w.put(tag, typeInt16, len(n), b)
}

// Binary puts bytes as they are.
func (w *Writer) Binary(tag uint32, b []byte) { w.put(tag, typeBinary, len(b), b) }

// Bytes writes the header with its magic. All of it is one region, as the format asks.
func (w *Writer) Bytes() []byte {
	n := uint32(len(w.entries) + 1)
	trailer := binary.BigEndian.AppendUint32(nil, w.region)
	trailer = binary.BigEndian.AppendUint32(trailer, typeBinary)
	trailer = binary.BigEndian.AppendUint32(trailer, -(n * 16))
	trailer = binary.BigEndian.AppendUint32(trailer, 16)
	at := uint32(w.data.Len())
	out := bytes.Clone(headerMagic)
	out = binary.BigEndian.AppendUint32(out, n)
	out = binary.BigEndian.AppendUint32(out, at+16)
	line := func(tag, kind, at, count uint32) {
		out = binary.BigEndian.AppendUint32(out, tag)
		out = binary.BigEndian.AppendUint32(out, kind)
		out = binary.BigEndian.AppendUint32(out, at)
		out = binary.BigEndian.AppendUint32(out, count)
	}
	line(w.region, typeBinary, at, 16)
	for _, e := range w.entries {
		line(e.tag, e.kind, e.at, e.count)
	}
	out = append(out, w.data.Bytes()...)
	return append(out, trailer...)
}
