package archive

import (
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// maxName bounds the name of a package (bytes).
const maxName = 256

// CheckName refuses the name of a package that is not made of letters and digits
// of ASCII and the marks that names have (". _ + @ ~ -"), begins with another
// mark than "_", "+" or "@", or is longer than 256 bytes. People hand names on
// to other programs, and write them into files of machines: nothing in one may
// mean more than itself there. The finding is content.bad-name.
func CheckName(name string) error {
	bad := func(why string) error {
		return finding.New(finding.ContentBadName, "", "the name %q %s", text.Cut(name, 80), why)
	}
	switch {
	case name == "":
		return bad("is empty")
	case len(name) > maxName:
		return bad("is longer than 256 bytes")
	}
	for i := range len(name) {
		switch c := name[i]; {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '_', c == '+', c == '@':
		case i > 0 && (c == '.' || c == '-' || c == '~'):
		default:
			return bad("contains a character that is not allowed in a package name")
		}
	}
	return nil
}

// Ambiguous is the refusal of something that we could read in one way and a
// client in another: content.ambiguous.
func Ambiguous(format string, args ...any) error {
	return finding.New(finding.ContentAmbiguous, "", format, args...)
}
