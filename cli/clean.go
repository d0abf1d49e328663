package cli

import (
	"bytes"
	"fmt"
	"io"
	"unicode"
	"unicode/utf8"
)

// clean keeps a terminal from being steered by what is written to it: all that commands print
// goes through one. Signs that move the cursor, set colours or turn the order of letters round
// become U+FFFD, or in JSON their escape. Only our own colours pass.
type clean struct {
	to     io.Writer
	escape func() bool
	rest   []byte // of a sign that was cut between two writes
}

func (c *clean) Write(data []byte) (int, error) {
	text := append(c.rest, data...)
	c.rest = nil
	out := make([]byte, 0, len(text))
	for len(text) > 0 {
		if !utf8.FullRune(text) {
			c.rest = append(c.rest, text...)
			break
		}
		if n := ownColour(text); n > 0 {
			out = append(append(out, text[:n-len(pen)]...), 'm')
			text = text[n:]
			continue
		}
		r, n := utf8.DecodeRune(text)
		switch {
		case r == '\n' || r == '\t' || unicode.IsGraphic(r) && (r != utf8.RuneError || n > 1):
			out = append(out, text[:n]...)
		case c.escape != nil && c.escape() && r != utf8.RuneError:
			out = appendEscape(out, r)
		default:
			out = utf8.AppendRune(out, utf8.RuneError)
		}
		text = text[n:]
	}
	_, err := c.to.Write(out)
	return len(data), err
}

// ownColour is the length of one of our own colours at the start of a text; 0 where there is none.
func ownColour(text []byte) int {
	if !bytes.HasPrefix(text, []byte("\x1b[")) {
		return 0
	}
	at := bytes.Index(text[:min(len(text), 8+len(pen))], []byte(pen))
	if at < 0 {
		return 0
	}
	return at + len(pen)
}

// appendEscape writes a sign as JSON strings have it (RFC 8259 §7).
func appendEscape(out []byte, r rune) []byte {
	if r > 0xFFFF {
		r -= 0x10000
		return fmt.Appendf(out, `\u%04x\u%04x`, 0xD800+r>>10, 0xDC00+r&0x3FF)
	}
	return fmt.Appendf(out, `\u%04x`, r)
}
