package trust

import (
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
)

func decided(all ...Decision) *Decisions {
	d := &Decisions{}
	for i, n := range all {
		n.At = time.Date(2026, 11, 1+i, 9, 0, 0, 0, time.UTC)
		d.Add(n)
	}
	return d
}

const fpr = "7C1B22E05A90D4417F039E6AB2C871D0453FF1A9"

func TestWhatIsDecidedLastCounts(t *testing.T) {
	vouch := Decision{Act: Vouch, Fingerprint: fpr, Source: "tarn", Why: "call 4471", By: "ada"}
	back := Decision{Act: Withdraw, Fingerprint: fpr, Source: "tarn", Why: "the wrong sheet", ByHand: true}
	gone := Decision{Act: Withdraw, Fingerprint: fpr, Source: "tarn", Why: "no longer said"}
	bar := Decision{Act: Bar, Fingerprint: fpr, Why: "stolen"}
	for _, c := range []struct {
		name            string
		all             []Decision
		vouched, isNew  bool
		distrusted      string
		distrustedOther string
	}{
		{"nothing", nil, false, true, "", ""},
		{"vouched for", []Decision{vouch}, true, false, "", ""},
		{"taken back by hand: the same words do not bring it back", []Decision{vouch, back}, false, false,
			"no one vouches", ""},
		{"no longer said: the same words are a decision again", []Decision{vouch, gone}, false, true, "", ""},
		{"given again", []Decision{vouch, back, vouch}, true, false, "", ""},
		{"barred, which nothing takes back", []Decision{vouch, bar, vouch}, true, false,
			"is barred since 2026-11-02 (stolen)", "is barred since 2026-11-02 (stolen)"},
		{"the first bar is the one that is told", []Decision{bar, {Act: Bar, Fingerprint: fpr, Why: "again"}},
			false, true, "is barred since 2026-11-01 (stolen)", "is barred since 2026-11-01 (stolen)"},
	} {
		d := decided(c.all...)
		_, vouched := d.Vouched(fpr, "tarn")
		if vouched != c.vouched || d.IsNew(fpr, "tarn", "call 4471") != c.isNew {
			t.Errorf("%s: vouched %v, new %v", c.name, vouched, d.IsNew(fpr, "tarn", "call 4471"))
		}
		if !d.IsNew(fpr, "kelp", "call 4471") {
			t.Errorf("%s: it decided about another source", c.name)
		}
		if why := d.Distrusted(fpr, "tarn"); !strings.HasPrefix(why, c.distrusted) ||
			(why == "") != (c.distrusted == "") {
			t.Errorf("%s: %q", c.name, why)
		}
		if why := d.Distrusted(fpr, "kelp"); why != c.distrustedOther {
			t.Errorf("%s: for another source: %q", c.name, why)
		}
		if d.OnlyBars(); len(d.OnlyBars().Vouches()) != 0 || len(d.OnlyBars().Bars()) != len(d.Bars()) {
			t.Errorf("%s: not only bars", c.name)
		}
	}
	if d := decided(vouch, back); !d.IsNew(fpr, "tarn", "call 5000") {
		t.Error("other evidence is not a new decision")
	}
	before := decided(vouch)
	after := before.Clone()
	after.Add(back)
	if _, ok := before.Vouched(fpr, "tarn"); !ok {
		t.Error("what is added to a copy changes what was there")
	}
}

func TestAKeyringIsMadeFromDecisions(t *testing.T) {
	one, two := cert(t, ed(t, now.AddDate(-1, 0, 0), 3*365*24*time.Hour)),
		cert(t, ed(t, now.AddDate(-1, 0, 0), 3*365*24*time.Hour))
	all := map[string]*Certificate{one.Fingerprint: one, two.Fingerprint: two}
	d := decided(Decision{Act: Vouch, Fingerprint: one.Fingerprint, Source: "tarn", Why: "compared"},
		Decision{Act: Vouch, Fingerprint: two.Fingerprint, Source: "kelp", Why: "compared"})
	counts := func(source string, named ...string) int {
		counting := len(d.Keyring(source, named, all, at(now)).Counting())
		said := 0
		for _, f := range named {
			if d.Counts(f, source) {
				said++
			}
		}
		if said != counting {
			t.Errorf("%s: %d keys count, and the keyring has %d", source, said, counting)
		}
		return counting
	}
	if counts("tarn", one.Fingerprint) != 1 || counts("tarn") != 0 || counts("tarn", two.Fingerprint) != 0 ||
		counts("kelp", one.Fingerprint, two.Fingerprint) != 1 {
		t.Error("another key counts than the one that is vouched for and named")
	}
	before := d.Keyring("tarn", []string{one.Fingerprint}, all, at(now)).Decided()
	d.Add(Decision{Act: Withdraw, Fingerprint: one.Fingerprint, Source: "tarn", ByHand: true})
	d.Add(Decision{Act: Vouch, Fingerprint: one.Fingerprint, Source: "tarn", Why: "again", At: now})
	after := d.Keyring("tarn", []string{one.Fingerprint}, all, at(now)).Decided()
	if len(before) != 1 || len(after) != 1 || before[0] == after[0] {
		t.Errorf("a decision since changes nothing that a build depends on: %v %v", before, after)
	}
	// Since when is told of this source, whatever was decided for another.
	d.Add(Decision{Act: Vouch, Fingerprint: one.Fingerprint, Source: "kelp", Why: "too", At: now.AddDate(1,
		0, 0)})
	for range 20 {
		if got := d.Keyring("tarn", []string{one.Fingerprint}, all, at(now)).Decided(); got[0] != after[0] {
			t.Fatalf("%v, and %v was meant", got, after)
		}
	}
	d.Add(Decision{Act: Bar, Fingerprint: one.Fingerprint, Why: "stolen", At: now})
	if counts("tarn", one.Fingerprint) != 0 {
		t.Error("a barred key counts")
	}
	// Whatever is first in a map, what a build depends on is written in one order.
	for range 20 {
		d := decided(Decision{Act: Vouch, Fingerprint: one.Fingerprint, Source: "tarn", Why: "compared"},
			Decision{Act: Vouch, Fingerprint: two.Fingerprint, Source: "tarn", Why: "compared"})
		k := d.Keyring("tarn", []string{two.Fingerprint, one.Fingerprint}, all, at(now))
		if got := k.Decided(); len(got) != 2 || !slices.IsSorted(got) {
			t.Fatalf("%v", got)
		}
		if c := k.Counting(); c[0].Fingerprint > c[1].Fingerprint {
			t.Fatal("certificates come in the order of a map")
		}
		back := slices.Clone(k.known)
		slices.Reverse(back)
		if got := NewKeyring("tarn", back, at(now)).Decided(); !slices.IsSorted(got) {
			t.Fatalf("%v", got)
		}
	}
	if got := d.Everybody(all, at(now)).Counting(); len(got) != 1 || got[0].Fingerprint != two.Fingerprint {
		t.Errorf("%d of everybody", len(got))
	}
}

func TestWhatKeepsAKeyFromBeingVouchedFor(t *testing.T) {
	c := cert(t, ed(t, now.AddDate(-1, 0, 0), 3*365*24*time.Hour))
	d := &Decisions{}
	may := func(evidence string, named ...string) string {
		f, _ := finding.From(d.MayVouch(c, "tarn", named, evidence, Policy{}, now))
		return string(f.Code)
	}
	if code := may("compared", c.Fingerprint); code != "" {
		t.Errorf("%s", code)
	}
	if code := may(" ", c.Fingerprint); code != "define.missing-field" {
		t.Errorf("without evidence: %s", code)
	}
	if code := may("compared", fpr); code != "key.unvouched" {
		t.Errorf("not named: %s", code)
	}
	f, _ := finding.From(d.MayVouch(c, "tarn", []string{c.Fingerprint}, "x", Policy{}, now.AddDate(20, 0, 0)))
	if f.Code != "key.expired" {
		t.Errorf("ended: %s", f.Code)
	}
	d.Add(Decision{Act: Bar, Fingerprint: c.Fingerprint, Why: "stolen", At: now})
	if code := may("compared", c.Fingerprint); code != "key.barred" {
		t.Errorf("barred: %s", code)
	}
	all := map[string]*Certificate{c.Fingerprint: c}
	for _, w := range []struct{ code, key string }{{"key.barred", c.Fingerprint}, {"key.missing", fpr}} {
		if f, _ := finding.From(d.WhyNone("tarn", []string{w.key}, all)); string(f.Code) != w.code {
			t.Errorf("%s: %v", w.code, f)
		}
	}
	none := &Decisions{}
	if f, _ := finding.From(none.WhyNone("tarn", []string{c.Fingerprint}, all)); f.Code != "key.unvouched" {
		t.Errorf("%v", f)
	}
	if f, _ := finding.From(none.WhyNone("tarn", nil, all)); f.Code != "source.unsigned" {
		t.Errorf("%v", f)
	}
}

// Where two wardens vouch, one alone decides nothing, and the same one is not the second.
func TestTwoPersonsVouch(t *testing.T) {
	at := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	d := &Decisions{}
	say := func(act Act, by, why string) {
		at = at.Add(time.Minute)
		d.Add(Decision{Act: act, Fingerprint: "A", Source: "tarn", By: by, Why: why, At: at,
			ByHand: act == Withdraw})
	}
	act := func(by string, two bool) string {
		a, err := d.ActOf("A", "tarn", by, two)
		if err != nil {
			f, _ := finding.From(err)
			return string(f.Code)
		}
		return string(a)
	}
	for _, step := range []struct {
		act             Act // what is said before; empty: nothing
		by, why         string
		vouched, waits  string // by whom
		mara, ola, free string // what each would do next; and where one is enough
	}{
		{"", "", "", "", "", "propose", "propose", "vouch"},
		{Confirm, "ola", "x", "", "", "propose", "propose", "vouch"},
		{Propose, "mara", "call 1", "", "mara", "key.awaiting-second", "confirm", "key.awaiting-second"},
		{Propose, "ola", "call 2", "", "mara", "key.awaiting-second", "confirm", "key.awaiting-second"},
		{Confirm, "mara", "call 1", "", "mara", "key.awaiting-second", "confirm", "key.awaiting-second"},
		{Withdraw, "ola", "no", "", "", "propose", "propose", "vouch"},
		{Confirm, "ola", "call 2", "", "", "propose", "propose", "vouch"},
		{Propose, "mara", "call 3", "", "mara", "key.awaiting-second", "confirm", "key.awaiting-second"},
		{Confirm, "ola", "print", "mara and ola", "", "vouch", "vouch", "vouch"},
		{Withdraw, "mara", "no", "", "", "propose", "propose", "vouch"},
	} {
		if step.act != "" {
			say(step.act, step.by, step.why)
		}
		v, _ := d.Vouched("A", "tarn")
		w, _ := d.Proposed("A", "tarn")
		if v.By != step.vouched || w.By != step.waits || act("mara", true) != step.mara || act("ola",
			true) != step.ola ||
			act("mara", false) != step.free || len(d.Waiting()) != len(d.Clone().Waiting()) {
			t.Errorf("after %s by %s: vouched by %q, waits for the second of %q; next %s, %s, %s", step.act,
				step.by, v.By, w.By, act("mara", true), act("ola", true), act("mara", false))
		}
		if v.By != "" && (v.Why != "call 3; print" || v.Act != Vouch) {
			t.Errorf("%+v", v)
		}
		ring := d.Keyring("tarn", []string{"A"}, map[string]*Certificate{"A": {Fingerprint: "A"}}, nil)
		if got := len(ring.Counting()); got != map[bool]int{true: 1}[step.vouched != ""] {
			t.Errorf("after %s by %s %d keys count", step.act, step.by, got)
		}
	}
	// The very words that were taken back propose nothing again, nor do those that wait.
	if say(Propose, "mara", "call 4"); d.IsNew("A", "tarn", "call 4") || d.IsNew("A", "tarn", "call 5") {
		t.Error("words propose what is proposed already")
	}
	if say(Withdraw, "ola", "no"); d.IsNew("A", "tarn", "call 4") || !d.IsNew("A", "tarn", "call 5") {
		t.Error("words that were taken back propose again")
	}
	if say(Propose, "mara", "call 6"); len(d.OnlyBars().Waiting()) != 0 {
		t.Error("what waits counts where it is not known who decided")
	}
	err := d.WhyNone("tarn", []string{"A"}, map[string]*Certificate{"A": {}})
	if f, _ := finding.From(err); f.Code != "key.awaiting-second" || !strings.Contains(f.Text, "mara") {
		t.Errorf("%v", err)
	}
}
