package service

import (
	"testing"

	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/store"
)

// The browser has no rules of its own: what it offers, and what it says of a thing, the
// service told it. Here is each of these words, in both of its states.
func TestWhatTheBrowserShowsIsToldByTheService(t *testing.T) {
	d := newDesk(t)
	owner, err := made.Key(made.Owner{Name: "Tarn archive", Address: "archive@tarn.example"})
	must.Do(t, err)
	cert := owner.Certificate()
	text := func(signed, more string) api.Documents {
		return api.Documents{Documents: []definition.Text{{Name: "site.yaml",
			Text: "stockade: 1\nsources:\n" +
				"  tarn: {family: deb, standing: official, release: heron, components: [core], " +
				"architectures: [amd64],\n" +
				"    upstreams: [{url: \"https://north.tarn.example/tarn\"}], signed_by: [" + signed +
				"]}\n  reach: {family: deb, standing: house, release: heron, components: [house], " +
				"architectures: [amd64]}\n" + more}}}
	}
	recordable := func(what string, want bool, in api.Documents) {
		t.Helper()
		var j api.Judgement
		d.must(d.ask(api.Viewer, "POST", "/definitions/check", in), 200, &j)
		if j.Recordable != want {
			t.Errorf("%s can be recorded: %v, %v", what, j.Recordable, j.Findings)
		}
	}
	plain := text(cert.Fingerprint, "")
	recordable("a new description, whose key is still to be decided", true, plain)
	recordable("one with an error", false, text(cert.Fingerprint, "lanes: {steady: {mirror: none}}\n"))
	recordable("what is no document", false, api.Documents{Documents: []definition.Text{{Text: "{"}}})
	d.must(d.ask(api.Operator, "POST", "/keys", api.KeyData{Data: []byte(cert.Armoured())}), 200, nil)

	key := func() (k api.Key) {
		t.Helper()
		d.must(d.ask(api.Viewer, "GET", "/keys/"+cert.Fingerprint, nil), 200, &k)
		return k
	}
	if k := key(); !k.Idle || k.Site || k.Retired || len(k.NeededBy) > 0 {
		t.Errorf("a key that nothing names: %+v", k)
	}
	d.must(d.ask(api.Operator, "POST", "/definitions/record", plain), 200, nil)
	recordable("what is recorded already", false, plain)
	if k := key(); k.Idle || len(k.NeededBy) != 1 {
		t.Errorf("a key that a source names: %+v", k)
	}
	decision := api.Decision{Fingerprint: cert.Fingerprint, Source: "tarn", Evidence: "read out",
		Reason: "lost"}
	d.must(d.ask(api.Warden, "POST", "/keys/"+cert.Fingerprint+"/vouch", decision), 200, nil)
	if k := key(); len(k.Vouched) != 1 || k.Vouched[0].Source != "tarn" || k.Vouched[0].By != "warden" ||
		k.Barred != nil {
		t.Errorf("a key that was vouched for: %+v", k)
	}
	d.must(d.ask(api.Warden, "POST", "/keys/"+cert.Fingerprint+"/bar", decision), 200, nil)
	if k := key(); k.Barred == nil || k.Barred.Reason != "lost" {
		t.Errorf("a key that was barred: %+v", k)
	}
	var keys api.Page[api.Key]
	d.must(d.ask(api.Viewer, "GET", "/keys", nil), 200, &keys)
	sites := 0
	for _, k := range keys.Items {
		if k.Site {
			sites++
		}
	}
	if sites != 1 || len(keys.Items) != 2 {
		t.Errorf("%d keys, %d of them the site's", len(keys.Items), sites)
	}

	source := func(name string) (s api.Source) {
		t.Helper()
		d.must(d.ask(api.Viewer, "GET", "/sources/"+name, nil), 200, &s)
		return s
	}
	if tarn, reach := source("tarn"), source("reach"); tarn.Managed || !reach.Managed || tarn.Disabled ||
		tarn.Accepted != nil || tarn.Text == "" || !tarn.Findings.HasErrors() {
		t.Errorf("two sources: %+v %+v", tarn, reach)
	}
	d.must(d.ask(api.Operator, "POST", "/sources/reach/disable", nil), 200, nil)
	if !source("reach").Disabled {
		t.Error("a source that was disabled says that it is not")
	}

	for _, role := range []string{api.Viewer, api.Operator, api.Warden} {
		var who api.Who
		d.must(d.ask(role, "GET", "/whoami", nil), 200, &who)
		if who.Role != role || len(who.Journal) > 0 {
			t.Errorf("%s: %+v", role, who)
		}
	}
	d.must(d.ask(api.Operator, "POST", "/definitions/record", text(cert.Fingerprint,
		"mirrors: {m: {copy: tailored, "+
			"from: [tarn], want: {packages: [x]}}}\nlanes: {steady: {mirror: m}}\ngroups: {hosts: "+
			"{family: deb, "+
			"release: heron, architectures: [amd64], lane: steady}}\n")), 200, nil)
	var mirror api.Mirror
	d.must(d.ask(api.Viewer, "GET", "/mirrors/m", nil), 200, &mirror)
	var lane api.Lane
	d.must(d.ask(api.Viewer, "GET", "/lanes/steady", nil), 200, &lane)
	if mirror.Job != 0 || len(mirror.Lanes) != 1 || lane.Edition != "" || lane.Newest != "" ||
		len(lane.Groups) != 1 || len(lane.Findings.With("lane.empty")) != 1 {
		t.Errorf("a mirror and a lane of which nothing was built: %+v %+v", mirror, lane)
	}
	var depends api.Dependents
	d.must(d.ask(api.Viewer, "GET", "/dependents/source/tarn", nil), 200, &depends)
	if len(depends.Mirrors) != 1 || len(depends.Lanes) != 1 || len(depends.Groups) != 1 ||
		len(depends.Editions) > 0 || len(depends.Unread) > 0 {
		t.Errorf("what stands on a source: %+v", depends)
	}
	// An edition that cannot be read keeps nobody from asking.
	must.Do(t, d.s.db.SaveEdition(store.Edition{Mirror: "m", Number: 1}))
	d.must(d.ask(api.Viewer, "GET", "/dependents/source/tarn", nil), 200, &depends)
	if len(depends.Unread) != 1 || depends.Unread[0] != "m/1" {
		t.Errorf("an edition that cannot be read: %+v", depends)
	}
}
