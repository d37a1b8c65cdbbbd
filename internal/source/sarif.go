package source

import (
	"encoding/json"
	"io"
	"path/filepath"

	"aditus/internal/core/declare"
)

// The parts of the Static Analysis Results Interchange Format (SARIF) 2.1.0 that are written. They are these few; the
// libraries for it bring modules that nobody keeps.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
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
		Name           string      `json:"name"`
		InformationURI string      `json:"informationUri"`
		Rules          []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string    `json:"id"`
		ShortDescription sarifText `json:"shortDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		PhysicalLocation struct {
			ArtifactLocation struct {
				URI string `json:"uri"`
			} `json:"artifactLocation"`
			Region struct {
				StartLine   int `json:"startLine"`
				StartColumn int `json:"startColumn"`
			} `json:"region"`
		} `json:"physicalLocation"`
	}
)

// formatRule is the rule under which problems with the format itself are reported.
const formatRule = "declaration"

// WriteSARIF writes problems as SARIF 2.1.0. root is the folder that file names are told from.
func WriteSARIF(w io.Writer, root string, problems declare.Problems) error {
	driver := sarifDriver{Name: "aditus", InformationURI: "https://aditus.example/declarations"}
	index := map[string]int{}
	rule := func(id, means string) int {
		if _, known := index[id]; !known {
			index[id] = len(driver.Rules)
			driver.Rules = append(driver.Rules, sarifRule{id, sarifText{means}})
		}
		return index[id]
	}
	rule(formatRule, "What the format of declarations asks for")
	results := []sarifResult{}
	for _, p := range problems {
		r := sarifResult{RuleID: formatRule, Level: "error", Message: sarifText{p.Message}, Locations: make([]sarifLocation, 1)}
		if p.Rule != "" {
			r.RuleID = p.Rule
		}
		if p.Warning {
			r.Level = "warning"
		}
		if p.Suggestion != "" {
			r.Message.Text += "; " + p.Suggestion
		}
		r.RuleIndex = rule(r.RuleID, "A rule of the house")
		place := &r.Locations[0].PhysicalLocation
		place.ArtifactLocation.URI = filepath.ToSlash(filepath.Join(root, p.File))
		place.Region.StartLine, place.Region.StartColumn = max(1, p.Line), max(1, p.Column)
		results = append(results, r)
	}
	out := json.NewEncoder(w)
	out.SetIndent("", "  ")
	return out.Encode(sarifLog{
		Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", Version: "2.1.0",
		Runs: []sarifRun{{sarifTool{driver}, results}},
	})
}
