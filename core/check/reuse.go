package check

import (
	"fmt"
	"strings"

	"wardicon/core/vpn"
)

// Reuse says that a secret of the subject is also that of another record. Whoever finds
// it compares keyed digests; the secrets themselves are never put beside each other.
type Reuse struct {
	Field vpn.Field // of the subject
	Noun  string    // gateway, account or device
	Name  string    // of the other record
	Same  bool      // of the same person
}

func (s *Subject) reused(field vpn.Field, noun string, words string) []Hit {
	var names []string
	for _, r := range s.Reused {
		if r.Field == field && r.Noun == noun && !r.Same {
			names = append(names, quote(r.Name))
		}
	}
	if len(names) == 0 {
		return nil
	}
	more := ""
	if len(names) > 3 {
		names, more = names[:3], fmt.Sprintf(" and %d more", len(names)-3)
	}
	return []Hit{{Field: field, Found: words + " " + strings.Join(names, ", ") + more}}
}

func reuseRule(
	code, title string,
	severity vpn.Severity,
	field vpn.Field,
	noun, why, fix, words, bad, good string,
) Rule {
	return Rule{
		Code:     code,
		Title:    title,
		Severity: severity,
		Fields:   []vpn.Field{field},
		Why:      why,
		Fix:      fix,
		Source:   "practice",
		Bad: Example{
			bad,
			func(s *Subject) { s.Reused = []Reuse{{field, noun, "Tallholm", false}} },
		},
		Good: Example{good, func(s *Subject) { s.Reused = nil }},
		run:  func(s *Subject) []Hit { return s.reused(field, noun, words) },
	}
}

// reuseRules find one secret in several places.
var reuseRules = []Rule{
	reuseRule(
		"password-reused",
		"Password is shared by two people",
		vpn.Warning,
		vpn.FieldPassword,
		"account",
		"Each of them can sign in as the other, and a leaked parcel compromises both.",
		"Set a new password for one of them.",
		"as has the account",
		"one password in two people's accounts",
		"a password for each",
	),
	reuseRule(
		"psk-reused",
		"Pre-shared key is shared by several gateways",
		vpn.Warning,
		vpn.FieldPSK,
		"gateway",
		"Whoever has the key of one can impersonate all of them, and it has to be changed "+
			"everywhere at once.",
		"Generate a key for each gateway.",
		"as has the gateway",
		"one key at two gateways",
		"a key for each gateway",
	),
	reuseRule(
		"psk-is-others-password",
		"Pre-shared key is the password of an account",
		vpn.Error,
		vpn.FieldPSK,
		"account",
		"Everybody who uses the gateway knows that person's password.",
		"Choose another password for the account, and another key.",
		"as is the password of",
		"a key that is also a person's password",
		"a key of its own",
	),
	reuseRule(
		"certificate-shared",
		"Certificate is shared by several devices",
		vpn.Warning,
		vpn.FieldIdentity,
		"device",
		"If one device is lost, revoking its certificate cuts off the others, and the gateway "+
			"cannot tell them apart.",
		"Issue a certificate for each device.",
		"as has",
		"a certificate that two devices have",
		"a certificate for each device",
	),
	{
		Code:     "login-capitals",
		Title:    "Logins differ only in capitalisation",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLogin},
		Why:      "Some gateways treat them as one login, others as two; people confuse them.",
		Fix:      "Rename one of the accounts, or remove it.",
		Source:   "RFC 8265 §3.2",
		Bad: Example{
			"A_Fjell beside a_fjell",
			func(s *Subject) { s.Alike = []string{"A_Fjell"} },
		},
		Good: Example{"one login alone", func(s *Subject) { s.Alike = nil }},
		run: func(s *Subject) []Hit {
			if len(s.Alike) == 0 || s.Account == nil {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldLogin,
					Found: fmt.Sprintf(
						"%s, and there is %s",
						quote(s.Account.Login),
						quote(s.Alike[0]),
					),
				},
			}
		},
	},
}
