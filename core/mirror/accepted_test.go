package mirror

import (
	"maps"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/must"
)

// What was accepted is read again for house packages, for views and for what another program
// asks: what cannot be read as it was is not taken for something else.
func TestWhatWasAcceptedIsReadAgainAsItWas(t *testing.T) {
	w := newWorld(t)
	if _, err := w.builder.ReadAccepted(w.source); !is(err, "source.root-missing",
		"no release metadata of this source was accepted") {
		t.Errorf("before anything was: %v", err)
	}
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	accepted := *w.source.Accepted
	if root, err := w.builder.ReadAccepted(w.source); err != nil || root.Codename != "heron" {
		t.Fatalf("%v", err)
	}
	other := keys()[1]
	for name, c := range map[string]struct {
		change     func(*upstream.Accepted)
		code, says string
	}{
		"of a form that there is not": {func(a *upstream.Accepted) {
			a.Choice = len(w.source.Family.Roots(w.source.Spec))
		},
			"source.root-missing", "for an earlier form of the definition"},
		"of another form": {func(a *upstream.Accepted) { a.Choice = 1 }, "source.root-missing",
			"has no dists/heron/Release"},
		"without a file": {func(a *upstream.Accepted) { a.Files = nil }, "source.root-missing",
			"has no dists/heron/InRelease"},
		"of which the bytes are gone": {func(a *upstream.Accepted) {
			a.Files = []upstream.AcceptedFile{{Path: a.Files[0].Path, SHA256: strings.Repeat("0", 64)}}
		}, "edition.damaged", "is missing from the pool"},
		"by a key that counts no more": {func(*upstream.Accepted) {
			w.source.Keyring = trust.NewKeyring("tarn", []trust.Known{{Certificate: other.Certificate(),
				VouchedFor: []string{"tarn"}}}, w.builder.Now)
		}, "content.signature-bad", "signed by"},
	} {
		a := accepted
		w.source.Accepted, w.source.Keyring = &a, w.keyring("tarn")
		c.change(&a)
		_, err := w.builder.ReadAccepted(w.source)
		if !is(err, c.code, c.says) {
			t.Errorf("%s: %v", name, err)
		}
		if f, _ := finding.From(err); f.Object != "source tarn" {
			t.Errorf("%s: it is told of %q", name, f.Object)
		}
	}
}

func is(err error, code, says string) bool {
	f, ok := finding.From(err)
	return ok && string(f.Code) == code && strings.Contains(f.Text, says)
}

// A root of which the pool lost a file is asked for as if none had been accepted: that it was not
// modified would say nothing.
func TestARootThatThePoolLostIsAskedForAnew(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	must.Do(t, w.builder.Pool.Remove(w.source.Accepted.Files[0].SHA256))
	pub, err := w.builder.Refresh(t.Context(), w.source)
	if err != nil || pub.Changed || pub.Root.Codename != "heron" {
		t.Errorf("%+v: %v", pub, err)
	}
	if _, there := w.builder.Pool.Has(w.source.Accepted.Files[0].SHA256); !there {
		t.Error("the root is not in the pool again")
	}
}

// Another form of the root that says something else, or is of another day, is none of this copy.
func TestAFormOfTheRootThatSaysSomethingElseIsLeftOut(t *testing.T) {
	for name, earlier := range map[string]func(w *world){
		"a signature of another day": func(w *world) { w.repo.Date = w.repo.Date.Add(-time.Hour) },
		"of another day":             func(w *world) { w.repo.Date = w.repo.Date.Add(-time.Hour) },
		"with another list":          func(w *world) { w.repo.Packages = w.repo.Packages[:3] },
		"the same, which is copied":  func(*world) {},
	} {
		w := newWorld(t)
		w.plan.Mirror.Copy = definition.Faithful
		w.source.Want = definition.Want{Everything: true}
		w.plan.Mirror.Complete = definition.Told
		now, packages := w.repo.Date, w.repo.Packages
		earlier(w)
		w.publish()
		other := maps.Clone(w.files)
		w.repo.Date, w.repo.Packages = now, packages
		w.publish()
		w.files["dists/heron/Release.gpg"] = other["dists/heron/Release.gpg"]
		if !strings.HasPrefix(name, "a signature") {
			w.files["dists/heron/Release"] = other["dists/heron/Release"]
		}
		out, err := w.build()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		_, m := w.open(1)
		_, copied := m.Find("tarn/dists/heron/Release")
		told := len(out.Findings.With("source.root-forms-differ"))
		if same := strings.HasPrefix(name, "the same"); copied != same || (told == 0) != same {
			t.Errorf("%s: copied %v, told %d times", name, copied, told)
		}
	}
}
