package secret

import (
	"fmt"
	"maps"
	"slices"
	"unicode"
)

// signs are the names of the signs on a keyboard.
var signs = map[rune]string{
	' ':  "space",
	'_':  "underscore",
	'-':  "hyphen",
	'.':  "dot",
	',':  "comma",
	':':  "colon",
	';':  "semicolon",
	'!':  "exclamation mark",
	'?':  "question mark",
	'@':  "at sign",
	'#':  "hash",
	'$':  "dollar sign",
	'%':  "percent sign",
	'&':  "ampersand",
	'*':  "asterisk",
	'+':  "plus",
	'=':  "equals sign",
	'/':  "slash",
	'\\': "backslash",
	'|':  "vertical bar",
	'(':  "round bracket open",
	')':  "round bracket close",
	'[':  "square bracket open",
	']':  "square bracket close",
	'{':  "curly bracket open",
	'}':  "curly bracket close",
	'<':  "less-than sign",
	'>':  "greater-than sign",
	'\'': "apostrophe",
	'"':  "double quote",
	'`':  "backtick",
	'~':  "tilde",
	'^':  "caret",
	'§':  "section sign",
	'€':  "euro sign",
	'°':  "degree sign",
}

// SignNames lists the names of the signs.
func SignNames() []string { return slices.Sorted(maps.Values(signs)) }

// SpaceSign is drawn in the place of a space.
const SpaceSign = '␣'

// Unseen tells a character that cannot be seen, or would be taken for a space or for the
// sign of one.
func Unseen(r rune) bool {
	return !unicode.IsGraphic(r) || unicode.IsSpace(r) && r != ' ' || r == SpaceSign
}

// CodePoint names a character by its code point, for one that is not seen.
func CodePoint(r rune) string { return fmt.Sprintf("[U+%04X]", r) }

// Class is the kind of a character, for drawing it so that it cannot be misread.
type Class string

// The classes.
const (
	Digit Class = "digit"
	Small Class = "small"
	Large Class = "capital"
	Sign  Class = "sign"
	Space Class = "space"
	Other Class = "other"
)

// ClassOf tells the class of a character.
func ClassOf(r rune) Class {
	switch {
	case r == ' ':
		return Space
	case r >= '0' && r <= '9':
		return Digit
	case unicode.IsUpper(r):
		return Large
	case unicode.IsLetter(r):
		return Small
	case signs[r] != "":
		return Sign
	}
	return Other
}

// Spell names every character of a value: "capital K", "digit 7", "underscore".
func Spell(v string) []string {
	words := make([]string, 0, len(v))
	for _, r := range v {
		switch class := ClassOf(r); {
		case signs[r] != "":
			words = append(words, signs[r])
		case class == Digit:
			words = append(words, "digit "+string(r))
		case class == Large:
			words = append(words, "capital "+string(r))
		case class == Small:
			words = append(words, "small "+string(r))
		default:
			words = append(words, fmt.Sprintf("character U+%04X", r))
		}
	}
	return words
}
