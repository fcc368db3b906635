package deb

import (
	"fmt"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

// A field that stands twice is found however many made-up names came before it.
func TestAFieldTwiceIsFoundAfterManyNames(t *testing.T) {
	var r fieldReader
	nothing := func(_, _ []byte) error { return nil }
	for made := 0; made < 1<<14; { // names that other stanzas make up
		var b strings.Builder
		for range maxFields {
			fmt.Fprintf(&b, "X%d: 1\n", made)
			made++
		}
		must.Do(t, r.each([]byte(b.String()), nothing))
	}
	for _, stanza := range []string{"Depends: x\nAnother: 1\nDepends: y\n", "A: 1\nB: 2\nC: 3\na: 4\n"} {
		f, _ := finding.From(r.each([]byte(stanza), nothing))
		if f.Code != "content.ambiguous" || !strings.Contains(f.Text, "occurs twice in one stanza") {
			t.Errorf("%q: got %+v", stanza, f)
		}
	}
	must.Do(t, r.each([]byte("Depends: x\nAnother: 1\n"), nothing))
}
