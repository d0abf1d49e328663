package apple

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/tree"
)

type parser struct {
	dec   *xml.Decoder
	file  string
	nodes int
	twice []tree.Entry // keys that stand a second time in their dictionary
}

// parse reads an XML property list. Document type declarations with a subset of
// their own, and so all entities but XML's five, are refused.
func parse(file string, data []byte) (*tree.Node, []tree.Entry, error) {
	if err := tree.Tags(file, data); err != nil {
		return nil, nil, err
	}
	p := &parser{dec: xml.NewDecoder(bytes.NewReader(data)), file: file}
	p.dec.Strict = true
	tok, at, err := p.next()
	if err != nil {
		return nil, nil, err
	}
	start, ok := tok.(xml.StartElement)
	if !ok || start.Name.Local != "plist" {
		return nil, nil, &tree.SyntaxError{At: at, What: "expected the element plist"}
	}
	tok, at, err = p.next()
	if err != nil {
		return nil, nil, err
	}
	if start, ok = tok.(xml.StartElement); !ok {
		return nil, nil, &tree.SyntaxError{At: at, What: "expected a value inside plist"}
	}
	root, err := p.value(start, at, "", 0)
	if err != nil {
		return nil, nil, err
	}
	if tok, at, err = p.next(); err != nil {
		return nil, nil, err
	}
	if _, ok := tok.(xml.EndElement); !ok {
		return nil, nil, &tree.SyntaxError{At: at, What: "expected the end of plist"}
	}
	if _, at, err = p.next(); !errors.Is(err, io.EOF) {
		return nil, nil, &tree.SyntaxError{At: at, What: "expected nothing after plist"}
	}
	return root, p.twice, nil
}

// next returns the next start or end of an element, and where it stands.
func (p *parser) next() (xml.Token, format.Position, error) {
	for {
		line, column := p.dec.InputPos()
		at := format.Position{File: p.file, Line: line, Column: column}
		tok, err := p.dec.Token()
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil, at, io.EOF
			}
			return nil, at, fault(err, at)
		}
		switch tok := tok.(type) {
		case xml.StartElement, xml.EndElement:
			return tok, at, nil
		case xml.CharData:
			if len(bytes.TrimSpace(tok)) > 0 {
				return nil, at, &tree.SyntaxError{At: at, What: "text outside a value"}
			}
		case xml.Directive:
			if bytes.ContainsAny(tok, "[") || bytes.Contains(bytes.ToUpper(tok), []byte("ENTITY")) {
				return nil, at, &tree.SyntaxError{
					At:   at,
					What: "the document type declares entities of its own; that is refused",
				}
			}
		}
	}
}

func (p *parser) value(
	start xml.StartElement,
	at format.Position,
	path string,
	depth int,
) (*tree.Node, error) {
	at.Path = path
	if depth > tree.MaxDepth {
		return nil, &tree.SyntaxError{
			At:   at,
			What: fmt.Sprintf("nested deeper than %d levels", tree.MaxDepth),
		}
	}
	if p.nodes++; p.nodes > tree.MaxNodes {
		return nil, &tree.SyntaxError{
			At:   at,
			What: fmt.Sprintf("more than %d values", tree.MaxNodes),
		}
	}
	n := &tree.Node{Kind: start.Name.Local, At: at}
	switch n.Kind {
	case "dict":
		return n, p.dictionary(n, depth)
	case "array":
		for {
			tok, itemAt, err := p.next()
			if err != nil {
				return nil, p.cut(err, itemAt)
			}
			child, ok := tok.(xml.StartElement)
			if !ok {
				return n, nil
			}
			item, err := p.value(child, itemAt, fmt.Sprintf("%s[%d]", path, len(n.Items)), depth+1)
			if err != nil {
				return nil, err
			}
			n.Items = append(n.Items, item)
		}
	case "string", "integer", "real", "date", "data", "true", "false":
		text, err := p.text(at)
		if err != nil {
			return nil, err
		}
		if n.Text = text; n.Kind == "real" {
			wholeNumber(n)
		}
		if n.Kind == "data" {
			if n.Data, err = base64.StdEncoding.DecodeString(
				strings.Join(strings.Fields(text), ""),
			); err != nil {
				return nil, &tree.SyntaxError{At: at, What: "data that is not base64"}
			}
			n.Text = ""
		}
		return n, nil
	}
	return nil, &tree.SyntaxError{
		At:   at,
		What: fmt.Sprintf("the element %q is no part of a property list", n.Kind),
	}
}

// wholeNumber makes an integer of a real number that is whole: systems take numbers by their
// values, and some tools write every number as a real one.
func wholeNumber(n *tree.Node) {
	v, err := strconv.ParseFloat(strings.TrimSpace(n.Text), 64)
	if err == nil && v == math.Trunc(v) && math.Abs(v) <= math.MaxInt32 {
		n.Kind, n.Text = "integer", strconv.FormatInt(int64(v), 10)
	}
}

func (p *parser) dictionary(n *tree.Node, depth int) error {
	seen := map[string]bool{}
	for {
		tok, at, err := p.next()
		if err != nil {
			return p.cut(err, at)
		}
		start, ok := tok.(xml.StartElement)
		if !ok {
			return nil
		}
		if start.Name.Local != "key" {
			return &tree.SyntaxError{
				At:   at,
				What: fmt.Sprintf("expected a key, found %q", start.Name.Local),
			}
		}
		key, err := p.text(at)
		if err != nil {
			return err
		}
		keyAt := at
		keyAt.Path = strings.TrimPrefix(n.At.Path+"."+key, ".")
		if tok, at, err = p.next(); err != nil {
			return p.cut(err, at)
		}
		if start, ok = tok.(xml.StartElement); !ok {
			return &tree.SyntaxError{At: at, What: fmt.Sprintf("the key %q has no value", key)}
		}
		v, err := p.value(start, at, keyAt.Path, depth+1)
		if err != nil {
			return err
		}
		e := tree.Entry{Key: key, At: keyAt, Value: v}
		if seen[key] {
			p.twice = append(p.twice, e)
		}
		seen[key] = true
		n.Dict = append(n.Dict, e)
	}
}

// fault words what the XML parser says; a file that was cut short is told as such.
func fault(err error, at format.Position) error {
	what := strings.TrimPrefix(err.Error(), "XML syntax error on ")
	if strings.HasSuffix(what, "unexpected EOF") {
		what = tree.ExpiresEarly
	}
	return &tree.SyntaxError{At: at, What: what}
}

func (p *parser) cut(err error, at format.Position) error {
	if errors.Is(err, io.EOF) {
		return &tree.SyntaxError{At: at, What: tree.ExpiresEarly}
	}
	return err
}

// text reads character data up to the end of the element.
func (p *parser) text(at format.Position) (string, error) {
	var b strings.Builder
	for {
		tok, err := p.dec.Token()
		if err != nil {
			return "", p.cut(fault(err, at), at)
		}
		switch tok := tok.(type) {
		case xml.CharData:
			b.Write(tok)
		case xml.EndElement:
			return b.String(), nil
		case xml.StartElement:
			return "", &tree.SyntaxError{
				At:   at,
				What: fmt.Sprintf("the element %q inside a text", tok.Name.Local),
			}
		}
	}
}
