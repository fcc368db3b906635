package trust

import (
	"bytes"
	"encoding/binary"
)

// GnuPG's keyboxes (doc/DETAILS, "The keybox file format"): blobs with their length before
// them, the first of which says what the file is. Read are the certificates in them, as
// packets; their indexes and check sums, which GnuPG itself does not compare, are not.
const (
	keyboxMagic   = "KBXf"
	keyboxOpenPGP = 2
	maxBlobs      = 100_000
)

func isKeybox(data []byte) bool {
	return bytes.HasPrefix(data[min(len(data), 8):], []byte(keyboxMagic))
}

// unboxed gives the packets of each certificate of a keybox.
func unboxed(data []byte) (rings [][]byte, err error) {
	for n := 0; len(data) > 0; n++ {
		if len(data) < 5 {
			return nil, unreadable("keybox", "the keybox is truncated")
		}
		size := uint64(binary.BigEndian.Uint32(data))
		if size < 5 || size > uint64(len(data)) || n > maxBlobs {
			return nil, unreadable("keybox", "the keybox has a blob of %d bytes, but only %d "+
				"bytes are left", size,
				len(data))
		}
		blob := data[:size]
		data = data[size:]
		if blob[4] != keyboxOpenPGP {
			continue
		}
		if len(blob) < 16 {
			return nil, unreadable("keybox", "a certificate in the keybox is truncated")
		}
		at, length := uint64(binary.BigEndian.Uint32(blob[8:])), uint64(binary.BigEndian.Uint32(blob[12:]))
		if at+length > uint64(len(blob)) {
			return nil, unreadable("keybox", "a certificate in the keybox is truncated")
		}
		rings = append(rings, blob[at:at+length])
	}
	return rings, nil
}
