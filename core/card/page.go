package card

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"unicode/utf8"

	"wardicon/core/i18n"
	"wardicon/core/secret"
)

//go:embed page.tmpl
var pageSource string

var page = template.Must(
	template.New("card").
		Funcs(template.FuncMap{
			"letters": Letters,
			"labels":  Parts,
			"plain":   plain,
			"picture": picture,
		}).
		Parse(pageSource),
)

// Head is the line below the title: for whom it is, and where it leads.
func (c Card) Head() string {
	return c.say(headLine, c.Organisation, c.Person, c.Device, c.Release, c.Gateway, c.Protocol)
}

// Letter is one character of a value with its class.
type Letter struct {
	Class secret.Class
	Text  string
	Title string
}

// Letters splits a value for drawing: blanks become visible, invisible characters are
// written by their code point.
func Letters(in i18n.Language, v string) []Letter {
	list := make([]Letter, 0, len(v))
	for _, r := range v {
		l := Letter{
			Class: secret.ClassOf(r),
			Text:  string(r),
			Title: spelled(in, secret.Spell(string(r))[0]),
		}
		if r == ' ' {
			l.Text = string(secret.SpaceSign)
		} else if secret.Unseen(r) {
			l.Class, l.Text = secret.Other, secret.CodePoint(r)
		}
		list = append(list, l)
	}
	return list
}

// Part is a piece of a step; Label is set for the name of a value.
type Part struct {
	Text  string
	Label bool
}

// Parts splits a step at ‹ and ›.
func Parts(step string) []Part {
	var parts []Part
	for {
		before, rest, ok := strings.Cut(step, "‹")
		parts = append(parts, Part{Text: before})
		if !ok {
			return parts
		}
		name, after, _ := strings.Cut(rest, "›")
		parts = append(parts, Part{Text: name, Label: true})
		step = after
	}
}

// HTML draws the card as one page that needs nothing from elsewhere.
func (c Card) HTML() ([]byte, error) {
	var out bytes.Buffer
	err := page.Execute(&out, struct {
		Card
		Say func(string, ...any) string
	}{c, c.say})
	return out.Bytes(), err
}

// Text writes the card for a terminal or a plain mail. Values stand between bars, so
// that a blank at an end can be seen.
func (c Card) Text() []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("%s", plain(c.Title))
	line("%s", strings.Repeat("=", len([]rune(plain(c.Title)))))
	line("%s\n", plain(c.Head()))
	section := func(title string, steps []string) {
		if len(steps) == 0 {
			return
		}
		line("%s", c.say(title))
		for i, s := range steps {
			line("%3d. %s", i+1, plain(strings.NewReplacer("‹", "", "›", "").Replace(s)))
		}
		line("")
	}
	if len(c.Files) > 0 {
		line("%s\n", c.say(fileList, plain(strings.Join(c.Files, ", "))))
	}
	section(headSteps, c.Steps)
	if len(c.Values) > 0 {
		line("%s", c.say(headText))
		width := 16
		for _, v := range c.Values {
			width = max(width, utf8.RuneCountInString(v.Label))
		}
		for _, v := range c.Values {
			line("  %-*s |%s|", width, v.Label, typed(v.Text))
			if len(v.Spelled) > 0 {
				for _, row := range wrap(strings.Join(v.Spelled, ", "), 76) {
					line("%*s%s", width+5, "", row)
				}
			}
		}
		line("")
	}
	section(headUse, c.Connect)
	section(headTry, c.Try)
	section(headRemove, c.Remove)
	return []byte(b.String())
}

// plain keeps a text on its line and its direction: what cannot be seen is written by
// its code point.
func plain(v string) string {
	var b strings.Builder
	for _, r := range v {
		if secret.Unseen(r) {
			b.WriteString(secret.CodePoint(r))
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// typed writes a value for the text so that it can be read back: blanks are drawn, and
// what looks like the name of a code point is broken up.
func typed(v string) string {
	var b strings.Builder
	for i, r := range v {
		switch {
		case r == ' ':
			b.WriteRune(secret.SpaceSign)
		case secret.Unseen(r) || r == '[' && strings.HasPrefix(v[i:], "[U+"):
			b.WriteString(secret.CodePoint(r))
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

func wrap(text string, width int) []string {
	var rows []string
	row := ""
	for word := range strings.SplitSeq(text, " ") {
		if row != "" && len(row)+1+len(word) > width {
			rows, row = append(rows, row), ""
		}
		row = strings.TrimPrefix(row+" "+word, " ")
	}
	return append(rows, row)
}
