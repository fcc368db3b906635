package e2e

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/skip2/go-qrcode"

	"stockade/core/trust"
	"stockade/internal/must"
)

// A fingerprint is read from a photograph of the owner's QR code, or from a text file, and
// compared like one that is typed.
func TestAFingerprintIsReadFromAPicture(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	file := func(name string, data []byte) string {
		p := filepath.Join(s.dir, name)
		must.Do(t, os.WriteFile(p, data, 0o644))
		return p
	}
	code := func(text string) []byte {
		raw, err := qrcode.Encode(text, qrcode.Medium, 500)
		must.Do(t, err)
		return raw
	}
	blank := image.NewGray(image.Rect(0, 0, 200, 200))
	for i := range blank.Pix {
		blank.Pix[i] = 200
	}
	blank.Set(3, 3, color.Black)
	var nothing bytes.Buffer
	must.Do(t, png.Encode(&nothing, blank))
	b := signedIn(t, s, "/keys")
	b.click("decide")
	b.see("May this key sign kelp?")
	take := func(path string) {
		b.run("choose", chromedp.SetUploadFiles(`input[type=file][aria-label^="A picture"]`, []string{path},
			chromedp.ByQuery))
	}
	take(file("nothing.png", nothing.Bytes()))
	b.see("there is no QR code in the picture")
	take(file("broken.png", []byte("no picture")))
	b.see("the picture cannot be read")
	take(file("menu.png", code("https://kelp.example/menu")))
	b.see("holds something else than one whole fingerprint")
	take(file("other.png", code("OPENPGP4FPR:"+strings.Repeat("AB", 20))))
	b.see("does not match: do not vouch for this key")
	take(file("note.txt", []byte(trust.Spaced(kelp)+"\n")))
	b.see("matches the fingerprint of this key")
	take(file("menu.png", code("https://kelp.example/menu"))) // what stood there stays
	b.see("matches the fingerprint of this key")
	take(file("other.png", code("OPENPGP4FPR:"+strings.Repeat("AB", 20))))
	b.see("does not match: do not vouch for this key")
	take(file("kelp.png", code("OPENPGP4FPR:"+strings.ToLower(kelp))))
	b.see("matches the fingerprint of this key")
	b.typed("#evidence", "the code on the delivery note")
	b.shot("picture")
	b.click("Vouch for key")
	b.run("it is vouched for", chromedp.Poll(`!document.body.innerText.includes("May this key")`, nil))
	if out, _ := s.cli(0, "key", "show", kelp); !strings.Contains(out, "the code on the delivery note") {
		t.Error(out)
	}
}
