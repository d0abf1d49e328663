package check

import (
	"net/url"
	"strings"

	"golang.org/x/net/idna"

	"wardicon/core/vpn"
)

// pasted takes an address apart that was copied out of a browser or a mail: what is left is
// the host alone. what names the piece that does not belong there.
func pasted(v string) (host, what string) {
	trimmed := strings.TrimSpace(v)
	if strings.Contains(trimmed, "://") {
		if u, err := url.Parse(trimmed); err == nil && u.Hostname() != "" {
			return u.Hostname(), "scheme"
		}
	}
	if strings.ContainsRune(trimmed, '/') {
		host, _, _ := strings.Cut(trimmed, "/")
		return host, "path"
	}
	if host, _, ok := vpn.SplitPort(trimmed); ok {
		return host, "port"
	}
	return trimmed, ""
}

func pastedRule(piece, code, title, why, bad string) Rule {
	return Rule{
		Code:     code,
		Title:    title,
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServer},
		Why:      why,
		Fix:      "Write only the host name or the IP address.",
		Source:   "RFC 3986 §3.2.2; practice",
		Bad:      Example{bad, func(s *Subject) { s.Connection.Server = bad }},
		Good: Example{
			"norrvik.skerryline.example",
			func(s *Subject) { s.Connection.Server = "norrvik.skerryline.example" },
		},
		run: func(s *Subject) []Hit {
			host, what := pasted(s.Connection.Server)
			if what != piece {
				return nil
			}
			if expected, _ := vpn.HostProblem(host); expected != "" && !international(host) {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldServer,
					Found: quote(s.Connection.Server),
					Fix:   "Write only " + host + ".",
					From:  s.Connection.Server,
					To:    host,
				},
			}
		},
	}
}

// pastedRules find what came along when an address was pasted.
var pastedRules = []Rule{
	pastedRule(
		"scheme",
		"address-with-scheme",
		"URL instead of the gateway's host name",
		"The device tries to resolve the whole text as a host name and fails.",
		"https://norrvik.skerryline.example",
	),
	pastedRule(
		"path",
		"address-with-path",
		"Path after the gateway's host name",
		"The device tries to resolve the whole text as a host name and fails.",
		"norrvik.skerryline.example/vpn",
	),
	pastedRule(
		"port",
		"address-with-port",
		"Port where none is supported",
		"The protocol uses its default port; the device treats the number as part of the name.",
		"norrvik.skerryline.example:1701",
	),
}

// plainLetters are what stands on a keyboard in the place of its look-alikes.
var plainLetters = strings.NewReplacer(
	"\u2018",
	"'",
	"\u2019",
	"'",
	"\u201a",
	"'",
	"\u201b",
	"'",
	"\u201c",
	`"`,
	"\u201d",
	`"`,
	"\u201e",
	`"`,
	"\u201f",
	`"`,
	"\u00b4",
	"'",
	"\u2032",
	"'",
	"\u2033",
	`"`,
	"\u00ab",
	`"`,
	"\u00bb",
	`"`,
	"\u2010",
	"-",
	"\u2011",
	"-",
	"\u2012",
	"-",
	"\u2013",
	"-",
	"\u2014",
	"-",
	"\u2015",
	"-",
	"\u2212",
	"-",
	"\u2044",
	"/",
)

// onKeyboard replaces look-alikes by what is on a keyboard.
func onKeyboard(v string) string {
	return strings.Map(func(r rune) rune {
		if r >= 0xFF01 && r <= 0xFF5E {
			return r - 0xFEE0
		}
		return r
	}, plainLetters.Replace(v))
}

// visible takes invisible characters out.
func visible(v string) string {
	return strings.Map(func(r rune) rune {
		if invisible(r) {
			return -1
		}
		return r
	}, v)
}

// ascii writes an international name in its xn-- form; empty where it has none.
func ascii(v string) string {
	a, err := idna.Lookup.ToASCII(v)
	if err != nil {
		return ""
	}
	return a
}
