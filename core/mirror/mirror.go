// Package mirror builds offline mirrors: from definitions to a sealed edition.
//
//	roots (signed) → indexes (digest) → packages → selection → proof → files (digest) → manifest → seal
//
// Roots and indexes are read by core/upstream, of which a Builder has a Reader. A byte is stored only when
// a chain stands behind it. Roots are believed through the keyring of their source, everything else through
// digests. What goes wrong comes back as findings; a build that fails leaves what was verified in the pool,
// and nothing else. What a key may sign, and which edition a lane shows, is not decided here.
package mirror

import (
	"time"

	"stockade/core/archive"
	"stockade/core/solve"
	"stockade/core/trust"
	"stockade/core/upstream"
)

// Builder builds what a Reader reads. All fields are needed, of the Reader but Log and Sink.
type Builder struct {
	upstream.Reader
	Site     *trust.SiteKey
	Editions string // folder of the editions
	Workers  int    // downloads at once; 8 if zero
	// LookAround is how long defined sources that are not in a mirror are waited for where fixes are looked
	// for in them; 12 s if zero.
	LookAround time.Duration
	Proof      solve.Limits
}

// signs gives the key that signs what a family's clients read. While the site has two, both
// sign where the clients take what a key signed that they do not know beside one that they
// do; elsewhere the older one does alone, which every machine knows, until it is retired.
func (b *Builder) signs(f archive.Family) *trust.SiteKey {
	if f.Rules().Cosigned {
		return b.Site
	}
	return b.Site.Alone()
}

func (b *Builder) workers() int {
	if b.Workers > 0 {
		return b.Workers
	}
	return 8
}
