package archive

import (
	"slices"

	"stockade/core/finding"
)

// Rules is how the clients of a family choose among the packages that they see. The zero
// value is a client that takes the best priority that has a name, and of it the newest version.
type Rules struct {
	// InOrder: of repositories with one priority the client asks those first that its file names
	// first, and takes a package from the first one that has its name, whatever version it is.
	InOrder bool
	// NeverBack: the client ignores versions older than the installed one before it looks at
	// priorities. If the best source has only older versions, a newer one of a worse source is
	// taken. A client without this rule looks at the best source alone.
	NeverBack bool
	// CandidateOnly: for a dependency, the client considers only the candidate of each name. A
	// dependency that only another version satisfies stops the installation, unless somebody
	// names that version.
	CandidateOnly bool
	// FirstProvider: for a dependency that nothing chosen satisfies, the client takes the first
	// package that does, and does not try another one when that leads to a conflict.
	FirstProvider bool
	// OneArchitecture names the client, of several that the family has, that does not install
	// packages of one name for several architectures side by side. Empty: each does, as far as the
	// family says that they go together.
	OneArchitecture string
	// Pins is what a pin does on a machine.
	Pins PinEffect
	// Cosigned: the client accepts metadata with one good signature beside a signature of a key
	// that it does not know. Other clients refuse it, or ask.
	Cosigned bool
	// Older is what to do on a machine so that it accepts metadata that is older than what it
	// has. Empty: it accepts that by itself.
	Older string
}

// PinEffect is what a pin does on a machine that has not installed the package yet.
type PinEffect int

// The effects that clients' pins have.
const (
	// PinPrefers: the version of the pin is taken where a source has it; where none has, as if
	// there was no pin.
	PinPrefers PinEffect = iota
	// PinExcludes: no other version is seen at all.
	PinExcludes
	// PinHolds: what is installed stays; a machine without the package takes it as if there was
	// no pin.
	PinHolds
)

// Client is what a family is told of the machines that it configures a client for.
type Client struct {
	Architectures []string // their own, and those turned on beside it; nil: all that the sources have
	Sources       []ClientSource
	Pins          []Relation
}

// ClientSource is one source as the machine will see it.
type ClientSource struct {
	Source
	Priority int
	// Tailored tells that the site key signs; otherwise upstream's keys do.
	Tailored                       bool
	Streams                        []string // module streams that the mirror was made for
	SourcePackages                 bool     // source packages came along
	Origin, Label, Suite, Codename string   // as the served root says
	Keys                           []ClientKey
}

// ClientKey is a certificate that the client must trust for one source.
type ClientKey struct {
	Fingerprint string
	Binary      []byte
	Armoured    string
}

// Configuration is the effective configuration of a client: what it comes to see once the files
// that Stockade writes are on the machine. A family makes it from a Client. The view of a group,
// choice, proof, preview, the states of machines and the written files all start from this value;
// the writer of files only prints it.
type Configuration struct {
	// Repositories are in the order in which the client asks them.
	Repositories []Repository
	// Pins are versions that the client stays on, for packages of every architecture that it has.
	Pins []Relation
	// Unseen are sources, or components of one, that the client does not see, and why.
	Unseen []Unseen
	// Untrusted are fingerprints of keys that machines must not trust any more. They matter to
	// clients with one keyring for all sources, which keeps a key that no file names any more.
	Untrusted []string
}

// Repository is one repository as a client has it: a source, or one component of it where the
// client has a repository for each.
type Repository struct {
	// ClientSource has only the architectures and components that the repository is asked for.
	ClientSource
	// Component is the only component of the source that this repository has; empty: all.
	Component string
	// Rank decides between packages of one name: the lowest wins, and equal ranks compete by
	// version. See RankOf.
	Rank int
	// Recognised is by which records the client's settings recognise the repository, where
	// they give priorities to what they recognise. They depend on what the release metadata says.
	Recognised []string
}

// Unseen is a source, or one component of it, that a client does not see.
type Unseen struct {
	Source, Component string
	Why               string
}

// RankOf gives the rank of a repository of a priority at a place in the client's file (see
// Rules.InOrder; 0 where the place decides nothing).
func RankOf(priority, place int) int { return priority<<16 + place }

// Sees reports whether the client sees a component of a source; of "", any.
func (c Configuration) Sees(source, component string) bool {
	return slices.ContainsFunc(c.Repositories, func(r Repository) bool {
		return r.Name == source && (component == "" || r.Component == "" || r.Component == component)
	})
}

// BestFirst gives the sources of a client, best priority first, and each with those of its
// architectures that the machines have. suits tells whether packages of one architecture run on
// machines of another. Sources that have none are returned as unseen, with a finding for each.
func (c Client) BestFirst(suits func(packages, machine string) bool) (seen []ClientSource, unseen []Unseen,
	found finding.List) {
	for _, s := range c.Sources {
		if len(c.Architectures) > 0 {
			s.Architectures = slices.DeleteFunc(slices.Clone(s.Architectures), func(a string) bool {
				return !slices.ContainsFunc(c.Architectures, func(m string) bool { return suits(a, m) })
			})
			if len(s.Architectures) == 0 {
				why := "the source has no packages for " + finding.Names(c.Architectures, 5)
				unseen = append(unseen, Unseen{Source: s.Name, Why: why})
				found = append(found, finding.New(finding.SourceArchitectureMissing, "source "+s.Name,
					"%s: it is omitted from the files for machines", why).Rated(finding.Warning))
				continue
			}
		}
		seen = append(seen, s)
	}
	slices.SortStableFunc(seen, func(a, b ClientSource) int { return a.Priority - b.Priority })
	return seen, unseen, found
}

// ClientFiles configures a client and prints its files for a lane whose packages are found at an
// address. The findings are those of the configuration; errors among them, or a value that
// cannot stand in a file, are returned as the error.
func ClientFiles(f Configuring, c Client, lane, at string) ([]ClientFile, finding.List, error) {
	conf, found := f.Configure(c)
	if at := slices.IndexFunc(found, func(f finding.Finding) bool {
		return f.Severity == finding.Error
	}); at >= 0 {
		return nil, nil, found[at]
	}
	files, err := PrintFiles(f, conf, lane, at)
	return files, found, err
}

// PrintFiles prints the files of a configuration for a lane whose packages are found at an address.
func PrintFiles(f Configuring, conf Configuration, lane, at string) ([]ClientFile, error) {
	if err := CheckAddress(at); err != nil {
		return nil, err
	}
	if err := CheckWord("lane", lane); err != nil {
		return nil, err
	}
	if err := CheckWords("fingerprint", conf.Untrusted...); err != nil {
		return nil, err
	}
	return f.Print(conf, lane, at)
}
