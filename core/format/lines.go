package format

import (
	"bytes"
	"encoding/binary"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Bounds on what a hostile text may ask for.
const (
	maxLines = 20_000
	maxLine  = 64 << 10
)

// Text takes the text out of a file: UTF-8, with or without a byte order mark. ok is
// false, and a note is there, where it is none.
func (r *Reading) Text(name string, data []byte) (text string, ok bool) {
	start := Position{File: name, Line: 1, Column: 1}
	switch {
	case len(data) > MaxFile:
		r.Note(Unreadable, start, "%d bytes, more than %d", len(data), MaxFile)
	case !utf8.Valid(data):
		r.Note(Unreadable, start, "not in UTF-8; save it in that encoding")
	default:
		return strings.TrimPrefix(string(data), "\uFEFF"), true
	}
	return "", false
}

// Lines calls do for each line of a text, numbered from 1 and without its end, as long
// as do returns true. ok is false, and a note is there, where a line is none.
func (r *Reading) Lines(
	name string,
	data []byte,
	do func(at Position, line string) bool,
) (ok bool) {
	text, ok := r.Text(name, data)
	if !ok {
		return false
	}
	number := 0
	for line := range strings.SplitSeq(text, "\n") {
		number++
		line = strings.TrimSuffix(line, "\r")
		at := Position{File: name, Line: number, Column: 1}
		switch {
		case number > maxLines:
			r.Note(Unreadable, at, "more than %d lines", maxLines)
			return false
		case len(line) > maxLine:
			r.Note(Unreadable, at, "a line of %d bytes, more than %d", len(line), maxLine)
			return false
		case strings.ContainsFunc(line, func(c rune) bool {
			return c < ' ' && c != '\t' || c == 0x7F
		}):
			r.Note(Unreadable, at, "a control character")
			return false
		case !do(at, line):
			return false
		}
	}
	return true
}

// UTF8 turns a text in UTF-16 with its byte order mark, as programs on Windows write it, into
// UTF-8. Other text comes back as it is.
func UTF8(data []byte) []byte {
	var order binary.ByteOrder
	switch {
	case len(data)%2 != 0 || len(data) > 2*MaxFile:
		return data
	case bytes.HasPrefix(data, []byte{0xFF, 0xFE}):
		order = binary.LittleEndian
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}):
		order = binary.BigEndian
	default:
		return data
	}
	units := make([]uint16, 0, len(data)/2)
	for i := 2; i < len(data); i += 2 {
		units = append(units, order.Uint16(data[i:]))
	}
	return []byte(string(utf16.Decode(units)))
}
