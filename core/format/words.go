package format

import (
	"fmt"
	"regexp"
	"slices"
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

// Choice words a few alternatives: a, b or c.
func Choice(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// signs takes away what words are written with or without.
var signs = strings.NewReplacer("-", "", "_", "", " ", "", ".", "")

// Meant gives the word of a list that a word was meant to be: the same but for case and signs, one
// letter apart, or with an ending of its own. It is empty for a word of the list, and for one that
// is far from all.
func Meant(word string, list []string) string {
	if slices.Contains(list, word) {
		return ""
	}
	plain := func(s string) string { return signs.Replace(strings.ToLower(s)) }
	for _, right := range list {
		if plain(word) == plain(right) || len(right) > 6 && OneApart(word, right) ||
			len(right) > 6 && (word == right+"s" || word == right+"es" || right == word+"es") {
			return right
		}
	}
	return ""
}

// secretive are names whose values are kept out of every text.
var secretive = regexp.MustCompile(`(?i)pass|secret|psk|key|token|pwd|pin\b|auth-token`)

// Shown words a key with its value, where the value is short and cannot be a secret.
func Shown(key, value string) string {
	if value == "" || len(value) > 60 || secretive.MatchString(key) {
		return key
	}
	return key + " " + value
}

// OneApart tells whether two words differ by one letter: changed, left out or added, or by
// two neighbours that changed places.
func OneApart(a, b string) bool {
	if a == b || len(a) > len(b)+1 || len(b) > len(a)+1 {
		return false
	}
	if len(a) > len(b) {
		a, b = b, a
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) < len(b) {
		return a[i:] == b[i+1:]
	}
	return a[i+1:] == b[i+1:] ||
		i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
