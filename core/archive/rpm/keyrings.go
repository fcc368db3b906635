package rpm

import (
	"bufio"
	"encoding/base64"
	"io"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/rpm/header"
)

var (
	_ archive.KeysBeside  = Family{}
	_ archive.KeyDatabase = Family{}
	_ archive.KeyPackages = Family{}
)

// BringsKeys implements archive.KeyPackages.
func (Family) BringsKeys(p *archive.Package) bool {
	return strings.HasSuffix(p.Name, "-gpg-keys") || strings.HasSuffix(p.Name, "-release") ||
		strings.HasSuffix(p.Name, "keyring")
}

// cpioHeader is the length of the head of each file in a payload (cpio(5), "New ASCII Format").
const cpioHeader = 110

// ReadKeys implements archive.KeyPackages, of payloads in the form that packages below 4 GiB
// have.
func (Family) ReadKeys(file io.ReadSeeker, yield func(path string, data []byte)) error {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	f, err := header.Open(file)
	if err != nil {
		return err
	}
	if _, err := file.Seek(f.Payload, io.SeekStart); err != nil {
		return err
	}
	packed := bufio.NewReader(file)
	magic, _ := packed.Peek(6)
	plain, err := archive.Decompress(packed, archive.Sniff(magic), archive.MaxKeyPackage)
	if err != nil {
		return err
	}
	defer plain.Close()
	for n := 0; n < archive.MaxKeyrings; {
		var head [cpioHeader]byte
		if _, err := io.ReadFull(plain, head[:]); err != nil {
			return header.Malformed("its payload is truncated: %v", err)
		}
		number := func(at int) (v int64) { // each has eight hexadecimal digits
			v, err = strconv.ParseInt(string(head[at:at+8]), 16, 64)
			return v
		}
		if m := string(head[:6]); m != "070701" && m != "070702" {
			return header.Malformed("its payload has an unknown format: %q", m)
		}
		mode, size, length := number(14), number(54), number(94)
		if err != nil || length < 1 || length > 4096 {
			return header.Malformed("a name in its payload has %d bytes", length)
		}
		name := make([]byte, length+(4-(cpioHeader+length)%4)%4)
		if _, err := io.ReadFull(plain, name); err != nil {
			return header.Malformed("its payload is truncated: %v", err)
		}
		called := string(name[:length-1])
		if called == "TRAILER!!!" {
			return nil
		}
		body := io.LimitReader(plain, size+(4-size%4)%4)
		if at, inside := archive.Inside(called, []string{"/etc/pki/rpm-gpg"}); inside && mode>>12 == 0o10 &&
			size <= archive.MaxKeyring {
			data := make([]byte, size)
			if _, err := io.ReadFull(body, data); err != nil {
				return header.Malformed("its payload is truncated: %v", err)
			}
			n++
			yield(at, data)
		}
		if _, err := io.Copy(io.Discard, body); err != nil {
			return header.Malformed("its payload is truncated: %v", err)
		}
	}
	return nil
}

// KeysBeside implements archive.KeysBeside.
func (Family) KeysBeside(archive.Source) []string { return []string{rootPath + ".key"} }

// KeyDatabases implements archive.KeyDatabase: rpm keeps its keyring as headers of packages
// that have no files (rpmkeys(8)), in one of these places.
func (Family) KeyDatabases() []string {
	return []string{"usr/lib/sysimage/rpm/rpmdb.sqlite", "var/lib/rpm/rpmdb.sqlite"}
}

// KeyRows implements archive.KeyDatabase.
func (Family) KeyRows() string {
	return "SELECT blob FROM Packages WHERE hnum IN (SELECT hnum FROM Name WHERE key = 'gpg-pubkey')"
}

// maxKeyHeader bounds the header of one key (bytes).
const maxKeyHeader = 4 << 20

// KeysOf implements archive.KeyDatabase: a header, without its magic, with the certificates
// as texts in base64.
func (Family) KeysOf(row []byte) ([]byte, error) {
	h, err := header.Stored(row, maxKeyHeader)
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, text := range h.Strings(header.TagPubkeys) {
		one, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return nil, header.Malformed("a key is not in base64: %v", err)
		}
		out = append(out, one...)
	}
	return out, nil
}
