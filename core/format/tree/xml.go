package tree

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"wardicon/core/format"
)

// XML reads an XML document without document type declaration: an element with elements
// inside is a dict, any other a string. Attributes and namespaces are left out.
func XML(file string, data []byte) (*Node, error) {
	if err := Tags(file, data); err != nil {
		return nil, err
	}
	dec := xml.NewDecoder(bytes.NewReader(data))
	nodes := 0
	at := func(path string) format.Position {
		line, column := dec.InputPos()
		return format.Position{File: file, Line: line, Column: column, Path: path}
	}
	var element func(path string, depth int) (*Node, error)
	element = func(path string, depth int) (*Node, error) {
		n := &Node{Kind: "string", At: at(path)}
		if nodes++; nodes > MaxNodes || depth > MaxDepth {
			return nil, &SyntaxError{n.At, "more elements, or deeper ones, than any profile has"}
		}
		var text strings.Builder
		for {
			tok, err := dec.Token()
			var fault *xml.SyntaxError
			if errors.Is(err, io.EOF) || errors.As(err, &fault) && fault.Msg == "unexpected EOF" {
				return nil, &SyntaxError{n.At, ExpiresEarly}
			}
			if err != nil {
				return nil, &SyntaxError{n.At, "not XML: " + err.Error()}
			}
			switch t := tok.(type) {
			case xml.StartElement:
				inner := path + "." + t.Name.Local
				keyAt := at(inner)
				v, err := element(inner, depth+1)
				if err != nil {
					return nil, err
				}
				n.Kind = "dict"
				n.Dict = append(n.Dict, Entry{t.Name.Local, keyAt, v})
			case xml.CharData:
				text.Write(t)
			case xml.Directive:
				return nil, &SyntaxError{at(path), "a document type declaration"}
			case xml.EndElement:
				if n.Kind == "string" {
					n.Text = text.String()
				}
				return n, nil
			}
		}
	}
	for {
		tok, err := dec.Token()
		if err != nil {
			return nil, &SyntaxError{at(""), "no element"}
		}
		switch t := tok.(type) {
		case xml.StartElement:
			root, err := element(t.Name.Local, 0)
			if err != nil {
				return nil, err
			}
			return &Node{
				Kind: "dict",
				At:   root.At,
				Dict: []Entry{{t.Name.Local, root.At, root}},
			}, nil
		case xml.Directive:
			return nil, &SyntaxError{at(""), "a document type declaration"}
		}
	}
}

// Tags refuses a document with a tag, a remark or a section of plain text that is longer
// than any in a profile: a decoder takes such a piece in whole.
func Tags(file string, data []byte) error {
	for rest := data; ; {
		i := bytes.IndexByte(rest, '<')
		if i < 0 {
			return nil
		}
		rest = rest[i:]
		end := bytes.IndexByte(rest[:min(len(rest), maxTag)], '>')
		switch {
		case end >= 0:
			rest = rest[end+1:]
		case len(rest) > maxTag:
			line := 1 + bytes.Count(data[:len(data)-len(rest)], []byte("\n"))
			return &SyntaxError{
				format.Position{File: file, Line: line, Column: 1},
				fmt.Sprintf("a tag of more than %d bytes", maxTag),
			}
		default:
			return nil
		}
	}
}

// All lists the values of a key that may stand several times.
func (n *Node) All(key string) []*Node {
	var list []*Node
	if n != nil {
		for _, e := range n.Dict {
			if e.Key == key {
				e.Value.read = true
				list = append(list, e.Value)
			}
		}
	}
	return list
}
