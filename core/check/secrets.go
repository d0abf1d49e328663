package check

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Guesses below which a secret counts as guessable, as binary logarithms. A key is
// open to guessing off line by whoever stands between (RFC 2409 §5.4), a password
// mostly at the gateway.
const (
	passwordBits = 33 // about 10^10 guesses
	pskBits      = 60 // about 10^18 guesses
)

func (s *Subject) setPSK(v string) { s.Connection.L2TP.PSK = secret.New(v) }

func (s *Subject) setPassword(v string) {
	t := secret.New(v)
	s.Account.Password = &t
	s.Connection.Password = t
}

func (s *Subject) psk() string { return s.Connection.PSK().Reveal() }

// byPSK tells whether the two ends prove themselves by a pre-shared key.
func (s *Subject) byPSK() bool {
	c := s.Connection
	return c.L2TP != nil && c.L2TP.Auth != vpn.MachineCertificate ||
		c.IKEv2 != nil && c.IKEv2.Auth == vpn.IKEv2PSK
}

// words are what somebody who knows the organisation tries first for a key, and who
// knows the person for a password.
func (s *Subject) words(field vpn.Field) []string {
	words := []string{s.Connection.Organisation}
	if field == vpn.FieldPassword {
		words = append(words, s.Connection.Login)
		if s.Person != nil {
			words = append(words, s.Person.Name, s.Person.Mail)
		}
		return words
	}
	words = append(words, s.Connection.Server)
	if s.Gateway != nil {
		words = append(words, s.Gateway.Name, s.Gateway.Place.City)
	}
	return words
}

var secretRules = []Rule{
	{
		Code:     "psk-missing",
		Title:    "Pre-shared key is missing",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPSK},
		Why:      "Without the key, device and gateway cannot establish a connection.",
		Fix:      "Store the gateway's pre-shared key.",
		Source:   "RFC 2409 §5.4",
		Bad:      Example{"a connection without a key", func(s *Subject) { s.setPSK("") }},
		Good: Example{
			"a connection with one",
			func(s *Subject) { s.setPSK("kelp-4497-Harbor-mizzen-93-osprey") },
		},
		run: func(s *Subject) []Hit {
			if s.byPSK() && s.psk() == "" && !slices.Contains(s.Apart, vpn.FieldPSK) {
				return []Hit{{Field: vpn.FieldPSK, Found: "no key"}}
			}
			return nil
		},
	},
	{
		Code:     "psk-guessable",
		Title:    "Pre-shared key is guessable",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPSK},
		Why:      "An attacker on the path can impersonate the gateway and try keys offline.",
		Fix:      "Generate a new key of at least 20 random characters.",
		Source:   "RFC 2409 §5.4; practice",
		Bad:      Example{"a word and a year", func(s *Subject) { s.setPSK("Skerry2024") }},
		Good: Example{
			"a long random key",
			func(s *Subject) { s.setPSK("kelp-4497-Harbor-mizzen-93-osprey") },
		},
		run: func(s *Subject) []Hit { return s.guessable(vpn.FieldPSK, s.psk(), pskBits) },
	},
	{
		Code:     "password-guessable",
		Title:    "Password is guessable",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPassword},
		Why:      "It can be guessed from the person's name and common patterns.",
		Fix:      "Choose a longer password of unrelated words or random characters.",
		Source:   "NIST SP 800-63B-4 §3.1.1",
		Bad: Example{
			"a common word with digits",
			func(s *Subject) { s.setPassword("sunshine12") },
		},
		Good: Example{
			"unrelated words",
			func(s *Subject) { s.setPassword("tern-88-Gannet-orbit-luff-3497") },
		},
		run: func(s *Subject) []Hit {
			if s.passwordIsLogin() {
				return nil
			}
			return s.guessable(vpn.FieldPassword, s.password(), passwordBits)
		},
	},
	{
		Code:     "password-common",
		Title:    "Password is on lists of common passwords",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPassword, vpn.FieldPSK},
		Why:      "It is among the first that attackers try.",
		Fix:      "Choose another one: several unrelated words, or random characters.",
		Source:   "NIST SP 800-63B-4 §3.1.1.2",
		Bad: Example{
			"a password from such a list",
			func(s *Subject) { s.setPassword("sunshine") },
		},
		Good: Example{
			"unrelated words",
			func(s *Subject) { s.setPassword("tern-88-Gannet-orbit-luff-3497") },
		},
		run: func(s *Subject) []Hit {
			var hits []Hit
			for field, v := range map[vpn.Field]string{
				vpn.FieldPassword: s.password(),
				vpn.FieldPSK:      s.psk(),
			} {
				if v != "" && s.judge(field, v).Common {
					hits = append(hits, Hit{Field: field, Found: "on the list of common passwords"})
				}
			}
			return hits
		},
	},
	{
		Code:     "password-short",
		Title:    "Password is shorter than 8 characters",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPassword},
		Why:      "All passwords of that length can be tried out.",
		Fix:      "Choose one of at least 15 characters; 8 is the minimum.",
		Source:   "NIST SP 800-63B-4 §3.1.1.2",
		Bad: Example{
			"seven characters",
			func(s *Subject) { s.setPassword("q7#Zk2v") },
		},
		Good: Example{
			"thirty characters",
			func(s *Subject) { s.setPassword("tern-88-Gannet-orbit-luff-3497") },
		},
		run: func(s *Subject) []Hit { return short(vpn.FieldPassword, s.password(), 8) },
	},
	{
		Code:     "psk-short",
		Title:    "Pre-shared key is shorter than 16 characters",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPSK},
		Why:      "A recorded handshake allows all keys of that length to be tried offline.",
		Fix:      "Generate a new key of at least 20 random characters.",
		Source:   "RFC 7296 §2.15",
		Bad: Example{
			"twelve characters",
			func(s *Subject) { s.setPSK("q7#Zk2v!m9Tx") },
		},
		Good: Example{
			"a long random key",
			func(s *Subject) { s.setPSK("kelp-4497-Harbor-mizzen-93-osprey") },
		},
		run: func(s *Subject) []Hit { return short(vpn.FieldPSK, s.psk(), 16) },
	},
	{
		Code:     "password-is-login",
		Title:    "Password equals the login",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPassword},
		Why:      "It is the first guess of any attacker.",
		Fix:      "Choose another password.",
		Source:   "NIST SP 800-63B-4 §3.1.1.2",
		Bad: Example{
			"the login, capitals apart",
			func(s *Subject) { s.setPassword("A_Fjell") },
		},
		Good: Example{
			"another password",
			func(s *Subject) { s.setPassword("tern-88-Gannet-orbit-luff-3497") },
		},
		run: func(s *Subject) []Hit {
			if s.passwordIsLogin() {
				return []Hit{{Field: vpn.FieldPassword, Found: "the same as the login"}}
			}
			return nil
		},
	},
	{
		Code:     "psk-is-password",
		Title:    "Pre-shared key is also used as a password",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPSK, vpn.FieldPassword},
		Why:      "Everybody who uses the gateway knows the key, and therefore this password.",
		Fix:      "Choose another password for the account.",
		Source:   "practice",
		Bad:      Example{"key and password alike", func(s *Subject) { s.setPassword(s.psk()) }},
		Good: Example{
			"different ones",
			func(s *Subject) { s.setPassword("tern-88-Gannet-orbit-luff-3497") },
		},
		run: func(s *Subject) []Hit {
			if s.psk() != "" && s.psk() == s.password() {
				return []Hit{{Field: vpn.FieldPassword, Found: "the same as the pre-shared key"}}
			}
			return nil
		},
	},
	{
		Code:     "password-missing",
		Title:    "Password is to be saved, but none is stored",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPassword},
		Why:      "The device would sign in with an empty password.",
		Fix:      "Store the account's password, or let the device prompt for it.",
		Source:   "practice",
		Bad: Example{
			"saved, without a password",
			func(s *Subject) { s.setPassword(""); s.Account.Password = nil },
		},
		Good: Example{"asked, without a password", func(s *Subject) {
			s.setPassword("")
			s.Account.Password = nil
			s.Connection.PasswordMode = vpn.PasswordPrompted
		}},
		run: func(s *Subject) []Hit {
			if s.Connection.PasswordMode == vpn.PasswordSaved && s.Connection.Password.IsZero() &&
				!slices.Contains(s.Apart, vpn.FieldPassword) &&
				(s.Gateway == nil || s.Account != nil) {
				return []Hit{{Field: vpn.FieldPassword, Found: "no password"}}
			}
			return nil
		},
	},
	{
		Code:     "cannot-ask",
		Title:    "Device cannot prompt for the password",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPasswordMode},
		Why:      "The device would have to prompt for the password, but cannot.",
		Fix:      "Save the password on this device.",
		Source:   "practice",
		Bad: Example{
			"asked on such a device",
			func(s *Subject) {
				s.Device.CannotAsk = true
				s.Connection.PasswordMode = vpn.PasswordPrompted
			},
		},
		Good: Example{"saved on it", func(s *Subject) { s.Device.CannotAsk = true }},
		run: func(s *Subject) []Hit {
			none := s.Ability != nil && s.Ability.CannotAsk || s.Device != nil && s.Device.CannotAsk
			asksAtInstall := s.Ability != nil && s.Ability.InstallAsks()
			if s.Device != nil && none && !asksAtInstall && s.Connection.NeedsPassword() &&
				s.Connection.PasswordMode == vpn.PasswordPrompted {
				return []Hit{
					{Field: vpn.FieldPasswordMode, Found: "asked, on a device that cannot ask"},
				}
			}
			return nil
		},
	},
	{
		Code:     "saved-unencrypted",
		Title:    "Password is saved on an unencrypted disk",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPasswordMode},
		Why:      "Whoever finds or steals the device can read the password from its disk.",
		Fix:      "Encrypt the disk, or let the device prompt for the password.",
		Source:   "practice",
		Bad: Example{
			"saved, disk not encrypted",
			func(s *Subject) { s.Device.Encrypted = false },
		},
		Good: Example{
			"asked, disk not encrypted",
			func(s *Subject) {
				s.Device.Encrypted = false
				s.Connection.PasswordMode = vpn.PasswordPrompted
			},
		},
		run: func(s *Subject) []Hit {
			if s.Device != nil && !s.Device.Encrypted &&
				s.Connection.PasswordMode == vpn.PasswordSaved {
				return []Hit{
					{
						Field: vpn.FieldPasswordMode,
						Found: "saved, and the disk of " + s.Device.Name + " is not encrypted",
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "hard-to-type",
		Title:    "Easily confused characters in a value to be typed",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldPassword, vpn.FieldPSK, vpn.FieldLogin},
		Why: "Capital O and zero, capital I, lower-case l and one look alike on paper and " +
			"are mistyped.",
		Fix:    "Choose one without 0 O o 1 l I | if it has to be typed.",
		Source: "practice",
		Bad: Example{"a key with l, 1, O and 0 for an Android phone", func(s *Subject) {
			s.onto(vpn.Android, "10")
			s.setPSK("kelp-O0l1-Harbor-mizzen-93-osprey")
		}},
		Good: Example{"a key without them", func(s *Subject) { s.onto(vpn.Android, "10") }},
		run: func(s *Subject) []Hit {
			if s.Ability == nil || len(s.Ability.Formats) > 0 || !s.Ability.Support.Usable() {
				return nil
			}
			var hits []Hit
			for _, t := range s.typed() {
				groups := 0
				for _, group := range []string{"0Oo", "1lI|"} {
					seen := map[rune]bool{}
					for _, r := range t.value {
						if strings.ContainsRune(group, r) {
							seen[r] = true
						}
					}
					if len(seen) > 1 {
						groups++
					}
				}
				if groups > 0 &&
					(t.field == vpn.FieldPassword || t.field == vpn.FieldPSK ||
						t.field == vpn.FieldLogin) {
					hits = append(
						hits,
						Hit{
							Field: t.field,
							Found: t.found("characters that look alike stand side by side in it"),
						},
					)
				}
			}
			return hits
		},
	},
}

func (s *Subject) passwordIsLogin() bool {
	p := s.password()
	if p == "" {
		return false
	}
	return strings.EqualFold(p, s.Connection.Login) ||
		s.Account != nil && strings.EqualFold(p, s.Account.Login)
}

// judged is how hard to guess a secret of the subject is: several rules want to know.
type judged struct {
	value    string
	estimate secret.Estimate
}

func (s *Subject) judge(field vpn.Field, value string) secret.Estimate {
	judge := s.Judge
	if judge == nil {
		judge = secret.Judge
	}
	if known, ok := s.judged[field]; ok && known.value == value {
		return known.estimate
	}
	e := judge(secret.New(value), s.words(field)...)
	if s.judged == nil {
		s.judged = map[vpn.Field]judged{}
	}
	s.judged[field] = judged{value, e}
	return e
}

func (s *Subject) guessable(field vpn.Field, value string, bits float64) []Hit {
	if value == "" {
		return nil
	}
	if e := s.judge(field, value); e.Bits < bits {
		return []Hit{
			{
				Field: field,
				Found: fmt.Sprintf(
					"%s find it; wanted are %s",
					e.Guesses(),
					secret.Estimate{Bits: bits}.Guesses(),
				),
			},
		}
	}
	return nil
}

func short(field vpn.Field, v string, least int) []Hit {
	if n := utf8.RuneCountInString(v); n > 0 && n < least {
		return []Hit{
			{Field: field, Found: fmt.Sprintf("%d characters, expected at least %d", n, least)},
		}
	}
	return nil
}
