// Package upstream reads what the upstreams of a source serve: its root, and the indexes that the root names.
// It refreshes, probes, examines keys, and checks a description against what is really there.
//
// A root is believed only through the keyring of its source, and an index only through the digest that a
// root gives: what is read lies in the pool, under that digest, before anything is made of it. A root that
// is older than the one accepted before, or of another repository, is refused. Upstreams are asked in their
// order, and one that fails is told by its kind (fetch.Failure): down, refused, wrong bytes, behind, slow.
//
// What a key may sign is decided in core/trust. Which packages are taken, and whether they can be installed,
// is decided in core/solve and core/mirror: nothing in here chooses.
//
// Memory grows with one index while it is read. What goes wrong comes back as a finding.
package upstream

import (
	"log/slog"
	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"time"
)

// Source is one source as a build uses it.
type Source struct {
	Name     string
	Standing string
	Priority int
	Spec     archive.Source
	Family   archive.Family
	Route    fetch.Route
	Keyring  *trust.Keyring
	MaxAge   time.Duration
	// SecurityFixes: each of its updates is one.
	SecurityFixes bool
	Want          definition.Want
	Accepted      *Accepted // nil: nothing was accepted yet
	// Vouched are the decisions that keys may sign it, by fingerprint.
	Vouched map[string]edition.Vouch
	// Unsigned, if not nil, acknowledges that nobody signs its root.
	Unsigned *Unsigned
	House    *House // a house source as it was published; nil: it has upstreams
	// Further are servers that are probed beside its own, and no build asks.
	Further []fetch.Upstream
	// AcceptOnce, if not empty, is the reason for which a person accepts a root
	// that is older or of another repository than the last one.
	AcceptOnce string
}

// Accepted is the root of a source that was last found good.
type Accepted struct {
	Source      string                  `json:"source"`
	At          time.Time               `json:"at"`
	Date        time.Time               `json:"date"`
	Expires     time.Time               `json:"expires,omitzero"`
	Origin      string                  `json:"origin"`
	Label       string                  `json:"label"`
	Suite       string                  `json:"suite"`
	Codename    string                  `json:"codename"`
	Signer      archive.Signer          `json:"signer"`
	Upstream    string                  `json:"upstream"` // URL
	Choice      int                     `json:"choice"`   // which of the family's ways to get the root
	Files       []AcceptedFile          `json:"files"`
	Digest      string                  `json:"digest"`            // over the files
	Dates       map[string]time.Time    `json:"dates,omitempty"`   // of single files of the root
	Samples     map[string][]string     `json:"samples,omitempty"` // names of what its lists have, by list
	Version     string                  `json:"version,omitempty"` // as the root says it
	Conditional map[string]conditionals `json:"conditional,omitempty"`
	Offers      Offers                  `json:"offers"`
	// Published are the dates of the last roots that were accepted, the newest last: how
	// regularly the source publishes is learned from them.
	Published []time.Time `json:"published,omitempty"`
}

// Offers is what a root says that it has.
type Offers struct {
	Components    []string `json:"components"`
	Architectures []string `json:"architectures"`
}

type conditionals struct {
	ETag         string `json:"etag,omitempty"`
	LastModified string `json:"last_modified,omitempty"`
}

// AcceptedFile is a file of an accepted root; its bytes are in the pool.
type AcceptedFile struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
}

// Publication is what a source offers now, verified.
type Publication struct {
	Source   *Source
	Root     *archive.Root
	Accepted Accepted
	Changed  bool // against the root accepted before
	// Judged tells that its lists were compared with those of the root accepted
	// before. Until then it must not be taken for accepted.
	Judged   bool
	Findings finding.List
	Failures finding.List // what upstreams failed on the way
}

// Event tells how far a piece of work is. Bytes are those still to be fetched
// at the beginning of the step and done of them.
type Event struct {
	Step       string           `json:"step"`
	Text       string           `json:"text,omitempty"`
	Files      int              `json:"files"`
	FilesTotal int              `json:"files_total"`
	Bytes      int64            `json:"bytes"`
	BytesTotal int64            `json:"bytes_total"`
	Rate       int64            `json:"rate"`                // bytes a second
	Remaining  int              `json:"remaining_s"`         // seconds; -1: unknown
	Upstreams  map[string]int64 `json:"upstreams,omitempty"` // bytes by upstream
}

// left is how many seconds the rest takes after some of it took so long: what the slower of
// bytes and files needs. Many small files wait for answers rather than for bytes.
func (e Event) left(took float64) int {
	left := 0.0
	if e.Bytes > 0 {
		left = took * float64(max(e.BytesTotal-e.Bytes, 0)) / float64(e.Bytes)
	}
	if e.Files > 0 {
		left = max(left, took*float64(max(e.FilesTotal-e.Files, 0))/float64(e.Files))
	}
	return int(left)
}

// Reader reads what upstreams serve. All fields are needed but Log and Sink; Families only by Online.
type Reader struct {
	Pool     pool.Store
	Fetch    *fetch.Client
	Families archive.Registry
	Now      func() time.Time
	Log      *slog.Logger
	Sink     func(Event)
}

func (b *Reader) Tell(e Event) {
	if b.Sink != nil {
		b.Sink(e)
	}
}

func (b *Reader) Logger() *slog.Logger {
	if b.Log == nil {
		return slog.New(slog.DiscardHandler)
	}
	return b.Log
}
