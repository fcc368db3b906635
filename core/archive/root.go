package archive

import "time"

// Source is what a family needs to know about the description of a repository.
type Source struct {
	Name          string   `json:"name"`
	Family        string   `json:"family"`
	Release       string   `json:"release"`
	Components    []string `json:"components"`
	Architectures []string `json:"architectures"`
	Languages     []string `json:"languages"` // of translated descriptions that a faithful copy takes along
}

// RootFile is a file that makes up a root.
type RootFile struct {
	Path string // relative to the upstream's base URL
	// Signs is the path of the file that this one is a signature of. Such a file
	// follows the one it signs: it is fetched when that one has changed.
	Signs string
}

// RootChoice is one way to get the root of a source. A family whose roots are
// several files (one for each architecture, say) names them all, each before
// the signature on it.
type RootChoice []RootFile

// Unsigned gives, of the ways to get a root, those that are left where nobody signs it: a
// root whose signature is a file of its own, without that file.
func Unsigned(choices []RootChoice) (out []RootChoice) {
	for _, c := range choices {
		var bare RootChoice
		for _, f := range c {
			if f.Signs == "" {
				bare = append(bare, f)
			}
		}
		if len(bare) < len(c) {
			out = append(out, bare)
		}
	}
	return out
}

// UnknownSize is the size of a file whose root names only its digest.
const UnknownSize = -1

// Entry is one file that a root names.
type Entry struct {
	Path           string // relative to the upstream's base URL
	Size           int64  // bytes, or UnknownSize
	SHA256, SHA512 string
}

// Fits tells whether a file of that many bytes may be the entry's.
func (e Entry) Fits(size int64) bool { return e.Size == size || e.Size == UnknownSize }

// Root is the signed beginning of a repository, read and verified.
type Root struct {
	Paths         []string // the files it was read from, relative to the base
	Names         []string // the releases it says it is
	Alias         bool     // the definition uses a name that moves
	Origin, Label string
	Suite         string
	Codename      string
	Version       string
	Date          time.Time
	Dates         map[string]time.Time // of single files, where a root is several that move apart
	Expires       time.Time            // zero: it does not say
	// Oldest is the date of the oldest file of a root that is several, and which
	// one that is: one that is held back is as old as that. Zero: the root is one.
	Oldest        time.Time
	OldestPath    string
	Components    []string
	Architectures []string
	ByHash        bool
	Entries       map[string]Entry // by path relative to the base
	Fields        map[string]string
	Signer        Signer
}
