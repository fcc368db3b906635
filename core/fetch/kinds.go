package fetch

import (
	"errors"
	"fmt"
	"time"

	"stockade/core/finding"
)

// Kind is how an upstream failed. It decides how it is told, and what is done about it.
type Kind string

// The kinds of failures.
const (
	Down    Kind = "down"    // it does not answer, or says that it cannot now
	Refused Kind = "refused" // it answers, and does not give the file
	Missing Kind = "missing" // it has no such file
	Slow    Kind = "slow"    // below the floor rate, or far below what others give
	Wrong   Kind = "wrong"   // it gave other bytes than those that are signed, or signed otherwise
)

// Kind tells how the upstream failed.
func (f *Failure) Kind() Kind {
	var p passing
	found, judged := finding.From(f.Err)
	switch {
	case errors.Is(f.Err, ErrNotFound):
		return Missing
	case errors.Is(f.Err, errSlow), errors.Is(f.Err, errOutrun):
		return Slow
	case judged && gaveWrong(found):
		return Wrong
	case errors.As(f.Err, &p):
		return Down
	}
	return Refused
}

// gaveWrong tells whether a finding is about what an upstream gave: not about the way to it, such as a
// credential or a redirect, and not about how old it is.
func gaveWrong(f finding.Finding) bool {
	switch f.Code {
	case finding.ContentSizeMismatch, finding.ContentDigestMismatch, finding.ContentIdentityMismatch,
		finding.ContentSignatureBad, finding.ContentTooLarge, finding.ContentAmbiguous,
		finding.ContentUnsafePath, finding.KeyUnvouched, finding.KeyBarred, finding.KeyRevoked,
		finding.KeyExpired, finding.SourceMalformedIndex, finding.SourceUnsigned,
		finding.SourceReleaseMismatch, finding.SourceOtherRepository:
		return true
	}
	return false
}

// Told is the failure as a finding of its source.
func (f *Failure) Told(source string) finding.Finding {
	code := finding.SourceUpstreamDown
	switch f.Kind() {
	case Wrong:
		code = finding.SourceUpstreamWrong
	case Slow:
		code = finding.SourceUpstreamSlow
	}
	text := fmt.Sprint(f.Err)
	if judged, ok := finding.From(f.Err); ok {
		text = judged.Text // what to do about it depends on whether another upstream has it right
	}
	return finding.New(code, "source "+source, "%s: %s", Shown(f.Upstream.URL), text)
}

// errOutrun is why a transfer is left while another upstream can be asked.
var errOutrun = errors.New("the upstream is far slower than another one would be")

const (
	// unmeasuredShare is what an upstream has to give (bytes a second) while another, of which nothing is
	// known, can be asked; and outrunBy, how much faster another has to be known to be.
	unmeasuredShare = 32 << 10
	outrunBy        = 8
)

// share is what an upstream has to give while others can be asked: a part of what the best of those gives.
func (c *Client) share(others []Upstream) float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	best, unknown := 0.0, false
	for _, u := range others {
		rate := c.spreading[u.URL].rate
		best, unknown = max(best, rate), unknown || rate == 0
	}
	if best == 0 && unknown {
		return unmeasuredShare
	}
	return best / outrunBy
}

// patience bounds how long a server that says when to come again is waited for.
const patience = 30 * time.Second

// soonest is how long until one of the upstreams is to be asked again.
func (c *Client) soonest(all []Upstream) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.opt.Now()
	wait := patience + 1
	for _, u := range all {
		wait = min(wait, max(c.down[u.URL].asked.Sub(now), 0))
	}
	if wait > patience {
		return 0 // nobody would wait for that
	}
	return wait
}
