package finding

import (
	"fmt"
	"slices"
	"strings"
)

// Cause is one of the things that a code can stand for, by a word that is as lasting as
// the code.
type Cause struct {
	Word string
	When string // when it is that
}

// causes are those of the codes that can stand for several things, one of which may go without.
var causes = map[Code][]Cause{
	ContentSignatureBad: {
		{"none", "there is no signature"},
		{"frame", "the clear-signed text is not one message and nothing else"},
		{"armour", "the armour of a signature is damaged"},
		{"malformed", "a signature is damaged, or of a kind that is not known"},
		{"foreign", "something else stands among the signatures"},
		{"too-many", "there are more signatures than are looked at"},
		{"type", "a signature is not one over a document"},
		{"notation", "a signature asks to be believed only by who understands something that is not known"},
		{"weak-digest", "a signature uses a digest that can be forged"},
		{"unknown-key", "a signature is by a key that nobody brought in"},
		{"changed", "a signature is over other content"},
		{"before-its-key", "a signature is dated before its key was made"},
		{"future", "a signature is dated in the future"},
		{"ended", "a signature has ended, by its own words"},
		{"header-alone", "a signature is over a package's header, which does not name the payload"},
		{"lost-blank", "a text to be signed has white space that clear-signing would lose"},
	},
	KeyUnreadable: {
		{"too-large", "it is larger than certificates are"},
		{"armour", "its armour is damaged"},
		{"kind", "its armour holds something else"},
		{"malformed", "it is no OpenPGP certificate"},
		{"keybox", "it is a keybox of GnuPG's that is damaged"},
		{"none", "there is no certificate in it"},
		{"too-many", "a part of it has more signatures than are looked at"},
		{"revocation", "a statement that withdraws a certificate was not made by it"},
	},
	SourceUnsigned: {
		{"ended", "that nobody signs it was acknowledged, and the acknowledgement has ended"},
		noneCounts,
	},
	KeyUnvouched: {noneCounts}, KeyMissing: {noneCounts}, KeyBarred: {noneCounts},
	KeyAwaitingSecond: {noneCounts},
}

// noneCounts is the cause of what follows from descriptions and decisions alone.
var noneCounts = Cause{"none-counts", "no key of a source counts, as it is described and decided"}

// Causes lists the causes that a code may have.
func Causes(code Code) []Cause { return slices.Clone(causes[code]) }

// Because returns f with its cause. It panics on one that the catalogue lacks for the
// code, as New does.
func (f Finding) Because(word string) Finding {
	if !slices.ContainsFunc(causes[f.Code], func(c Cause) bool { return c.Word == word }) {
		panic("finding: " + string(f.Code) + " has no cause " + word + " in the catalogue")
	}
	f.Cause = word
	return f
}

// causesDocument writes what the codes with several causes may stand for.
func causesDocument() string {
	var b strings.Builder
	b.WriteString("\n## Causes\n\n" +
		"Some codes stand for several things. Their findings say which, in `cause`.\n\n" +
		"| code | cause | when |\n|---|---|---|\n")
	for _, e := range Catalogue() {
		for _, c := range causes[e.Code] {
			fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", e.Code, c.Word, c.When)
		}
	}
	return b.String()
}
