package powershell

import (
	"bytes"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"wardicon/core/format"
)

// Detect tells a script by its name or by its block of data.
func Detect(name string, data []byte) bool {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".ps1", ".cmd", ".bat":
		return true
	}
	return bytes.Contains(data[:min(len(data), 1024)], []byte("$Connection = @{"))
}

// dial is the command that starts a connection with login and password behind its name.
var dial = regexp.MustCompile(
	`(?i)(?:^|[\s&;|"\\])rasdial(?:\.exe)?["]?\s+` +
		`(?:"[^"]*"|'[^']*'|[^\s"'/]\S*)\s+` +
		`(?:"[^"]*"|'[^']*'|[^\s"'/]\S*)\s+` +
		`(?:"[^"]*"|'[^']*'|[^\s"'/*]\S*)`,
)

// dialled finds passwords in a script of others.
func dialled(r *format.Reading, name, text string) {
	number := 0
	for line := range strings.SplitSeq(text, "\n") {
		number++
		trimmed := strings.ToLower(strings.TrimSpace(line))
		if strings.HasPrefix(trimmed, "#") || strings.HasPrefix(trimmed, "rem ") ||
			strings.HasPrefix(trimmed, "::") ||
			len(line) > 1<<16 {
			continue
		}
		if at := dial.FindStringIndex(line); at != nil {
			r.Note(
				format.PasswordAtSignIn,
				format.Position{File: name, Line: number, Column: at[0] + 1},
				"rasdial with login and password",
			)
		}
	}
}

// value is one literal of the data block.
type value struct {
	text string
	list []string
	flag bool
	kind byte // 't' text, 'l' list, 'f' flag
	at   format.Position
}

type scanner struct {
	file         string
	src          []rune
	pos          int
	line, column int
}

// Read takes an install script of Wardicon's apart, as PowerShell's own tokenizer
// would, and says whether the body was changed. Of scripts of others it reads the commands for
// connections. It always answers.
func Read(name string, data []byte, _ format.Beside) format.Reading {
	var r format.Reading
	start := format.Position{File: name, Line: 1, Column: 1}
	data = format.UTF8(data)
	switch {
	case len(data) > format.MaxFile:
		r.Note(format.Unreadable, start, "%d bytes, more than %d", len(data), format.MaxFile)
		return r
	case !utf8.Valid(data):
		r.Note(format.Unreadable, start, "not in UTF-8; save it in that encoding")
		return r
	case !bytes.HasPrefix(data, []byte(bom)) && bytes.Contains(data,
		[]byte(blockStart[:len(blockStart)-1])):
		r.Note(
			format.KeyMalformed,
			start,
			"no byte order mark; Windows PowerShell 5 would read the file in the local code page",
		)
	}
	text := strings.ReplaceAll(strings.TrimPrefix(string(data), bom), "\r\n", "\n")
	head, rest, ok := strings.Cut(text, blockStart)
	if !ok {
		if ending := strings.ToLower(filepath.Ext(name)); ending == ".cmd" || ending == ".bat" ||
			!readForeign(&r, name, text) {
			r.Note(
				format.NotYetRead,
				start,
				"a script without commands for connections; it was looked through for passwords "+
					"only",
			)
		}
		dialled(&r, name, text)
		return r
	}
	lines := strings.SplitN(head, "\n", 2)
	beside := len(lines) == 2 && lines[1] == old+"\n" // a script beside a phone book
	if len(lines) != 2 || !strings.HasPrefix(lines[0], "# ") ||
		lines[1] != requires+"\n" && !beside {
		r.Note(format.ScriptChanged, start, "the lines before the data are not as they were made")
	}
	s := &scanner{file: name, src: []rune(rest), line: strings.Count(head, "\n") + 2, column: 1}
	begin := s.at()
	values, err := s.block(&r)
	if err != nil {
		r.Note(format.Unreadable, s.at(), "%s", err)
		return r
	}
	bodyAt := s.at()
	body := string(s.src[s.pos:])
	if body == removeBody || beside && (body == oldInstall || body == oldRemove) {
		return r // it describes no connection
	}
	if body != installBody && body != enrolBody {
		r.Note(
			format.ScriptChanged,
			bodyAt,
			"the commands after the data are not as they were made",
		)
	}
	r.Connections = append(r.Connections, settle(&r, values, begin))
	return r
}

func (s *scanner) at() format.Position {
	return format.Position{File: s.file, Line: s.line, Column: s.column}
}

func (s *scanner) peek() rune {
	if s.pos < len(s.src) {
		return s.src[s.pos]
	}
	return -1
}

func (s *scanner) take() rune {
	r := s.peek()
	if r >= 0 {
		s.pos++
		s.column++
		if r == '\n' {
			s.line, s.column = s.line+1, 1
		}
	}
	return r
}

func (s *scanner) blanks() {
	for s.peek() == ' ' {
		s.take()
	}
}

func (s *scanner) expect(text string) error {
	for _, want := range text {
		if got := s.take(); got != want {
			return fmt.Errorf("expected %q in the data", text)
		}
	}
	return nil
}

// block reads "key = literal" lines up to the closing brace. Anything but a literal
// is refused: data must not run.
func (s *scanner) block(r *format.Reading) (map[string]value, error) {
	values := map[string]value{}
	for {
		if s.peek() == '}' {
			return values, s.expect(blockEnd)
		}
		s.blanks()
		from := s.pos
		for r := s.peek(); r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z'; r = s.peek() {
			s.take()
		}
		key := string(s.src[from:s.pos])
		s.blanks()
		if err := s.expect("= "); err != nil {
			return nil, err
		}
		at := s.at()
		at.Path = "$Connection." + key
		v, err := s.literal()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		v.at = at
		if err := s.expect("\n"); err != nil {
			return nil, fmt.Errorf("%s: something after the value", key)
		}
		if _, twice := values[key]; twice {
			r.Note(format.KeyTwice, at, "%s", key)
		}
		if kind, ok := keys[key]; !ok {
			r.Note(format.KeyUnknown, at, "%s", key)
		} else if kind != v.kind {
			r.Note(format.KeyMalformed, at, "%s has a value of another kind", key)
		}
		values[key] = v
	}
}

func (s *scanner) literal() (value, error) {
	switch s.peek() {
	case '$':
		s.take()
		from := s.pos
		for r := s.peek(); r >= 'a' && r <= 'z'; r = s.peek() {
			s.take()
		}
		word := string(s.src[from:s.pos])
		if !slices.Contains([]string{"true", "false"}, word) {
			return value{}, fmt.Errorf("found a variable, expected $true or $false")
		}
		return value{kind: 'f', flag: word == "true"}, nil
	case '@':
		if err := s.expect("@("); err != nil {
			return value{}, err
		}
		v := value{kind: 'l'}
		for s.peek() != ')' {
			if len(v.list) > 0 {
				if err := s.expect(", "); err != nil {
					return value{}, err
				}
			}
			text, err := s.quoted()
			if err != nil {
				return value{}, err
			}
			v.list = append(v.list, text)
		}
		s.take()
		return v, nil
	}
	text, err := s.quoted()
	return value{kind: 't', text: text}, err
}

// quoted reads a verbatim string: it ends at a quote that no quote follows.
func (s *scanner) quoted() (string, error) {
	if !single(s.take()) {
		return "", fmt.Errorf("expected a quoted value")
	}
	var b strings.Builder
	for {
		r := s.take()
		switch {
		case r < 0:
			return "", fmt.Errorf("the quoted value does not end")
		case single(r) && !single(s.peek()):
			return b.String(), nil
		case single(r):
			r = s.take()
		}
		b.WriteRune(r)
	}
}
