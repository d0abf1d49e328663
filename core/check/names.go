package check

import (
	"fmt"
	"strings"

	"wardicon/core/vpn"
)

// forbidden in names of connections by Windows and by file systems.
const forbidden = `\/:*?"<>|`

var nameRules = []Rule{
	{
		Code:     "name-empty",
		Title:    "Connection name is missing",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldName},
		Why:      "The connection would have no name, or the system rejects it.",
		Fix:      "Give the connection a name.",
		Source:   "practice",
		Bad:      Example{"an empty name", func(s *Subject) { s.Connection.Name = " " }},
		Good:     Example{"a name", func(s *Subject) { s.Connection.Name = "Skerry Line Norrvik" }},
		run: func(s *Subject) []Hit {
			if strings.TrimSpace(s.Connection.Name) == "" {
				return []Hit{{Field: vpn.FieldName, Found: quote(s.Connection.Name)}}
			}
			return nil
		},
	},
	{
		Code:     "name-forbidden",
		Title:    "Connection name has a forbidden character",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldName},
		Why: `Windows and file systems refuse \ / : * ? " < > | in a name, and the ` +
			`installation stops.`,
		Fix:    "Remove that character.",
		Source: "Microsoft: Naming Files, Paths, and Namespaces",
		Bad: Example{
			"a slash in the name",
			func(s *Subject) { s.Connection.Name = "Skerry Line/Norrvik" },
		},
		Good: Example{
			"a hyphen instead",
			func(s *Subject) { s.Connection.Name = "Skerry Line - Norrvik" },
		},
		run: func(s *Subject) []Hit {
			if what, bad := firstRune(
				s.Connection.Name,
				func(r rune) bool { return strings.ContainsRune(forbidden, r) },
			); bad {
				return []Hit{{Field: vpn.FieldName, Found: quote(s.Connection.Name) + ": " + what}}
			}
			return nil
		},
	},
	{
		Code:     "name-not-unique",
		Title:    "Connection name is used twice on the device",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldName},
		Why:      "The second replaces the first, or people cannot tell them apart.",
		Fix:      "Name each connection after its gateway.",
		Source:   "practice",
		Bad: Example{
			"another connection of that name",
			func(s *Subject) { s.Siblings = []Sibling{{Name: s.Connection.Name}} },
		},
		Good: Example{
			"another connection of another name",
			func(s *Subject) { s.Siblings = []Sibling{{Name: "Skerry Line Tallholm"}} },
		},
		run: func(s *Subject) []Hit {
			for _, other := range s.Siblings {
				if strings.EqualFold(other.Name, s.Connection.Name) {
					return []Hit{
						{
							Field: vpn.FieldName,
							Found: quote(s.Connection.Name) + " stands twice on this device",
						},
					}
				}
			}
			return nil
		},
	},
	{
		Code:     "name-lacks-gateway",
		Title:    "Connection name does not identify the gateway",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldName},
		Why:      "With a second connection on the device, people cannot tell them apart.",
		Fix:      "Put the gateway's name or city into the name.",
		Source:   "practice",
		Bad: Example{
			"a name that says only VPN",
			func(s *Subject) { s.Connection.Name = "VPN" },
		},
		Good: Example{
			"a name with the gateway",
			func(s *Subject) { s.Connection.Name = "Ferry Norrvik" },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway == nil || strings.TrimSpace(s.Connection.Name) == "" {
				return nil
			}
			name := strings.ToLower(s.Connection.Name)
			for _, part := range []string{s.Gateway.Name, s.Gateway.Place.City} {
				if part != "" && strings.Contains(name, strings.ToLower(part)) {
					return nil
				}
			}
			return []Hit{
				{
					Field: vpn.FieldName,
					Found: fmt.Sprintf("%s leads to %s", quote(s.Connection.Name), s.Gateway.Name),
				},
			}
		},
	},
}
