package trust

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/must"
)

// Each way in which a statement is refused, and none in which it is not.
func TestStatementsOfOtherSites(t *testing.T) {
	now := time.Now()
	key := func(name string) *SiteKey {
		t.Helper()
		k, err := NewKey(name, "", "desk@"+strings.ToLower(name)+".example",
			func() time.Time { return now.Add(-time.Hour) })
		must.Do(t, err)
		return k.At(func() time.Time { return now.Add(-time.Minute) })
	}
	harbour, stranger, tarn := key("Harbour"), key("Stranger"), key("Tarn")
	clock := func() time.Time { return now }
	paired := NewKeyring("paired", []Known{{Certificate: harbour.Certificate(),
		VouchedFor: []string{"paired"}}}, clock)
	f := tarn.Certificate().Fingerprint
	good := Statement{At: now.UTC().Truncate(time.Second), Vouches: []Stated{{Fingerprint: f, Source: "tarn",
		Family: "deb", Release: "heron", Evidence: "read out\x1b[31m", By: "ola", At: now.UTC()}},
		Bars:         []StatedBar{{Fingerprint: f, Reason: "stolen", By: "ola", At: now.UTC()}},
		Certificates: tarn.Certificate().Armoured()}
	signed := func(by *SiteKey, change func(*Statement)) []byte {
		t.Helper()
		st := good
		st.Vouches, st.Bars = append([]Stated{}, good.Vouches...), append([]StatedBar{}, good.Bars...)
		change(&st)
		out, err := by.State(st)
		must.Do(t, err)
		return out
	}
	// What no site of ours would state, signed all the same.
	by := func(k *SiteKey, change func(m map[string]any)) []byte {
		t.Helper()
		var m map[string]any
		st := good
		st.Format, st.Site, st.Certificate = 1, harbour.Certificate().Fingerprint,
			harbour.Certificate().Armoured()
		raw, err := json.Marshal(st)
		if err == nil {
			err = json.Unmarshal(raw, &m)
		}
		must.Do(t, err)
		change(m)
		raw, err = json.Marshal(m)
		must.Do(t, err)
		out, err := k.Clearsign(append(raw, '\n'))
		must.Do(t, err)
		return out
	}
	as := func(*Statement) {}
	whole := signed(harbour, as)
	for _, c := range []struct {
		name string
		data []byte
		code string
		says string
	}{
		{"as it was made", whole, "", ""},
		{"nothing", nil, "content.signature-bad", "clear-signed"},
		{"of a site that is not paired", signed(stranger, as), "statement.unpaired",
			"no paired site signed the statement"},
		{"changed", []byte(strings.Replace(string(whole), `"tarn"`, `"kelp"`, 1)), "content.signature-bad",
			"the content was changed"},
		{"with more behind it", append(append([]byte{}, whole...), "more\n"...), "content.signature-bad", ""},
		{"of one site, signed by another", by(stranger, func(map[string]any) {}), "statement.unpaired", ""},
		{"of another site, signed by a paired one", by(harbour, func(m map[string]any) {
			m["site"] = stranger.Certificate().Fingerprint
		}), "statement.unreadable", "signed it"},
		{"of another format", by(harbour, func(m map[string]any) { m["stockade_statement"] = 2 }),
			"statement.unreadable", "the format 2"},
		{"of no format", by(harbour, func(m map[string]any) { clear(m) }), "statement.unreadable",
			"the format 0"},
		{"without a date", by(harbour, func(m map[string]any) { delete(m, "at") }), "statement.unreadable",
			"no date"},
		{"a list", by(harbour, func(m map[string]any) { m["vouches"] = "x" }), "statement.unreadable",
			"the file is not a key statement"},
		{"a fingerprint that is none", signed(harbour,
			func(st *Statement) { st.Vouches[0].Fingerprint = f[:16] }),
			"statement.unreadable", "is not a fingerprint"},
		{"a fingerprint with blanks", signed(harbour,
			func(st *Statement) { st.Vouches[0].Fingerprint = Spaced(f) }),
			"statement.unreadable", "is not a fingerprint"},
		{"a bar of no key", signed(harbour, func(st *Statement) { st.Bars[0].Fingerprint = "x" }),
			"statement.unreadable", "is not a fingerprint"},
		{"a vouch without evidence", signed(harbour, func(st *Statement) { st.Vouches[0].Evidence = " " }),
			"statement.unreadable", "the statement gives no reason for the decision"},
		{"a bar without a reason", signed(harbour, func(st *Statement) { st.Bars[0].Reason = "" }),
			"statement.unreadable", "the statement gives no reason for the decision"},
		{"a long evidence", signed(harbour, func(st *Statement) {
			st.Vouches[0].Evidence = strings.Repeat("x", maxStatedText+1)
		}), "statement.unreadable", "more than 4096 bytes"},
		{"many vouches", signed(harbour, func(st *Statement) {
			st.Vouches = make([]Stated, maxStated+1)
		}), "statement.unreadable", "more than 20000 decisions"},
		{"many bars", signed(harbour, func(st *Statement) {
			st.Bars = make([]StatedBar, maxStated+1)
		}), "statement.unreadable", "more than 20000 decisions"},
		{"large", append(append([]byte{}, whole...), make([]byte, maxStatement)...), "statement.unreadable",
			"larger than 16 MiB"},
	} {
		st, err := ReadStatement(c.data, paired)
		got, _ := finding.From(err)
		if string(got.Code) != c.code || !strings.Contains(got.Text, c.says) || got.Object != "" {
			t.Errorf("%s: %+v", c.name, got)
		}
		if err == nil && (st.Site != harbour.Certificate().Fingerprint || len(st.Vouches) != 1 ||
			strings.Contains(st.Vouches[0].Evidence, "\x1b") || !strings.Contains(st.Vouches[0].Evidence,
			"read out")) {
			t.Errorf("%s: %+v", c.name, st)
		}
	}

	// Who made it is told of the certificate that it carries, where that one signed it.
	if c, err := WhoStates(whole, clock); err != nil || c.Fingerprint != harbour.Certificate().Fingerprint {
		t.Errorf("%v, %v", c, err)
	}
	for name, data := range map[string][]byte{"nothing": nil, "changed": []byte(strings.Replace(string(whole),
		`"tarn"`, `"kelp"`, 1)), "signed by another": by(stranger, func(map[string]any) {}),
		"with another certificate": by(harbour, func(m map[string]any) {
			m["certificate"] = stranger.Certificate().Armoured()
		}), "with none": by(harbour, func(m map[string]any) { m["certificate"] = "" }),
		"with two": by(harbour, func(m map[string]any) {
			m["certificate"] = harbour.Certificate().Armoured() + stranger.Certificate().Armoured()
		})} {
		if c, err := WhoStates(data, clock); err == nil {
			t.Errorf("%s: %v made it", name, c.Fingerprint)
		}
	}
	// While two keys sign, either of them tells whose it is.
	both := signed(harbour.Beside(stranger), as)
	for _, k := range []*SiteKey{harbour, stranger} {
		one := NewKeyring("paired", []Known{{Certificate: k.Certificate(), VouchedFor: []string{"paired"}}},
			clock)
		if st, err := ReadStatement(both, one); err != nil || len(st.With) != 1 {
			t.Errorf("%v %v", st.With, err)
		}
	}
}

// What comes of each vouch that another site states.
func TestVouchesThatAnotherSiteStatesAreConsidered(t *testing.T) {
	now := time.Now()
	m := newMaker(t)
	c := m.certificate(m.raw(m.e))
	f := c.Fingerprint
	stated := Stated{Fingerprint: f, Source: "tarn", Family: "deb", Release: "heron", Evidence: "read out"}
	here := func(change func(h *Here)) map[string]Here {
		h := Here{Family: "deb", Release: "heron", Named: []string{f}}
		change(&h)
		return map[string]Here{"tarn": h}
	}
	as := func(*Here) {}
	have := map[string]*Certificate{f: c}
	vouched, barred, both := &Decisions{}, &Decisions{}, &Decisions{}
	both.Add(Decision{Act: Vouch, Fingerprint: f, Source: "tarn", Why: "ours", By: "mara", At: now})
	both.Add(Decision{Act: Bar, Fingerprint: f, Why: "stolen", By: "mara", At: now})
	vouched.Add(Decision{Act: Vouch, Fingerprint: f, Source: "tarn", Why: "ours", By: "mara", At: now})
	barred.Add(Decision{Act: Bar, Fingerprint: f, Why: "stolen", By: "mara", At: now})
	for _, x := range []struct {
		name    string
		d       *Decisions
		here    map[string]Here
		have    map[string]*Certificate
		outcome string
		why     string
	}{
		{"what is alike here", &Decisions{}, here(as), have, WouldVouch, ""},
		{"what stands already", vouched, here(as), have, Stands, ""},
		{"a source that is not here", &Decisions{}, nil, have, Passed, "no source of this name exists here"},
		{"another release", &Decisions{}, here(func(h *Here) { h.Release = "osprey" }), have, Passed,
			"the source is deb heron there, and deb osprey here"},
		{"another family", &Decisions{}, here(func(h *Here) { h.Family = "rpm" }), have, Passed,
			"the source is deb heron there, and rpm heron here"},
		{"a key that is not named", &Decisions{}, here(func(h *Here) { h.Named = nil }), have, Passed,
			"does not list this key under signed_by, so a"},
		{"a key that is barred here", barred, here(as), have, Passed, "stolen"},
		{"a key that is vouched for and barred here", both, here(as), have, Passed, "stolen"},
		{"a key that did not come along", &Decisions{}, here(as), nil, Passed,
			"the statement does not contain its certificate"},
		{"what a rule refuses", &Decisions{}, here(func(h *Here) {
			h.Policy = Policy{Refuse: []string{"EdDSA", "Ed25519", "RSA"}, RSABits: 16384}
		}), have, Passed, "a rule of this site refuses"},
	} {
		got := x.d.Consider(Statement{Vouches: []Stated{stated}}, x.here, x.have, now)
		if len(got) != 1 || got[0].Outcome != x.outcome || !strings.Contains(got[0].Why, x.why) {
			t.Errorf("%s: %+v", x.name, got)
		}
	}
}

// All whose signatures count are known, the first first; one that counts for nobody is not.
func TestAllWhoSignAreKnown(t *testing.T) {
	now := time.Now()
	var keys []*SiteKey
	for _, name := range []string{"Tarn", "Kelp", "Brine"} {
		k, err := NewKey(name, "", "desk@tarn.example", func() time.Time { return now.Add(-time.Hour) })
		must.Do(t, err)
		keys = append(keys, k.At(func() time.Time { return now.Add(-time.Minute) }))
	}
	var known []Known
	for _, k := range keys[:2] {
		known = append(known, Known{Certificate: k.Certificate(), VouchedFor: []string{"tarn"}})
	}
	var signatures []byte
	for _, k := range append(keys, keys[1]) {
		one, err := k.DetachSign([]byte("text"), false)
		must.Do(t, err)
		signatures = append(signatures, one...)
	}
	by, err := NewKeyring("tarn", known, func() time.Time { return now }).Detached([]byte("text"), signatures)
	first, second := keys[0].Certificate().Fingerprint, keys[1].Certificate().Fingerprint
	if err != nil || by.Fingerprint != first || len(by.With) != 1 || by.With[0] != second ||
		len(by.Others) != 1 {
		t.Errorf("%+v, %v", by, err)
	}
	if !by.Is(first) || !by.Is(second) || by.Is(keys[2].Certificate().Fingerprint) {
		t.Error("who signed is another")
	}
}
