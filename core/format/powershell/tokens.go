package powershell

import (
	"strings"
	"unicode"

	"wardicon/core/format"
)

// kindOf a token of PowerShell (Language Specification 3.0, §2.3), as far as commands and literals
// need it.
type tokenKind int

const (
	word     tokenKind = iota // a bare word, a keyword or a number
	dash                      // -Name, with a colon where a value is bound to it
	verbatim                  // 'text' or a here-string in single quotes
	expanded                  // "text" or a here-string in double quotes
	variable                  // $name
	splat                     // @name
	sign                      // one of ( ) { } [ ] , ; | & = + @( @{ $(
	newline
	end
)

type token struct {
	kind tokenKind
	text string
	at   format.Position
	glue bool // nothing stands between it and the token before it
}

// most tokens that are read of one script.
const maxTokens = 200_000

// tokens takes a script apart. What is not closed ends with the script.
func tokens(file, text string) []token {
	s := &scanner{file: file, src: []rune(text), line: 1, column: 1}
	var list []token
	var open *format.Position // of a quote that does not end
	for len(list) < maxTokens {
		before := s.pos
		s.space()
		t := token{at: s.at(), glue: before == s.pos}
		r := s.peek()
		if r < 0 {
			break
		}
		switch {
		case r == '\n':
			s.take()
			t.kind = newline
		case single(r):
			s.take()
			t.kind, t.text = verbatim, s.until(single, false)
			open = s.unclosed(single, t.at, open)
		case double(r):
			s.take()
			t.kind, t.text = expanded, s.until(double, true)
			open = s.unclosed(double, t.at, open)
		case r == '@':
			s.take()
			s.at2(&t)
		case r == '$':
			s.take()
			s.dollar(&t)
		case strings.ContainsRune("(){}[],;|&=+", r):
			s.take()
			t.kind, t.text = sign, string(r)
		case isDash(r) && s.pos+1 < len(s.src) && (unicode.IsLetter(s.src[s.pos+1])):
			s.take()
			t.kind, t.text = dash, s.bare()
			if s.peek() == ':' {
				s.take()
				t.text += ":"
			}
		default:
			t.kind, t.text = word, s.bare()
			if t.text == "" { // a sign that means nothing here
				s.take()
				continue
			}
		}
		list = append(list, t)
	}
	if open != nil {
		return append(list, token{kind: end, text: unclosed, at: *open})
	}
	return append(list, token{kind: end, at: s.at()})
}

// unclosed is the text of the end of a script in which a quote does not end.
const unclosed = "unclosed"

func (s *scanner) unclosed(quote func(rune) bool, at format.Position,
	before *format.Position,
) *format.Position {
	if s.peek() < 0 && !quote(s.src[len(s.src)-1]) {
		return &at
	}
	return before
}

func double(r rune) bool { return r == '"' || r == '“' || r == '”' || r == '„' }

// isDash tells the dashes that PowerShell takes for a hyphen (§2.3.4).
func isDash(r rune) bool { return r == '-' || r == '–' || r == '—' || r == '―' }

// space passes blanks, comments and line ends behind a backtick.
func (s *scanner) space() {
	for {
		r := s.peek()
		next := rune(-1)
		if s.pos+1 < len(s.src) {
			next = s.src[s.pos+1]
		}
		switch {
		case r == ' ' || r == '\t' || r == '\u00A0':
			s.take()
		case r == '`' && next == '\n':
			s.take()
			s.take()
		case r == '#':
			for s.peek() >= 0 && s.peek() != '\n' {
				s.take()
			}
		case r == '<' && next == '#':
			for s.peek() >= 0 {
				if s.take() == '#' && s.peek() == '>' {
					s.take()
					break
				}
			}
		default:
			return
		}
	}
}

// bare reads a bare word.
func (s *scanner) bare() string {
	var b strings.Builder
	for {
		r := s.peek()
		if r < 0 || unicode.IsSpace(r) || strings.ContainsRune("(){}[],;|&='\"$@", r) ||
			single(r) || double(r) || r == ':' && b.Len() > 0 && s.ofParameter(b.String()) {
			return b.String()
		}
		if s.take(); r == '`' && s.peek() >= 0 {
			r = s.take()
		}
		b.WriteRune(r)
	}
}

// ofParameter tells that a colon ends a name: -Name:value, but C:\folder.
func (s *scanner) ofParameter(name string) bool {
	at := s.pos - len([]rune(name)) - 1
	return at >= 0 && isDash(s.src[at])
}

// until reads to a quote that is not doubled; in expandable strings a backtick escapes.
func (s *scanner) until(quote func(rune) bool, escapes bool) string {
	var b strings.Builder
	for {
		r := s.take()
		switch {
		case r < 0, quote(r) && !quote(s.peek()):
			return b.String()
		case quote(r):
			r = s.take()
		case escapes && r == '`':
			if r = s.take(); r == '$' { // told apart from a variable when it is expanded
				b.WriteRune('`')
			} else if r == 'n' {
				r = '\n'
			} else if r == 't' {
				r = '\t'
			}
		}
		b.WriteRune(r)
	}
}

// at2 reads what begins with @: an array, a table, a splatted variable, or a here-string.
func (s *scanner) at2(t *token) {
	switch r := s.peek(); {
	case r == '(' || r == '{':
		s.take()
		t.kind, t.text = sign, "@"+string(r)
	case single(r) || double(r):
		quote := s.take()
		t.kind = verbatim
		if double(quote) {
			t.kind = expanded
		}
		for s.peek() >= 0 && s.take() != '\n' {
			continue // blanks up to the end of the line
		}
		var lines []string
		for s.peek() >= 0 {
			from := s.pos
			for s.peek() >= 0 && s.peek() != '\n' {
				s.take()
			}
			line := string(s.src[from:s.pos])
			s.take()
			if rest := []rune(line); len(rest) > 1 && rest[1] == '@' &&
				(single(rest[0]) && single(quote) || double(rest[0]) && double(quote)) {
				back := len(rest) - 2
				s.pos -= back + 1
				s.column = 3
				s.line--
				break
			}
			lines = append(lines, line)
		}
		t.text = strings.Join(lines, "\n")
	default:
		t.kind, t.text = splat, strings.ToLower(s.bare())
	}
}

// dollar reads what begins with $: a variable, or a part to be worked out.
func (s *scanner) dollar(t *token) {
	switch s.peek() {
	case '(':
		s.take()
		t.kind, t.text = sign, "$("
		return
	case '{':
		s.take()
		var b strings.Builder
		for s.peek() >= 0 && s.peek() != '}' {
			b.WriteRune(s.take())
		}
		s.take()
		t.kind, t.text = variable, strings.ToLower(b.String())
		return
	}
	from := s.pos
	for r := s.peek(); r == '_' || r == ':' || unicode.IsLetter(r) || unicode.IsDigit(r); r =
		s.peek() {
		s.take()
	}
	t.kind, t.text = variable, strings.ToLower(string(s.src[from:s.pos]))
}
