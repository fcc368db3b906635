package cli

import (
	"encoding/json"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"stockade/core/finding"
)

// What is found, in the Static Analysis Results Interchange Format (SARIF 2.1.0), which
// editors and review tools read.
type (
	sarifLog struct {
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID   string    `json:"id"`
		Text sarifText `json:"shortDescription"`
		Help sarifText `json:"help"`
	}
	sarifResult struct {
		Rule      string          `json:"ruleId"`
		Index     int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations,omitempty"`
		Fixes     []sarifFix      `json:"fixes,omitempty"` // §3.55
	}
	sarifFix struct {
		Changes []sarifChange `json:"artifactChanges"`
	}
	sarifChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifDeleted `json:"deletedRegion"`
		Inserted sarifText    `json:"insertedContent"`
	}
	sarifDeleted struct {
		Line      int `json:"startLine"`
		Column    int `json:"startColumn"`
		EndColumn int `json:"endColumn"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		Line   int `json:"startLine"`
		Column int `json:"startColumn,omitempty"`
	}
)

// sarif writes findings in it. The levels have the names of the severities (§3.27.10).
func sarif(found finding.List) ([]byte, error) {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "Stockade", Version: Version, Rules: []sarifRule{}}},
		Results: []sarifResult{}}
	rules := map[finding.Code]int{}
	for _, f := range found {
		at, known := rules[f.Code]
		if !known {
			at = len(run.Tool.Driver.Rules)
			rules[f.Code] = at
			entry, _ := finding.Known(f.Code)
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules,
				sarifRule{string(f.Code), sarifText{entry.When},
					sarifText{entry.WayOut}})
		}
		text := f.Text
		if f.Object != "" {
			text = f.Object + ": " + text
		}
		if f.WayOut != "" {
			text += " (" + f.WayOut + ")"
		}
		r := sarifResult{Rule: string(f.Code), Index: at, Level: string(f.Severity),
			Message: sarifText{line(text)}}
		if f.Place.File != "" {
			where := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Path: filepath.ToSlash(
				f.Place.File)}).String()}}
			if f.Place.Line > 0 {
				where.Region = &sarifRegion{f.Place.Line, f.Place.Column}
			}
			r.Locations = []sarifLocation{{where}}
			if f.Fix.New != "" && f.Place.Line > 0 && standsAt(f) {
				gone := sarifDeleted{f.Place.Line, f.Place.Column, f.Place.Column +
					utf8.RuneCountInString(f.Fix.Old)}
				r.Fixes = []sarifFix{{[]sarifChange{{where.Artifact, []sarifReplacement{{gone,
					sarifText{f.Fix.New}}}}}}}
			}
		}
		run.Results = append(run.Results, r)
	}
	return json.MarshalIndent(sarifLog{"2.1.0", slices.Clip([]sarifRun{run})}, "", "  ")
}

// standsAt tells whether what a fix takes out stands at the place itself, without a quote
// before it: regions have to be exact.
func standsAt(f finding.Finding) bool {
	line, _, _ := strings.Cut(f.Excerpt, "\n")
	from := []rune(line)
	return f.Place.Column >= 1 && f.Place.Column <= len(from) &&
		strings.HasPrefix(string(from[f.Place.Column-1:]), f.Fix.Old)
}
