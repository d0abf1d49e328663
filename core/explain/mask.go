package explain

import (
	"regexp"
	"strings"

	"wardicon/core/secret"
)

// masker takes secrets out of lines before anything is shown or kept.
type masker struct {
	known  []string
	learnt int // of them out of the text itself
	count  int
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

// secretNames are those under which secrets stand.
const secretNames = `(?:pre-?shared[-_ ]?key|(?:l2tp)?psk|pass(?:word|wd|phrase|code)?|` +
	`secret|token|pin|auth-?token|authorization|cookie)`

// The places where secrets stand in logs and in files: behind a name, as an option of its own, in
// an address, as key material.
var (
	named = regexp.MustCompile(
		`(?i)\b(` + secretNames + `"?(?:\s*(?:=|:|\bis\b)\s*|\s+))(\[hidden\]|"[^"]*"|'[^']*')`,
	)
	assigned = regexp.MustCompile(
		`(?i)\b(` + secretNames + `"?\s*(?:=|:|\bis\b)\s*)([^\s,;\]>"'\[][^\s,;\]>]*)`,
	)
	option  = regexp.MustCompile(`(?i)^(\s*(?:password|psk|secret|-L2tpPsk)\s+)([^\s"']\S*)`)
	inURL   = regexp.MustCompile(`(://[^/\s:@]+:)([^/\s@]+)(@)`)
	keyText = regexp.MustCompile(`[0-9A-Fa-f]{32,}|[A-Za-z0-9+/]{60,}={0,2}`)
)

// Key material in several lines: where it begins and ends.
var (
	blockBegin = regexp.MustCompile(
		`-----BEGIN ` +
			`[^-]*(?i:key)[^-]*-----|` +
			`<(?:tls-auth|tls-crypt|tls-crypt-v2|secret|key|pkcs12|auth-user-pass)>`,
	)
	blockEnd = regexp.MustCompile(`-----END [^-]*-----|</[a-z0-9-]+>`)
)

// hide masks known secrets alone.
func (m *masker) hide(line string) string {
	for _, k := range m.known {
		if n := strings.Count(line, k); n > 0 {
			m.count += n
			line = strings.ReplaceAll(line, k, secret.Hidden)
		}
	}
	return line
}

func (m *masker) mask(line string) string {
	line = m.hide(line)
	if at := blockBegin.FindStringIndex(
		line,
	); at != nil && !blockEnd.MatchString(line[at[1]:]) &&
		at[1] < len(line) {
		m.count++
		line = line[:at[1]] + secret.Hidden
	}
	m.learn(line)
	line = m.replace(named, line, "${1}"+secret.Hidden)
	line = m.replace(assigned, line, "${1}"+secret.Hidden)
	line = m.replace(option, line, "${1}"+secret.Hidden)
	line = m.replace(inURL, line, "${1}"+secret.Hidden+"${3}")
	return m.replace(keyText, line, secret.Hidden)
}

// mostLearnt bounds what is learnt from a text.
const mostLearnt = 20

// learn notes values that a line names as secrets: they are masked from then on wherever they
// stand.
func (m *masker) learn(line string) {
	for _, what := range []*regexp.Regexp{named, assigned, option} {
		for _, found := range what.FindAllStringSubmatch(line, -1) {
			v := strings.Trim(found[2], `"'`)
			if len(v) >= shortest && v != secret.Hidden && m.learnt < mostLearnt {
				m.known, m.learnt = append(m.known, v), m.learnt+1
			}
		}
	}
}

func (m *masker) replace(what *regexp.Regexp, line, by string) string {
	n := len(what.FindAllStringIndex(line, -1))
	if n == 0 {
		return line
	}
	m.count += n
	return what.ReplaceAllString(line, by)
}

// Mask takes what looks like a secret, and known ones, out of a text that somebody pasted. Blocks
// of key material are left out as a whole; one without an end goes to the end of the text.
func Mask(text string, known ...secret.Text) string {
	m := newMasker(known)
	var lines []string
	inside := false
	for line := range strings.SplitSeq(text, "\n") {
		if inside {
			if end := blockEnd.FindStringIndex(line); end != nil {
				inside = false
				lines = append(lines, secret.Hidden, m.mask(line[end[0]:]))
			}
			continue
		}
		begin := blockBegin.FindStringIndex(line)
		inside = begin != nil && !blockEnd.MatchString(line[begin[1]:])
		lines = append(lines, m.mask(line))
	}
	return strings.Join(lines, "\n")
}

// Hide masks known secrets in what was read where they were not known.
func (r *Reading) Hide(known ...secret.Text) {
	m := newMasker(known)
	for i := range r.Events {
		r.Events[i].Text = m.hide(r.Events[i].Text)
	}
	if r.First != nil {
		r.First.Text = m.hide(r.First.Text)
	}
	r.Masked += m.count
}
