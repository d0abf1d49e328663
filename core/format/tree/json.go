package tree

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"wardicon/core/format"
)

type jsonParser struct {
	dec   *json.Decoder
	data  []byte
	file  string
	nodes int
	line  int
	seen  int64 // bytes whose lines are counted
	start int64 // of the current line
	twice []Entry
}

// JSON reads a JSON text (RFC 8259) into nodes, with the keys that stand a second time
// in their dictionary.
func JSON(file string, data []byte) (*Node, []Entry, error) {
	p := &jsonParser{dec: json.NewDecoder(bytes.NewReader(data)), data: data, file: file, line: 1}
	p.dec.UseNumber()
	root, err := p.value("", 0)
	if err != nil {
		return nil, nil, err
	}
	if _, err := p.dec.Token(); !errors.Is(err, io.EOF) {
		return nil, nil, &SyntaxError{p.at(""), "something after the end"}
	}
	return root, p.twice, nil
}

// at is the place where the decoder stands, after blanks and separators.
func (p *jsonParser) at(path string) format.Position {
	offset := p.dec.InputOffset()
	for offset < int64(len(p.data)) && strings.IndexByte(" \t\r\n,:", p.data[offset]) >= 0 {
		offset++
	}
	for ; p.seen < offset; p.seen++ {
		if p.data[p.seen] == '\n' {
			p.line, p.start = p.line+1, p.seen+1
		}
	}
	return format.Position{File: p.file, Line: p.line, Column: int(offset-p.start) + 1, Path: path}
}

func (p *jsonParser) token(at format.Position) (json.Token, error) {
	tok, err := p.dec.Token()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, &SyntaxError{at, ExpiresEarly}
	}
	if err != nil {
		return nil, &SyntaxError{at, "not JSON: " + err.Error()}
	}
	return tok, nil
}

func (p *jsonParser) value(path string, depth int) (*Node, error) {
	n := &Node{At: p.at(path)}
	if p.nodes++; p.nodes > MaxNodes || depth > MaxDepth {
		return nil, &SyntaxError{n.At, "more values, or deeper ones, than any profile has"}
	}
	tok, err := p.token(n.At)
	if err != nil {
		return nil, err
	}
	switch v := tok.(type) {
	case string:
		n.Kind, n.Text = "string", v
	case json.Number:
		n.Kind, n.Text = "integer", v.String()
		if strings.ContainsAny(n.Text, ".eE") {
			n.Kind = "real"
		}
	case bool:
		n.Kind = fmt.Sprint(v)
	case nil:
		n.Kind = "null"
	case json.Delim:
		if v == '[' {
			n.Kind = "array"
			return n, p.array(n, path, depth)
		}
		n.Kind = "dict"
		return n, p.dict(n, path, depth)
	}
	return n, nil
}

func (p *jsonParser) array(n *Node, path string, depth int) error {
	for p.dec.More() {
		item, err := p.value(fmt.Sprintf("%s[%d]", path, len(n.Items)), depth+1)
		if err != nil {
			return err
		}
		n.Items = append(n.Items, item)
	}
	_, err := p.token(p.at(path))
	return err
}

func (p *jsonParser) dict(n *Node, path string, depth int) error {
	seen := map[string]bool{}
	for p.dec.More() {
		at := p.at(path)
		tok, err := p.token(at)
		if err != nil {
			return err
		}
		key, _ := tok.(string)
		at.Path = strings.TrimPrefix(path+"."+key, ".")
		v, err := p.value(at.Path, depth+1)
		if err != nil {
			return err
		}
		e := Entry{key, at, v}
		if seen[key] {
			p.twice = append(p.twice, e)
		}
		seen[key] = true
		n.Dict = append(n.Dict, e)
	}
	_, err := p.token(p.at(path))
	return err
}

// Object reads a file that is one JSON object; nil, with a note, where it is none.
func (w *Walker) Object(data []byte) *Node {
	text, ok := w.Reading.Text(w.File, data)
	if !ok {
		return nil
	}
	root, twice, err := JSON(w.File, []byte(text))
	if err != nil {
		w.Fail(err)
		return nil
	}
	for _, e := range twice {
		w.Note(format.KeyTwice, e.At, "%s", e.Key)
	}
	if root.Kind != "dict" {
		w.Note(format.Unreadable, root.At, "%s at the top, expected an object", root.Kind)
		return nil
	}
	return root
}
