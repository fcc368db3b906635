package mirror

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/must"
)

// unsigned takes the signatures of roots away from what an upstream serves, and acknowledges
// that nobody signs it.
func (w *world) unsigned() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for p := range w.files {
		if strings.HasSuffix(p, "InRelease") || strings.HasSuffix(p, "Release.gpg") ||
			strings.HasSuffix(p, "repomd.xml.asc") || strings.HasSuffix(p, ".db.sig") ||
			strings.HasSuffix(p, ".files.sig") {
			delete(w.files, p)
		}
	}
	if w.source.Unsigned == nil {
		today := w.now.UTC().Truncate(24 * time.Hour)
		w.source.Unsigned = &upstream.Unsigned{Reason: "the owner has no key", By: "mara",
			At: today.AddDate(0, 0, -1), Until: today.AddDate(0, 0, 30)}
	}
}

// nobody is a keyring in which nothing counts.
func nobody() *trust.Keyring { return trust.NewKeyring("tarn", nil, time.Now) }

// unsignedFamilies gives, for each family, a source that nobody signs, and a way to publish
// it anew with something changed.
var unsignedFamilies = map[string]func(t *testing.T) (*world, func()){
	"deb": func(t *testing.T) (*world, func()) {
		w := newWorld(t)
		return w, func() {
			w.repo.Date = w.repo.Date.Add(time.Minute)
			w.publish()
		}
	},
	"rpm": func(t *testing.T) (*world, func()) {
		w := newRPMWorld(t)
		w.rpm.Unsigned = true
		w.republish()
		return w.world, func() {
			w.rpm.Date = w.rpm.Date.Add(time.Minute)
			w.republish()
		}
	},
	"alpm": func(t *testing.T) (*world, func()) {
		w := newALPMWorld(t)
		w.alpm.Unsigned = true
		w.republish()
		return w.world, func() {
			w.alpm.Packages[0].Summary += " more"
			w.republish()
		}
	},
}

func told(list finding.List, code finding.Code) (out []finding.Finding) {
	for _, f := range list {
		if f.Code == code {
			out = append(out, f)
		}
	}
	return out
}

// The first root of a source that nobody signs is taken and told with its digest; from then
// on it stands in place of a signature, until a person accepts another one.
func TestASourceThatNobodySignsIsPinnedToItsFirstRoot(t *testing.T) {
	for name, make := range unsignedFamilies {
		t.Run(name, func(t *testing.T) {
			w, change := make(t)
			w.source.Keyring = nobody()
			w.unsigned()
			acknowledged := w.source.Unsigned
			w.source.Unsigned = nil
			if _, err := w.build(); err == nil {
				t.Fatal("built without a signature, and without an acknowledgement")
			}
			w.source.Unsigned = acknowledged
			out, err := w.build()
			must.Do(t, err)
			digest := out.Publications[0].Accepted.Digest
			first := told(out.Findings, "source.unsigned-changed")
			if len(first) != 1 || first[0].Severity != finding.Warning ||
				!strings.Contains(first[0].Text, digest) {
				t.Errorf("the first root: %v", first)
			}
			e, s := w.open(1)
			from := e.Sources[0]
			if from.Signer.Fingerprint != "" || from.Unsigned != (edition.Unsigned{
				Reason: "the owner has no key", By: "mara", At: acknowledged.At, Until: acknowledged.Until}) {
				t.Errorf("the edition says %+v, signed by %+v", from.Unsigned, from.Signer)
			}
			name, _, _ := strings.Cut(items(t, w, 1)[0], " ")
			chain := follow(t, s, name)
			if got := states(chain.Upstream); got != "package index root acknowledged:sealed" {
				t.Errorf("what stands behind a package: %s", got)
			}

			w.plan.Number, w.plan.Previous = 2, out.Edition
			again, err := w.build()
			if err != nil || again.Edition != nil || len(told(again.Findings,
				"source.unsigned-changed")) != 0 {
				t.Errorf("the same root again: %v %v", again.Findings, err)
			}
			change()
			w.unsigned()
			if f := w.refused("source.unsigned-changed"); f.Severity != finding.Error ||
				!strings.Contains(f.Text, digest) || !strings.Contains(f.WayOut, "--accept-once") {
				t.Errorf("another root: %+v", f)
			}
			if got := w.source.Accepted.Digest; got != digest {
				t.Error("what was refused counts as accepted")
			}
			if r, _, _ := w.builder.Probe(t.Context(), w.source); r[0].Finding.Code !=
				"source.unsigned-changed" {
				t.Errorf("the probe of another root: %+v", r[0])
			}
			w.source.AcceptOnce = "they published, says their desk"
			again, err = w.build()
			if err != nil || len(told(again.Findings, "source.unsigned-changed")) != 1 {
				t.Errorf("accepted once: %v %v", again.Findings, err)
			}
			w.source.AcceptOnce = ""
			again, err = w.build()
			if err != nil || len(told(again.Findings, "source.unsigned-changed")) > 0 {
				t.Errorf("and then it is the one that counts: %v %v", again.Findings, err)
			}
		})
	}
}

// Where each package has a signature that counts, another root is told and taken: what it
// could smuggle in is an older package, or nothing at all.
func TestAnUnsignedRootOfSignedPackagesMayChange(t *testing.T) {
	for name, make := range map[string]func(t *testing.T) (*world, func()){
		"rpm": func(t *testing.T) (*world, func()) {
			w := newRPMWorld(t)
			return w.world, func() { w.rpm.Date = w.rpm.Date.Add(time.Minute); w.republish() }
		},
		"alpm": func(t *testing.T) (*world, func()) {
			w := newALPMWorld(t)
			return w.world, func() { w.alpm.Packages[0].Summary += " more"; w.republish() }
		},
	} {
		t.Run(name, func(t *testing.T) {
			w, change := make(t)
			w.unsigned()
			out, err := w.build()
			must.Do(t, err)
			w.plan.Number, w.plan.Previous = 2, out.Edition
			change()
			w.unsigned()
			if out, err = w.build(); err != nil {
				t.Fatal(err)
			}
			if f := told(out.Findings, "source.unsigned-changed"); len(f) != 1 ||
				f[0].Severity != finding.Warning {
				t.Errorf("%v", f)
			}
			// A key that counts no more takes the packages with it.
			w.source.Keyring = trust.NewKeyring(w.source.Name, []trust.Known{{
				Certificate: keys()[1].Certificate(), VouchedFor: []string{w.source.Name}}}, w.builder.Now)
			w.plan.Number = 3
			change()
			w.unsigned()
			if _, err = w.build(); err == nil {
				t.Error("packages of another key were taken")
			}
		})
	}
}

func TestAnAcknowledgementEnds(t *testing.T) {
	until := time.Date(2027, 3, 2, 0, 0, 0, 0, time.UTC) // the first instant after the last day
	u := &upstream.Unsigned{Reason: "no key", Until: until}
	if err := u.Ended("kelp", until.Add(-time.Second)); err != nil {
		t.Errorf("on its last day: %v", err)
	}
	f, _ := finding.From(u.Ended("kelp", until))
	if f.Code != "source.unsigned" || f.Severity != finding.Error ||
		!strings.Contains(f.Text, "until 2027-03-01, which is past (no key)") {
		t.Errorf("after it: %+v", f)
	}
}

// What a root that nobody signs names is compared like any other.
func TestWhatAnUnsignedRootNamesIsStillCompared(t *testing.T) {
	w := newWorld(t)
	w.unsigned()
	for p, data := range w.files {
		if strings.Contains(p, "/libtide2_") {
			w.files[p] = flip([]byte(string(data)))
		}
	}
	w.refused("content.digest-mismatch")
}

// A certificate is not said to have signed what nobody signed.
func TestExaminingAnUnsignedSourceFindsNoSigner(t *testing.T) {
	w := newWorld(t)
	w.unsigned()
	x, err := w.builder.Examine(t.Context(), *w.source, []*trust.Certificate{keys()[0].Certificate()})
	if err != nil || x.Signed != 0 || len(x.Examined[0].Findings) != 1 ||
		!strings.Contains(x.Examined[0].Findings[0].Text, "no signature") {
		t.Errorf("%+v %v", x, err)
	}
	w.publish()
	x, err = w.builder.Examine(t.Context(), *w.source, []*trust.Certificate{keys()[0].Certificate(),
		keys()[1].Certificate()})
	if got := fmt.Sprint(x.Signed, x.Examined[0].Signed); err != nil || got != "1 true" {
		t.Errorf("once it is signed: %s %v", got, err)
	}
}
