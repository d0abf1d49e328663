package format

import (
	"fmt"
	"strings"
	"unicode"
)

// Words cuts a line of a configuration into words: double quotes with backslashes, single
// quotes, blanks between, and a remark where a word would begin with one of the signs in
// remarks. Inside single quotes a backslash stands for itself where verbatim is set.
func Words(line, remarks string, verbatim bool) ([]string, error) {
	var words []string
	var word strings.Builder
	in, quote := false, byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case verbatim && quote == '\'' && c != '\'':
			word.WriteByte(c)
		case c == '\\':
			if i++; i == len(line) {
				return nil, fmt.Errorf("a backslash at the end of the line")
			}
			word.WriteByte(line[i])
			in = true
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
			word.WriteByte(c)
		case c == '"' || c == '\'':
			quote, in = c, true
		case c == ' ' || c == '\t':
			if in {
				words, in = append(words, word.String()), false
				word.Reset()
			}
		case !in && strings.IndexByte(remarks, c) >= 0:
			return words, nil
		default:
			word.WriteByte(c)
			in = true
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("a quote that does not end")
	}
	if in {
		words = append(words, word.String())
	}
	return words, nil
}

// FolderName makes a name of a folder that every system takes, and that people still read.
func FolderName(v string) string {
	clean := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`/\:*?"<>|`, r) || !unicode.IsGraphic(r) {
			return '-'
		}
		return r
	}, v)
	if clean = strings.TrimRight(strings.TrimSpace(clean), ". "); clean == "" {
		return "-"
	}
	return clean
}
