// Package edition is about what a sealed edition is, apart from how it was built:
// its identity, what it says of itself, the manifest with its seal, opening and
// verifying it, laying it out as plain files, and the difference between two.
//
// It trusts the site keys that it is given, and nothing else: neither the folder in
// which an edition lies nor the pool with its files. What the seal does not lead to is
// not part of an edition. It builds nothing, and decides nothing about what may be in
// one.
package edition

import (
	"strconv"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/solve"
)

// ID names an edition: the site that sealed it, by the fingerprint of its key, the
// mirror, and the number, which counts from 1.
type ID struct {
	Site   string
	Mirror string
	Number int
}

// String gives MIRROR/NUMBER, which is the whole name within one site.
func (id ID) String() string { return id.Mirror + "/" + strconv.Itoa(id.Number) }

// ParseID reads MIRROR/NUMBER, or NUMBER alone where the mirror is known.
func ParseID(text, mirror string) (ID, error) {
	name, number, whole := strings.Cut(text, "/")
	if !whole {
		name, number = mirror, text
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || name == "" {
		return ID{}, finding.New(finding.DefineBadValue, "", "%q is not the name of an "+
			"edition, such as barrage/14", text)
	}
	return ID{Mirror: name, Number: n}, nil
}

// Formats that an edition can have, as its edition.json says it.
const (
	OneList      = 1 // the manifest lists every file
	ListBySource = 2 // the manifest lists a list for each source
	newest       = ListBySource
)

// Edition is what a sealed edition says of itself: about/edition.json.
type Edition struct {
	Format  int       `json:"stockade_edition"`
	Mirror  string    `json:"mirror"`
	Number  int       `json:"number"`
	Created time.Time `json:"created"`
	Copy    string    `json:"copy"`
	SiteKey string    `json:"site_key"` // fingerprint
	// Inputs is a digest over the basis, as far as it is known before anything is chosen, and the
	// publications: a build with the same inputs has nothing to do.
	Inputs string `json:"inputs"`
	// Content is a digest over packages, advisories and source packages.
	Content string `json:"content"`
	// Basis is what it was made from; nil: it was sealed before editions said so.
	Basis *Basis `json:"basis,omitempty"`
	// Because tells what is otherwise than in the edition before; empty: there was none.
	Because  []string `json:"because,omitempty"`
	Sources  []Source `json:"sources"`
	Packages int      `json:"packages"`
	// Journal is the signed head of the site's journal when the edition was made:
	// a journal that was put back to an earlier state contradicts it.
	Journal string `json:"journal,omitempty"`
	// Advisories is how many of upstream's are about packages in the edition.
	Advisories int          `json:"advisories,omitempty"`
	Findings   finding.List `json:"findings"`
	// Views are those of the groups that followed the mirror, and Proofs what was
	// proved, for them and for what no group sees.
	Views  []View        `json:"views,omitempty"`
	Proofs []solve.Proof `json:"proofs,omitempty"`
}

// ID gives the edition's identity.
func (e *Edition) ID() ID { return ID{Site: e.SiteKey, Mirror: e.Mirror, Number: e.Number} }

// Name gives MIRROR/NUMBER.
func (e *Edition) Name() string { return e.ID().String() }

// Source is what an edition says of one of its sources.
type Source struct {
	archive.Source
	Standing string `json:"standing"`
	Priority int    `json:"priority"`
	// SecurityFixes: it was described as a source of such, and each of its updates is one.
	SecurityFixes bool           `json:"security_fixes,omitempty"`
	Tailored      bool           `json:"tailored"`
	Origin        string         `json:"origin"`
	Label         string         `json:"label"` // upstream's; a tailored copy's is the source's name
	Suite         string         `json:"suite"`
	Codename      string         `json:"codename"`
	RootDate      time.Time      `json:"root_date"`
	RootDigest    string         `json:"root_digest"`
	Roots         []Index        `json:"roots,omitempty"` // the files of the root, kept in the edition
	Signer        archive.Signer `json:"signer"`
	Vouched       Vouch          `json:"vouched,omitzero"`  // who had said that the signer may
	Unsigned      Unsigned       `json:"unsigned,omitzero"` // that nobody signs it was acknowledged
	Upstream      string         `json:"upstream"`
	Streams       []string       `json:"streams,omitempty"` // module streams that were wanted
	Keys          []string       `json:"keys"`              // fingerprints that machines must trust for it
	Indexes       []Index        `json:"indexes"`
	Packages      int            `json:"packages"`
	// SourcePackages are those that the packages were built from, where they came along.
	SourcePackages int `json:"source_packages,omitempty"`
}

// Unsigned is who acknowledged that nobody signs the root of a source, why, and until when.
type Unsigned struct {
	Reason string    `json:"reason"`
	Until  time.Time `json:"until"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// Client gives the source as machines are told of it, without keys.
func (s Source) Client() archive.ClientSource {
	return archive.ClientSource{Source: s.Source, Priority: s.Priority, Tailored: s.Tailored,
		SourcePackages: s.SourcePackages > 0,
		Streams:        s.Streams, Origin: s.Origin, Label: s.Label, Suite: s.Suite, Codename: s.Codename}
}

// Index is an index of upstream's that the edition was made from.
type Index struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
}

// View is what the machines of a group were to see when an edition was made, and what
// it was proved for.
type View struct {
	Group         string   `json:"group"`
	Family        string   `json:"family"`
	Architectures []string `json:"architectures"`
	Foreign       []string `json:"foreign,omitempty"`
	Sources       []string `json:"sources"`
	Pins          []string `json:"pins,omitempty"`
	// Asked is what was asked of the proof beyond that: the roles and the baseline of the group's own.
	Asked string `json:"asked,omitempty"`
}
