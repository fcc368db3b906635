package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"stockade/internal/must"
)

// hostile is a name that a terminal would obey, or show as something else.
const hostile = "tide\x1b[2J\u009b31m\u202egnp"

func TestNoFormLetsATerminalObeyAName(t *testing.T) {
	for _, form := range []string{"json", "yaml", "ids"} {
		var out bytes.Buffer
		a := &app{out: &out, output: form}
		must.Do(t, a.show(map[string]string{"name": hostile}, func() {}, []string{hostile}))
		for _, bad := range []string{"\x1b", "\u009b", "\u202e"} {
			if strings.Contains(out.String(), bad) {
				t.Errorf("-o %s writes %q: %q", form, bad, out.String())
			}
		}
		var back map[string]string
		if form == "json" && (json.Unmarshal(out.Bytes(), &back) != nil || back["name"] != hostile) {
			t.Errorf("what is read back is another name: %q", back["name"])
		}
	}
	for _, plain := range []string{"{\n  \"name\": \"Gezeiten-Übersicht\",\n\t\"b\": 1\n}\n",
		"\u20ac \U0001f30a\n"} {
		if got := escaped(plain); got != plain {
			t.Errorf("got %q, want %q", got, plain)
		}
	}
}

// full takes so many bytes.
type full struct{ left int }

func (f *full) Write(p []byte) (int, error) {
	if f.left -= len(p); f.left < 0 {
		return 0, io.ErrShortWrite
	}
	return len(p), nil
}

// A result that could not be written is no success, in any form.
func TestAResultThatIsNotWrittenIsNoSuccess(t *testing.T) {
	for _, args := range [][]string{{"version"}, {"version", "-o", "json"}, {"version", "-o", "ids"},
		{"--help"}} {
		var told bytes.Buffer
		code := Run(func(string) string { return "" }, args, strings.NewReader(""), &full{left: 3}, &told)
		if code != exitFailed || !strings.Contains(told.String(), "write the result") {
			t.Errorf("%q: got exit code %d, want %d: %s", args, code, exitFailed, told.String())
		}
	}
}

// The token goes to the service that was named, and to nobody whom that names.
func TestATokenIsSentNowhereElse(t *testing.T) {
	var sent atomic.Int64
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			sent.Add(1)
		}
	}))
	defer elsewhere.Close()
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	defer service.Close()
	env := func(name string) string {
		return map[string]string{"STOCKADE_SERVER": service.URL, "STOCKADE_TOKEN": "pearl"}[name]
	}
	var out, told bytes.Buffer
	if code := Run(env, []string{"source", "list"}, strings.NewReader(""), &out, &told); code == exitDone {
		t.Errorf("an answer from elsewhere was taken: %s%s", out.String(), told.String())
	}
	if sent.Load() > 0 {
		t.Error("the token was sent to another port")
	}
}
