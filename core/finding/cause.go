package finding

import (
	"fmt"
	"slices"
	"strings"
)

// Cause is one of the reasons for which a code is reported. Scripts rely on its word as on the code.
type Cause struct {
	Word string
	When string // what is wrong, in a whole sentence
}

// causes lists the causes of each code that has several. A finding may have none of them.
var causes = map[Code][]Cause{
	ContentSignatureBad: {
		{"none", "There is no signature."},
		{"frame", "The file is not exactly one clear-signed message."},
		{"armour", "The ASCII armor of a signature is damaged."},
		{"malformed", "A signature is damaged, or of an unknown type."},
		{"foreign", "The file with the signatures contains something else."},
		{"too-many", "There are more signatures than Stockade checks."},
		{"type", "The signature type is not a signature over a document."},
		{"notation", "The signature has a critical notation that Stockade does not know."},
		{"weak-digest", "The signature uses a digest that can be forged."},
		{"unknown-key", "The key that made the signature was never imported."},
		{"changed", "The signature was made over other content."},
		{"before-its-key", "The signature is dated before its key was created."},
		{"future", "The signature is dated in the future."},
		{"ended", "The signature has expired."},
		{"header-alone",
			"The signature covers the package header only, and the header has no digest of the payload."},
		{"lost-blank", "The text to sign has white space that clear-signing would lose."},
	},
	KeyUnreadable: {
		{"too-large", "The file is larger than a certificate may be."},
		{"armour", "The ASCII armor is damaged."},
		{"kind", "The ASCII armor contains something else."},
		{"malformed", "The file is not an OpenPGP certificate."},
		{"keybox", "The file is a damaged GnuPG keybox."},
		{"none", "The file contains no certificate."},
		{"too-many", "A part of the certificate has more signatures than Stockade checks."},
		{"revocation", "A revocation was not made by the certificate that it revokes."},
	},
	SourceUnsigned: {
		{"ended", "The acceptance of the source as unsigned has expired."},
		noneCounts,
	},
	KeyUnvouched: {noneCounts}, KeyMissing: {noneCounts}, KeyBarred: {noneCounts},
	KeyAwaitingSecond: {noneCounts},
}

// noneCounts is the cause of findings that follow from definitions and decisions alone.
var noneCounts = Cause{"none-counts", "No key of the source counts, by the definition and the decisions."}

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
		"Some codes have several causes. The field `cause` of the finding names the cause.\n\n" +
		"| code | cause | meaning |\n|---|---|---|\n")
	for _, e := range Catalogue() {
		for _, c := range causes[e.Code] {
			fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", e.Code, c.Word, c.When)
		}
	}
	return b.String()
}
