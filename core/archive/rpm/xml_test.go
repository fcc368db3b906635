package rpm

import (
	"encoding/xml"
	"io"
	"strings"
	"testing"

	"stockade/core/finding"
)

// endlessText never ends.
type endlessText struct{}

func (endlessText) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'a'
	}
	return len(p), nil
}

func TestAnEndlessElementIsRefused(t *testing.T) {
	big := newElements(io.MultiReader(strings.NewReader("<metadata>\n<package>"), endlessText{}), "metadata",
		"package")
	big.limit = 1 << 20
	_, err := big.next()
	if f, _ := finding.From(err); f.Code != "content.too-large" {
		t.Errorf("%v", err)
	}
}

// What our reader takes for XML, the standard library's does too, with the same
// elements, attributes and texts.
func FuzzWalk(f *testing.F) {
	for _, s := range []string{`<a b="1" c='&lt;2&#x41;'>t&amp;<b/><!-- c --><![CDATA[x<y]]>u</a>`,
		`<?xml version="1.0" encoding="UTF-8"?><a:b xmlns:a="x"> <c  d = "e" /></a:b >`, "<a>\r\n</a>",
		"<a><b></a></b>", "<a/><b/>", "<a>&x;</a>", "<!DOCTYPE a><a/>",
		"<a b=\"1\"c=\"2\"/>", "<a>]]></a>", "<a><?pi x?></a>", "\xef\xbb\xbf<a/>", "<a b=\"x\ny\"/>",
		"<a>\x01</a>", "<é ü=\"1\"/>", "<a b='<'/>", "<a><!-- -- --></a>"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var ours []string
		if err := walk([]byte(text), func(path []string, n *node) error {
			s := "<" + n.name
			for _, a := range n.attrs {
				s += " " + string(a.name) + "=" + string(a.value)
			}
			ours = append(ours, s)
			return nil
		}, func(path []string, text []byte) error {
			ours = append(ours, "</"+path[len(path)-1])
			return nil
		}); err != nil {
			return // it may be stricter
		}
		var theirs []string
		d := xml.NewDecoder(strings.NewReader(strings.TrimPrefix(text, "\xef\xbb\xbf")))
		for {
			tok, err := d.RawToken()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatalf("%q: ours takes it, theirs says %v", text, err)
			}
			switch x := tok.(type) {
			case xml.StartElement:
				s := "<" + joinName(x.Name)
				for _, a := range x.Attr {
					s += " " + joinName(a.Name) + "=" + a.Value
				}
				theirs = append(theirs, s)
			case xml.EndElement:
				theirs = append(theirs, "</"+joinName(x.Name))
			}
		}
		if strings.Join(ours, "\n") != strings.Join(theirs, "\n") {
			t.Errorf("%q:\n%q\n%q", text, ours, theirs)
		}
	})
}

func joinName(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}
