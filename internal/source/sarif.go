package source

import (
	"io"
	"path/filepath"

	"github.com/owenrumney/go-sarif/v3/pkg/report"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"aditus/internal/core/declare"
)

// formatRule is the rule under which problems with the format itself are reported.
const formatRule = "declaration"

// WriteSARIF writes problems in the Static Analysis Results Interchange Format, version 2.1.0. root is the folder that
// file names are told from.
func WriteSARIF(w io.Writer, root string, problems declare.Problems) error {
	out := report.NewV210Report()
	run := sarif.NewRunWithInformationURI("aditus", "https://aditus.example/declarations")
	run.Results = []*sarif.Result{}
	run.AddRule(formatRule).WithDescription("What the format of declarations asks for")
	for _, p := range problems {
		rule, level := formatRule, "error"
		if p.Rule != "" {
			rule = p.Rule
			run.AddRule(rule).WithDescription("A rule of the house")
		}
		if p.Warning {
			level = "warning"
		}
		text := p.Message
		if p.Suggestion != "" {
			text += "; " + p.Suggestion
		}
		region := sarif.NewRegion().WithStartLine(max(1, p.Line)).WithStartColumn(max(1, p.Column))
		place := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewSimpleArtifactLocation(filepath.ToSlash(filepath.Join(root, p.File)))).WithRegion(region)
		run.CreateResultForRule(rule).WithLevel(level).WithMessage(sarif.NewTextMessage(text)).AddLocation(sarif.NewLocationWithPhysicalLocation(place))
	}
	out.AddRun(run)
	return out.PrettyWrite(w)
}
