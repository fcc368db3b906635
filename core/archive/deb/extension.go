package deb

import "strings"

// extensions are the well-known names of repositories that stand beside a
// release: CODENAME-security, and CODENAME/updates as security was called before.
var extensions = []string{"-security", "-updates", "-backports", "-proposed-updates", "/updates"}

// ServesRelease implements archive.Releases: a release serves itself, and its
// extensions serve it too.
func (Family) ServesRelease(said, release string) bool {
	if said == release {
		return true
	}
	for _, e := range extensions {
		if base, ok := strings.CutSuffix(said, e); ok && base == release {
			return true
		}
	}
	return false
}
