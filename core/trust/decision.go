package trust

import (
	"maps"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Act is what a decision does.
type Act string

// What can be decided about a key.
const (
	Vouch    Act = "vouch"    // it may sign one source
	Propose  Act = "propose"  // a first warden vouches, where a second has to
	Confirm  Act = "confirm"  // the second does: from then on it counts
	Withdraw Act = "withdraw" // the vouch for one source is taken back
	Bar      Act = "bar"      // it may sign nothing any more; nothing takes that back
)

// Decision is what somebody decided about a key. Decisions are only ever added: one
// that takes another back is a decision of its own.
type Decision struct {
	Act         Act
	Fingerprint string
	Source      string // of a vouch, and of what takes it back
	Why         string // the evidence of a vouch, the reason of the others
	By          string // of one that was confirmed: both, the first first
	At          time.Time
	// ByHand tells that a warden took a vouch back by name; else a definition no longer
	// says it, or its source was taken out.
	ByHand bool
}

// about is what a vouch is about.
type about struct{ fingerprint, source string }

// Decisions are all that were taken, in their order. They are the one source from which
// the keyring of a source is made. The zero value has none.
type Decisions struct {
	vouched   map[about]Decision
	proposed  map[about]Decision // that wait for a second warden
	withdrawn map[about]Decision // the vouches that wardens took back by name
	barred    map[string]Decision
}

// Add adds a decision to those before it.
func (d *Decisions) Add(n Decision) {
	if d.vouched == nil {
		d.vouched, d.withdrawn = map[about]Decision{}, map[about]Decision{}
		d.proposed = map[about]Decision{}
		d.barred = map[string]Decision{}
	}
	id := about{n.Fingerprint, n.Source}
	switch n.Act {
	case Vouch:
		delete(d.withdrawn, id)
		delete(d.proposed, id)
		d.vouched[id] = n
	case Propose:
		if _, waits := d.proposed[id]; !waits {
			delete(d.withdrawn, id)
			d.proposed[id] = n
		}
	case Confirm:
		if first, waits := d.proposed[id]; waits && first.By != n.By {
			delete(d.proposed, id)
			n.Act, n.Why, n.By = Vouch, first.Why+"; "+n.Why, first.By+" and "+n.By
			d.vouched[id] = n
		}
	case Withdraw:
		if v, ok := d.vouched[id]; ok && n.ByHand {
			d.withdrawn[id] = v
		}
		if v, waits := d.proposed[id]; waits && n.ByHand {
			d.withdrawn[id] = v // its very words propose nothing again
		}
		delete(d.vouched, id)
		delete(d.proposed, id)
	case Bar:
		if _, already := d.barred[n.Fingerprint]; !already {
			d.barred[n.Fingerprint] = n
		}
	}
}

// Clone gives a copy, to which more can be added.
func (d *Decisions) Clone() *Decisions {
	return &Decisions{maps.Clone(d.vouched), maps.Clone(d.proposed), maps.Clone(d.withdrawn),
		maps.Clone(d.barred)}
}

// OnlyBars gives what counts where it is not known who vouched for what: bars do.
func (d *Decisions) OnlyBars() *Decisions { return &Decisions{barred: maps.Clone(d.barred)} }

// Vouched gives the vouch for a key that is in force for a source. A barred key keeps
// its vouches; they do not count.
func (d *Decisions) Vouched(fingerprint, source string) (Decision, bool) {
	v, ok := d.vouched[about{fingerprint, source}]
	return v, ok
}

// Vouches gives the vouches that are in force, the oldest first.
func (d *Decisions) Vouches() []Decision { return byTime(maps.Values(d.vouched)) }

// Proposed gives the vouch of a first warden that waits for a second.
func (d *Decisions) Proposed(fingerprint, source string) (Decision, bool) {
	v, ok := d.proposed[about{fingerprint, source}]
	return v, ok
}

// Waiting gives the vouches that wait for a second warden, the oldest first.
func (d *Decisions) Waiting() []Decision { return byTime(maps.Values(d.proposed)) }

// Bars gives the bars, the oldest first.
func (d *Decisions) Bars() []Decision { return byTime(maps.Values(d.barred)) }

func byTime(all func(func(Decision) bool)) []Decision {
	return slices.SortedFunc(all, func(a, b Decision) int {
		if n := a.At.Compare(b.At); n != 0 {
			return n
		}
		return strings.Compare(a.Fingerprint+" "+a.Source, b.Fingerprint+" "+b.Source)
	})
}

// Barred gives the bar against a key.
func (d *Decisions) Barred(fingerprint string) (Decision, bool) {
	b, ok := d.barred[fingerprint]
	return b, ok
}

// IsNew tells whether the words of a definition, that a key may sign a source, would be
// a decision: nobody vouched for it, and the very words are not what a warden took back.
func (d *Decisions) IsNew(fingerprint, source, evidence string) bool {
	id := about{fingerprint, source}
	if _, ok := d.vouched[id]; ok {
		return false
	}
	if _, ok := d.proposed[id]; ok {
		return false
	}
	w, ok := d.withdrawn[id]
	return !ok || w.Why != evidence
}

// ActOf gives what it is that a warden does who vouches: where two have to, the first
// proposes and the second confirms. The first cannot be the second.
func (d *Decisions) ActOf(fingerprint, source, by string, two bool) (Act, error) {
	first, waits := d.Proposed(fingerprint, source)
	_, stands := d.Vouched(fingerprint, source)
	switch {
	case waits && first.By == by:
		return "", finding.New(finding.KeyAwaitingSecond, "key "+fingerprint,
			"you vouched for this key for %s on %s. It counts after a second warden vouches, "+
				"from another account",
			source,
			first.At.Format(time.DateOnly)).Do("ask another warden to compare the fingerprint " +
			"and to vouch")
	case waits:
		return Confirm, nil
	case two && !stands:
		return Propose, nil
	}
	return Vouch, nil
}

// Distrusted tells why a key must not sign a source any more that it signed before:
// it was barred since, or the vouch for that source was taken back; else "".
func (d *Decisions) Distrusted(fingerprint, source string) string {
	if b, barred := d.barred[fingerprint]; barred {
		return "is barred since " + b.At.Format(time.DateOnly) + " (" + b.Why + ")"
	}
	if _, ok := d.withdrawn[about{fingerprint, source}]; ok {
		return "no one vouches for it any more"
	}
	return ""
}

// NoLonger tells why a signature that counted for a source when it was verified does not count now:
// none of the keys that made it may sign any more; else "". A root that nobody signed has no signer.
func (d *Decisions) NoLonger(s archive.Signer, source string) string {
	if s.Fingerprint == "" {
		return ""
	}
	for _, with := range s.With {
		if d.Distrusted(with, source) == "" {
			return ""
		}
	}
	if why := d.Distrusted(s.Fingerprint, source); why != "" {
		return "its key " + s.Fingerprint + " " + why
	}
	return ""
}

// MayVouch tells why a key cannot be vouched for, or nil: the evidence is missing, the
// source (whose signers are named) does not name it, it is barred, or nothing that it
// signs could count.
func (d *Decisions) MayVouch(c *Certificate, source string, named []string, evidence string,
	policy Policy, now time.Time) error {
	object := "key " + c.Fingerprint
	if strings.TrimSpace(evidence) == "" {
		return finding.New(finding.DefineMissingField, object,
			"the evidence is missing: who compared the fingerprint, and how")
	}
	if !slices.Contains(named, c.Fingerprint) {
		return finding.New(finding.KeyUnvouched, object,
			"the source %s does not list this key under signed_by, so a decision would have no "+
				"effect",
			source).
			Do("add the key to signed_by of the source first")
	}
	if b, ok := d.barred[c.Fingerprint]; ok {
		return finding.New(finding.KeyBarred, object, "the key was barred on %s: %s",
			b.At.Format(time.DateOnly),
			b.Why)
	}
	for _, f := range c.CheckBy(policy, now) {
		if f.Severity == finding.Error {
			return f
		}
	}
	return nil
}

// Keyring makes the keyring of a source: a key counts when it was vouched for, for this
// source, is named by it, and is not barred.
func (d *Decisions) Keyring(source string, named []string, certificates map[string]*Certificate,
	now func() time.Time) *Keyring {
	of := map[string][]string{} // sources, by fingerprint
	for id := range d.vouched {
		if id.source != source || slices.Contains(named, id.fingerprint) {
			of[id.fingerprint] = append(of[id.fingerprint], id.source)
		}
	}
	known := make([]Known, 0, len(certificates))
	for fingerprint, c := range certificates {
		k := Known{Certificate: c, Barred: d.barred[fingerprint].Why, VouchedFor: of[fingerprint]}
		slices.Sort(k.VouchedFor)
		if slices.Contains(k.VouchedFor, source) {
			k.Since = d.vouched[about{fingerprint, source}].At
		}
		known = append(known, k)
	}
	slices.SortFunc(known, func(a, b Known) int {
		return strings.Compare(a.Certificate.Fingerprint, b.Certificate.Fingerprint)
	})
	return NewKeyring(source, known, now)
}

// Counts tells whether a key that a source names may sign it: whether the keyring of the source has it among
// those that count, where its certificate is there.
func (d *Decisions) Counts(fingerprint, source string) bool {
	_, barred := d.barred[fingerprint]
	_, vouched := d.vouched[about{fingerprint, source}]
	return vouched && !barred
}

// anything stands for all sources in a keyring that decides nothing.
const anything = "anything"

// Everybody gives a keyring in which every certificate counts that was brought in and
// not barred: it tells whose a signature is, and decides nothing.
func (d *Decisions) Everybody(certificates map[string]*Certificate, now func() time.Time) *Keyring {
	var known []Known
	for fingerprint, c := range certificates {
		known = append(known, Known{Certificate: c, Barred: d.barred[fingerprint].Why,
			VouchedFor: []string{anything}})
	}
	return NewKeyring(anything, known, now)
}

// WhyNone tells why no key counts for a source that names these: what it tells has
// NoneCounts as its cause.
func (d *Decisions) WhyNone(source string, named []string, certificates map[string]*Certificate) error {
	f := d.whyNone(source, named, certificates)
	return f.Because(NoneCounts)
}

// NoneCounts is the cause of a finding that says why no key counts for a source: it follows
// from descriptions and decisions alone, and is untrue once these have changed.
const NoneCounts = "none-counts"

func (d *Decisions) whyNone(source string, named []string,
	certificates map[string]*Certificate) finding.Finding {
	object := "source " + source
	if n := len(named); n > 1 && !slices.ContainsFunc(named, func(f string) bool {
		_, barred := d.barred[f]
		_, waits := d.Proposed(f, source)
		return barred || waits || certificates[f] == nil
	}) {
		return finding.New(finding.KeyUnvouched, object, "no one has vouched for any of its %d "+
			"keys", n).
			Do("compare the whole fingerprint of the key that signs it with the owner, then "+
				"run: stockade key vouch FINGERPRINT --source %s --evidence \"…\"", source)
	}
	if len(named) == 0 {
		return finding.New(finding.SourceUnsigned, object, "the source names no key that may "+
			"sign it")
	}
	f := named[0] // of several that fare differently the first is told
	if b, ok := d.barred[f]; ok {
		return finding.New(finding.KeyBarred, object, "its key %s is barred: %s", f, b.Why)
	}
	if certificates[f] == nil {
		return finding.New(finding.KeyMissing, object, "its key %s was never imported", f)
	}
	if first, ok := d.Proposed(f, source); ok {
		return finding.New(finding.KeyAwaitingSecond, object,
			"its key %s is waiting for a second warden: %s vouched for it",
			f, first.By)
	}
	return finding.New(finding.KeyUnvouched, object, "no one has vouched for its key %s", f).
		Do("compare the whole fingerprint with the owner, then run: stockade key vouch %s "+
			"--source %s --evidence \"…\"", f, source)
}
