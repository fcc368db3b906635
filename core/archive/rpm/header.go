package rpm

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"

	"stockade/core/finding"
)

// Limits on the headers of a package file.
const (
	leadSize    = 96
	maxEntries  = 65_536
	maxHeader   = 64 << 20 // bytes
	maxSigBytes = 4 << 20
	maxCount    = 2_000_000 // values of one entry, but bytes
	maxCounts   = 8_000_000 // values of all entries of a header, but bytes
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

// Tags that are read and written.
const (
	tagSignatures = 62 // region of the signature header
	tagImmutable  = 63 // region of the header
	tagI18NTable  = 100

	tagName           = 1000
	tagVersion        = 1001
	tagRelease        = 1002
	tagEpoch          = 1003
	tagSummary        = 1004
	tagDescription    = 1005
	tagBuildTime      = 1006
	tagBuildHost      = 1007
	tagSize           = 1009
	tagVendor         = 1011
	tagLicence        = 1014
	tagPackager       = 1015
	tagGroup          = 1016
	tagURL            = 1020
	tagOS             = 1021
	tagArch           = 1022
	tagFileSizes      = 1028
	tagFileModes      = 1030
	tagFileRDevs      = 1033
	tagFileMTimes     = 1034
	tagFileDigests    = 1035
	tagFileLinkTos    = 1036
	tagFileFlags      = 1037
	tagFileUser       = 1039
	tagFileGroup      = 1040
	tagSourceRPM      = 1044
	tagFileVerify     = 1045
	tagArchiveSize    = 1046
	tagProvideName    = 1047
	tagRequireFlags   = 1048
	tagRequireName    = 1049
	tagRequireVersion = 1050
	tagConflictFlags  = 1053
	tagConflictName   = 1054
	tagConflictVer    = 1055
	tagRPMVersion     = 1064
	tagChangeTime     = 1080
	tagChangeName     = 1081
	tagChangeText     = 1082
	tagObsoleteName   = 1090
	tagFileDevices    = 1095
	tagFileInodes     = 1096
	tagFileLangs      = 1097
	tagProvideFlags   = 1112
	tagProvideVersion = 1113
	tagObsoleteFlags  = 1114
	tagObsoleteVer    = 1115
	tagDirIndexes     = 1116
	tagBaseNames      = 1117
	tagDirNames       = 1118
	tagPayloadFormat  = 1124
	tagPayloadPacker  = 1125
	tagPayloadFlags   = 1126
	tagLongSize       = 5009
	tagDigestAlgo     = 5011
	tagRecommendName  = 5046
	tagSuggestName    = 5049
	tagSupplementName = 5052
	tagEnhanceName    = 5055
	tagEncoding       = 5062
	tagPayloadDigest  = 5092 // of the payload as it is packed
	tagPayloadAlgo    = 5093
	tagPayloadSHA512  = 5121
	tagFormat         = 5114 // 6 for packages of format 6

	sigDSAHeader    = 267
	sigRSAHeader    = 268
	sigSHA1Header   = 269
	sigSHA256Header = 273
	sigOpenPGP      = 278
	sigSize         = 1000
	sigPGP          = 1002 // over header and payload
	sigMD5          = 1004
	sigGPG          = 1005 // over header and payload
	sigPayloadSize  = 1007
)

// Flags of relations.
const (
	senseLess    = 1 << 1
	senseGreater = 1 << 2
	senseEqual   = 1 << 3
	sensePre     = 1<<6 | 1<<9 | 1<<10 | 1<<11 | 1<<12
	senseRPMLib  = 1 << 24
)

var headerMagic = []byte{0x8e, 0xad, 0xe8, 0x01, 0, 0, 0, 0}

func badPackage(format string, args ...any) error {
	return finding.New("content.malformed-package", "", "not a readable rpm package: "+format, args...)
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

// readHeader reads one header. limit bounds its size in bytes.
func readHeader(r io.Reader, limit int) (*Header, error) {
	var intro [16]byte
	if _, err := io.ReadFull(r, intro[:]); err != nil {
		return nil, badPackage("a header is cut short")
	}
	if !bytes.Equal(intro[:8], headerMagic) {
		return nil, badPackage("a header does not begin with its magic")
	}
	n, size := binary.BigEndian.Uint32(intro[8:]), binary.BigEndian.Uint32(intro[12:])
	if n == 0 || n > maxEntries || size > uint32(limit) {
		return nil, badPackage("a header of %d entries and %d bytes is beyond its bounds", n, size)
	}
	total := 16 + int64(n)*16 + int64(size)
	// Grown as it is read: a header that only claims to be large costs nothing.
	var buf bytes.Buffer
	buf.Write(intro[:])
	if got, err := io.CopyN(&buf, r, total-16); err != nil || got != total-16 {
		return nil, badPackage("a header is cut short")
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
			return nil, badPackage("the entry %d of a header is beyond its bounds", tag)
		}
		if width := uint64(widths[e.kind]); width > 0 && uint64(e.at)+width*uint64(e.count) > uint64(size) {
			return nil, badPackage("the entry %d of a header is beyond its bounds", tag)
		}
		if e.kind != typeBinary {
			if total += int64(e.count); e.count > maxCount || total > maxCounts {
				return nil, finding.New("content.too-large", "",
					"a header has more than %d values in one entry, or %d in all", maxCount, maxCounts)
			}
		}
		if _, twice := h.entries[tag]; twice {
			return nil, badPackage("the entry %d stands twice in a header", tag)
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
	var lead [leadSize]byte
	if _, err := io.ReadFull(r, lead[:]); err != nil ||
		!bytes.Equal(lead[:4], []byte{0xed, 0xab, 0xee, 0xdb}) {
		return nil, badPackage("it does not begin as one")
	}
	if kind := binary.BigEndian.Uint16(lead[6:]); kind != 0 {
		return nil, badPackage("it is a package of sources")
	}
	f := &File{}
	var err error
	if f.Signature, err = readHeader(r, maxSigBytes); err != nil {
		return nil, err
	}
	size := int64(len(f.Signature.Blob))
	padding := (8 - size%8) % 8
	if _, err := io.CopyN(io.Discard, r, padding); err != nil {
		return nil, badPackage("it ends behind its signatures")
	}
	f.Start = leadSize + size + padding
	if f.Header, err = readHeader(r, maxHeader); err != nil {
		return nil, err
	}
	f.Payload = f.Start + int64(len(f.Header.Blob))
	return f, nil
}

// EVR gives the version that a header says, as [EPOCH:]VERSION-RELEASE.
func (h *Header) EVR() string {
	epoch := ""
	if h.Has(tagEpoch) {
		epoch = itoa(h.Number(tagEpoch))
	}
	return joinEVR(epoch, h.Text(tagVersion), h.Text(tagRelease))
}

// headerWriter collects the entries of a header that is to be written.
type headerWriter struct {
	region  uint32
	entries []struct {
		tag uint32
		entry
	}
	data bytes.Buffer
}

func (w *headerWriter) put(tag, kind uint32, count int, data []byte) {
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

func (w *headerWriter) text(tag uint32, s string) { w.put(tag, typeString, 1, append([]byte(s), 0)) }

func (w *headerWriter) i18n(tag uint32, s string) {
	w.put(tag, typeI18NString, 1, append([]byte(s), 0))
}

func (w *headerWriter) texts(tag uint32, s []string) {
	if len(s) > 0 {
		w.put(tag, typeStringArray, len(s), []byte(strings.Join(s, "\x00")+"\x00"))
	}
}

func (w *headerWriter) int32s(tag uint32, n ...int64) {
	if len(n) == 0 {
		return
	}
	b := make([]byte, 0, 4*len(n))
	for _, v := range n {
		b = binary.BigEndian.AppendUint32(b, uint32(v))
	}
	w.put(tag, typeInt32, len(n), b)
}

func (w *headerWriter) int16s(tag uint32, n ...int64) {
	if len(n) == 0 {
		return
	}
	b := make([]byte, 0, 2*len(n))
	for _, v := range n {
		b = binary.BigEndian.AppendUint16(b, uint16(v))
	}
	w.put(tag, typeInt16, len(n), b)
}

func (w *headerWriter) binary(tag uint32, b []byte) { w.put(tag, typeBinary, len(b), b) }

// bytes writes the header with its magic. The entries must have been put in the
// order of their tags. All of it is one region, as the format asks.
func (w *headerWriter) bytes() []byte {
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
