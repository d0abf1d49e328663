package cli

import (
	"net/url"
	"slices"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"wardicon/core/check"
	"wardicon/core/vpn"
)

// levels are the severities in the words of SARIF 2.1.0 §3.27.10.
var levels = map[vpn.Severity]string{vpn.Error: "error", vpn.Warning: "warning", vpn.Note: "note"}

// sarif prints findings as a SARIF log (OASIS SARIF 2.1.0) for tools that gather them.
func (a *app) sarif(findings []check.Finding) error {
	report := sarif.NewReport()
	driver := sarif.NewToolComponent().WithName("wardicon").WithSemanticVersion(Version)
	var known []string
	run := sarif.NewRun()
	for _, f := range findings {
		if !slices.Contains(known, f.Rule) {
			known = append(known, f.Rule)
			driver.AddRule(sarif.NewRule(f.Rule).WithName(f.Rule).
				WithShortDescription(sarif.NewMultiformatMessageString().WithText(f.Title)).
				WithFullDescription(sarif.NewMultiformatMessageString().WithText(f.Why)).
				WithHelp(sarif.NewMultiformatMessageString().WithText(f.Fix)).
				WithDefaultConfiguration(
					sarif.NewReportingConfiguration().WithLevel(levels[f.Severity]),
				),
			)
		}
		result := sarif.NewRuleResult(f.Rule).
			WithLevel(levels[f.Severity]).
			WithRuleIndex(slices.Index(known, f.Rule)).
			WithMessage(sarif.NewTextMessage(f.Title + ": " + f.Found + ". " + f.Fix))
		if p := f.Position; p != nil {
			region := sarif.NewRegion().
				WithStartLine(max(p.Line, 1)).
				WithStartColumn(max(p.Column, 1))
			file := sarif.NewSimpleArtifactLocation((&url.URL{Path: p.File}).String())
			location := sarif.NewLocation().WithPhysicalLocation(
				sarif.NewPhysicalLocation().WithArtifactLocation(file).WithRegion(region),
			)
			if p.Path != "" {
				location.WithLogicalLocations(
					[]*sarif.LogicalLocation{
						sarif.NewLogicalLocation().WithFullyQualifiedName(p.Path),
					},
				)
			}
			result.AddLocation(location)
		}
		run.AddResult(result)
	}
	run.WithTool(sarif.NewTool().WithDriver(driver))
	report.AddRun(run)
	return report.PrettyWrite(a.Out)
}
