package explain

import (
	"regexp"
	"strings"

	"wardicon/core/secret"
)

// masker takes secrets out of lines before anything is shown or kept.
type masker struct {
	known []string
	count int
}

// shortest is how long a known secret must be to be looked for everywhere.
const shortest = 6

func newMasker(known []secret.Text) masker {
	var m masker
	for _, k := range known {
		if text := k.Reveal(); len(text) >= shortest && text != secret.Hidden {
			m.known = append(m.known, text)
		}
	}
	return m
}

// The places where secrets stand in logs: behind a name, in an address, as a block of key material.
var (
	named   = regexp.MustCompile(`(?i)\b((?:pre-?shared[-_ ]?key|psk|pass(?:word|wd|phrase|code)?|secret|token|pin|auth-?token|authorization|cookie)"?\s*(?:=|:|\bis\b)\s*)(\[hidden\]|"[^"]*"|'[^']*'|[^\s,;\]>]+)`)
	inURL   = regexp.MustCompile(`(://[^/\s:@]+:)([^/\s@]+)(@)`)
	keyText = regexp.MustCompile(`[0-9A-Fa-f]{64,}|[A-Za-z0-9+/]{86,}={0,2}|-----BEGIN [A-Z ]*(?:KEY|key V1)-----.*`)
)

func (m *masker) mask(line string) string {
	for _, k := range m.known {
		if n := strings.Count(line, k); n > 0 {
			m.count += n
			line = strings.ReplaceAll(line, k, secret.Hidden)
		}
	}
	line = m.replace(named, line, "${1}"+secret.Hidden)
	line = m.replace(inURL, line, "${1}"+secret.Hidden+"${3}")
	return m.replace(keyText, line, secret.Hidden)
}

func (m *masker) replace(what *regexp.Regexp, line, by string) string {
	n := len(what.FindAllStringIndex(line, -1))
	if n == 0 {
		return line
	}
	m.count += n
	return what.ReplaceAllString(line, by)
}

// Mask takes what looks like a secret, and known ones, out of a text that somebody pasted.
func Mask(text string, known ...secret.Text) string {
	m := newMasker(known)
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = m.mask(line)
	}
	return strings.Join(lines, "\n")
}
