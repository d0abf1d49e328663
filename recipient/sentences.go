package recipient

import (
	"regexp"
	"slices"
	"strconv"

	"wardicon/api"
	"wardicon/core/i18n"
)

// said are the sentences of the script, by its names for them.
var said = map[string]string{
	"right":      "That is right.",
	"blankStart": "There is a space at the beginning that does not belong there.",
	"blankEnd":   "There is a space at the end that does not belong there.",
	"tooMuch":    "The %s character is too much: it is %s.",
	"tooShort":   "It ends too early: the %s character is missing, it is %s.",
	"missing":    "The %s character is missing: it is %s.",
	"differs":    "The %s character is %s, it should be %s.",
	"unseen":     "a sign that cannot be seen (%s)",
	"digit":      "the digit %s",
	"capital":    "a capital %s",
	"small":      "a small %s",
	"sign":       "the sign %s",
	"far":        "%s of %s steps are done.",
	"copied":     "Copied, without a space.",
	"notCopied":  "This browser does not let the page copy. Mark the text and copy it yourself.",
}

// signs are what the signs that are most often mistaken are called in a sentence.
var signs = map[string]string{
	" ":      "a space",
	"_":      "an underscore",
	"-":      "a hyphen",
	".":      "a dot",
	",":      "a comma",
	":":      "a colon",
	";":      "a semicolon",
	"'":      "an apostrophe",
	"\"":     "a quotation mark",
	"/":      "a slash",
	"\\":     "a backslash",
	"@":      "an at sign",
	"!":      "an exclamation mark",
	"?":      "a question mark",
	"+":      "a plus sign",
	"*":      "an asterisk",
	"#":      "a hash sign",
	"\u2013": "a dash, longer than a hyphen",
	"\u2014": "a dash, longer than a hyphen",
	"\u2018": "a curly apostrophe",
	"\u2019": "a curly apostrophe",
	"\u201c": "a curly quotation mark",
	"\u201d": "a curly quotation mark",
	"\u201e": "a curly quotation mark",
	"\u00a0": "another kind of space",
}

// scriptText is what the script reads from the page.
type scriptText struct {
	Language string            `json:"language"`
	Ordinals map[string]string `json:"ordinals"`
	Say      map[string]string `json:"say"`
	Signs    map[string]string `json:"signs"`
	Ask      []string          `json:"ask"`
	Doors    []api.Door        `json:"doors"`
}

func scriptWords(in i18n.Language, ask []string, doors []api.Door) scriptText {
	own := func(list map[string]string) map[string]string {
		out := map[string]string{}
		for key, sentence := range list {
			out[key] = in.Say(sentence)
		}
		return out
	}
	return scriptText{in.Tag(), in.Ordinals(), own(said), own(signs), ask, doors}
}

var inTemplate = regexp.MustCompile(`say ("(?:[^"\\]|\\.)*")`)

// Sentences lists all that the pages may say, for catalogues of other languages.
func Sentences() []string {
	list := []string{"This link has expired", "Your connection to %s", "Are you connected?", "The link to this page"}
	for _, found := range inTemplate.FindAllStringSubmatch(source, -1) {
		if text, err := strconv.Unquote(found[1]); err == nil {
			list = append(list, text)
		}
	}
	for _, one := range []map[string]string{said, signs} {
		for _, sentence := range one {
			list = append(list, sentence)
		}
	}
	for _, s := range scenes {
		list = append(list, s.text)
	}
	for _, title := range titles {
		list = append(list, title)
	}
	slices.Sort(list)
	return slices.Compact(list)
}
