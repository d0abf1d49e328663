package format

import (
	"bytes"
	"regexp"
)

// Sign is a line by which a format is known. Its hints are the words one of which stands in every
// such line: only lines with one are held to the pattern, which makes telling formats apart as fast
// as a search for words. A hint that begins with a newline stands at the beginning of its line.
type Sign struct {
	line  *regexp.Regexp
	hints [][]byte
}

// NewSign compiles a sign; its pattern sees a line and the one after it.
func NewSign(pattern string, hints ...string) Sign {
	s := Sign{line: regexp.MustCompile("(?m)" + pattern)}
	for _, h := range hints {
		s.hints = append(s.hints, []byte(h))
	}
	return s
}

// In tells whether the sign stands in a text.
func (s Sign) In(text []byte) bool {
	for _, hint := range s.hints {
		if hint[0] == '\n' && bytes.HasPrefix(text, hint[1:]) &&
			s.line.Match(text[:twoLines(text)]) {
			return true
		}
		for rest := text; ; {
			at := bytes.Index(rest, hint)
			if at < 0 {
				break
			}
			if hint[0] == '\n' {
				at++
			}
			begin := bytes.LastIndexByte(rest[:at], '\n') + 1
			end := at + lineEnd(rest[at:])
			if s.line.Match(rest[begin : end+lineEnd(rest[end:])]) {
				return true
			}
			if rest = rest[end:]; hint[0] == '\n' && len(rest) > 0 {
				rest = text[len(text)-len(rest)-1:] // with the newline before it
			}
		}
	}
	return false
}

// twoLines is where the second line of a text ends.
func twoLines(text []byte) int {
	end := lineEnd(text)
	return end + lineEnd(text[end:])
}

// lineEnd is where the next line begins.
func lineEnd(text []byte) int {
	if at := bytes.IndexByte(text, '\n'); at >= 0 {
		return at + 1
	}
	return len(text)
}
