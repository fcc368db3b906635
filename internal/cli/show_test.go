package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/must"
)

func TestNumbersAreWrittenForPeople(t *testing.T) {
	for n, want := range map[int64]string{
		0:       "0 B",
		1023:    "1023 B",
		1024:    "1.0 KiB",
		1536:    "1.5 KiB",
		5 << 20: "5.0 MiB",
		3 << 40: "3.0 TiB",
	} {
		if got := size(n); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
	for d, want := range map[time.Duration]string{
		0:                "0 s",
		59 * time.Second: "59 s",
		61 * time.Second: "1 min",
		3 * time.Hour:    "3 h",
		50 * time.Hour:   "2 days",
	} {
		if got := span(d); got != want {
			t.Errorf("%s: %s", d, got)
		}
	}
}

func TestTablesLineUpAndAreHarmless(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out}
	a.table([]column{{head: "NAME"}, {head: "SIZE", right: true}, {head: "NOTE"}}, [][]string{{"größer", "5",
		"a\x1b[31m"}, {"x", "1000", ""}})
	want := "NAME    SIZE  NOTE\ngrößer     5  a\\u{1b}[31m\nx       1000\n"
	if out.String() != want {
		t.Errorf("%q", out.String())
	}
}

func TestProgressIsPlainWhereThereIsNoTerminal(t *testing.T) {
	var out bytes.Buffer
	a := &app{err: &out}
	p := a.progress()
	p.show(upstream.Event{Step: "roots", Text: "tarn"})
	p.show(upstream.Event{Step: "packages", Bytes: 10, BytesTotal: 2048, Rate: 5, Remaining: 90})
	p.show(upstream.Event{Step: "packages", Bytes: 20, BytesTotal: 2048}) // too soon for another line
	p.done()
	if got := out.String(); got !=
		"downloading release metadata of tarn\ndownloading packages: 10 B of 2.0 KiB, 5 B/s, 1 min left\n" {
		t.Errorf("%q", got)
	}
	out.Reset()
	a.quiet = true
	a.progress().show(upstream.Event{Step: "roots"})
	if out.Len() > 0 {
		t.Errorf("quiet, and %q", out.String())
	}
}

func TestEndingsHaveTheirExitCodes(t *testing.T) {
	for name, c := range map[string]struct {
		err  error
		code int
		says string
	}{
		"nothing wrong":     {nil, 0, ""},
		"the answer is no":  {no(), 1, ""},
		"a finding":         {finding.New("source.bad-url", "source x", "x is none"), 1, "source.bad-url"},
		"a bad fingerprint": {&exit{2, finding.New("key.short-id", "key", "x is short")}, 2, "key.short-id"},
		"interrupted":       {context.Canceled, 130, "interrupted"},
		"a wrong call":      {usage("the object does not exist"), 2, "the object does not exist"},
		"no service":        {client.ErrUnreachable, 3, "stockade serve"},
		"no token": {&api.Problem{Status: 401, Title: "Not signed in", WayOut: "stockade login"},
			4, "stockade login"},
		"not allowed": {&api.Problem{Status: 403, Title: "Not allowed"}, 4, "Not allowed"},
		"refused content": {&api.Problem{
			Status: 422,
			Title:  "Not recorded",
			Findings: finding.List{finding.New("source.bad-url", "", "a"), finding.New("source.unsigned", "",
				"b")},
		}, 1, "source.unsigned"},
		"the service's fault": {&api.Problem{Status: 500, Title: "Broken", Detail: "why"}, 5, "why"},
		"the work failed":     {errors.New("disk full"), 5, "disk full"},
	} {
		var out bytes.Buffer
		a := &app{err: &out, out: &out}
		if code := a.end(c.err); code != c.code || !strings.Contains(out.String(), c.says) {
			t.Errorf("%s: exit code %d, %q", name, code, out.String())
		}
	}
}

func TestAWrongWordNamesTheNearestRightOne(t *testing.T) {
	for line, want := range map[string]string{
		"sorce list":      `did you mean "stockade source"?`,
		"mirror buld x":   `did you mean "stockade mirror build"?`,
		"edition collect": "it must be one of advisories, diff, export",
		"plan x":          "compare,",
	} {
		var out, told bytes.Buffer
		if code := Main(strings.Fields(line), strings.NewReader(""), &out, &told); code != exitUsage ||
			!strings.Contains(told.String(), want) {
			t.Errorf("stockade %s: %d, %s", line, code, told.String())
		}
	}
}

func TestSizesAndTimesAreReadAsPeopleWriteThem(t *testing.T) {
	for text, want := range map[string]int64{"700": 700, "5M": 5 << 20, "5m": 5 << 20, "4GiB": 4 << 30,
		"1.5 GB": 1_500_000_000, "2kB": 2000, "0": 0, "3T": 3 << 40} {
		if got, err := parseSize(text); err != nil || got != want {
			t.Errorf("%q: %d %v", text, got, err)
		}
	}
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "30m": 30 * time.Minute,
		"12h": 12 * time.Hour, "2d": 48 * time.Hour, "1.5d": 36 * time.Hour, "3w": 21 * 24 * time.Hour,
		"1h30m": 90 * time.Minute} {
		if got, err := parseTime(text); err != nil || got != want {
			t.Errorf("%q: %s %v", text, got, err)
		}
	}
	for _, text := range []string{"", "5X", "-5M", "M", "99999999T", "1e400"} {
		if got, err := parseSize(text); err == nil {
			t.Errorf("%q is a size of %d", text, got)
		}
	}
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{
		"2d":                   now.AddDate(0, 0, -2),
		"2026-11-24":           time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC),
		"2026-11-24 06:30":     time.Date(2026, 11, 24, 6, 30, 0, 0, time.UTC),
		"2026-11-24T06:30:00Z": time.Date(2026, 11, 24, 6, 30, 0, 0, time.UTC),
	} {
		if got, err := parseWhen(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%q: %s %v", text, got, err)
		}
	}
	for _, text := range []string{"", "-2d", "yore", "2026-13-01", "99999999w"} {
		if got, err := parseWhen(text, now); err == nil {
			t.Errorf("%q is the time %s", text, got)
		}
	}
	for _, v := range []struct {
		flag interface{ String() string }
		want string
	}{{new(sizeValue), "0"}, {func() *sizeValue { v := sizeValue(4 << 30); return &v }(), "4.0GiB"},
		{func() *timeValue { v := timeValue(48 * time.Hour); return &v }(), "2d"}} {
		if got := v.flag.String(); got != v.want {
			t.Errorf("%q is shown for %q", got, v.want)
		}
	}
}

func TestFindingsForReviewToolsHaveTheirPlacesAndRules(t *testing.T) {
	quoted := finding.New("define.bad-value", "", "c").At(finding.Place{File: "b.yaml", Line: 1, Column: 1})
	quoted.Fix, quoted.Excerpt = finding.Fix{Old: "sorces", New: "sources"}, "\"sorces\": {}\n^"
	plain := quoted
	plain.Excerpt = "sorces: {}\n^"
	for f, want := range map[*finding.Finding]bool{&quoted: false, &plain: true} {
		raw, err := sarif(finding.List{*f})
		if err != nil || strings.Contains(string(raw), `"text": "sources"`) != want ||
			strings.Contains(string(raw), `"endColumn": 7`) != want {
			t.Errorf("%s %v", raw, err)
		}
	}
	raw, err := sarif(finding.List{
		finding.New("define.syntax", "", "one\ntwo").At(finding.Place{File: "my site/a.yaml", Line: 3,
			Column: 5}),
		finding.New("key.unvouched", "source tarn", "nobody").Rated(finding.Warning),
		finding.New("define.syntax", "", "again").At(finding.Place{File: "b.yaml"}),
	})
	must.Do(t, err)
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct{ ID string }
				}
			}
			Results []struct {
				RuleID    string `json:"ruleId"`
				RuleIndex int    `json:"ruleIndex"`
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           *struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(raw, &log); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 {
		t.Fatalf("%v\n%s", err, raw)
	}
	run := log.Runs[0]
	rules, results := run.Tool.Driver.Rules, run.Results
	if len(rules) != 2 || len(results) != 3 || rules[results[2].RuleIndex].ID != "define.syntax" ||
		rules[results[1].RuleIndex].ID != results[1].RuleID || results[1].Level != "warning" ||
		len(results[1].Locations) != 0 || !strings.HasPrefix(results[0].Message.Text, "one two (") {
		t.Errorf("%s", raw)
	}
	first, last := results[0].Locations[0].PhysicalLocation, results[2].Locations[0].PhysicalLocation
	if first.ArtifactLocation.URI != "my%20site/a.yaml" || first.Region.StartLine != 3 ||
		first.Region.StartColumn != 5 || last.Region != nil {
		t.Errorf("%s", raw)
	}
	if empty, err := sarif(nil); err != nil || !strings.Contains(string(empty), `"results": []`) {
		t.Errorf("%s %v", empty, err)
	}
}

func TestACallThatLacksSomethingSaysHowItIsCalled(t *testing.T) {
	for line, want := range map[string]string{
		"source show": "an argument is missing: the usage is stockade source show SOURCE…",
		"lane move a b c": "too many arguments: the usage is stockade lane move LANE " +
			"MIRROR/N",
		"source list --nonce":  "unknown flag: --nonce",
		"edition list -o tree": "table, json, yaml and ids",
		"-v":                   "unknown shorthand flag",
	} {
		var out, told bytes.Buffer
		if code := Main(strings.Fields(line), strings.NewReader(""), &out, &told); code != exitUsage ||
			!strings.Contains(told.String(), want) {
			t.Errorf("stockade %s: %d, %s", line, code, told.String())
		}
	}
}

func TestEveryCommandHasAnExampleAndAShortText(t *testing.T) {
	a := &app{}
	for _, noun := range a.root().Commands() {
		if noun.Name() == "completion" || noun.Name() == "help" {
			continue
		}
		verbs := noun.Commands()
		if noun.Example == "" || noun.Short == "" {
			t.Errorf("%s has no example or no text", noun.Name())
		}
		for _, v := range verbs {
			if v.Example == "" || v.Short == "" {
				t.Errorf("%s %s has no example or no text", noun.Name(), v.Name())
			}
			if !strings.Contains(v.Example, "stockade "+noun.Name()+" "+v.Name()) {
				t.Errorf("the example of %s %s does not show it: %s", noun.Name(), v.Name(), v.Example)
			}
		}
	}
}
