package rows

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"wardicon/core/format/tree"
)

// json reads an array of objects, or an object with one array in it.
func (r *reader) json(text string) error {
	root, _, err := tree.JSON(r.file, []byte(text))
	var fault *tree.SyntaxError
	if errors.As(err, &fault) {
		return r.fail(fault.At.Line, fault.At.Column, fault.What, "JSON (RFC 8259)", "")
	} else if err != nil {
		return err
	}
	if root.Kind == "dict" && len(root.Dict) == 1 && root.Dict[0].Value.Kind == "array" {
		root = root.Dict[0].Value
	}
	if root.Kind != "array" {
		return r.fail(root.At.Line, root.At.Column, "no list", "a list of records", "")
	}
	for _, item := range root.Items {
		if item.Kind != "dict" {
			return r.fail(item.At.Line, item.At.Column, "a "+item.Kind, "a record", "")
		}
		row := Row{Line: item.At.Line}
		if err := r.object(&row, "", item); err != nil {
			return err
		}
		if err := r.add(row); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) object(row *Row, path string, n *tree.Node) error {
	switch n.Kind {
	case "dict":
		for _, e := range n.Dict {
			if err := r.object(row, strings.TrimPrefix(path+"."+e.Key, "."), e.Value); err != nil {
				return err
			}
		}
	case "array":
		for _, item := range n.Items {
			if err := r.object(row, path, item); err != nil {
				return err
			}
		}
	case "null":
	case "true", "false":
		return r.put(row, path, n.Kind, n.At.Line, n.At.Column)
	default:
		return r.put(row, path, n.Text, n.At.Line, n.At.Column)
	}
	return nil
}

// maxDepth bounds sequences and mappings inside each other.
const maxDepth = 8

// yaml reads a list of mappings, or a mapping with one list in it. Aliases are not followed.
func (r *reader) yaml(text string) error {
	if strings.Count(text, "\n") > 20*MaxRows {
		return r.fail(
			0,
			0,
			"too many lines",
			fmt.Sprintf("at most %d rows", MaxRows),
			"split the file",
		)
	}
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		var fault *yaml.SyntaxError
		line, column := 0, 0
		if errors.As(err, &fault) && fault.Token != nil {
			line, column = fault.Token.Position.Line, fault.Token.Position.Column
		}
		return r.fail(line, column, "a text that is no YAML", "a list of records", "")
	}
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		list, ok := sequence(doc.Body)
		if !ok {
			at := doc.Body.GetToken().Position
			return r.fail(at.Line, at.Column, "no list", "a list of records", "")
		}
		for _, item := range list.Values {
			row := Row{Line: item.GetToken().Position.Line}
			if _, ok := item.(ast.MapNode); !ok {
				return r.fail(row.Line, 0, "no record", "a mapping of names and values", "")
			}
			if err := r.node(&row, "", item, 0); err != nil {
				return err
			}
			if err := r.add(row); err != nil {
				return err
			}
		}
	}
	return nil
}

// sequence is the list of a document, alone or under one name.
func sequence(n ast.Node) (*ast.SequenceNode, bool) {
	if m, ok := n.(ast.MapNode); ok {
		i := m.MapRange()
		if !i.Next() {
			return nil, false
		}
		n = i.Value()
		if i.Next() {
			return nil, false
		}
	}
	list, ok := n.(*ast.SequenceNode)
	return list, ok
}

func (r *reader) node(row *Row, path string, n ast.Node, depth int) error {
	at := n.GetToken().Position
	if depth > maxDepth {
		return r.fail(at.Line, at.Column, "records inside records", "flat ones", "")
	}
	switch v := n.(type) {
	case ast.MapNode:
		for i := v.MapRange(); i.Next(); {
			key := strings.TrimPrefix(path+"."+i.Key().GetToken().Value, ".")
			if err := r.node(row, key, i.Value(), depth+1); err != nil {
				return err
			}
		}
	case *ast.SequenceNode:
		for _, item := range v.Values {
			if err := r.node(row, path, item, depth+1); err != nil {
				return err
			}
		}
	case *ast.NullNode:
	case *ast.AliasNode, *ast.AnchorNode, *ast.TagNode:
		return r.fail(at.Line, at.Column, "an anchor, an alias or a tag", "plain values", "")
	case *ast.LiteralNode:
		return r.put(row, path, v.Value.Value, at.Line, at.Column)
	default:
		t := n.GetToken()
		text := t.Value
		if t.Type != token.StringType && t.Type != token.DoubleQuoteType &&
			t.Type != token.SingleQuoteType {
			text = strings.TrimSpace(t.Origin) // 007 is not 7
		}
		return r.put(row, path, text, at.Line, at.Column)
	}
	return nil
}

// ldif reads the entries of a directory (RFC 2849): folded lines, values in base64, comments, and
// attributes with several values. Changes other than additions are no entries.
func (r *reader) ldif(text string) error {
	type logical struct {
		text string
		line int
	}
	var lines []logical
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSuffix(line, "\r")
		switch {
		case strings.HasPrefix(line, " ") && len(lines) > 0:
			lines[len(lines)-1].text += line[1:]
		default:
			lines = append(lines, logical{line, i + 1})
		}
	}
	row := Row{}
	end := func() error {
		done := row
		row = Row{}
		return r.add(done)
	}
	for _, l := range lines {
		if l.text == "" {
			if err := end(); err != nil {
				return err
			}
			continue
		}
		if strings.HasPrefix(l.text, "#") ||
			strings.HasPrefix(l.text, "version:") && row.Line == 0 {
			continue
		}
		name, value, ok := strings.Cut(l.text, ":")
		if !ok || name == "" {
			return r.fail(
				l.line,
				1,
				fmt.Sprintf("%.40q", l.text),
				"attribute: value (RFC 2849)",
				"",
			)
		}
		name, _, _ = strings.Cut(strings.ToLower(name), ";") // options, such as a language
		column := len(l.text) - len(value) + 1
		switch {
		case strings.HasPrefix(value, ":"):
			data, err := base64.StdEncoding.DecodeString(strings.TrimSpace(value[1:]))
			if err != nil {
				return r.fail(l.line, column, "no base64 behind ::", "base64 (RFC 4648)", "")
			}
			if !utf8.Valid(data) {
				continue // a picture, or a key
			}
			value = string(data)
		case strings.HasPrefix(value, "<"):
			return r.fail(l.line, column, "a value that is elsewhere", "the value itself",
				"export the entries with their values")
		default:
			column += len(value) - len(strings.TrimLeft(value, " "))
			value = strings.TrimLeft(value, " ")
		}
		switch {
		case name == "changetype" && strings.TrimSpace(value) != "add":
			return r.fail(l.line, column, "the change "+value, "entries, or additions",
				"export the entries, not changes")
		case name == "changetype", name == "objectclass", name == "control":
			continue
		}
		if row.Line == 0 {
			row.Line = l.line
		}
		if err := r.put(&row, name, value, l.line, column); err != nil {
			return err
		}
	}
	return end()
}
