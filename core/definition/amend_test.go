package definition

import (
	"maps"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

const amendable = `stockade: 1
sources:
  tarn: {family: deb, standing: official, upstreams: [{url: "https://t.example/t"}], release: heron,
    components: [core], architectures: [amd64]}
  kelp: {family: deb, standing: vendor, upstreams: [{url: "https://k.example/k"}], release: heron,
    components: [core], architectures: [amd64]}
mirrors:
  # what the gates run
  barrage:
    copy: tailored
    from: [{source: tarn, want: {packages: [gauge], except: ["*-dbg", buoy]}}]
    want: {packages: [sluicectl], except: ["tide-*", weir]}
    together: [[sluicectl, "tide-tables >= 2"], [tide-tables]]
  whole: {copy: faithful, from: [{source: tarn, want: everything}]}
lanes:
  steady: {mirror: barrage}
groups:
  gatehouse:
    family: deb
    lane: steady
    pins: [weir = 1, "tide-tables = 2.4.1-1"]
    roles: {gates: [sluicectl, tide-tables], tides: ["tide-tables = 2.4.1-1"]}
`

func amended(t *testing.T) *Set {
	t.Helper()
	set, found := Read(Text{Name: "x", Text: amendable})
	if found.HasErrors() {
		t.Fatal(found)
	}
	return set
}

// Each way out of a refusal changes just what it says, of just the object that it names.
func TestAnAmendmentChangesWhatItSays(t *testing.T) {
	for name, c := range map[string]struct {
		a       Amendment
		summary string
		fields  string // path: - gone + came
	}{
		"another source": {Amendment{Kind: AddSource, Object: "mirror barrage", Name: "kelp"},
			"mirror barrage takes from kelp, too", "from: -  + kelp"},
		"a pattern over the mirror": {Amendment{Kind: LiftExcept, Object: "mirror barrage", Name: "tide-log"},
			"mirror barrage no longer excludes tide-log", "want.except: - tide-* + "},
		"an exception of one source": {Amendment{Kind: LiftExcept, Object: "mirror barrage", Name: "buoy"},
			"mirror barrage no longer excludes buoy",
			"from: - tarn; want except *-dbg, buoy; packages gauge; versions 1; with required " +
				"+ tarn; want except *-dbg; packages gauge; versions 1; with required"},
		"a pin": {Amendment{Kind: MovePin, Object: "group gatehouse", Name: "tide-tables", Version: "2.5-1"},
			"group gatehouse pins tide-tables to 2.5-1",
			"pins: - tide-tables = 2.4.1-1 + tide-tables = 2.5-1"},
		"one of sets of a mirror": {Amendment{Kind: LeaveOut, Object: "mirror barrage", Name: "tide-tables"},
			"mirror barrage no longer has tide-tables in its package sets",
			"together: - sluicectl, tide-tables >= 2 tide-tables + sluicectl"},
		"a whole one to a faithful copy": {Amendment{Kind: AddSource, Object: "mirror whole", Name: "kelp"},
			"mirror whole takes from kelp, too", "from: -  + kelp; want everything"},
		"one of the roles of a group": {Amendment{Kind: LeaveOut, Object: "group gatehouse",
			Name: "tide-tables"}, "group gatehouse no longer has tide-tables in its package sets",
			"roles.gates: - tide-tables + ; roles.tides: - tide-tables = 2.4.1-1 + "},
	} {
		t.Run(name, func(t *testing.T) {
			before, after, sharing := amended(t), amended(t), amended(t)
			sharing.Mirrors, sharing.Groups = maps.Clone(after.Mirrors), maps.Clone(after.Groups)
			must.Do(t, sharing.Amend(c.a)) // lists that it shares with another stay as they are there
			if changes := Compare(before, after); len(changes) != 0 {
				t.Fatalf("another description changed, too: %+v", changes)
			}
			must.Do(t, after.Amend(c.a))
			changes := Compare(before, after)
			if len(changes) != 1 || changes[0].Kind+" "+changes[0].Name != c.a.Object {
				t.Fatalf("%+v", changes)
			}
			var fields []string
			for _, f := range changes[0].Fields {
				fields = append(fields, f.Path+": - "+strings.Join(f.Gone, " ")+" + "+
					strings.Join(f.Came, " "))
			}
			if got := strings.Join(fields, "; "); got != c.fields {
				t.Errorf("changed\n%s\nmeant\n%s", got, c.fields)
			}
			if c.a.String() != c.summary {
				t.Errorf("%q", c.a)
			}
			if text, err := after.YAML(); err != nil || !strings.Contains(text, "# what the gates run") {
				t.Errorf("what was said beside it is gone: %v\n%s", err, text)
			}
			if found := after.Amend(c.a); found == nil {
				t.Error("the second time it has something to do again")
			}
		})
	}
}

func TestAnAmendmentThatCannotBeIsRefused(t *testing.T) {
	for name, c := range map[string]struct {
		a          Amendment
		code, says string
	}{
		"no kind": {Amendment{Object: "mirror barrage", Name: "kelp"}, "define.bad-value",
			"cannot set"},
		"not of this kind of thing": {Amendment{Kind: MovePin, Object: "mirror barrage", Name: "weir",
			Version: "2"}, "define.bad-value", `a change of "mirror barrage" cannot set "pin"`},
		"no object": {Amendment{Kind: AddSource, Name: "kelp"}, "define.bad-value", "cannot set"},
		"no such mirror": {Amendment{Kind: AddSource, Object: "mirror barage", Name: "kelp"},
			"define.dangling-reference", `did you mean "barrage"?`},
		"no such source": {Amendment{Kind: AddSource, Object: "mirror barrage", Name: "klep"},
			"define.dangling-reference", `did you mean "kelp"?`},
		"no version": {Amendment{Kind: MovePin, Object: "group gatehouse", Name: "weir"},
			"define.bad-value", "the new version of the pin of weir is missing"},
		"is taken from": {Amendment{Kind: AddSource, Object: "mirror barrage", Name: "tarn"},
			"define.bad-value", "already takes from tarn"},
		"is not excepted": {Amendment{Kind: LiftExcept, Object: "mirror barrage", Name: "sluicectl"},
			"define.bad-value", "has no exception that matches sluicectl"},
		"has this version": {Amendment{Kind: MovePin, Object: "group gatehouse", Name: "weir", Version: "1"},
			"define.bad-value", "has no pin of weir to change"},
		"is in no set": {Amendment{Kind: LeaveOut, Object: "mirror barrage", Name: "gauge"},
			"define.bad-value", "has gauge in none of its package sets"},
		"is in no role": {Amendment{Kind: LeaveOut, Object: "group gatehouse", Name: "gauge"},
			"define.bad-value", "has gauge in none of its package sets"},
	} {
		t.Run(name, func(t *testing.T) {
			before, after := amended(t), amended(t)
			f, ok := finding.From(after.Amend(c.a))
			if !ok || string(f.Code) != c.code || !strings.Contains(f.Text+" "+f.WayOut, c.says) {
				t.Errorf("%+v", f)
			}
			if changes := Compare(before, after); len(changes) > 0 {
				t.Errorf("it changed all the same: %+v", changes)
			}
		})
	}
}

// A list whose order alone changed is told as that, and one that came or went whole is neither.
func TestOfAListItIsToldWhatWentAndCame(t *testing.T) {
	for name, c := range map[string]struct {
		old, now          string
		gone, came, order string
	}{
		"another order":  {`["a","b","c"]`, `["c","a","b"]`, "", "", "c a b"},
		"one twice":      {`["a"]`, `["a","a"]`, "", "a", ""},
		"once less":      {`["a","b","a"]`, `["a","b"]`, "a", "", ""},
		"several in":     {`["a"]`, `["x","a","y"]`, "", "x y", ""},
		"numbers":        {`[1,2]`, `[2,3]`, "1", "3", ""},
		"not a list":     {`"[a"`, `"[b"`, "", "", ""},
		"a list from no": {``, `["a","b"]`, "", "a b", ""},
		"and to none":    {`["a"]`, ``, "a", "", ""},
		"a text from no": {``, `"a"`, "", "", ""},
		"a thing with what it has": {`[{"url":"https://x.example","region":"north","whole":true,"none":""}]`,
			`[{"url":"https://x.example","region":"south"}]`, "https://x.example; region north; whole",
			"https://x.example; region south", ""},
	} {
		old, now := []byte(`{"x":`+c.old+`}`), []byte(`{"x":`+c.now+`}`)
		if c.old == "" {
			old = []byte("{}")
		}
		if c.now == "" {
			now = []byte("{}")
		}
		fields := CompareFields(old, now)
		if len(fields) != 1 {
			t.Fatalf("%s: %+v", name, fields)
		}
		f := fields[0]
		if strings.Join(f.Gone, " ") != c.gone || strings.Join(f.Came, " ") != c.came ||
			strings.Join(f.Order, " ") != c.order {
			t.Errorf("%s: %+v", name, f)
		}
	}
}
