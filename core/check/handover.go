package check

import (
	"fmt"

	"wardicon/core/format"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
)

// Way is how something is told to a person.
type Way string

// The ways.
const (
	ByOperator Way = "shown" // it is shown to the operator, who tells it
	ByMail     Way = "mail"
	BySheet    Way = "sheet" // printed, for cutting and handing out
)

// Handing is how a parcel is to be given to its person. It is looked at when a handover is made; no
// severity that an owner sets and no override lets it pass.
type Handing struct {
	Days     int // until the link ends; 0 for never
	Uses     int // that it allows; 0 for any number
	Link     Way
	Passcode Way
	Attached []format.File // sent along with the letter
}

// Hand says what speaks against a way of handing a parcel over, whatever severities an owner has
// set.
func Hand(s Subject, h Handing) []Finding {
	s.Handing, s.Policy = &h, Policy{}
	return run(&s, handingRules)
}

// CodeUnrehearsed is the rule that a pattern's demand for a rehearsal is not met. It stands in the
// way of a handover, and not of building.
const CodeUnrehearsed = "rehearsal-missing"

// rehearsedRules look at what came of signing in with the last parcel.
var rehearsedRules = []Rule{
	{
		Code:     "rehearsal-failed",
		Title:    "Last rehearsal of the parcel failed",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "The device would fail in the same step.",
		Fix:      "Fix the cause, build again if the parcel changes, and rehearse again.",
		Source:   "practice",
		Bad: Example{
			"a sign-in that the gateway rejected",
			func(s *Subject) {
				s.Rehearsed = &rehearsal.Result{
					Steps: []rehearsal.Step{{
						Name: rehearsal.SignIn, State: rehearsal.Failed,
						Found: "the gateway rejected the sign-in",
					}},
					Cause: "Login or password is wrong",
				}
			},
		},
		Good: Example{
			"a rehearsal that passed",
			func(s *Subject) { s.Rehearsed = &rehearsal.Result{Passed: true} },
		},
		run: func(s *Subject) []Hit {
			r := s.Rehearsed
			if r == nil || r.Passed || s.Outdated || r.CauseID == rehearsal.NotPermitted {
				return nil
			}
			found := "failed at " + string(r.FailedAt())
			if r.Place != "" {
				found += ", from " + r.Place
			}
			if r.Cause != "" {
				found += ": " + r.Cause
			}
			return []Hit{{Field: vpn.FieldServer, Found: found}}
		},
	},
	{
		Code:     CodeUnrehearsed,
		Title:    "Required rehearsal did not pass",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldHandover},
		Why:      "The pattern demands that a parcel has connected before its person gets it.",
		Fix:      "Rehearse the parcel. An override hands it over without.",
		Source:   "practice",
		Bad: Example{
			"a parcel that nobody rehearsed",
			func(s *Subject) { s.RehearsalRequired = true },
		},
		Good: Example{
			"one that passed",
			func(s *Subject) {
				s.RehearsalRequired, s.Rehearsed = true, &rehearsal.Result{Passed: true}
			},
		},
		run: func(s *Subject) []Hit {
			if !s.RehearsalRequired || s.Outdated || s.Rehearsed != nil && s.Rehearsed.Passed {
				return nil
			}
			found := "no rehearsal of the newest parcel"
			if s.Rehearsed != nil {
				found = "the last rehearsal failed"
			}
			return []Hit{{Field: vpn.FieldHandover, Found: found}}
		},
	},
	{
		Code:     "rehearsal-outdated",
		Title:    "Parcel not rehearsed since it was built",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      "Rehearsals of an earlier parcel say nothing about this one.",
		Fix:      "Rehearse the newest parcel.",
		Source:   "practice",
		Bad: Example{
			"an earlier parcel that was rehearsed",
			func(s *Subject) { s.RehearsedBefore = true },
		},
		Good: Example{
			"the newest one as well",
			func(s *Subject) {
				s.RehearsedBefore, s.Rehearsed = true, &rehearsal.Result{Passed: true}
			},
		},
		run: func(s *Subject) []Hit {
			if !s.RehearsedBefore || s.Rehearsed != nil || s.Outdated || s.RehearsalRequired {
				return nil
			}
			return []Hit{
				{Field: vpn.FieldServer, Found: "the last rehearsal was of an earlier parcel"},
			}
		},
	},
}

// handingRules look at how a parcel is to be given to its person.
var handingRules = []Rule{
	{
		Code:     "link-endless",
		Title:    "Link does not expire",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldHandover},
		Why: "Emails stay in mailboxes and backups and are forwarded: the link could be used " +
			"years later.",
		Fix:    "Let it expire after some days and uses.",
		Source: "RFC 9700 §4.2.4; practice",
		Bad: Example{
			"no day on which it ends",
			handed(Handing{Uses: 3}),
		},
		Good: Example{"a week and three uses", handed(Handing{Days: 7, Uses: 3})},
		run: func(s *Subject) []Hit {
			switch h := s.Handing; {
			case h == nil:
			case h.Days == 0:
				return []Hit{{Field: vpn.FieldHandover, Found: "no day on which the link ends"}}
			case h.Uses == 0:
				return []Hit{{Field: vpn.FieldHandover, Found: "any number of uses"}}
			}
			return nil
		},
	},
	{
		Code:     "passcode-same-way",
		Title:    "Passcode is sent the same way as the link",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldHandover},
		Why:      "Whoever reads one also reads the other: the passcode protects nothing.",
		Fix: "Send the passcode another way than the link: by telephone, in person, or on a " +
			"printed slip.",
		Source: "NIST SP 800-63B §6.1.2.3",
		Bad: Example{
			"both by mail",
			handed(Handing{Days: 7, Uses: 3, Link: ByMail, Passcode: ByMail}),
		},
		Good: Example{
			"the link by mail, the passcode by telephone",
			handed(Handing{Days: 7, Uses: 3, Link: ByMail, Passcode: ByOperator}),
		},
		run: func(s *Subject) []Hit {
			if h := s.Handing; h != nil && h.Link == h.Passcode && h.Link != ByOperator &&
				h.Link != "" {
				return []Hit{
					{
						Field: vpn.FieldHandover,
						Found: fmt.Sprintf("link and passcode both by %s", h.Link),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "secret-in-mail",
		Title:    "Secret in an email",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldHandover},
		Why: "Emails are readable in transit, are kept for years, and show an underscore as " +
			"a space. What was sent cannot be revoked.",
		Fix:    "Send only the link: it expires, its uses are counted, and it can be recalled.",
		Source: "practice",
		Bad: Example{
			"the files of a parcel in the mail",
			handed(
				Handing{
					Days:     7,
					Uses:     3,
					Link:     ByMail,
					Passcode: ByOperator,
					Attached: []format.File{{Name: "norrvik.mobileconfig", Private: true}},
				},
			),
		},
		Good: Example{
			"the link alone",
			handed(Handing{Days: 7, Uses: 3, Link: ByMail, Passcode: ByOperator}),
		},
		run: func(s *Subject) []Hit {
			if s.Handing == nil {
				return nil
			}
			var hits []Hit
			for _, f := range s.Handing.Attached {
				if f.Private {
					hits = append(
						hits,
						Hit{
							Field: vpn.FieldHandover,
							Found: fmt.Sprintf("%s, which holds secrets", quote(f.Name)),
						},
					)
				}
			}
			if s.Handing.Passcode == ByMail {
				hits = append(hits, Hit{Field: vpn.FieldHandover, Found: "the passcode"})
			}
			return hits
		},
	},
}

func handed(h Handing) func(*Subject) { return func(s *Subject) { s.Handing = &h } }
