package trust

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/clearsign"

	"stockade/core/finding"
)

// Statement is what one site says to others that it has decided about keys: whom it has
// vouched for, for which sources, and whom it has barred, with their certificates. It is
// signed with the site's key, and counts as evidence at a site whose warden has paired the
// two; it decides nothing by itself.
type Statement struct {
	Format      int         `json:"stockade_statement"` // 1
	Site        string      `json:"site"`               // fingerprint of the site's key
	With        []string    `json:"with,omitempty"`     // of the key that follows it, while both sign
	Certificate string      `json:"certificate"`        // of the site's key, armoured
	At          time.Time   `json:"at"`
	Vouches     []Stated    `json:"vouches"`
	Bars        []StatedBar `json:"bars"`
	// Certificates are those of all these keys, armoured.
	Certificates string `json:"certificates"`
}

// Stated is one vouch, with what the source is over there.
type Stated struct {
	Fingerprint string    `json:"fingerprint"`
	Source      string    `json:"source"`
	Family      string    `json:"family"`
	Release     string    `json:"release,omitempty"`
	Evidence    string    `json:"evidence"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`
}

// StatedBar is one bar.
type StatedBar struct {
	Fingerprint string    `json:"fingerprint"`
	Reason      string    `json:"reason"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`
}

// Limits on a statement.
const (
	statementFormat = 1
	maxStatement    = 16 << 20 // bytes
	maxStated       = 20_000   // vouches, and bars
	maxStatedText   = 4096     // bytes of an evidence or a reason
)

// PairedSource is what a paired site is called where a source stands in a decision: no
// source can be called so. A key that is vouched for it is that site's own.
func PairedSource(site string) string { return "site/" + site }

// PairedSite gives the name of the paired site that a decision is about; "" where it is about
// a source.
func PairedSite(source string) string {
	name, ok := strings.CutPrefix(source, "site/")
	if !ok {
		return ""
	}
	return name
}

// State signs a statement.
func (s *SiteKey) State(st Statement) ([]byte, error) {
	st.Format, st.Site = statementFormat, s.Certificate().Fingerprint
	st.With = s.Fingerprints()[1:]
	st.Certificate = s.Certificate().Armoured()
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(st); err != nil {
		return nil, err
	}
	return s.Clearsign(text.Bytes())
}

func badStatement(format string, args ...any) error {
	return finding.New(finding.StatementUnreadable, "", format, args...)
}

// ReadStatement reads a statement that a key of a keyring signed (RFC 9580 §7). The
// keyring is that of paired sites: the name of the one that made it comes from who signed.
func ReadStatement(data []byte, paired *Keyring) (Statement, error) {
	if len(data) > maxStatement {
		return Statement{}, badStatement("the statement is larger than %d MiB", maxStatement>>20)
	}
	text, by, err := paired.Clearsigned(data)
	if f, ok := finding.From(err); ok {
		if f.Cause == "unknown-key" {
			return Statement{}, finding.New(finding.StatementUnpaired, "",
				"no paired site signed the statement: %s",
				f.Text)
		}
		f.Object = "" // it is of no source
		return Statement{}, f
	}
	if err != nil {
		return Statement{}, err
	}
	st, err := parseStatement(text)
	if err == nil && !slices.ContainsFunc(append([]string{st.Site}, st.With...), by.Is) {
		err = badStatement("the statement says that it is from the site %s, but %s signed it",
			finding.Harmless(st.Site),
			by.Fingerprint)
	}
	return st, err
}

// WhoStates gives the certificate that a statement says is its site's, where that
// certificate signed it. Whose it is, nothing tells: its fingerprint has to be compared.
func WhoStates(data []byte, now func() time.Time) (*Certificate, error) {
	if len(data) > maxStatement {
		return nil, badStatement("the statement is larger than %d MiB", maxStatement>>20)
	}
	block, _ := clearsign.Decode(data)
	if block == nil {
		return nil, badStatement("the file is not a clear-signed text")
	}
	unproved, err := parseStatement(block.Plaintext)
	if err != nil {
		return nil, err
	}
	certs, err := ReadCertificates([]byte(unproved.Certificate))
	if err != nil {
		return nil, err
	}
	if len(certs) != 1 || certs[0].Fingerprint != unproved.Site {
		return nil, badStatement("the statement contains another certificate than that of its " +
			"site")
	}
	itself := NewKeyring("", []Known{{Certificate: certs[0], VouchedFor: []string{""}}}, now)
	if _, err := ReadStatement(data, itself); err != nil {
		return nil, err
	}
	return certs[0], nil
}

// IsStatement tells whether a file begins as a statement does.
func IsStatement(data []byte) bool {
	return bytes.HasPrefix(bytes.TrimSpace(data), []byte("-----BEGIN PGP SIGNED MESSAGE-----"))
}

func parseStatement(text []byte) (st Statement, err error) {
	if err := json.Unmarshal(text, &st); err != nil {
		return st, badStatement("the file is not a key statement: %v", err)
	}
	if st.Format != statementFormat {
		return st, badStatement("the statement has the format %d; this version of Stockade "+
			"reads format %d", st.Format, statementFormat)
	}
	if len(st.Vouches) > maxStated || len(st.Bars) > maxStated {
		return st, badStatement("the statement has more than %d decisions", maxStated)
	}
	if st.At.IsZero() {
		return st, badStatement("the statement has no date")
	}
	fits := func(fingerprint, text string) error {
		f, err := ParseFingerprint(fingerprint)
		switch {
		case err != nil || f != fingerprint:
			return badStatement("%q is not a fingerprint", fingerprint)
		case strings.TrimSpace(text) == "":
			return badStatement("the statement gives no reason for the decision about %s", fingerprint)
		case len(text) > maxStatedText:
			return badStatement("the statement has more than %d bytes of %s", maxStatedText, fingerprint)
		}
		return nil
	}
	if err := fits(st.Site, "its own"); err != nil {
		return st, err
	}
	for i, v := range st.Vouches {
		if err := fits(v.Fingerprint, v.Evidence); err != nil {
			return st, err
		}
		st.Vouches[i].Evidence, st.Vouches[i].By = finding.Harmless(v.Evidence), finding.Harmless(v.By)
	}
	for i, b := range st.Bars {
		if err := fits(b.Fingerprint, b.Reason); err != nil {
			return st, err
		}
		st.Bars[i].Reason, st.Bars[i].By = finding.Harmless(b.Reason), finding.Harmless(b.By)
	}
	return st, nil
}

// Here is what a source is at the site that takes a statement.
type Here struct {
	Family, Release string
	Named           []string // fingerprints that its definition names
	Policy          Policy
}

// What comes of a vouch that another site states.
const (
	WouldVouch = "vouch"  // it can be vouched for
	Stands     = "stands" // it is vouched for already
	Passed     = "passed" // it cannot, and why
)

// Considered is a vouch that another site states, with what comes of it here.
type Considered struct {
	Stated
	UserID  string `json:"user_id,omitempty"`
	Outcome string `json:"outcome" enum:"vouch,stands,passed"`
	Why     string `json:"why,omitempty"` // it is passed over
}

// Cited is the evidence that a vouch has which rests on a statement.
func (s Stated) Cited(site, fingerprint string, at time.Time) string {
	return fmt.Sprintf("stated by the site %s (%s) on %s: %s vouched for it on %s: %s", site, fingerprint,
		at.UTC().Format(time.DateOnly), s.By, s.At.UTC().Format(time.DateOnly), s.Evidence)
}

// Consider tells what comes here of each vouch that a statement states: a source of the same
// name has to be of the same family and release, and to name the key; and the key has to be
// one that can be vouched for. certificates are those that came with it.
func (d *Decisions) Consider(st Statement, here map[string]Here, certificates map[string]*Certificate,
	now time.Time) (out []Considered) {
	for _, v := range st.Vouches {
		c := Considered{Stated: v, Outcome: Passed}
		cert := certificates[v.Fingerprint]
		if cert != nil {
			c.UserID = cert.name()
		}
		src, known := here[v.Source]
		_, stands := d.Vouched(v.Fingerprint, v.Source)
		_, barred := d.Barred(v.Fingerprint)
		switch {
		case !known:
			c.Why = "no source of this name exists here"
		case src.Family != v.Family || src.Release != v.Release:
			c.Why = fmt.Sprintf("the source is %s there, and %s here", describedAs(v.Family, v.Release),
				describedAs(src.Family, src.Release))
		case cert == nil:
			c.Why = "the statement does not contain its certificate"
		case stands && !barred: // a barred key keeps its vouches, and they do not count
			c.Outcome = Stands
		default:
			err := d.MayVouch(cert, v.Source, src.Named, v.Evidence, src.Policy, now)
			if f, ok := finding.From(err); ok {
				c.Why = f.Text
			} else {
				c.Outcome = WouldVouch
			}
		}
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(a, b Considered) int { return strings.Compare(a.Source, b.Source) })
	return out
}

func describedAs(family, release string) string {
	return strings.TrimSpace(finding.Harmless(family + " " + release))
}
