// Package inventory is about records as files: with names in the place of identifiers, secrets that
// are kept where they are, and differences that people can read.
package inventory

import (
	"slices"
	"strings"
)

// Noun is a kind of record, and Plural the key that its records stand under in files.
type Noun struct {
	Name, Plural string
	// fields that name other records, parts joined by dots, and their nouns
	Refers map[string]string
	// the one of them that is set once all records are there, because it leads to a noun that comes
	// after this one
	Later string
}

// Names finds records by what people call them, and gives each its shortest unmistakable name.
type Names struct {
	byText map[string][]string // noun and name, to identifiers
	of     map[string][]string // identifier, to its names, the shortest first
}

// NewNames makes an empty one.
func NewNames() *Names {
	return &Names{byText: map[string][]string{}, of: map[string][]string{}}
}

func place(noun, text string) string { return noun + "\n" + strings.ToLower(text) }

// Set says what a record is called, the shortest name first; its identifier goes without saying.
func (n *Names) Set(noun, id string, names ...string) {
	n.Forget(noun, id)
	names = append(slices.DeleteFunc(names, func(v string) bool { return v == "" }), id)
	n.of[id] = names
	for _, text := range names {
		at := place(noun, text)
		if !slices.Contains(n.byText[at], id) {
			n.byText[at] = append(n.byText[at], id)
		}
	}
}

// Forget takes a record away.
func (n *Names) Forget(noun, id string) {
	for _, text := range n.of[id] {
		at := place(noun, text)
		if n.byText[at] = drop(n.byText[at], id); len(n.byText[at]) == 0 {
			delete(n.byText, at)
		}
	}
	delete(n.of, id)
}

func drop(list []string, id string) []string {
	return slices.DeleteFunc(list, func(v string) bool { return v == id })
}

// Find lists the records that a name fits.
func (n *Names) Find(noun, text string) []string { return n.byText[place(noun, text)] }

// Of is the shortest name that fits no other record.
func (n *Names) Of(noun, id string) string {
	for _, text := range n.of[id] {
		if len(n.Find(noun, text)) == 1 {
			return text
		}
	}
	return id
}

// All are the names of a record, its identifier last.
func (n *Names) All(id string) []string { return n.of[id] }

// Translate puts what other makes of them in the place of a noun's references, in a record's JSON.
func (n Noun) Translate(fields map[string]any, other func(noun, field, text string) string) {
	for path, noun := range n.Refers {
		at, last := leaf(fields, path)
		switch value := at[last].(type) {
		case string:
			if value != "" {
				at[last] = other(noun, path, value)
			}
		case []any:
			for i := range value {
				if text, ok := value[i].(string); ok {
					value[i] = other(noun, path, text)
				}
			}
		}
	}
}

// Take takes a field out of a record's JSON; nil where it is not there.
func Take(fields map[string]any, path string) any {
	at, last := leaf(fields, path)
	value := at[last]
	delete(at, last)
	return value
}

// Put sets a field of a record's JSON.
func Put(fields map[string]any, path string, value any) {
	keys := strings.Split(path, ".")
	for _, key := range keys[:len(keys)-1] {
		inner, ok := fields[key].(map[string]any)
		if !ok {
			inner = map[string]any{}
			fields[key] = inner
		}
		fields = inner
	}
	fields[keys[len(keys)-1]] = value
}

// leaf is the part of a record that holds a field, and its name there; nil where it is not there.
func leaf(fields map[string]any, path string) (map[string]any, string) {
	keys := strings.Split(path, ".")
	for _, key := range keys[:len(keys)-1] {
		fields, _ = fields[key].(map[string]any)
	}
	return fields, keys[len(keys)-1]
}

// Kept takes the secrets that are to stay as they are, {"keep": true}, out of a record's JSON, and
// lists where they stood, parts joined by slashes.
func Kept(fields map[string]any) (places []string) {
	for key, value := range fields {
		inner, ok := value.(map[string]any)
		if !ok {
			continue
		}
		if keep, ok := inner["keep"].(bool); ok && keep && len(inner) == 1 {
			delete(fields, key)
			places = append(places, key)
			continue
		}
		for _, place := range Kept(inner) {
			places = append(places, key+"/"+place)
		}
	}
	slices.Sort(places)
	return places
}
