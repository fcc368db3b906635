package archive

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"
	xzwriter "github.com/ulikunitz/xz"

	"stockade/core/finding"
)

// windowLimit bounds the memory that a compressed stream may ask for (128 MiB,
// the largest dictionary that the real compressors use by default is 64 MiB).
const windowLimit = 128 << 20

// A decoder takes the memory that the frame of a stream asks for before it reads on. One that is shorter
// than shortStream (bytes) has no use for more than every decoder has to have (RFC 8878, 3.1.1.1.2).
const (
	shortStream = 64 << 10
	shortWindow = 8 << 20
)

// Decompress wraps r with the reader for a compression ("", "gz", "xz", "zst"
// or "bz2") and stops with content.too-large after limit bytes of plain text.
// Close releases what the decompressor holds; it does not close r.
func Decompress(r io.Reader, compression string, limit int64) (io.ReadCloser, error) {
	plain, closer, err := open(r, compression)
	if err != nil {
		return nil, finding.New(finding.SourceMalformedIndex, "", "not readable as %s: %v",
			named(compression), err)
	}
	return &bounded{r: plain, left: limit, limit: limit, close: closer, kind: named(compression)}, nil
}

func named(compression string) string {
	if compression == "" {
		return "plain text"
	}
	return compression
}

func open(r io.Reader, compression string) (io.Reader, func(), error) {
	none := func() {}
	switch compression {
	case "":
		return r, none, nil
	case "gz":
		z, err := gzip.NewReader(bufio.NewReaderSize(r, 64<<10))
		return z, none, err
	case "xz":
		z, err := xz.NewReader(bufio.NewReaderSize(r, 64<<10), windowLimit)
		return z, none, err
	case "zst":
		// An empty input is no zstd frame, and the decoder takes it for an empty text.
		frame := bufio.NewReaderSize(r, shortStream)
		head, err := frame.Peek(shortStream)
		if len(head) < 4 {
			return nil, none, io.ErrUnexpectedEOF
		}
		window := uint64(windowLimit)
		if err != nil { // that is all there is
			window = shortWindow
		}
		z, err := zstd.NewReader(frame, zstd.WithDecoderMaxWindow(window), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, none, err
		}
		return z, z.Close, nil
	case "bz2":
		return bzip2.NewReader(bufio.NewReaderSize(r, 64<<10)), none, nil
	}
	return nil, none, fmt.Errorf("unknown compression %q", compression)
}

type bounded struct {
	r           io.Reader
	left, limit int64
	close       func()
	kind        string
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left < 0 {
		return 0, finding.New(finding.ContentTooLarge, "", "more than %d bytes come out of this %s stream",
			b.limit, b.kind)
	}
	if int64(len(p)) > b.left+1 {
		p = p[:b.left+1]
	}
	n, err := b.r.Read(p)
	b.left -= int64(n)
	if b.left < 0 {
		return n - 1, finding.New(finding.ContentTooLarge, "",
			"more than %d bytes come out of this %s stream",
			b.limit, b.kind)
	}
	if err != nil && err != io.EOF {
		if _, ok := finding.From(err); !ok {
			err = finding.New(finding.SourceMalformedIndex, "", "the %s stream is damaged: %v", b.kind, err)
		}
	}
	return n, err
}

func (b *bounded) Close() error { b.close(); return nil }

// Compress packs data as "", "gz", "xz" or "zst". The result depends on data alone.
func Compress(data []byte, compression string) ([]byte, error) {
	var out bytes.Buffer
	var w io.WriteCloser
	var err error
	switch compression {
	case "":
		return data, nil
	case "gz":
		w, err = gzip.NewWriterLevel(&out, gzip.BestCompression)
	case "xz":
		w, err = xzwriter.WriterConfig{DictCap: dictionary(len(data))}.NewWriter(&out)
	case "zst":
		w, err = zstd.NewWriter(&out, zstd.WithEncoderConcurrency(1))
	default:
		err = fmt.Errorf("archive: cannot write compression %q", compression)
	}
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// dictionary is what xz looks back for (bytes, a power of two): never further than there is text,
// as the tables for it, on both sides, are several times its size.
func dictionary(text int) int {
	size := 64 << 10
	for size < text && size < 8<<20 {
		size *= 2
	}
	return size
}

// Sniff tells the compression of a stream by its first bytes (six are enough);
// "" where it looks like none.
func Sniff(head []byte) string {
	for _, m := range []struct{ magic, compression string }{{"\x28\xb5\x2f\xfd", "zst"}, {"\xfd7zXZ\x00",
		"xz"}, {"\x1f\x8b", "gz"}, {"BZh", "bz2"}} {
		if bytes.HasPrefix(head, []byte(m.magic)) {
			return m.compression
		}
	}
	return ""
}
