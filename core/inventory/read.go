package inventory

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Bounds of files with records.
const (
	MaxFile  = 32 << 20 // bytes
	maxDepth = 8
)

// FileError is what is wrong with a file of records.
type FileError struct {
	File                 string
	Line, Column         int
	Found, Expected, Fix string
}

func (e *FileError) Error() string {
	text := fmt.Sprintf("%s:%d:%d: found %s, expected %s", e.File, e.Line, e.Column, e.Found,
		e.Expected)
	if e.Fix != "" {
		text += "; " + e.Fix
	}
	return text
}

// Record is one record of a file.
type Record struct {
	File   string
	Fields map[string]any
	lines  map[string]int // by pointer from the record, "" for the record itself
}

// Line is where a field stands, by a JSON pointer from the record; that of what it belongs to
// where the field itself is not there.
func (r Record) Line(pointer string) int {
	for {
		if line, ok := r.lines[pointer]; ok || pointer == "" {
			return line
		}
		pointer = pointer[:strings.LastIndex(pointer, "/")]
	}
}

// Reading says how files of records are read.
type Reading struct {
	// Plurals are the kinds of records that files may have.
	Plurals []string
	// Text tells whether a field of a noun, path parts joined by dots, is a text, so that 11 and
	// true are texts there.
	Text func(plural, path string) bool
	// Secret tells whether a field is a secret, which may not stand in the file.
	Secret func(plural, path string) bool
	// Open reads a file that is named in another one.
	Open func(from, name string) ([]byte, error)
}

type reader struct {
	Reading
	file   string
	plural string
	lines  map[string]int
}

// Read reads the records of a file in YAML 1.2 or JSON by the plurals of their nouns, and adds them
// to those that are there. Aliases are not followed. The error is a *FileError.
func (how Reading) Read(file string, data []byte, into map[string][]Record) error {
	r := &reader{Reading: how, file: file}
	if len(data) > MaxFile {
		return &FileError{file, 1, 1, "a file of " + fmt.Sprint(len(data)>>20) + " MB",
			fmt.Sprintf("at most %d MB", MaxFile>>20), "split it"}
	}
	parsed, err := parser.ParseBytes(data, 0)
	if err != nil {
		var fault *yaml.SyntaxError
		e := &FileError{file, 1, 1, "a text that is no YAML", "records by their kinds", ""}
		if errors.As(err, &fault) && fault.Token != nil {
			e.Line, e.Column = fault.Token.Position.Line, fault.Token.Position.Column
		}
		return e
	}
	for _, doc := range parsed.Docs {
		if doc.Body == nil || doc.Body.Type() == ast.NullType {
			continue
		}
		kinds, ok := doc.Body.(ast.MapNode)
		if !ok {
			return r.fail(doc.Body, "no mapping", "a kind of records, such as people:", "")
		}
		for i := kinds.MapRange(); i.Next(); {
			if err := r.kind(i.Key(), i.Value(), into); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *reader) fail(n ast.Node, found, expected, fix string) error {
	at := n.GetToken().Position
	return &FileError{r.file, at.Line, at.Column, found, expected, fix}
}

// kind reads the records that stand under the plural of their noun.
func (r *reader) kind(key, value ast.Node, into map[string][]Record) error {
	r.plural = key.GetToken().Value
	if !slices.Contains(r.Plurals, r.plural) {
		return r.fail(key, fmt.Sprintf("%q", r.plural), strings.Join(r.Plurals, ", "),
			"check the spelling")
	}
	if into[r.plural] == nil {
		into[r.plural] = []Record{}
	}
	if value.Type() == ast.NullType {
		return nil
	}
	list, ok := value.(*ast.SequenceNode)
	if !ok {
		return r.fail(value, "no list", "a list of "+r.plural, "begin each with a hyphen")
	}
	for _, item := range list.Values {
		r.lines = map[string]int{}
		fields, err := r.value(item, "", "", 0)
		if err != nil {
			return err
		}
		record, ok := fields.(map[string]any)
		if !ok {
			return r.fail(item, "no record", "fields and their values", "")
		}
		into[r.plural] = append(into[r.plural], Record{r.file, record, r.lines})
	}
	return nil
}

// value reads a node. path is that of the field, without numbers in lists; pointer has them.
func (r *reader) value(n ast.Node, path, pointer string, depth int) (any, error) {
	r.lines[pointer] = n.GetToken().Position.Line
	if depth > maxDepth {
		return nil, r.fail(n, "values inside values", "a field of the record", "")
	}
	switch v := n.(type) {
	case ast.MapNode:
		return r.mapping(v, path, pointer, depth)
	case *ast.SequenceNode:
		list := []any{}
		for i, item := range v.Values {
			one, err := r.value(item, path, fmt.Sprintf("%s/%d", pointer, i), depth+1)
			if err != nil {
				return nil, err
			}
			list = append(list, one)
		}
		return list, nil
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode:
		return nil, r.fail(n, "an anchor, an alias or a tag", "the value itself", "write it out")
	case *ast.NullNode:
		return nil, nil
	case *ast.LiteralNode:
		return r.text(n, v.Value.Value, path)
	case ast.ScalarNode:
		if _, quoted := v.(*ast.StringNode); quoted || r.Text(r.plural, path) {
			return r.text(n, word(v.GetToken()), path)
		}
		return v.GetValue(), nil
	}
	return nil, r.fail(n, "something else", "a value, a list or fields", "")
}

func word(t *token.Token) string { return t.Value }

func (r *reader) text(n ast.Node, value, path string) (any, error) {
	if r.Secret(r.plural, path) {
		return nil, r.fail(n, "a secret in the file", "{file: NAME} or {keep: true}",
			"put it into a file of its own that is not under version control")
	}
	return value, nil
}

func (r *reader) mapping(m ast.MapNode, path, pointer string, depth int) (any, error) {
	fields := map[string]any{}
	var first ast.Node
	for i := m.MapRange(); i.Next(); {
		key := i.Key().GetToken().Value
		if first == nil {
			first = i.Key()
		}
		if _, twice := fields[key]; twice {
			return nil, r.fail(i.Key(), fmt.Sprintf("%q a second time", key), "each field once", "")
		}
		inner := strings.TrimPrefix(path+"."+key, ".")
		value, err := r.value(i.Value(), inner, pointer+"/"+escape(key), depth+1)
		if err != nil {
			return nil, err
		}
		fields[key] = value
	}
	name, ok := fields["file"].(string)
	if !ok || len(fields) != 1 || !r.Text(r.plural, path) && !r.Secret(r.plural, path) {
		return fields, nil
	}
	data, err := r.Open(r.file, name)
	if err != nil {
		return nil, r.fail(first, fmt.Sprintf("the file %q, which cannot be read", name),
			"a file, named from the folder of this one", "check its name and who may read it")
	}
	if r.Secret(r.plural, path) {
		return strings.TrimRight(string(data), "\r\n"), nil
	}
	return string(data), nil
}

// escape writes a key as a part of a JSON pointer (RFC 6901 §3).
func escape(key string) string {
	return strings.NewReplacer("~", "~0", "/", "~1").Replace(key)
}
