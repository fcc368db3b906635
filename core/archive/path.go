package archive

import (
	"path"
	"strings"

	"stockade/core/finding"
)

// CheckPath refuses a path from outside that is not a plain relative path: no
// empty or dot segments, no backslash, no control or invisible characters, none
// at which a URL's path would end ("?", "#"), at most 1,024 bytes. The finding is
// content.unsafe-path.
func CheckPath(p string) error {
	bad := func(why string) error {
		return finding.New(finding.ContentUnsafePath, "", "the path %q %s", p, why)
	}
	switch {
	case p == "":
		return bad("is empty")
	case len(p) > 1024:
		return bad("is longer than 1,024 bytes")
	case p[0] == '/':
		return bad("is absolute")
	case strings.ContainsFunc(p, func(r rune) bool {
		return r < 0x20 || r == 0x7f || r == '\\' || r == 0xFFFD
	}), finding.Harmless(p) != p:
		return bad("contains a control character or a backslash")
	case strings.ContainsAny(p, "?#"):
		return bad("contains a character that ends the path of a URL: ? or #")
	}
	for _, seg := range strings.Split(p, "/") {
		switch {
		case seg == "" || seg == "." || seg == "..":
			return bad("has an empty part, or one of dots only")
		case len(seg) > 255:
			return bad("has a part longer than 255 bytes")
		}
	}
	if path.Clean(p) != p {
		return bad("is not in its shortest form")
	}
	return nil
}

// CheckHref is CheckPath for families whose clients put paths into URLs as they
// stand: there a "%" or a blank would mean something else than itself.
func CheckHref(p string) error {
	if strings.ContainsAny(p, "% ") {
		return finding.New(finding.ContentUnsafePath, "",
			"the path %q contains a character that clients interpret in a URL: a space or %%", p)
	}
	return CheckPath(p)
}
