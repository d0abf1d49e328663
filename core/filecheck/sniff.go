package filecheck

import (
	"bytes"
	"encoding/binary"
	"path"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/pki"
	"wardicon/core/platform"
)

// Sniff tells the format of a file by its content, or by its name where the content does
// not tell. other is set where the two disagree.
func Sniff(name string, data []byte) (codec *format.Codec, other bool) {
	var byContent, byName *format.Codec
	for i := range all.Codecs {
		c := &all.Codecs[i]
		if byContent == nil && c.Detect("", data) {
			byContent = c
		}
		if byName == nil && c.Detect(name, nil) {
			byName = c
		}
	}
	if byContent != nil && byName != nil && !related(byContent.Name, byName.Name) {
		return byContent, true
	}
	if byName != nil {
		return byName, false
	}
	return byContent, false
}

// related tells whether two formats share their ending or their content.
func related(a, b platform.Format) bool {
	tunnel := []platform.Format{platform.OVPN, platform.OVPNFolder, platform.PhoneOVPN}
	return a == b || slices.Contains(tunnel, a) && slices.Contains(tunnel, b)
}

// open finds the text in a file and tells its format.
func (w *work) open() {
	start := format.Position{File: w.file.Name, Line: 1, Column: 1}
	note := func(kind format.NoteKind, found string) {
		w.notes = append(w.notes, format.Note{Kind: kind, Found: found, At: start})
	}
	w.text = w.file.Data
	if len(bytes.TrimSpace(w.file.Data)) == 0 {
		note(format.EmptyFile, "nothing in it")
		return
	}
	if text, ok := fromUTF16(w.file.Data); ok {
		note(format.OtherEncoding, "UTF-16")
		w.text = text
	}
	codec, other := Sniff(w.file.Name, w.text)
	if other {
		note(format.NameSaysOther, "named as "+path.Ext(w.file.Name)+", and it is "+article(codec.Title))
	}
	if w.codec = codec; codec != nil {
		return
	}
	if pki.IsBag(w.file.Data) {
		w.bag = &pki.Bag{}
	}
}

func article(title string) string {
	if strings.ContainsRune("AEIOU", rune(title[0])) {
		return "an " + title
	}
	return "a " + title
}

// fromUTF16 turns a text with a byte order mark into UTF-8.
func fromUTF16(data []byte) ([]byte, bool) {
	if len(data) < 2 || len(data)%2 != 0 || len(data) > format.MaxFile {
		return nil, false
	}
	little := data[0] == 0xFF && data[1] == 0xFE
	if !little && !(data[0] == 0xFE && data[1] == 0xFF) {
		return nil, false
	}
	order := binary.ByteOrder(binary.BigEndian)
	if little {
		order = binary.LittleEndian
	}
	text := make([]byte, 0, len(data)/2)
	for rest := data[2:]; len(rest) > 0; rest = rest[2:] {
		r := rune(order.Uint16(rest))
		if utf16.IsSurrogate(r) && len(rest) >= 4 {
			if joined := utf16.DecodeRune(r, rune(order.Uint16(rest[2:]))); joined != utf8.RuneError {
				r, rest = joined, rest[2:]
			}
		}
		text = utf8.AppendRune(text, r)
	}
	return text, true
}
