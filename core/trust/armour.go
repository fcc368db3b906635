package trust

import (
	"bytes"
	"encoding/base64"
	"errors"
	"strings"
)

// checkArmour compares the checksums of the armoured blocks in a text with what
// the blocks hold (RFC 9580 §6.1). A block may have none; one that is there and
// wrong makes other programs refuse the block, so it is refused here.
func checkArmour(text []byte) error {
	var body []byte
	sum := ""
	const (
		outside = iota
		headers
		inside
	)
	state := outside
	for line := range bytes.Lines(text) {
		l := strings.TrimRight(string(line), " \t\r\n")
		switch {
		case strings.HasPrefix(l, "-----BEGIN PGP ") && l != signedHeader:
			state, body, sum = headers, nil, ""
		case state == headers && l == "":
			state = inside
		case state == inside && strings.HasPrefix(l, "-----END PGP "):
			if err := checkSum(body, sum); err != nil {
				return err
			}
			state = outside
		case state == inside && sum == "" && len(l) == 5 && l[0] == '=':
			sum = l[1:]
		case state == inside:
			body = append(body, l...)
		}
	}
	return nil
}

func checkSum(body []byte, sum string) error {
	if sum == "" {
		return nil
	}
	data, err := base64.StdEncoding.DecodeString(string(body))
	want, werr := base64.StdEncoding.DecodeString(sum)
	if err != nil || werr != nil || len(want) != 3 {
		return errors.New("its checksum cannot be read")
	}
	crc := uint32(0xb704ce)
	for _, b := range data {
		crc ^= uint32(b) << 16
		for range 8 {
			if crc <<= 1; crc&0x1000000 != 0 {
				crc ^= 0x1864cfb
			}
		}
	}
	if crc&0xffffff != uint32(want[0])<<16|uint32(want[1])<<8|uint32(want[2]) {
		return errors.New("its checksum does not match")
	}
	return nil
}
