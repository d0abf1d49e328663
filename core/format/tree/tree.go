// Package tree holds what structured files are read into: nodes with their places, and
// a walker that remarks what is not as it should be.
package tree

import (
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
)

// Bounds on what a hostile file may ask for.
const (
	MaxDepth = 32
	MaxNodes = 40_000
	maxTag   = 64 << 10 // bytes between < and >
)

// Node is one value of a structured file with its place in it.
type Node struct {
	Kind  string // dict, array, string, integer, real, true, false, null, data, date
	Text  string
	Data  []byte
	Dict  []Entry
	Items []*Node
	At    format.Position
	read  bool // somebody asked for it
}

// Entry is a key of a dictionary with its value.
type Entry struct {
	Key   string
	At    format.Position
	Value *Node
}

// SyntaxError is a fault in a file with its place.
type SyntaxError struct {
	At   format.Position
	What string
}

func (e *SyntaxError) Error() string { return e.At.String() + ": " + e.What }

// Get looks a key up; the last one counts where it stands twice. It is nil where the key
// or the dictionary is absent. What was looked up counts as read (Walker.Account).
func (n *Node) Get(keys ...string) *Node {
	for _, key := range keys {
		if n = n.find(key); n != nil {
			n.read = true
		}
	}
	return n
}

// Said is the text of a key, without it counting as read.
func (n *Node) Said(key string) string {
	if v := n.find(key); v != nil {
		return strings.TrimSpace(v.Text)
	}
	return ""
}

// Deep finds the first key of a name at any depth.
func (n *Node) Deep(key string) *Node {
	if n == nil {
		return nil
	}
	if v := n.find(key); v != nil {
		v.read = true
		return v
	}
	for _, e := range n.Dict {
		if v := e.Value.Deep(key); v != nil {
			return v
		}
	}
	for _, item := range n.Items {
		if v := item.Deep(key); v != nil {
			return v
		}
	}
	return nil
}

func (n *Node) find(key string) (found *Node) {
	if n == nil {
		return nil
	}
	for _, e := range n.Dict {
		if e.Key == key {
			found = e.Value
		}
	}
	return found
}

// Walker reads values out of a tree and remarks those of another kind.
type Walker struct {
	format.Reading
	File string
}

// Start is the beginning of the file.
func (w *Walker) Start() format.Position {
	return format.Position{File: w.File, Line: 1, Column: 1}
}

// Fail remarks why a file cannot be read.
func (w *Walker) Fail(err error) {
	at, what := w.Start(), "the file is empty"
	if fault, ok := err.(*SyntaxError); ok {
		at, what = fault.At, fault.What
	}
	kind := format.Unreadable
	if what == ExpiresEarly {
		kind = format.CutShort
	}
	w.Note(kind, at, "%s", what)
}

// ExpiresEarly says that a file was cut short.
const ExpiresEarly = "the file ends unexpectedly"

// Known remarks keys outside a list.
func (w *Walker) Known(n *Node, keys []string) {
	if n != nil {
		for _, e := range n.Dict {
			switch right := format.Meant(e.Key, keys); {
			case slices.Contains(keys, e.Key):
			case right != "":
				w.Note(format.KeyMisspelt, e.At, "%s, expected %s", e.Key, right)
			default:
				w.Note(format.KeyUnknown, e.At, "%s", e.Key)
			}
		}
	}
}

// At is the place of a key, or that of the dictionary around it where it is absent.
func (w *Walker) At(around, n *Node, key string) format.Position {
	if v := n.find(key); v != nil {
		return v.At
	}
	return around.At
}

// Text reads a string; another kind is remarked.
func (w *Walker) Text(n *Node, key string) string {
	v := n.Get(key)
	if v == nil {
		return ""
	}
	if v.Kind != "string" {
		w.Note(format.KeyMalformed, v.At, "%s is a %s, expected a string", key, v.Kind)
		return ""
	}
	return v.Text
}

// OneOf reads a string that has to be one of a few; another is remarked.
func (w *Walker) OneOf(n *Node, key string, words ...string) string {
	text := w.Text(n, key)
	if text != "" && !slices.Contains(words, text) {
		w.Note(format.KeyMalformed, n.find(key).At, "%s %q, expected %s", key, text,
			format.Choice(words))
	}
	return text
}

// List reads an array of strings.
func (w *Walker) List(n *Node, key string) []string {
	list := []string{}
	v := n.Get(key)
	if v == nil {
		return list
	}
	if v.Kind != "array" {
		w.Note(format.KeyMalformed, v.At, "%s is a %s, expected an array", key, v.Kind)
	}
	for _, item := range v.Items {
		if item.Kind != "string" {
			w.Note(format.KeyMalformed, item.At, "a %s in %s, expected a string", item.Kind, key)
			continue
		}
		list = append(list, item.Text)
	}
	return list
}

// Integer reads a number; true counts as 1. Another kind is remarked.
func (w *Walker) Integer(n *Node, key string) int {
	v := n.Get(key)
	switch {
	case v == nil || v.Kind == "false":
		return 0
	case v.Kind == "true":
		return 1
	}
	i, err := strconv.Atoi(strings.TrimSpace(v.Text))
	if err != nil || v.Kind != "integer" {
		w.Note(format.KeyMalformed, v.At, "%s is no whole number", key)
		return 0
	}
	return i
}

// Switches remarks values of keys that are neither true nor false: texts in XML, kinds of their own
// in JSON.
func (w *Walker) Switches(n *Node, texts bool, keys ...string) {
	for _, key := range keys {
		v := n.find(key)
		if v == nil || v.Kind == "true" || v.Kind == "false" {
			continue
		}
		if text := strings.TrimSpace(v.Text); !texts || text != "true" && text != "false" {
			w.Note(format.KeyMalformed, v.At, "%s is %q, expected true or false", key, v.Text)
		}
	}
}

// Flag reads a switch.
func (w *Walker) Flag(n *Node, key string) bool { return w.Integer(n, key) == 1 }
