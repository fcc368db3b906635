package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

// open begins a service and ends it again, and gives its site key's fingerprint.
func openOnce(t *testing.T, data, anew string) (string, error) {
	t.Helper()
	s, err := Open(Config{Data: data, Listen: "127.0.0.1:0", Packages: "127.0.0.1:0", BeginAnew: anew})
	if err != nil {
		return "", err
	}
	defer s.Close()
	return s.site.Load().main.Certificate().Fingerprint, nil
}

func TestWhatIsLostIsNotMadeAnewSilently(t *testing.T) {
	for name, lose := range map[string]string{"the site key": "site/key.pgp", "the records": "stockade.db"} {
		t.Run(name, func(t *testing.T) {
			data := t.TempDir()
			first, err := openOnce(t, data, "")
			must.Do(t, err)
			if again, err := openOnce(t, data, ""); err != nil || again != first {
				t.Fatalf("the second start: %s, %v", again, err)
			}
			if _, err := openOnce(t, data, first); err == nil {
				t.Fatal("it begins anew where nothing is lost")
			}
			must.Do(t, os.Rename(filepath.Join(data, lose), filepath.Join(data, "kept")))
			for range 2 { // the first refusal must leave nothing that the second would take for whole
				_, err = openOnce(t, data, "")
				if f, _ := finding.From(err); f.Code != "site.lost" || !strings.Contains(f.WayOut,
					"--begin-anew") {
					t.Fatalf("it starts, or does not say the way back: %v", err)
				}
			}
			if _, err = openOnce(t, data, strings.Repeat("7C1B", 10)); err == nil {
				t.Fatal("it begins anew for another key's fingerprint")
			}
			must.Do(t, os.Rename(filepath.Join(data, "kept"), filepath.Join(data, lose)))
			if back, err := openOnce(t, data, ""); err != nil || back != first {
				t.Fatalf("with the file back: %s, %v", back, err)
			}
			must.Do(t, os.Remove(filepath.Join(data, lose)))
			anew, err := openOnce(t, data, first)
			if err != nil || anew == first {
				t.Fatalf("begun anew: %s, %v", anew, err)
			}
			aside, err := filepath.Glob(filepath.Join(data, "before-*", "*"))
			if err != nil || len(aside) < 2 {
				t.Errorf("set aside: %v", aside)
			}
			if again, err := openOnce(t, data, ""); err != nil || again != anew {
				t.Errorf("the start after it: %s, %v", again, err)
			}
		})
	}
}
