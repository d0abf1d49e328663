package tree

import (
	"slices"

	"wardicon/core/format"
)

// Idle lists keys that change nothing about a connection, each with the reason. "Key" stands for
// any value, "Key=value" for that value alone, which is usually what a client assumes anyway;
// switches are 0 and 1.
type Idle map[string]string

// Leave says that a part of the file is carried nowhere, and that this is all there is to say.
func (w *Walker) Leave(n *Node, what string) {
	if n != nil {
		n.Dict, n.Items, n.read = nil, nil, true
		w.Left(what, n.At)
	}
}

// Account goes through all that nobody asked for: what is not idle is carried nowhere.
func (w *Walker) Account(n *Node, idle Idle) {
	if n == nil {
		return
	}
	for _, item := range n.Items {
		w.Account(item, idle)
	}
	var read []string
	for _, e := range n.Dict {
		if e.Value.read {
			read = append(read, e.Key)
		}
	}
	for _, e := range n.Dict {
		switch {
		case slices.Contains(read, e.Key):
			w.Account(e.Value, idle)
		case idle[e.Key] != "" || idle[e.Key+"="+e.Value.short()] != "":
		default:
			w.Left(e.Key+e.Value.shown(), format.Position{
				File: w.File, Line: e.At.Line, Column: e.At.Column, Path: e.At.Path,
			})
		}
	}
}

// short is a value as Idle words it.
func (n *Node) short() string {
	switch n.Kind {
	case "true":
		return "1"
	case "false":
		return "0"
	}
	return n.Text
}

// shown is a value that is sure to hold no secret.
func (n *Node) shown() string {
	if n.Kind == "integer" || n.Kind == "true" || n.Kind == "false" {
		return " " + n.short()
	}
	return ""
}
