package journal

import (
	"bytes"
	"fmt"
	"time"
)

// An entry that is changed later is found.
func ExampleVerify() {
	keys, err := NewKeys(bytes.Repeat([]byte{7}, 32))
	if err != nil {
		panic(err)
	}
	s := &memory{}
	at := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	for _, by := range []string{"ada", "mara"} {
		if err := Write(s, keys, Entry{At: at, By: by, Action: "key.vouch",
			Object: "source tarn"}); err != nil {
			panic(err)
		}
	}
	for _, by := range []string{"ada", "eve"} {
		s.entries[0] = bytes.Replace(s.entries[0], []byte("ada"), []byte(by), 1)
		report, err := Verify(s, keys)
		if err != nil {
			panic(err)
		}
		fmt.Println(report.Entries, report.Holds, report.FirstBad)
	}
	// Output:
	// 2 true -1
	// 2 false 0
}
