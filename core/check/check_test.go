package check_test

import (
	"regexp"
	"strings"
	"testing"

	"wardicon/core/check"
	"wardicon/core/vpn"
)

// TestSound holds that nothing is found where nothing is wrong.
func TestSound(t *testing.T) {
	for _, f := range check.Run(check.Sound()) {
		t.Errorf("%s: %s", f.Rule, f.Found)
	}
}

// TestExamples runs every rule on its own examples, and holds that a bad example is
// told in full and without a secret.
func TestExamples(t *testing.T) {
	code := regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)+$`)
	seen := map[string]bool{}
	if len(check.Register) < 190 {
		t.Errorf("%d rules, expected at least 190", len(check.Register))
	}
	for _, rule := range check.Register {
		t.Run(rule.Code, func(t *testing.T) {
			if seen[rule.Code] || !code.MatchString(rule.Code) {
				t.Errorf("the code %q is taken or not of small letters and hyphens", rule.Code)
			}
			seen[rule.Code] = true
			for _, text := range []string{rule.Title, rule.Why, rule.Plain, rule.Fix, rule.Source,
				rule.Bad.Text, rule.Good.Text} {
				if text == "" {
					t.Error("the rule is not told in full")
				}
			}
			bad := check.Sound()
			rule.Bad.Apply(bad)
			found := only(check.Run(bad), rule.Code)
			if len(found) == 0 {
				t.Fatalf("not found: %s", rule.Bad.Text)
			}
			for _, f := range found {
				if f.Found == "" || f.Field == "" || f.Severity != rule.Severity || f.Place == nil {
					t.Errorf("incomplete: %+v", f)
				}
				for _, secret := range []string{bad.Connection.Password.Reveal(),
					bad.Connection.PSK().Reveal()} {
					if len(secret) > 3 && strings.Contains(f.Found+f.Fix, secret) {
						t.Error("the finding tells a secret")
					}
				}
			}
			good := check.Sound()
			rule.Good.Apply(good)
			if found := only(check.Run(good), rule.Code); len(found) > 0 {
				t.Errorf("found in the good example: %s", found[0].Found)
			}
		})
	}
}

func only(findings []check.Finding, code string) []check.Finding {
	var list []check.Finding
	for _, f := range findings {
		if f.Rule == code {
			list = append(list, f)
		}
	}
	return list
}

// TestOrder holds that errors come first.
func TestOrder(t *testing.T) {
	s := check.Sound()
	s.Account.Login = " a b"
	s.Connection.Name = "VPN"
	findings := check.Run(s)
	if len(findings) < 3 || findings[0].Severity != vpn.Error ||
		findings[len(findings)-1].Severity != vpn.Note {
		t.Errorf("not ordered by severity: %v", findings)
	}
}
