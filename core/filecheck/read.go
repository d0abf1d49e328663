package filecheck

import (
	"path"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
)

// Rounds of key derivation that the files of a batch may ask for together: a few seconds of
// work, and more where there is more to read.
const (
	leastRounds   = 4_000_000
	roundsPerByte = 1
)

// read reads a file; those that it names are looked for in its own folder first. It answers
// with the rounds of key derivation that were done.
func (w *work) read(
	list []*work,
	passphrases []secret.Text,
	fetch func(folder, name string) ([]byte, bool),
	budget int64,
) (rounds int64) {
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
	tooMuch := func() int64 {
		w.codec, w.bag = nil, nil
		w.notes = append(
			w.notes,
			format.Note{
				Kind:  format.NotYetRead,
				Found: "the files require more key derivation rounds than are allowed at once",
				At:    format.Position{File: w.file.Name, Line: 1, Column: 1},
			},
		)
		return 0
	}
	switch {
	case budget <= 0 && (w.codec != nil || w.bag != nil):
		return tooMuch()
	case w.codec != nil:
		w.reading = w.codec.Read(path.Base(w.file.Name), w.text, beside)
		placed(&w.reading, w.file.Name)
		return w.reading.Rounds
	case w.bag != nil:
		if rounds = min(
			pki.Rounds(w.file.Data),
			pki.MaxRounds,
		) * int64(
			3+len(passphrases),
		) / 3; rounds > budget {
			return tooMuch()
		}
		b := pki.Open(w.file.Data, passphrases...)
		w.bag = &b
		w.notes = append(w.notes, check.BagNotes(w.file.Name, b)...)
	}
	return rounds
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
