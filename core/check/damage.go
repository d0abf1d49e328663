package check

import "wardicon/core/vpn"

// Damage says that a value of a record is stored but cannot be read any more.
type Damage struct {
	Noun    string // gateway, account, device or profile
	ID      string
	Name    string // of the record
	Pointer string // such as /password
	Found   string // where it is more than that it does not open
}

// CodeDamaged is the rule under which damage is shown.
const CodeDamaged = "record-damaged"

func damageRule() Rule {
	return Rule{
		Code:     CodeDamaged,
		Title:    "Stored value cannot be read",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldFile},
		Why: "The disk or another program changed stored data: the value is lost, and a " +
			"parcel would be built without it.",
		Fix: "Set the value again on the record, or restore the data folder from a backup; " +
			"wardicon service inspect lists all damage.",
		Source: "practice",
		Bad: Example{
			"a password that the disk has damaged",
			func(s *Subject) {
				s.Damaged = []Damage{{"account", "ac-1", "i_moreau", "/password", ""}}
			},
		},
		Good: Example{"the password set again", func(s *Subject) { s.Damaged = nil }},
		run: func(s *Subject) (hits []Hit) {
			for _, d := range s.Damaged {
				found := d.Found
				if found == "" {
					found = d.Pointer + " of the " + d.Noun + " " + quote(d.Name) + " does not open"
				}
				hits = append(
					hits,
					Hit{
						Field: vpn.FieldFile,
						Found: found,
						Place: &Spot{Noun: d.Noun, ID: d.ID, Pointer: d.Pointer},
					},
				)
			}
			return hits
		},
	}
}

// Unreadable is the finding on a profile that could not be worked out, because of a record or by
// itself.
func Unreadable(noun, id, found string) Finding {
	rule, _ := Lookup(CodeDamaged)
	s := &Subject{Damaged: []Damage{{Noun: noun, ID: id, Found: found}}}
	return rule.finding(s, rule.run(s)[0])
}
