package daemons

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"wardicon/core/format"
)

// Bounds on what files of settings ask for.
const (
	maxSettings = 40_000
	maxSections = 8 // inside each other
	maxIncludes = 8
	maxFurther  = 1 << 20   // bytes of further files
	maxLooked   = 3_000_000 // values, for references
	maxPasses   = 10        // of references to sections that refer to others
)

// settings reads the IKE daemon's files: sections in braces, keys with values, references to other
// sections and further files (strongswan.conf(5), SYNTAX).
type settings struct {
	r       *reader
	file    string
	src     []rune
	pos     int
	line    int
	column  int
	nesting int // of included files
}

// parse reads a file into the reader's settings; false where the daemon would refuse it.
func (s *settings) parse(text string) bool {
	s.src, s.line, s.column = []rune(text), 1, 1
	for {
		s.blanks(true)
		at := s.at()
		switch r := s.peek(); {
		case r < 0:
			return true
		case r == '}':
			if len(s.r.path) == 0 {
				s.r.Note(format.Unreadable, at, "a } without a section")
				return false
			}
			s.take()
			s.r.path = s.r.path[:len(s.r.path)-1]
		default:
			if !s.entry(at) {
				return false
			}
		}
	}
}

// entry reads a key with its value, a section as far as its brace, or an include.
func (s *settings) entry(at format.Position) bool {
	name := s.name()
	if name == "" {
		s.r.Note(format.Unreadable, at, "found %q, expected a section or key = value",
			string(s.peek()))
		return false
	}
	if name == "include" && s.peek() == ' ' || name == "include" && s.peek() == '\t' {
		s.include(at)
		return true
	}
	s.blanks(true)
	switch s.peek() {
	case '=':
		s.take()
		s.set(at, name, s.value())
		return len(s.r.set) < maxSettings
	case '{':
		s.take()
		return s.section(at, name, nil)
	case ':':
		s.take()
		var refs []string
		for {
			s.blanks(true)
			var ref strings.Builder
			for s.peek() == '.' || inName(s.peek()) {
				ref.WriteRune(s.take())
			}
			if ref.Len() == 0 {
				s.r.Note(format.Unreadable, at, "%s : refers to no section", name)
				return false
			}
			refs = append(refs, ref.String())
			if s.blanks(true); s.peek() != ',' {
				break
			}
			s.take()
		}
		if s.peek() == '{' {
			s.take()
			return s.section(at, name, refs)
		}
	}
	s.r.Note(format.Unreadable, at, "neither a section nor key = value")
	return false
}

func (s *settings) section(at format.Position, name string, refs []string) bool {
	if len(s.r.path) > maxSections {
		s.r.Note(format.Unreadable, at, "sections deeper than any connection has")
		return false
	}
	if len(s.r.path) == 1 && s.r.path[0] == "connections" && !slices.Contains(s.r.order, name) {
		s.r.order = append(s.r.order, name)
	}
	s.r.path = append(slices.Clone(s.r.path), name)
	here := strings.Join(s.r.path, ".")
	s.r.begun[here] = at
	if len(refs) > 0 {
		s.r.refs = append(s.r.refs, reference{here, refs})
	}
	return true
}

// include reads a file that came along; others are named.
func (s *settings) include(at format.Position) {
	var b strings.Builder
	for s.peek() >= 0 && s.peek() != '\n' && s.peek() != '#' {
		b.WriteRune(s.take())
	}
	pattern := strings.Trim(strings.TrimSpace(b.String()), `"`)
	data, ok := s.r.beside.Get(path.Base(pattern))
	s.r.further += len(data)
	if !ok || s.nesting >= maxIncludes || s.r.further > maxFurther ||
		strings.ContainsAny(pattern, "*?[") {
		s.r.Left("include "+pattern, at)
		return
	}
	s.r.Pieces = append(s.r.Pieces, path.Base(pattern))
	outer := s.r.path
	if text, sound := s.r.Text(path.Base(pattern), data); sound {
		inner := &settings{r: s.r, file: path.Base(pattern), nesting: s.nesting + 1}
		inner.parse(text)
	}
	s.r.path = outer
}

// set keeps a value. Later files replace what is there; the same key twice in one section is
// remarked.
func (s *settings) set(at format.Position, name, text string) {
	at.Path = strings.Join(append(slices.Clone(s.r.path), name), ".")
	s.r.secrets = s.r.secrets || strings.HasPrefix(at.Path, "secrets.")
	if _, twice := s.r.set[at.Path]; twice && s.nesting == 0 {
		s.r.Note(format.KeyTwice, at, "%s", name)
	}
	s.r.set[at.Path] = setting{text, at}
	s.r.ordered = append(s.r.ordered, text)
}

// value reads up to the end of the line, a brace or a comment; in quotes all these are part of it.
func (s *settings) value() string {
	var b strings.Builder
	s.blanks(false)
	for {
		switch r := s.peek(); {
		case r < 0 || r == '\n' || r == '#' || r == '}' || r == '{':
			return strings.TrimSpace(b.String())
		case r == '"':
			quoted := s.quoted()
			if strings.TrimSpace(b.String()) == "" {
				// Blanks inside the quotes are part of the value.
				if s.blanks(false); slices.Contains([]rune{-1, '\n', '#', '}', '{'}, s.peek()) {
					return quoted
				}
			}
			b.WriteString(quoted)
		default:
			b.WriteRune(s.take())
		}
	}
}

func (s *settings) quoted() string {
	at := s.at()
	s.take()
	var b strings.Builder
	for {
		switch r := s.take(); r {
		case -1:
			s.r.Note(format.KeyMalformed, at, "a quote that does not end")
			return b.String()
		case '"':
			return b.String()
		case '\\':
			switch next := s.take(); next {
			case 'n':
				b.WriteByte('\n')
			case 'r':
				b.WriteByte('\r')
			case 't':
				b.WriteByte('\t')
			case '\n': // the line goes on
			case -1:
			default:
				b.WriteRune(next)
			}
		default:
			b.WriteRune(r)
		}
	}
}

func inName(r rune) bool {
	return r > ' ' && unicode.IsPrint(r) && !strings.ContainsRune(`.,:{}="#`, r)
}

func (s *settings) name() string {
	var b strings.Builder
	for inName(s.peek()) {
		b.WriteRune(s.take())
	}
	return b.String()
}

// blanks passes blanks and comments, and with lines also their ends. Our own files say name and
// identifier of a connection in comments.
func (s *settings) blanks(lines bool) {
	for {
		switch r := s.peek(); {
		case r == ' ' || r == '\t' || r == '\r' || lines && r == '\n':
			s.take()
		case lines && r == '#':
			var b strings.Builder
			for s.peek() >= 0 && s.peek() != '\n' {
				b.WriteRune(s.take())
			}
			if text, ok := strings.CutPrefix(b.String(), "# name = "); ok {
				s.r.name = strings.TrimSuffix(text, "\r")
			} else if text, ok := strings.CutPrefix(b.String(), "# uuid = "); ok {
				s.r.uuid = strings.TrimSuffix(text, "\r")
			}
		default:
			return
		}
	}
}

func (s *settings) at() format.Position {
	return format.Position{File: s.file, Line: s.line, Column: s.column}
}

func (s *settings) peek() rune {
	if s.pos < len(s.src) {
		return s.src[s.pos]
	}
	return -1
}

func (s *settings) take() rune {
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

// reference is a section that takes what it does not say itself from others.
type reference struct {
	section string
	from    []string
}

// inherit gives sections what those that they refer to say.
func (r *reader) inherit() {
	looked := 0
	for range maxPasses {
		changed := false
		for _, ref := range r.refs {
			for _, from := range ref.from {
				if looked += len(r.set); looked > maxLooked {
					r.Note(format.NotYetRead, r.at(ref.section),
						"what this section and others take from elsewhere: there is too much of it")
					return
				}
				for key, value := range r.under(from) {
					at := ref.section + "." + key
					if _, own := r.set[at]; own || len(r.set) >= maxSettings {
						continue
					}
					r.set[at] = value
					changed = true
				}
			}
		}
		if !changed {
			return
		}
	}
}

// under are the values below a section, by their keys from there on.
func (r *reader) under(section string) map[string]setting {
	list := map[string]setting{}
	for key, value := range r.set {
		if rest, ok := strings.CutPrefix(key, section+"."); ok {
			list[rest] = value
		}
	}
	return list
}

// template tells a section that others take from and that has no child of its own.
func (r *reader) template(section string) bool {
	for key := range r.set {
		if strings.HasPrefix(key, section+".children.") {
			return false
		}
	}
	return slices.ContainsFunc(r.refs, func(ref reference) bool {
		return slices.Contains(ref.from, section)
	})
}

// daemon reads swanctl.conf.
func (r *reader) daemon(data []byte) {
	text, ok := r.Text(r.file, data)
	if !ok {
		return
	}
	for number, line := range strings.Split(text, "\n") {
		if strings.ContainsFunc(strings.TrimSuffix(line, "\r"), func(c rune) bool {
			return c < ' ' && c != '\t' || c == 0x7F
		}) {
			r.Note(format.Unreadable, format.Position{File: r.file, Line: number + 1, Column: 1},
				"a control character")
			return
		}
	}
	s := &settings{r: r, file: r.file}
	if !s.parse(text) {
		return
	}
	if len(r.path) > 0 {
		r.Note(format.CutShort, s.at(), "the section %s does not end", r.path[len(r.path)-1])
		return
	}
	r.inherit()
	for _, one := range r.order[:min(len(r.order), format.MaxConnections+1)] {
		if section := "connections." + one; !r.template(section) {
			r.connection(section)
		}
	}
	r.account()
	if len(r.order) == 0 {
		r.Note(format.Unreadable, format.Position{File: r.file, Line: 1, Column: 1},
			"no connection")
	}
}
