package demo

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stockade/core/archive/deb"
)

// OwnArchive reads this machine's own configuration for a deb archive with a
// component main, and gives its address, release and keyring.
func OwnArchive() (uri, suite, keyring string) {
	files, _ := filepath.Glob("/etc/apt/sources.list.d/*.sources")
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			continue
		}
		r := deb.NewStanzaReader(f)
		for {
			raw, err := r.Next()
			if err != nil {
				break
			}
			var kept []string // without comments
			for line := range strings.Lines(string(raw)) {
				if !strings.HasPrefix(line, "#") {
					kept = append(kept, line)
				}
			}
			m, err := deb.Fields([]byte(strings.Join(kept, "")))
			if err != nil || !strings.Contains(" "+m["components"]+" ", " main ") ||
				strings.Contains(m["uris"], " ") || !strings.HasPrefix(m["signed-by"], "/") ||
				strings.Contains(m["suites"], "-security") || m["architectures"] != "" {
				continue
			}
			f.Close()
			return strings.TrimRight(m["uris"], "/"), strings.Fields(m["suites"])[0], m["signed-by"]
		}
		f.Close()
	}
	return "", "", ""
}

// Reachable asks for the head of a URL and gives the status; 0: no answer.
func Reachable(url string) int {
	c := http.Client{Timeout: 15 * time.Second}
	res, err := c.Head(url)
	if err != nil {
		return 0
	}
	res.Body.Close()
	return res.StatusCode
}
