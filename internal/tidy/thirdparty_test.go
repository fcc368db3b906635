package tidy

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"stockade/internal/must"
)

// part is a piece of software of others that the binary contains.
type part struct{ name, version, licence, copyright string }

// licences are the words by which the text of each licence is known.
var licences = []struct{ name, has string }{
	{"Apache-2.0", "Apache License"},
	{"MPL-2.0", "Mozilla Public License"},
	{"MIT", "Permission is hereby granted, free of charge"},
	{"ISC", "Permission to use, copy, modify, and/or distribute"},
	{"ISC", "Permission to use, copy, modify, and distribute"},
	{"Unlicense", "This is free and unencumbered software"},
	{"BSD-3-Clause", "Neither the name"},
	{"BSD-2-Clause", "Redistribution and use in source and binary forms"},
}

var (
	copyrightLine = regexp.MustCompile(`(?m)^\W*(Copyright (?:\(c\)|©|[0-9]).*?)\s*$`)
	address       = regexp.MustCompile(`\s*<[^>]*>`)
	blanks        = regexp.MustCompile(`\s+`)
)

// licensed gives the licence of a Go module and whose it is, from the files that its authors put beside it.
func licensed(t *testing.T, dir string) (name, copyright string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	must.Do(t, err)
	for _, e := range entries {
		low := strings.ToLower(e.Name())
		if e.IsDir() || !slices.ContainsFunc([]string{"license", "licence", "copying", "unlicense"},
			func(beginning string) bool { return strings.HasPrefix(low, beginning) }) {
			continue
		}
		text := must.Read(t, filepath.Join(dir, e.Name()))
		plain := blanks.ReplaceAllString(text, " ")
		for _, l := range licences {
			if strings.Contains(plain, l.has) {
				if c := copyrightLine.FindStringSubmatch(text); c != nil {
					copyright = strings.TrimSpace(address.ReplaceAllString(c[1], ""))
				}
				return l.name, copyright
			}
		}
	}
	return "", ""
}

func goParts(t *testing.T) (out []part) {
	t.Helper()
	list := exec.Command("go", "list", "-deps", "-f",
		"{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}", "./cmd/stockade")
	list.Dir = filepath.Join("..", "..")
	raw, err := list.Output()
	must.Do(t, err)
	seen := map[string]bool{}
	for line := range strings.Lines(string(raw)) {
		fields := strings.Fields(line)
		if len(fields) != 3 || seen[fields[0]] {
			continue
		}
		seen[fields[0]] = true
		licence, copyright := licensed(t, fields[2])
		out = append(out, part{fields[0], fields[1], licence, copyright})
	}
	return out
}

func consoleParts(t *testing.T) (out []part) {
	t.Helper()
	var lock struct {
		Packages map[string]struct {
			Version, License string
			Dev, Optional    bool
		}
	}
	must.Do(t, json.Unmarshal([]byte(must.Read(t, filepath.Join("..", "..", "console",
		"package-lock.json"))), &lock))
	for path, p := range lock.Packages {
		if path == "" || p.Dev || p.Optional {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
		out = append(out, part{name: name, version: p.Version, licence: p.License})
	}
	return out
}

func listed(parts []part) string {
	slices.SortFunc(parts, func(a, b part) int { return cmp.Compare(a.name, b.name) })
	var b strings.Builder
	b.WriteString("| name | version | licence | copyright |\n|---|---|---|---|\n")
	for _, p := range parts {
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", p.name, p.version, p.licence, cmp.Or(p.copyright, "–"))
	}
	return b.String()
}

// THIRD_PARTY.md names all that the binary contains of others, each under a licence that is known.
func TestThirdPartyIsListed(t *testing.T) {
	program, console := goParts(t), consoleParts(t)
	for _, p := range slices.Concat(program, console) {
		if p.licence == "" {
			t.Errorf("%s: its licence is not known: look at it, and add it to licences", p.name)
		}
	}
	if len(program) < 20 || len(console) < 10 {
		t.Fatalf("got %d Go modules and %d packages of the console: is this all?", len(program), len(console))
	}
	want := `# Software of others

The binary contains these Go modules and these packages of the console. Their licences are in the modules and
packages themselves. GOLDEN=write go test ./internal/tidy -run ThirdParty writes this page.

## Go modules

` + listed(program) + "\n## Packages of the console\n\n" + listed(console)
	path := filepath.Join("..", "..", "THIRD_PARTY.md")
	if os.Getenv("GOLDEN") == "write" {
		must.Do(t, os.WriteFile(path, []byte(want), 0o644))
	}
	if got := must.Read(t, path); got != want {
		t.Error("THIRD_PARTY.md is not what is built in: its first lines say how it is written")
	}
}
