package upstream

import (
	"context"
	"slices"
	"time"

	"stockade/core/finding"
	"stockade/core/trust"
)

// Examination is what a source's root says about certificates of which nothing was
// decided for it yet.
type Examination struct {
	Source   string        `json:"source"`
	RootDate time.Time     `json:"root_date,omitzero"`
	Upstream string        `json:"upstream,omitempty"`
	Says     string        `json:"says,omitempty"` // origin, suite and codename of the root
	Examined []ExaminedKey `json:"certificates"`
	Signed   int           `json:"signed"` // how many of them signed the root
}

// ExaminedKey is one certificate with whether it signed the root.
type ExaminedKey struct {
	Certificate *trust.Certificate `json:"certificate"`
	Signed      bool               `json:"signed"`
	SignsUntil  time.Time          `json:"signs_until,omitzero"` // zero: without end
	Findings    finding.List       `json:"findings"`
}

// MaxExamined bounds the certificates of one examination: the root is asked for anew
// for each.
const MaxExamined = 64

// Examine fetches the root of a source and tells which of the certificates signed it,
// as if each alone were vouched for. Nothing is decided or accepted by that: the
// builder's pool should be one that is thrown away, and the source should come without
// what was accepted before. The error says why the root could not be had.
func (b *Reader) Examine(ctx context.Context, src Source, certs []*trust.Certificate) (Examination, error) {
	out := Examination{Source: src.Name, Examined: []ExaminedKey{}}
	if len(certs) > MaxExamined {
		return out, finding.New(finding.ContentTooLarge, "source "+src.Name,
			"there are %d certificates; at most %d are examined at once", len(certs), MaxExamined)
	}
	policy := src.Keyring.Policy()
	quiet := *b
	quiet.Sink = nil
	for i, c := range certs {
		b.Tell(Event{Step: "examine", Text: c.Fingerprint, Files: i, FilesTotal: len(certs), Remaining: -1})
		alone := src
		alone.Unsigned = nil // that nobody signs it may have come to be untrue
		alone.Keyring = trust.NewKeyring(src.Name, []trust.Known{{Certificate: c,
			VouchedFor: []string{src.Name}}}, b.Now).Under(policy)
		x := ExaminedKey{Certificate: c, Findings: c.CheckBy(policy, b.Now())}
		x.SignsUntil, _ = c.SignsUntil(b.Now())
		pub, err := quiet.Refresh(ctx, &alone)
		switch f, judged := finding.From(err); {
		case err == nil:
			x.Signed = true
			out.Signed++
			out.RootDate, out.Upstream = pub.Root.Date, pub.Accepted.Upstream
			out.Says = joinedWith(", ", pub.Root.Origin, pub.Root.Suite, pub.Root.Codename)
		case judged && slices.Contains(aboutSigners, f.Code):
			if f.Cause != "unknown-key" { // it may have signed, and that does not count
				x.Findings = append(x.Findings, f)
			}
		default:
			return out, err
		}
		out.Examined = append(out.Examined, x)
	}
	return out, nil
}

// aboutSigners are the findings that refuse a root for who signed it.
var aboutSigners = []finding.Code{finding.KeyExpired, finding.KeyRevoked, finding.KeyBarred,
	finding.KeyCannotSign,
	finding.KeyWeak, finding.ContentSignatureBad, finding.ContentSignatureMissing}

func joinedWith(sep string, parts ...string) string {
	out := ""
	for _, p := range parts {
		switch {
		case p == "":
		case out == "":
			out = p
		default:
			out += sep + p
		}
	}
	return out
}
