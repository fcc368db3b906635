package finding

import (
	"fmt"
	"strings"
)

// Count says how many there are of a thing: "1 other", "7 others".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if strings.HasSuffix(one, "ss") {
		one += "e"
	}
	if word, ok := strings.CutSuffix(one, "ry"); ok {
		one = word + "rie"
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Most is how many findings one check tells: whoever checks documents of somebody else holds no more.
const Most = 10_000

// Telling is a list that is being made, with a bound.
type Telling struct {
	Found List
	spare Finding
	more  int
}

// Add adds a finding and gives it, so that more can be said of it. What is beyond the bound is counted.
func (t *Telling) Add(f Finding) *Finding {
	if len(t.Found) >= Most {
		t.more++
		t.spare = f
		return &t.spare
	}
	t.Found = append(t.Found, f)
	return &t.Found[len(t.Found)-1]
}

// Told gives the list. Where some were only counted it ends with an error that says so: nothing that is
// told of in part counts as checked.
func (t *Telling) Told() List {
	if t.more > 0 {
		return append(t.Found, New(DefineTooMany, "", "Stockade stopped after %d findings; %s not shown",
			Most, Count(t.more, "more finding")))
	}
	return t.Found
}

// Full tells whether what is added is only counted.
func (t *Telling) Full() bool { return len(t.Found) >= Most }

// Names names the first of some things, most of them at the most, and counts the others: "a, b and
// c", "a, b and 7 others".
func Names(names []string, most int) string {
	n := len(names)
	switch {
	case n > most:
		return strings.Join(names[:most], ", ") + " and " + Count(n-most, "other")
	case n < 2:
		return strings.Join(names, "")
	}
	return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
}
