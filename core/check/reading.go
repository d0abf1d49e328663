package check

import "wardicon/core/format"

// File checks what a reader found in a file: every connection in it, and the file
// itself.
func File(r format.Reading) []Finding {
	if len(r.Connections) == 0 {
		return run(&Subject{Notes: r.Notes}, fileRules)
	}
	var findings []Finding
	for i, c := range r.Connections {
		s := &Subject{Connection: c.Connection, Positions: c.Positions}
		if i == 0 {
			s.Notes = r.Notes // remarks on the file are told once
		}
		for _, other := range r.Connections[i+1:] {
			s.Siblings = append(s.Siblings, Sibling{Name: other.Connection.Name, Routes: other.Connection.Routes})
		}
		findings = append(findings, Run(s)...)
	}
	bySeverity(findings)
	return findings
}
