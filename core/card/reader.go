package card

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"wardicon/core/secret"
)

// maxCard bounds a card that is read, in bytes.
const maxCard = 4 << 20

// ReadHTML reads the values back from a card's page, by label. Values that are hidden
// on it are left out.
func ReadHTML(page []byte) (map[string]string, error) {
	if len(page) > maxCard {
		return nil, fmt.Errorf("card: %d bytes, expected at most %d", len(page), maxCard)
	}
	dec := xml.NewDecoder(bytes.NewReader(page))
	dec.Strict, dec.AutoClose, dec.Entity = false, xml.HTMLAutoClose, xml.HTMLEntity
	values := map[string]string{}
	label, open, class := "", "", ""
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return values, nil
		}
		if err != nil {
			return nil, fmt.Errorf("card: %w", err)
		}
		switch tok := tok.(type) {
		case xml.StartElement:
			class = classOf(tok)
			switch {
			case tok.Name.Local == "dt":
				open, label = "dt", ""
			case tok.Name.Local == "dd" && class == "value":
				open = "dd"
				values[label] = ""
			}
		case xml.EndElement:
			if tok.Name.Local == open {
				open = ""
			}
		case xml.CharData:
			switch open {
			case "dt":
				label += string(tok)
			case "dd":
				letter, err := undrawn(secret.Class(class), string(tok))
				if err != nil {
					return nil, err
				}
				values[label] += letter
			}
		}
	}
}

func classOf(e xml.StartElement) string {
	for _, a := range e.Attr {
		if a.Name.Local == "class" {
			return a.Value
		}
	}
	return ""
}

// undrawn turns what is drawn for one character back into it.
func undrawn(class secret.Class, text string) (string, error) {
	switch {
	case class == secret.Space && text == string(secret.SpaceSign):
		return " ", nil
	case class == secret.Other && strings.HasPrefix(text, "[U+"):
		return named(text)
	}
	return text, nil
}

var (
	codePoint = regexp.MustCompile(`\[U\+([0-9A-F]{4,6})\]`)
	textValue = regexp.MustCompile(`^  (.{16}) \|(.*)\|$`)
)

// named turns the name of a code point back into the character.
func named(text string) (string, error) {
	m := codePoint.FindStringSubmatch(text)
	if m == nil {
		return "", fmt.Errorf("card: found %q, expected the name of a code point", text)
	}
	n, err := strconv.ParseUint(m[1], 16, 32)
	return string(rune(n)), err
}

// ReadText reads the values back from a card's plain text, by label; the mask stands
// for a value that is hidden on it.
func ReadText(text []byte) (map[string]string, error) {
	if len(text) > maxCard {
		return nil, fmt.Errorf("card: %d bytes, expected at most %d", len(text), maxCard)
	}
	values := map[string]string{}
	for line := range strings.SplitSeq(string(text), "\n") {
		m := textValue.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		var failed error
		value := codePoint.ReplaceAllStringFunc(
			strings.ReplaceAll(m[2], string(secret.SpaceSign), " "),
			func(name string) string {
				letter, err := named(name)
				failed = errors.Join(failed, err)
				return letter
			},
		)
		if failed != nil {
			return nil, failed
		}
		values[strings.TrimSpace(m[1])] = value
	}
	return values, nil
}
