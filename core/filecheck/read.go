package filecheck

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"unicode/utf8"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
)

// read reads a file; those that it names are looked for in its own folder first. What asks for more
// than the budget of the lot has left is not read, which is remarked.
func (w *work) read(
	list []*work,
	passphrases []secret.Text,
	fetch func(folder, name string) ([]byte, bool),
	budget *format.Budget,
) {
	beside := func(name string) ([]byte, bool) {
		var found *work
		for _, other := range list {
			if other == w || path.Base(other.file.Name) != name {
				continue
			}
			if path.Dir(other.file.Name) == path.Dir(w.file.Name) {
				found = other
				break
			}
			if found == nil {
				found = other
			}
		}
		if found == nil && fetch != nil {
			return fetch(path.Dir(w.file.Name), name)
		}
		if found == nil {
			return nil, false
		}
		found.needed = true
		return found.file.Data, true
	}
	budget.Spent = false // each file is looked at by itself as far as the budget goes
	switch {
	case w.codec != nil:
		w.reading = w.codec.Read(path.Base(w.file.Name), w.text, budget.Bound(beside))
		if slices.Contains(inLines, w.codec.Name) {
			behindKeys(&w.reading, path.Base(w.file.Name), w.text)
		}
		placed(&w.reading, w.file.Name)
		budget.Derive(w.reading.Rounds)
	case w.bag != nil:
		rounds := min(pki.Rounds(w.file.Data), pki.MaxRounds) * int64(3+len(passphrases)) / 3
		if !budget.Derive(rounds) {
			break
		}
		b := pki.Open(w.file.Data, passphrases...)
		w.bag = &b
		w.notes = append(w.notes, check.BagNotes(w.file.Name, b)...)
	}
	if budget.Spent {
		w.codec, w.bag, w.reading = nil, nil, format.Reading{}
		w.notes = append(
			w.notes,
			format.Note{
				Kind: format.NotYetRead,
				Found: "the files ask for more work together than is done at once, or took too " +
					"long: they name each other again and again, or keys need very many rounds",
				At: format.Position{File: w.file.Name, Line: 1, Column: 1},
			},
		)
	}
}

// inLines are the formats that have a key and its value on a line.
var inLines = []platform.Format{
	platform.Keyfile, platform.UCI, platform.PhoneBook, platform.Daemons,
	platform.OVPN, platform.OVPNFolder, platform.PhoneOVPN,
}

// key is what stands before the value of a line, a command of the router's among it.
var key = regexp.MustCompile(
	`^\s*(?:(?:uci|-q|set|add_list|option|list)\s+)*[^\s=#]+(?:\s*=\s*|\s+)`,
)

// heading is a line with which a section begins.
var heading = regexp.MustCompile(`^(?:\[|<|conn\s|config\s)|\{$`)

// behindKeys moves the places of values, which readers of lines have by their keys, to the values
// themselves.
func behindKeys(r *format.Reading, name string, text []byte) {
	var lines [][]byte
	for _, c := range r.Connections {
		for field, at := range c.Positions {
			if lines == nil {
				lines = bytes.Split(text, []byte("\n"))
			}
			if at.Line < 1 || at.Line > len(lines) || at.File != name {
				continue
			}
			line := bytes.TrimRight(lines[at.Line-1], " \t\r")
			blanks := len(line) - len(bytes.TrimLeft(line, " \t"))
			before := key.Find(line)
			if at.Column > blanks+1 || len(before) == len(line) || heading.Match(line[blanks:]) {
				continue // it is exact, or the line has no value
			}
			at.Column = utf8.RuneCount(before) + 1
			c.Positions[field] = at
		}
	}
}

// placed puts the whole name of a file into the places that a reader gave, which know it
// by its last part.
func placed(r *format.Reading, name string) {
	base := path.Base(name)
	for i := range r.Notes {
		if r.Notes[i].At.File == base {
			r.Notes[i].At.File = name
		}
	}
	for _, c := range r.Connections {
		for field, at := range c.Positions {
			if at.File == base {
				at.File = name
				c.Positions[field] = at
			}
		}
	}
}
