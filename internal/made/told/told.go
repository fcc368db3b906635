// Package told asserts what a refusal says: the tables of one bad input for each share it.
package told

import (
	"strings"
	"testing"

	"stockade/core/finding"
)

// Refused asserts that an error is the finding of a code whose text has says in it: the
// field or the value that is refused. Without a code nothing may be refused.
func Refused[C ~string](t *testing.T, what string, err error, code C, says string) {
	t.Helper()
	f, ok := finding.From(err)
	switch {
	case code == "" && err != nil:
		t.Errorf("%s: %v", what, err)
	case code != "" && (!ok || f.Code != finding.Code(code) || !strings.Contains(f.Text, says)):
		t.Errorf("%s: %v, and %s with %q was meant", what, err, code, says)
	}
}

// Change gives a text with something in it replaced, once. A test that would change nothing ends.
func Change(t *testing.T, text, old, new string) string {
	t.Helper()
	if !strings.Contains(text, old) {
		t.Fatalf("nothing to change: %q", old)
	}
	return strings.Replace(text, old, new, 1)
}
