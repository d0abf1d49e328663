// Package rows reads tables of records as people have them: CSV with any delimiter, JSON, YAML, and
// the entries of a directory in LDIF. What comes out is text by column, with the place of each
// cell; what the columns mean is said by a Mapping.
package rows

import (
	"bytes"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"wardicon/core/vpn"
)

// Bounds on what a file may hold.
const (
	MaxBytes   = 32 << 20
	MaxRows    = 100_000
	maxColumns = 200
	maxCell    = 64 << 10
)

// Sheet is a file that was read.
type Sheet struct {
	Kind     string   `json:"kind"`     // CSV, JSON, YAML or LDIF
	Encoding string   `json:"encoding"` // as it came
	Columns  []string `json:"columns"`
	Rows     []Row    `json:"-"`
}

// Row is one record: its cells are in the order of the sheet's columns, and a shorter row ends with
// empty ones.
type Row struct {
	Line  int
	Cells []Cell
}

// Cell is a value with its place. Several values of one cell, as JSON and LDIF have them, are
// joined with semicolons.
type Cell struct {
	Text         string
	Line, Column int
}

// Error says where a file cannot be read.
type Error struct {
	File                 string
	Line, Column         int
	Found, Expected, Fix string
}

func (e *Error) Error() string {
	at := e.File
	if e.Line > 0 {
		at += fmt.Sprintf(":%d", e.Line)
		if e.Column > 0 {
			at += fmt.Sprintf(":%d", e.Column)
		}
	}
	s := fmt.Sprintf("%s: found %s, expected %s", at, e.Found, e.Expected)
	if e.Fix != "" {
		s += "; " + e.Fix
	}
	return s
}

// Kind tells what is at fault: the file.
func (e *Error) Kind() vpn.Kind { return vpn.KindInvalid }

// Read takes a file apart. Its kind is told by its content, and by its name where that does not
// tell.
func Read(name string, data []byte) (Sheet, error) {
	if len(data) > MaxBytes {
		return Sheet{}, &Error{
			File: name, Found: fmt.Sprintf("%d bytes", len(data)),
			Expected: fmt.Sprintf("at most %d", MaxBytes), Fix: "split the file",
		}
	}
	text, encoding, err := decode(name, data)
	if err != nil {
		return Sheet{}, err
	}
	if strings.TrimSpace(text) == "" {
		return Sheet{}, &Error{
			File: name, Found: "nothing", Expected: "a table with a line of column names",
		}
	}
	r := reader{file: name, places: map[string]int{}}
	kind, read := kindOf(name, text)
	if err := read(&r, text); err != nil {
		return Sheet{}, err
	}
	r.sheet.Kind, r.sheet.Encoding = kind, encoding
	if len(r.sheet.Rows) == 0 {
		return Sheet{}, &Error{
			File: name, Found: "column names and no row", Expected: "at least one row",
		}
	}
	return r.sheet, nil
}

// Is tells whether a file may be a table of records, and not a profile.
func Is(name string, data []byte) bool {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".csv", ".tsv", ".ldif", ".yaml", ".yml":
		return true
	case ".json":
		head := bytes.TrimSpace(data[:min(len(data), 4096)])
		return bytes.HasPrefix(head, []byte("[")) || underName.Match(head)
	}
	return false
}

// underName is the begin of a list of records under a name, which is none of a profile's.
var underName = regexp.MustCompile(`^\{\s*"[a-z_]+"\s*:\s*\[\s*\{`)

func kindOf(name, text string) (kind string, read func(*reader, string) error) {
	head := strings.TrimSpace(text[:min(len(text), 4096)])
	switch ext := strings.ToLower(filepath.Ext(name)); {
	case ext == ".ldif", strings.HasPrefix(head, "version: 1"), strings.HasPrefix(head, "dn:"):
		return "LDIF", (*reader).ldif
	case ext == ".json", strings.HasPrefix(head, "["), strings.HasPrefix(head, "{"):
		return "JSON", (*reader).json
	case ext == ".yaml", ext == ".yml",
		strings.HasPrefix(head, "---\n"), strings.HasPrefix(head, "- "):
		return "YAML", (*reader).yaml
	}
	return "CSV", (*reader).csv
}

// decode turns a file into UTF-8: by its byte order mark, as it is, or, where it is no UTF-8, from
// the encoding that spreadsheets of western languages write.
func decode(name string, data []byte) (text, encoding string, err error) {
	switch {
	case bytes.HasPrefix(data, []byte{0xFF, 0xFE}), bytes.HasPrefix(data, []byte{0xFE, 0xFF}):
		data, err = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(data)
		encoding = "UTF-16"
	case utf8.Valid(data):
		data, encoding = bytes.TrimPrefix(data, []byte("\uFEFF")), "UTF-8"
	default:
		data, err = charmap.Windows1252.NewDecoder().Bytes(data)
		encoding = "Windows-1252"
	}
	if err != nil {
		return "", "", &Error{
			File: name, Found: "text in no encoding that is read", Expected: "UTF-8",
			Fix: "save it in that encoding",
		}
	}
	if at := bytes.IndexByte(data, 0); at >= 0 {
		return "", "", &Error{
			File: name, Line: 1 + bytes.Count(data[:at], []byte("\n")),
			Found: "a zero byte", Expected: "text", Fix: "export the table as CSV in UTF-8",
		}
	}
	return string(data), encoding, nil
}

// reader fills a sheet.
type reader struct {
	file   string
	sheet  Sheet
	places map[string]int // of columns
}

func (r *reader) fail(line, column int, found, expected, fix string) error {
	return &Error{r.file, line, column, found, expected, fix}
}

// column finds the place of a column, which is a new one where there was none.
func (r *reader) column(name string) (int, error) {
	at, ok := r.places[name]
	if !ok {
		if at = len(r.sheet.Columns); at >= maxColumns {
			return 0, r.fail(0, 0, fmt.Sprintf("more than %d columns", maxColumns), "fewer", "")
		}
		r.places[name] = at
		r.sheet.Columns = append(r.sheet.Columns, name)
	}
	return at, nil
}

// put sets a cell of a row; a second value of one column is joined to the first.
func (r *reader) put(row *Row, name, text string, line, column int) error {
	at, err := r.column(name)
	if err != nil {
		return err
	}
	if len(text) > maxCell {
		return r.fail(line, column, fmt.Sprintf("a value of %d bytes", len(text)),
			fmt.Sprintf("at most %d", maxCell), "")
	}
	for len(row.Cells) <= at {
		row.Cells = append(row.Cells, Cell{Line: line})
	}
	c := &row.Cells[at]
	if c.Text != "" {
		text = c.Text + ";" + text
	} else {
		c.Line, c.Column = line, column
	}
	c.Text = text
	return nil
}

// add takes in a row that has anything in it.
func (r *reader) add(row Row) error {
	for _, c := range row.Cells {
		if c.Text != "" {
			if len(r.sheet.Rows) == MaxRows {
				return r.fail(row.Line, 0, fmt.Sprintf("more than %d rows", MaxRows),
					"at most that many", "split the file")
			}
			r.sheet.Rows = append(r.sheet.Rows, row)
			return nil
		}
	}
	return nil
}
