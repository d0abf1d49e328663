package rows

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// WriteCSV writes records, as they are in JSON, as a table in CSV: a column for each value, with
// dots for what lies inside another, and semicolons between the items of a list. No cell is taken
// for a formula by a spreadsheet.
func WriteCSV(w io.Writer, records []json.RawMessage) error {
	places := map[string]int{}
	var columns []string
	lines := make([]map[string]string, len(records))
	for i, record := range records {
		lines[i] = map[string]string{}
		d := json.NewDecoder(bytes.NewReader(record))
		d.UseNumber()
		if err := flatten(d, "", func(path, text string) {
			if _, ok := places[path]; !ok {
				places[path] = len(columns)
				columns = append(columns, path)
			}
			if before := lines[i][path]; before != "" {
				text = before + ";" + text
			}
			lines[i][path] = text
		}); err != nil {
			return err
		}
	}
	out := csv.NewWriter(w)
	if err := out.Write(columns); err != nil {
		return err
	}
	for _, line := range lines {
		cells := make([]string, len(columns))
		for path, text := range line {
			cells[places[path]] = Cautious(text)
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// Cautious puts an apostrophe before a text that a spreadsheet would take for a formula. Reading
// takes it away again.
func Cautious(text string) string {
	if text == "" || !strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return text
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return "'" + text
}

// flatten tells every value of a JSON text that is not empty, in its order.
func flatten(d *json.Decoder, path string, tell func(path, text string)) error {
	token, err := d.Token()
	if errors.Is(err, io.EOF) {
		return nil
	} else if err != nil {
		return err
	}
	switch v := token.(type) {
	case json.Delim:
		for d.More() {
			inner := path
			if v == '{' {
				key, err := d.Token()
				if err != nil {
					return err
				}
				inner = strings.TrimPrefix(fmt.Sprintf("%s.%v", path, key), ".")
			}
			if err := flatten(d, inner, tell); err != nil {
				return err
			}
		}
		_, err = d.Token()
		return err
	case nil:
	case string:
		tell(path, v)
	default:
		tell(path, fmt.Sprint(v))
	}
	return nil
}
