package header

import (
	"bytes"
	"testing"

	"stockade/core/finding"
)

func tooLarge(err error) bool {
	f, ok := finding.From(err)
	return ok && f.Code == "content.too-large"
}

// A header of zeros that claims to be millions of strings costs no memory for each.
func TestAHeaderOfManyValuesIsRefused(t *testing.T) {
	w := NewWriter(TagImmutable)
	w.put(TagBaseNames, typeStringArray, maxCount+1, make([]byte, maxCount+1))
	if _, err := Read(bytes.NewReader(w.Bytes()), MaxSize); !tooLarge(err) {
		t.Errorf("one entry: %v", err)
	}
	w = NewWriter(TagImmutable)
	for tag := range uint32(5) {
		w.put(TagBaseNames+tag, typeStringArray, maxCount, make([]byte, maxCount))
	}
	if _, err := Read(bytes.NewReader(w.Bytes()), MaxSize); !tooLarge(err) {
		t.Errorf("all entries: %v", err)
	}
}
