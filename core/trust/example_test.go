package trust_test

import (
	"fmt"
	"time"

	"stockade/core/trust"
)

// A signature counts where somebody vouched for its key, for that source, and nowhere
// else.
func ExampleKeyring() {
	desk, err := trust.NewKey("Tarn release desk", "", "desk@tarn.example", time.Now)
	if err != nil {
		panic(err)
	}
	index := []byte("Suite: steady\n")
	signature, err := desk.DetachSign(index, true)
	if err != nil {
		panic(err)
	}
	key := desk.Certificate()
	known := map[string]*trust.Certificate{key.Fingerprint: key}

	var decisions trust.Decisions
	decisions.Add(trust.Decision{Act: trust.Vouch, Fingerprint: key.Fingerprint, Source: "tarn",
		Why: "read out by the release desk, call 4471", By: "ada", At: time.Now()})

	for _, source := range []string{"tarn", "kelp"} {
		ring := decisions.Keyring(source, []string{key.Fingerprint}, known, time.Now)
		by, err := ring.Detached(index, signature)
		fmt.Println(source, by.UserID, err == nil)
	}
	ring := decisions.Keyring("tarn", []string{key.Fingerprint}, known, time.Now)
	_, err = ring.Detached([]byte("Suite: trial\n"), signature)
	fmt.Println("changed", err == nil)
	// Output:
	// tarn Tarn release desk <desk@tarn.example> true
	// kelp  false
	// changed false
}
