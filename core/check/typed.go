package check

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"wardicon/core/vpn"
)

// typed is one value that a person may type, with whether it may be shown.
type typed struct {
	field  vpn.Field
	value  string
	hidden bool
}

func (s *Subject) typed() []typed {
	if s.cache != nil {
		return s.cache.typed
	}
	return s.values()
}

func (s *Subject) values() []typed {
	c := &s.Connection
	values := []typed{
		{vpn.FieldName, c.Name, false}, {vpn.FieldServer, c.Server, false},
		{vpn.FieldPassword, s.password(), true},
	}
	if s.Account != nil {
		values = append(
			values,
			typed{vpn.FieldLogin, s.Account.Login, false},
			typed{vpn.FieldRealm, s.Account.Realm, false},
		)
	} else {
		values = append(values, typed{vpn.FieldLogin, c.Login, false})
	}
	if psk := c.PSK(); !psk.IsZero() {
		values = append(values, typed{vpn.FieldPSK, psk.Reveal(), true})
	}
	for _, name := range []typed{
		{vpn.FieldServerName, c.ServerName(), false}, {vpn.FieldRemoteID, c.RemoteID(), false},
	} {
		if name.value != "" && name.value != c.Server {
			values = append(values, name)
		}
	}
	return values
}

// password is the account's password, whether or not it is saved on the device.
func (s *Subject) password() string {
	if s.Account != nil && s.Account.Password != nil {
		return s.Account.Password.Reveal()
	}
	return s.Connection.Password.Reveal()
}

// found words what stands in a typed value, without showing a secret.
func (t typed) found(what string) string {
	if t.hidden {
		return what
	}
	return quote(t.value) + ": " + what
}

// eachTyped runs a look over the typed values.
func eachTyped(look func(t typed) (what string, bad bool)) func(*Subject) []Hit {
	return eachFixed(look, nil)
}

// eachFixed also says what the value was surely meant to be.
func eachFixed(
	look func(t typed) (what string, bad bool),
	fix func(string) string,
) func(*Subject) []Hit {
	return func(s *Subject) []Hit {
		var hits []Hit
		for _, t := range s.typed() {
			what, bad := look(t)
			if !bad {
				continue
			}
			hit := Hit{Field: t.field, Found: t.found(what)}
			if fix != nil {
				if to := fix(t.value); to != t.value {
					hit.From, hit.To = t.value, to
				}
			}
			hits = append(hits, hit)
		}
		return hits
	}
}

// firstRune finds the first character of a kind and says which one it is.
func firstRune(v string, is func(r rune) bool) (string, bool) {
	n := 0
	for _, r := range v {
		n++
		if is(r) {
			return fmt.Sprintf("%s as character %d", runeName(r), n), true
		}
	}
	return "", false
}

// firstForeign is firstRune for kinds that have no character of ASCII.
func firstForeign(v string, is func(r rune) bool) (string, bool) {
	for i := range len(v) {
		if v[i] >= utf8.RuneSelf {
			return firstRune(v, is)
		}
	}
	return "", false
}

// placeholder is what management services and templates fill in: ${LOGIN}, {{login}}, %login%,
// <login> and $LOGIN.
// A secret has to be one as a whole: parts of it may look like anything.
var placeholder = regexp.MustCompile(`\$\{[\w.]+\}|\{\{[^}]+\}\}|%[A-Za-z_]{3,}%|^<[a-z -]+>$|` +
	`^\$[A-Z_]{4,}$`)

func runeName(r rune) string {
	if name, ok := map[rune]string{
		0x00A0: "a no-break space",
		0x200B: "a zero-width space",
		0xFEFF: "a byte order mark",
		0x00AD: "a soft hyphen",
		0x200E: "a left-to-right mark",
		0x200F: "a right-to-left mark",
		0x202E: "a right-to-left override",
		0x2018: "a curly quote",
		0x2019: "a curly quote",
		0x201C: "a curly quote",
		0x201D: "a curly quote",
		0x2013: "an en dash",
		0x2014: "an em dash",
		0x2011: "a no-break hyphen",
	}[r]; ok {
		return fmt.Sprintf("%s (U+%04X)", name, r)
	}
	if unicode.IsGraphic(r) {
		return fmt.Sprintf("%q (U+%04X)", r, r)
	}
	return fmt.Sprintf("U+%04X", r)
}

// invisible holds characters that are not seen, or look like a plain blank.
func invisible(r rune) bool {
	return r != ' ' && unicode.Is(unicode.Zs, r) || unicode.Is(unicode.Cf, r) || r == 0x3164 ||
		r == 0x115F ||
		r == 0x1160 ||
		r == 0x034F
}

func lookalike(r rune) bool {
	return r >= 0x2010 && r <= 0x2015 || r >= 0x2018 && r <= 0x201F || r == 0x2212 || r == 0x2032 ||
		r == 0x2033 ||
		r == 0x00B4 ||
		r >= 0xFF01 && r <= 0xFF5E ||
		r == 0x2044 ||
		r == 0x00AB ||
		r == 0x00BB
}

// mixed tells whether Latin letters stand beside letters of a script with
// look-alikes of them.
func mixed(v string) (string, bool) {
	what, found := firstForeign(v, func(r rune) bool {
		return unicode.In(r, unicode.Cyrillic, unicode.Greek, unicode.Armenian, unicode.Cherokee)
	})
	if !found ||
		!strings.ContainsFunc(v, func(r rune) bool { return unicode.Is(unicode.Latin, r) }) {
		return "", false
	}
	return what, true
}

var typedRules = []Rule{
	{
		Code:     "edge-space",
		Title:    "Space before or after a value",
		Severity: vpn.Error,
		Fields: []vpn.Field{
			vpn.FieldLogin,
			vpn.FieldRealm,
			vpn.FieldPassword,
			vpn.FieldPSK,
			vpn.FieldServer,
			vpn.FieldName,
		},
		Why: "The space is sent to the gateway but cannot be seen, and the sign-in fails for " +
			"no visible reason.",
		Fix:    "Remove the space, or confirm at the gateway that it belongs there.",
		Source: "practice",
		Bad: Example{
			"a login that ends with a space",
			func(s *Subject) { s.Account.Login = "a_fjell " },
		},
		Good: Example{
			"the same login without it",
			func(s *Subject) { s.Account.Login = "a_fjell" },
		},
		run: eachFixed(func(t typed) (string, bool) {
			trimmed := strings.TrimSpace(t.value)
			if trimmed == t.value || trimmed == "" {
				return "", false
			}
			if strings.HasPrefix(t.value, trimmed) {
				return "a space at the end", true
			}
			return "a space at the beginning", true
		}, strings.TrimSpace),
	},
	{
		Code:     "login-space",
		Title:    "Space inside a login",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLogin},
		Why: "Mail programs and documents show an underscore in a link as a space; that " +
			"login does not exist.",
		Fix:    "Compare with the gateway's list: an underscore was probably lost.",
		Source: "practice",
		Bad: Example{
			"a login with a space in the middle",
			func(s *Subject) { s.Account.Login = "a fjell" },
		},
		Good: Example{
			"a login with an underscore",
			func(s *Subject) { s.Account.Login = "a_fjell" },
		},
		run: func(s *Subject) []Hit {
			login := s.Connection.Login
			if s.Account != nil {
				login = s.Account.Login
			}
			if strings.ContainsFunc(strings.TrimSpace(login), unicode.IsSpace) {
				return []Hit{{Field: vpn.FieldLogin, Found: quote(login)}}
			}
			return nil
		},
	},
	{
		Code:     "invisible-character",
		Title:    "Invisible character in a value",
		Severity: vpn.Error,
		Fields: []vpn.Field{
			vpn.FieldLogin,
			vpn.FieldRealm,
			vpn.FieldPassword,
			vpn.FieldPSK,
			vpn.FieldServer,
			vpn.FieldName,
		},
		Why:    "It was copied from a web page or document; it is invisible and cannot be typed.",
		Fix:    "Type the value again instead of pasting it.",
		Source: "Unicode Standard Annex #9 and general category Cf",
		Bad: Example{
			"a login with a zero-width space",
			func(s *Subject) { s.Account.Login = "a_\u200bfjell" },
		},
		Good: Example{
			"a login with an accented letter",
			func(s *Subject) { s.Account.Login = "a_fjäll" },
		},
		run: eachFixed(
			func(t typed) (string, bool) {
				return firstForeign(strings.TrimSpace(t.value), invisible)
			},
			visible,
		),
	},
	{
		Code:     "control-character",
		Title:    "Control character or line break in a value",
		Severity: vpn.Error,
		Fields: []vpn.Field{
			vpn.FieldLogin,
			vpn.FieldRealm,
			vpn.FieldPassword,
			vpn.FieldPSK,
			vpn.FieldServer,
			vpn.FieldName,
		},
		Why:    "It cannot be typed on any device, and in a file it can start an unintended line.",
		Fix:    "Remove the character.",
		Source: "practice",
		Bad: Example{
			"a login with a line break",
			func(s *Subject) { s.Account.Login = "a_fjell\nx" },
		},
		Good: Example{"a login on one line", func(s *Subject) { s.Account.Login = "a_fjell" }},
		run: eachTyped(
			func(t typed) (string, bool) { return firstRune(t.value, unicode.IsControl) },
		),
	},
	{
		Code:     "lookalike-character",
		Title:    "Typographic or look-alike character in a value",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLogin, vpn.FieldRealm, vpn.FieldPassword, vpn.FieldPSK},
		Why: "A text program turned a plain quote or hyphen into a typographic one; what a " +
			"person types on a keyboard does not match.",
		Fix:    "Replace it with the plain character.",
		Source: "practice",
		Bad: Example{
			"a login with an en dash",
			func(s *Subject) { s.Account.Login = "a–fjell" },
		},
		Good: Example{"a login with a hyphen", func(s *Subject) { s.Account.Login = "a-fjell" }},
		run: eachFixed(func(t typed) (string, bool) {
			if t.field == vpn.FieldName || t.field == vpn.FieldServer {
				return "", false
			}
			return firstForeign(t.value, lookalike)
		}, onKeyboard),
	},
	{
		Code:     "placeholder-left",
		Title:    "Placeholder in a value",
		Severity: vpn.Warning,
		Fields: []vpn.Field{
			vpn.FieldLogin, vpn.FieldPassword, vpn.FieldPSK, vpn.FieldServer, vpn.FieldRemoteID,
			vpn.FieldServerName,
		},
		Why: "Unless a management service fills it in, the device uses the placeholder as it is, " +
			"and cannot sign in.",
		Fix:    "Replace it with the value.",
		Source: "practice",
		Bad: Example{
			"a login of %username%",
			func(s *Subject) { s.Account.Login = "%username%" },
		},
		Good: Example{"a login", func(s *Subject) { s.Account.Login = "a_fjell" }},
		run: eachTyped(func(t typed) (string, bool) {
			if !strings.ContainsAny(t.value, "$%{<") {
				return "", false
			}
			at := placeholder.FindStringIndex(t.value)
			whole := at != nil && at[0] == 0 && at[1] == len(t.value)
			return "a placeholder", t.field != vpn.FieldName && at != nil && (whole || !t.hidden)
		}),
	},
	{
		Code:     "mixed-script",
		Title:    "Mixed scripts in one value",
		Severity: vpn.Warning,
		Fields: []vpn.Field{
			vpn.FieldLogin,
			vpn.FieldRealm,
			vpn.FieldPassword,
			vpn.FieldPSK,
			vpn.FieldServer,
		},
		Why: "A Cyrillic or Greek letter that looks like a Latin one results in a different " +
			"login or password.",
		Fix:    "Type the value again on one keyboard layout.",
		Source: "Unicode Technical Standard #39 §5.1",
		Bad: Example{
			"a login with a Cyrillic a",
			func(s *Subject) { s.Account.Login = "\u0430_fjell" },
		},
		Good: Example{"a login wholly in Cyrillic", func(s *Subject) { s.Account.Login = "скала" }},
		run:  eachTyped(func(t typed) (string, bool) { return mixed(t.value) }),
	},
	{
		Code:     "secret-not-ascii",
		Title:    "Non-ASCII characters in a password or key",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPassword, vpn.FieldPSK},
		Why: "Clients and gateways encode such letters differently; what works on one device " +
			"fails on another.",
		Fix: "Choose a new one of ASCII letters, digits and punctuation.",
		Source: "RFC 2409 §5.4 leaves the encoding of the key open; RFC 2759 §4 fixes UTF-16 " +
			"for MS-CHAPv2 only",
		Bad: Example{
			"a key with an umlaut",
			func(s *Subject) { s.setPSK("kelp-4497-Härbor-mizzen-93-osprey") },
		},
		Good: Example{
			"a key of plain characters",
			func(s *Subject) { s.setPSK("kelp-4497-Harbor-mizzen-93-osprey") },
		},
		run: eachTyped(func(t typed) (string, bool) {
			if !t.hidden {
				return "", false
			}
			return firstForeign(
				t.value,
				func(r rune) bool { return r > unicode.MaxASCII && !invisible(r) && !lookalike(r) },
			)
		}),
	},
	{
		Code:     "value-too-long",
		Title:    "Value is longer than devices accept",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLogin, vpn.FieldPassword, vpn.FieldPSK},
		Why:      "Some clients truncate long values silently, and the sign-in fails.",
		Fix:      "Shorten it: 64 characters are safe for keys and logins, 127 for passwords.",
		Source:   "practice",
		Bad: Example{
			"a key of 200 characters",
			func(s *Subject) { s.setPSK(strings.Repeat("kelp-4417-", 20)) },
		},
		Good: Example{
			"a key of 33 characters",
			func(s *Subject) { s.setPSK("kelp-4497-Harbor-mizzen-93-osprey") },
		},
		run: eachTyped(func(t typed) (string, bool) {
			limit := 0
			switch t.field {
			case vpn.FieldLogin, vpn.FieldPSK:
				limit = 64
			case vpn.FieldPassword:
				limit = 127
			default:
				return "", false
			}
			n := utf8.RuneCountInString(t.value)
			if n <= limit {
				return "", false
			}
			return fmt.Sprintf("%d characters", n), true
		}),
	},
	{
		Code:     "login-is-mail",
		Title:    "Email address used as login",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLogin},
		Why:      "People enter their email address; the gateway has its own logins.",
		Fix:      "Enter the login as it is set at the gateway.",
		Source:   "practice",
		Bad: Example{
			"the person's mail address as login",
			func(s *Subject) { s.Account.Login = "ada@skerryline.example" },
		},
		Good: Example{"the login itself", func(s *Subject) { s.Account.Login = "a_fjell" }},
		run: func(s *Subject) []Hit {
			if s.Account == nil || s.Person.Mail == "" ||
				!strings.EqualFold(strings.TrimSpace(s.Account.Login), s.Person.Mail) {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldLogin,
					Found: quote(s.Account.Login) + " is the person's mail address",
				},
			}
		},
	},
	{
		Code:     "realm-doubled",
		Title:    "Realm is already part of the login",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldLogin},
		Why: "Wardicon appends the realm to the login; if the login has it too, the gateway " +
			"receives it twice.",
		Fix:    "Remove the realm from the login.",
		Source: "practice",
		Bad: Example{
			"a login that ends with the realm",
			func(s *Subject) { s.Account.Login = "a_fjell@crew.skerryline.example" },
		},
		Good: Example{"the login alone", func(s *Subject) { s.Account.Login = "a_fjell" }},
		run: func(s *Subject) []Hit {
			if s.Account == nil || s.Gateway.SignIn.Form == vpn.LoginPlain {
				return nil
			}
			login, realm := strings.ToLower(s.Account.Login), strings.ToLower(s.realm())
			if realm != "" &&
				(strings.HasSuffix(login, "@"+realm) || strings.HasPrefix(login, realm+`\`)) {
				alone := strings.TrimPrefix(
					s.Account.Login[:len(s.Account.Login)-len(realm)-1],
					"@",
				)
				if strings.HasPrefix(login, realm+`\`) {
					alone = s.Account.Login[len(realm)+1:]
				}
				return []Hit{
					{
						Field: vpn.FieldLogin,
						Found: quote(s.Account.Login),
						From:  s.Account.Login,
						To:    alone,
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "realm-missing",
		Title:    "Realm is required but not set",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldRealm},
		Why:      "The login is sent without the realm that the gateway requires, and is rejected.",
		Fix:      "Set the realm on the gateway's record, or set its form of login to “login”.",
		Source:   "RFC 7542 §2",
		Bad: Example{
			"login@realm without a realm",
			func(s *Subject) { s.Gateway.SignIn.Realm = "" },
		},
		Good: Example{
			"login@realm with one",
			func(s *Subject) { s.Gateway.SignIn.Realm = "crew.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			if s.Account == nil || s.Gateway.SignIn.Form == vpn.LoginPlain ||
				s.Gateway.SignIn.Form == "" ||
				s.realm() != "" {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldRealm,
					Found: fmt.Sprintf(
						"none, while %s wants %s",
						s.Gateway.Name,
						s.Gateway.SignIn.Form,
					),
				},
			}
		},
	},
	{
		Code:     "realm-differs",
		Title:    "Realm differs from the gateway's",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldRealm},
		Why:      "The gateway looks up the login in another realm and does not find it.",
		Fix:      "Remove the account's realm to use the gateway's, or correct the gateway.",
		Source:   "practice",
		Bad: Example{
			"another realm at the account",
			func(s *Subject) { s.Account.Realm = "office.skerryline.example" },
		},
		Good: Example{
			"the gateway's realm",
			func(s *Subject) { s.Account.Realm = "crew.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			if s.Account == nil || s.Gateway.SignIn.Form == vpn.LoginPlain ||
				s.Account.Realm == "" ||
				s.Account.Realm == s.Gateway.SignIn.Realm ||
				s.realmIsHost() {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldRealm,
					Found: fmt.Sprintf(
						"%s, while %s wants %s",
						quote(s.Account.Realm),
						s.Gateway.Name,
						quote(s.Gateway.SignIn.Realm),
					),
				},
			}
		},
	},
	{
		Code:     "realm-is-host",
		Title:    "Gateway's host domain used as realm",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldRealm},
		Why:      "Realm and domain look similar and are confused; the gateway rejects the login.",
		Fix:      "Remove the account's realm to use the gateway's.",
		Source:   "practice",
		Bad: Example{
			"the domain of the gateway's address as realm",
			func(s *Subject) { s.Account.Realm = "skerryline.example" },
		},
		Good: Example{
			"the gateway's realm",
			func(s *Subject) { s.Account.Realm = "crew.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			if s.Account == nil || s.Gateway.SignIn.Form == vpn.LoginPlain || !s.realmIsHost() {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldRealm,
					Found: fmt.Sprintf(
						"%s, the domain of %s, while the gateway wants %s",
						quote(s.Account.Realm),
						s.Gateway.Address,
						quote(s.Gateway.SignIn.Realm),
					),
				},
			}
		},
	},
	{
		Code:     "realm-unwanted",
		Title:    "Realm set, but the gateway does not use one",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldRealm},
		Why:      "The realm is not sent, which may not be intended.",
		Fix:      "Remove the account's realm, or set the gateway's form of login.",
		Source:   "practice",
		Bad: Example{"a realm where the form is the login alone", func(s *Subject) {
			s.Gateway.SignIn = vpn.SignIn{Form: vpn.LoginPlain}
			s.Account.Realm = "crew.skerryline.example"
		}},
		Good: Example{
			"no realm there",
			func(s *Subject) { s.Gateway.SignIn = vpn.SignIn{Form: vpn.LoginPlain} },
		},
		run: func(s *Subject) []Hit {
			if s.Account == nil || s.Gateway.SignIn.Form != vpn.LoginPlain ||
				s.Account.Realm == "" {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldRealm,
					Found: fmt.Sprintf(
						"%s, while %s wants the login alone",
						quote(s.Account.Realm),
						s.Gateway.Name,
					),
				},
			}
		},
	},
}

func (s *Subject) realm() string {
	if s.Account.Realm != "" {
		return s.Account.Realm
	}
	return s.Gateway.SignIn.Realm
}

// realmIsHost tells whether the account's realm is the domain of the gateway's
// address while the gateway wants another.
func (s *Subject) realmIsHost() bool {
	realm := strings.ToLower(s.Account.Realm)
	if realm == "" || realm == strings.ToLower(s.Gateway.SignIn.Realm) {
		return false
	}
	host := strings.ToLower(s.Gateway.Address)
	return host == realm || strings.HasSuffix(host, "."+realm)
}
