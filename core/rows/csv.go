package rows

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// delimiters are what stands between cells, the commonest first.
const delimiters = ",;\t|"

// csv reads a table (RFC 4180) with any delimiter, as spreadsheets write it.
func (r *reader) csv(text string) error {
	first := 1
	text = strings.TrimLeft(text, "\uFEFF")
	delimiter := rune(0)
	// Spreadsheets may say their delimiter in a line of its own.
	if line, rest, ok := strings.Cut(text, "\n"); ok && strings.HasPrefix(line, "sep=") {
		if said := strings.TrimRight(line[len("sep="):], "\r"); len(said) == 1 {
			delimiter, text, first = rune(said[0]), rest, 2
		}
	}
	if delimiter == 0 {
		delimiter = delimiterOf(text)
	}
	in := csv.NewReader(strings.NewReader(text))
	in.Comma, in.FieldsPerRecord, in.ReuseRecord = delimiter, -1, true
	named := false
	for {
		fields, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var fault *csv.ParseError
		if errors.As(err, &fault) {
			found := "a value whose quotes do not end, or end too early"
			if errors.Is(fault.Err, csv.ErrBareQuote) {
				found = "a quote inside a value without quotes"
			}
			return r.fail(fault.Line+first-1, fault.Column, found,
				"quotes around a whole value, and doubled inside (RFC 4180)", "")
		} else if err != nil {
			return err
		}
		if !named {
			if strings.TrimSpace(strings.Join(fields, "")) == "" {
				continue
			}
			if err := r.head(fields, first); err != nil {
				return err
			}
			named = true
			continue
		}
		line, _ := in.FieldPos(0)
		row := Row{Line: line + first - 1, Cells: make([]Cell, 0, len(fields))}
		for i, field := range fields {
			line, column := in.FieldPos(i)
			value := plain(field)
			if i >= len(r.sheet.Columns) {
				if value == "" {
					continue
				}
				return r.fail(line+first-1, column,
					fmt.Sprintf("%d values", len(fields)),
					fmt.Sprintf("at most %d, as there are columns", len(r.sheet.Columns)),
					"put values with a delimiter in them into quotes")
			}
			if len(value) > maxCell {
				return r.fail(line+first-1, column, fmt.Sprintf("a value of %d bytes", len(value)),
					fmt.Sprintf("at most %d", maxCell), "")
			}
			row.Cells = append(row.Cells, Cell{value, line + first - 1, column})
		}
		if err := r.add(row); err != nil {
			return err
		}
	}
	return nil
}

// head reads the names of the columns; empty ones at the end are none.
func (r *reader) head(fields []string, line int) error {
	for len(fields) > 0 && plain(fields[len(fields)-1]) == "" {
		fields = fields[:len(fields)-1]
	}
	for i, field := range fields {
		name := plain(field)
		if name == "" {
			name = fmt.Sprintf("column %d", i+1)
		}
		if _, twice := r.places[name]; twice {
			return r.fail(line, 0, fmt.Sprintf("two columns named %q", name),
				"a name of its own for each column", "rename one of them")
		}
		if _, err := r.column(name); err != nil {
			return err
		}
	}
	return nil
}

// delimiterOf takes the delimiter that stands most often in the first line that is not empty,
// outside quotes.
func delimiterOf(text string) rune {
	counts := map[rune]int{}
	quoted := false
	for _, c := range strings.TrimLeft(text, "\r\n \t") {
		switch {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '\n':
			goto counted
		case strings.ContainsRune(delimiters, c):
			counts[c]++
		}
	}
counted:
	best := rune(delimiters[0])
	for _, c := range delimiters {
		if counts[c] > counts[best] {
			best = c
		}
	}
	return best
}

// plain takes away what spreadsheets put around a text that is no number and no formula: ="0123",
// a leading apostrophe, and spaces that cannot be seen.
func plain(v string) string {
	v = strings.Trim(v, " \t\r\u00a0\u200b\ufeff")
	if strings.HasPrefix(v, `="`) && strings.HasSuffix(v, `"`) && len(v) > 2 {
		v = strings.ReplaceAll(v[2:len(v)-1], `""`, `"`)
	}
	if len(v) > 1 && v[0] == '\'' && strings.ContainsRune("=+-@", rune(v[1])) {
		v = v[1:]
	}
	return v
}
