package filecheck

import (
	"bytes"
	"path"
	"slices"
	"strings"

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
	for i := range all.Texts {
		if c := &all.Texts[i]; byContent == nil && c.Detect(name, data) {
			return c, false
		}
	}
	return byContent, false
}

// related tells whether two formats share their ending or their content.
func related(a, b platform.Format) bool {
	tunnel := []platform.Format{platform.OVPN, platform.OVPNFolder, platform.PhoneOVPN}
	return a == b || slices.Contains(tunnel, a) && slices.Contains(tunnel, b)
}

// inUTF16 are the formats whose devices read UTF-16 as well as UTF-8: XML says its encoding, and
// PowerShell goes by the byte order mark.
var inUTF16 = []platform.Format{
	platform.AppleProfile, platform.PowerShell, platform.WindowsXML,
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
	w.text = format.UTF8(w.file.Data)
	codec, other := Sniff(w.file.Name, w.text)
	if !bytes.Equal(w.text, w.file.Data) && (codec == nil ||
		!slices.Contains(inUTF16, codec.Name)) {
		note(format.OtherEncoding, "UTF-16")
	}
	if other {
		note(
			format.NameSaysOther,
			"named as "+path.Ext(w.file.Name)+", and it is "+article(codec.Title),
		)
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
