package service

import (
	"strings"
	"testing"

	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/store"
)

// A source that is renamed is the same one: who may sign it still may, and what was accepted of it
// guards on. An operator does not vouch by renaming.
func TestARenamedSourceIsTheSameOne(t *testing.T) {
	d := newDesk(t)
	d.toldOf()
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0].Certificate().Fingerprint
	d.must(d.ask(api.Warden, "POST", "/keys/"+key+"/vouch", api.Decision{Fingerprint: key, Source: "tarn",
		Evidence: "read out by the release desk"}), 200, nil)
	now := d.s.now().UTC()
	must.Do(t, d.s.db.Keep("accepted", "tarn", upstream.Accepted{Source: "tarn", Date: now}, now))
	to := api.RenameAsked{Kind: "source", Name: "tarn", To: "tarn-main"}
	if w := d.ask(api.Operator, "POST", "/definitions/rename", to); w.Code != 403 {
		t.Errorf("an operator vouches by renaming: %d %s", w.Code, w.Body)
	}
	look := to
	look.Look = true
	var j api.Judgement
	d.must(d.ask(api.Warden, "POST", "/definitions/rename", look), 200, &j)
	if len(j.Vouches) != 1 || j.Revision != 0 || len(j.Changes) == 0 {
		t.Errorf("%+v", j)
	}
	d.must(d.ask(api.Viewer, "GET", "/sources/tarn", nil), 200, nil)
	d.must(d.ask(api.Warden, "POST", "/definitions/rename", to), 200, &j)
	set, err := d.s.db.Described()
	must.Do(t, err)
	trusted, err := d.s.readTrusted()
	must.Do(t, err)
	counting := trusted.keyring(set, "tarn-main", d.s.now).Counting()
	if _, there := set.Sources["tarn"]; there || len(counting) != 1 {
		t.Errorf("after it was renamed: %v", set.Names("source"))
	}
	if _, still := trusted.Vouched(key, "tarn"); still {
		t.Error("the old name is vouched for as well")
	}
	v, _ := trusted.Vouched(key, "tarn-main")
	if v.By != "warden" || !strings.HasPrefix(v.Why, "as vouched for tarn by warden on ") {
		t.Errorf("%+v", v)
	}
	var a upstream.Accepted
	if _, there, err := d.s.db.Kept("accepted", "tarn-main", &a); !there || err != nil ||
		!a.Date.Equal(now) {
		t.Errorf("what was accepted does not guard on: %+v %v", a, err)
	}
	if r, err := d.s.verifyJournal(""); err != nil || !r.Holds {
		t.Errorf("%+v %v", r, err)
	}
}

// What is known by its name outside of the description keeps it.
func TestWhatIsKnownByItsNameKeepsIt(t *testing.T) {
	d := newDesk(t)
	d.toldOf()
	d.must(d.ask(api.Operator, "POST", "/definitions/record", documents("stockade: 1\nmirrors:\n  barrage: "+
		"{copy: faithful, from: [tarn], want: everything}\nlanes:\n  steady: {mirror: barrage}\n")), 200,
		nil)
	mirrorTo := api.RenameAsked{Kind: "mirror", Name: "barrage", To: "dam"}
	must.Do(t, d.s.db.SaveEdition(store.Edition{Mirror: "barrage", Number: 1, Created: d.s.now()}))
	if w := d.ask(api.Operator, "POST", "/definitions/rename", mirrorTo); w.Code != 422 {
		t.Errorf("a mirror with an edition: %d %s", w.Code, w.Body)
	}
	laneTo := api.RenameAsked{Kind: "lane", Name: "steady", To: "calm"}
	d.must(d.ask(api.Operator, "POST", "/definitions/rename", laneTo), 200, nil)
	step := store.Move{Lane: "calm", Mirror: "barrage", Edition: 1}
	ch, err := d.s.begin(itself("mara"))
	must.Do(t, err)
	_, err = ch.step(api.Lane{Name: "calm"}, step)
	ch.end()
	must.Do(t, err)
	laneTo.Name, laneTo.To = "calm", "steady"
	if w := d.ask(api.Operator, "POST", "/definitions/rename", laneTo); w.Code != 422 {
		t.Errorf("a lane that was moved: %d %s", w.Code, w.Body)
	}
}
