package service

import (
	"strings"
	"testing"

	"stockade/core/definition"
	"stockade/internal/api"
)

// Who bars a key is told how it leaves machines that get no new files: of each family that it was
// vouched for, or is named by.
func TestWhoBarsAKeyIsToldHowItLeavesMachines(t *testing.T) {
	const key = "7C1B22E05A90D4417F039E6AB2C871D0453FF1A9"
	set := definition.NewSet()
	set.Sources["brine"] = definition.Source{Family: "rpm"}
	set.Sources["wrack"] = definition.Source{Family: "alpm"}
	set.Sources["tarn"] = definition.Source{Family: "deb"}
	now := &trusted{history: map[string][]api.KeyStep{key: {{Action: "key.vouch", Source: "brine"},
		{Action: "key.vouch", Source: "wrack"}, {Action: "key.bar"}}}}
	got := now.removal(set, key)
	for _, want := range []string{"stockade group files GROUP", "pacman-key --delete " + key,
		"rpm -e --allmatches gpg-pubkey-453ff1a9"} {
		if !strings.Contains(got, want) {
			t.Errorf("got %q, want %q in it", got, want)
		}
	}
	if strings.Contains(got, "/etc/apt/keyrings") {
		t.Errorf("got %q, and no deb source ever had the key", got)
	}
}
