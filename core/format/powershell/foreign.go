package powershell

import (
	"slices"
	"strings"

	"wardicon/core/format"
)

// known is what can be said of a value without running anything.
type known struct {
	// 't' text, 'l' list, 'h' table, 'f' flag, 'e' an EAP configuration, 0 what only a run would
	// tell
	kind byte
	text string
	list []known
	hash map[string]known
	at   format.Position
}

func (k known) flag() bool {
	return k.kind == 'f' && k.text == "true" || k.kind == 't' && k.text == "1"
}

// strings are the texts of a value or of a list; ok is false where one of them is not known.
func (k known) strings() (list []string, ok bool) {
	switch k.kind {
	case 't':
		return []string{k.text}, true
	case 'l':
		for _, one := range k.list {
			if one.kind != 't' {
				return list, false
			}
			list = append(list, one.text)
		}
		return list, true
	}
	return nil, false
}

// foreign reads scripts of others: what their commands say of connections, as far as that can be
// known without running them. Nothing is run.
type foreign struct {
	r         *format.Reading
	list      []token
	pos       int
	depth     int
	variables map[string]known
	made      []*draft
	nat       bool
	seen      bool
	rounds    int // of loops
}

// draft is a connection on its way.
type draft struct {
	name   string
	at     format.Position
	values map[string]value
	lost   string // what is not known of it

	changed bool // it was changed, and not added: it is there already, or is added further down
}

// Bounds on blocks inside blocks, and on what loops are read again.
const (
	maxNesting = 64
	maxRounds  = 500
	maxText    = 64 << 10 // bytes of a value that is put together
	maxList    = 2_000
)

// readForeign reads a script; false where it has no command for connections.
func readForeign(r *format.Reading, name, text string) bool {
	f := &foreign{r: r, list: tokens(name, text), variables: map[string]known{}}
	if last := f.list[len(f.list)-1]; last.text == unclosed &&
		strings.Contains(strings.ToLower(text), "vpnconnection") {
		r.Note(format.Unreadable, last.at, "a quote that does not end")
		return true
	}
	f.statements()
	for _, d := range f.made {
		f.finish(d)
	}
	return f.seen
}

func (f *foreign) peek() token { return f.list[f.pos] }

func (f *foreign) take() token {
	t := f.list[f.pos]
	if t.kind != end {
		f.pos++
	}
	return t
}

func (f *foreign) is(text string) bool { return f.peek().kind == sign && f.peek().text == text }

// ends tells the end of a statement.
func (f *foreign) ends() bool {
	t := f.peek()
	return t.kind == end || t.kind == newline || f.is(";") || f.is("}") || f.is(")") || f.is("|") ||
		f.is("&")
}

// statements reads commands up to the end of a block. Those in a branch or a loop are read as if it
// were taken.
func (f *foreign) statements() {
	if f.depth++; f.depth > maxNesting {
		f.pos = len(f.list) - 1
	}
	defer func() { f.depth-- }()
	for f.peek().kind != end && !f.is("}") {
		before := f.pos
		f.statement()
		if f.pos == before { // a sign that begins nothing
			f.take()
		}
	}
}

var keywords = []string{
	"if", "elseif", "else", "foreach", "for", "while", "do", "until", "try", "catch", "finally",
	"switch",
	"function", "filter", "begin", "process", "end", "return", "throw", "exit", "trap", "default",
}

func (f *foreign) statement() {
	t := f.peek()
	next := f.list[min(f.pos+1, len(f.list)-1)]
	switch {
	case t.kind == variable && next.kind == sign && (next.text == "=" || next.text == "+"):
		f.assign()
	case t.kind == word && strings.EqualFold(t.text, "param"):
		f.take()
		f.parameters()
	case t.kind == word && strings.EqualFold(t.text, "foreach") && next.kind == sign &&
		next.text == "(":
		f.foreach()
	case t.kind == variable || f.is("@(") || t.kind == verbatim && !f.called() ||
		t.kind == expanded:
		if v := f.expression(); f.is("|") {
			f.pipe(v)
		}
	case t.kind == word && slices.Contains(keywords, strings.ToLower(t.text)):
		f.take()
		if f.is("(") {
			f.skip()
		} else if strings.EqualFold(t.text, "function") || strings.EqualFold(t.text, "filter") {
			f.take() // its name
			if f.is("(") {
				f.skip()
			}
		}
	case f.is("{"), f.is("@{"), f.is("$("):
		f.take()
		f.statements()
		f.take()
	case f.is("["): // a type, and what is called of it
		f.skip()
	case t.kind == word || t.kind == verbatim && f.called():
		f.command()
	default:
		f.take()
	}
}

// foreach reads the block of a loop once for each value that is known.
func (f *foreign) foreach() {
	f.take()
	f.take()
	name := f.take().text
	if f.peek().kind == word && strings.EqualFold(f.peek().text, "in") {
		f.take()
	}
	list := f.expression()
	for f.peek().kind != end && !f.is("{") {
		f.take()
	}
	f.each(name, list)
}

// pipe hands values to ForEach-Object.
func (f *foreign) pipe(list known) {
	f.take()
	for f.peek().kind == newline {
		f.take()
	}
	t := f.peek()
	if t.kind != word || !slices.Contains([]string{"foreach-object", "foreach", "%"},
		strings.ToLower(t.text)) {
		return
	}
	if f.take(); f.is("{") {
		f.each("_", list)
	}
}

// each reads a block with a variable set to each value in turn.
func (f *foreign) each(name string, list known) {
	items := list.list
	if list.kind != 'l' {
		items = []known{list}
	}
	begin := f.pos
	for i := range max(1, len(items)) {
		f.pos = begin
		if !f.is("{") {
			return
		}
		f.take()
		if f.rounds++; f.rounds > maxRounds {
			f.pos = begin
			f.skip()
			return
		}
		old := f.variables[name]
		f.variables[name] = known{}
		if i < len(items) {
			f.variables[name] = items[i]
		}
		f.statements()
		f.take()
		f.variables[name] = old
	}
}

// called tells that a text is run: & "name".
func (f *foreign) called() bool {
	return f.pos > 0 && f.list[f.pos-1].kind == sign && f.list[f.pos-1].text == "&"
}

// skip passes a group in brackets.
func (f *foreign) skip() {
	depth := 0
	for f.peek().kind != end {
		t := f.take()
		if t.kind != sign {
			continue
		}
		switch t.text {
		case "(", "{", "[", "@(", "@{", "$(":
			depth++
		case ")", "}", "]":
			if depth--; depth <= 0 {
				return
			}
		}
	}
}

// parameters takes the defaults of a script's parameters: $Name = 'value'.
func (f *foreign) parameters() {
	if !f.is("(") {
		return
	}
	f.take()
	for f.peek().kind != end && !f.is(")") {
		switch {
		case f.is("["):
			f.skip()
		case f.peek().kind == variable && f.list[f.pos+1].text == "=" &&
			f.list[f.pos+1].kind == sign:
			name := f.take().text
			f.take()
			f.variables[name] = f.single()
		default:
			f.take()
		}
	}
	f.take()
}

func (f *foreign) assign() {
	name := f.take().text
	added := false
	if f.is("+") {
		f.take()
		added = true
	}
	if !f.is("=") {
		return
	}
	f.take()
	for f.peek().kind == newline {
		f.take()
	}
	var v known
	if t := f.peek(); t.kind == word && strings.Contains(t.text, "-") {
		v = f.command()
	} else {
		v = f.expression()
	}
	if old := f.variables[name]; added {
		switch {
		case old.kind == 't' && v.kind == 't':
			v = joined(old, v)
		case old.kind == 'l':
			v = known{kind: 'l', list: append(slices.Clone(old.list), v), at: old.at}
		default:
			v = known{}
		}
	}
	f.variables[name] = v
}

// expression reads values joined by commas or plus signs; what follows that is not understood makes
// it unknown.
func (f *foreign) expression() known {
	v := f.single()
	for {
		switch {
		case f.is(","):
			v = f.listed(v, f.single)
		case f.is("+"):
			f.take()
			more := f.single()
			v = joined(v, more)
		case f.ends() || f.is("]") || f.is("="):
			return v
		default: // an operator, or a method
			for !f.ends() {
				if f.peek().kind == sign && strings.ContainsAny(f.peek().text, "({[") {
					f.skip()
				} else {
					f.take()
				}
			}
			return known{at: v.at}
		}
	}
}

// listed reads what follows a value behind commas.
func (f *foreign) listed(v known, next func() known) known {
	if !f.is(",") {
		return v
	}
	list := []known{v}
	if v.kind == 'l' {
		list = slices.Clone(v.list)
	}
	for f.is(",") {
		f.take()
		for f.peek().kind == newline {
			f.take()
		}
		if one := next(); len(list) < maxList {
			list = append(list, one)
		}
	}
	return known{kind: 'l', list: list, at: v.at}
}

// single reads one value.
func (f *foreign) single() known {
	if f.depth++; f.depth > maxNesting {
		f.pos = len(f.list) - 1
	}
	defer func() { f.depth-- }()
	t := f.take()
	v := known{at: t.at}
	switch t.kind {
	case verbatim:
		v.kind, v.text = 't', t.text
	case expanded:
		v = f.expand(t)
	case word:
		v.kind, v.text = 't', t.text
	case dash: // a value that begins with a hyphen
		v.kind, v.text = 't', "-"+t.text
	case variable:
		v = f.variable(t)
	case sign:
		v = f.grouped(t)
	case newline: // of the statement around it
		f.pos--
	}
	return v
}

func (f *foreign) grouped(t token) known {
	v := known{at: t.at}
	switch t.text {
	case "(", "@(", "$(":
		v = known{at: t.at, kind: 'l'}
		for f.peek().kind != end && !f.is(")") {
			if f.peek().kind == newline || f.is(";") {
				f.take()
				continue
			}
			before := f.pos
			if w := f.peek(); w.kind == word && strings.Contains(w.text, "-") && t.text != "@(" {
				v.list = append(v.list, f.command())
			} else if one := f.expression(); one.kind == 'l' && t.text == "@(" {
				v.list = append(v.list, one.list...)
			} else {
				v.list = append(v.list, one)
			}
			if f.pos == before {
				f.take()
			}
		}
		f.take()
		if t.text != "@(" && len(v.list) == 1 {
			v = v.list[0]
		}
		if f.peek().kind == word && f.peek().glue { // a member of it
			v = f.member(v)
		}
	case "@{":
		v.kind, v.hash = 'h', map[string]known{}
		for f.peek().kind != end && !f.is("}") {
			key := f.take()
			if key.kind == newline || key.kind == sign {
				continue
			}
			if !f.is("=") {
				continue
			}
			f.take()
			one := f.expression()
			if one.at.Line == 0 {
				one.at = key.at
			}
			v.hash[strings.ToLower(key.text)] = one
		}
		f.take()
	case "[": // a cast such as [string]
		f.pos--
		f.skip()
		return f.single()
	}
	return v
}

func (f *foreign) variable(t token) known {
	name := strings.TrimPrefix(strings.TrimPrefix(t.text, "script:"), "global:")
	v := known{at: t.at}
	switch name {
	case "true", "false":
		v.kind, v.text = 'f', name
	case "null":
		v.kind = 't'
	default:
		v = f.variables[name]
		v.at = t.at
	}
	if f.peek().kind == word && f.peek().glue {
		v = f.member(v)
	}
	return v
}

// member follows .Name behind a value.
func (f *foreign) member(v known) known {
	text := f.peek().text
	if !strings.HasPrefix(text, ".") {
		return v
	}
	f.take()
	name := strings.ToLower(strings.TrimPrefix(text, "."))
	switch {
	case v.kind == 'e' && name == "eapconfigxmlstream":
		return v
	case v.kind == 'h':
		return v.hash[name]
	}
	if f.is("(") {
		f.skip()
	}
	return known{at: v.at}
}

// expand puts variables into a text; one that is not known makes the whole unknown.
func (f *foreign) expand(t token) known {
	v := known{kind: 't', at: t.at}
	var b strings.Builder
	rest := t.text
	for {
		i := strings.IndexAny(rest, "$`")
		if i < 0 {
			b.WriteString(rest)
			v.text = b.String()
			return v
		}
		b.WriteString(rest[:i])
		rest = rest[i:]
		if strings.HasPrefix(rest, "`$") {
			b.WriteByte('$')
			rest = rest[2:]
			continue
		}
		inner := strings.TrimPrefix(rest, "$")
		name, after := inner, ""
		switch {
		case inner == rest: // a backtick by itself
			b.WriteByte('`')
			rest = rest[1:]
			continue
		case strings.HasPrefix(inner, "("):
			close := strings.IndexByte(inner, ')')
			if close < 0 || !strings.HasPrefix(inner[1:], "$") {
				return known{at: t.at}
			}
			name, after = inner[2:close], inner[close+1:]
		case strings.HasPrefix(inner, "{"):
			close := strings.IndexByte(inner, '}')
			if close < 0 {
				return known{at: t.at}
			}
			name, after = inner[1:close], inner[close+1:]
		default:
			end := strings.IndexFunc(inner, func(r rune) bool {
				return r != '_' && r != ':' && (r < '0' ||
					r > '9' && r < 'A' || r > 'Z' && r < 'a' || r > 'z')
			})
			if end >= 0 {
				name, after = inner[:end], inner[end:]
			}
		}
		if name == "" {
			b.WriteByte('$')
			rest = inner
			continue
		}
		one := f.lookup(strings.ToLower(name))
		if one.kind != 't' {
			return known{at: t.at}
		}
		if b.WriteString(one.text); b.Len() > maxText {
			return known{at: t.at}
		}
		rest = after
	}
}

// joined puts two texts together.
func joined(a, b known) known {
	if a.kind != 't' || b.kind != 't' || len(a.text)+len(b.text) > maxText {
		return known{at: a.at}
	}
	a.text += b.text
	return a
}

func (f *foreign) lookup(name string) known {
	head, field, deeper := strings.Cut(name, ".")
	v := f.variables[head]
	if deeper && v.kind == 'h' {
		return v.hash[field]
	}
	if deeper {
		return known{}
	}
	return v
}
