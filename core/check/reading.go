package check

// fileKinds are the rules that need no connection.
var fileKinds = [][]Rule{fileRules, bagRules, tunnelRules, behaviourRules, certificateRules}

// Files runs the rules that look at files and certificates alone, where no connection
// could be read.
func Files(s *Subject) []Finding {
	var findings []Finding
	for _, family := range fileKinds {
		findings = append(findings, run(s, family)...)
	}
	bySeverity(findings)
	return findings
}

// Sort puts the most severe findings first and leaves their order otherwise.
func Sort(findings []Finding) { bySeverity(findings) }
