// Package all lists the file formats: a new one is a new package and one line here.
package all

import (
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/apple"
	"wardicon/core/format/daemons"
	"wardicon/core/format/keyfile"
	"wardicon/core/format/onc"
	"wardicon/core/format/ovpn"
	"wardicon/core/format/phonebook"
	"wardicon/core/format/powershell"
	"wardicon/core/format/prose"
	"wardicon/core/format/sswan"
	"wardicon/core/format/uci"
	"wardicon/core/format/windowsxml"
	"wardicon/core/platform"
)

// Codecs are the formats, in the order in which a file is tried against them.
var Codecs = []format.Codec{
	apple.Codec,
	keyfile.Codec,
	powershell.Codec,
	windowsxml.Codec,
	onc.Codec,
	sswan.Codec,
	phonebook.Codec,
	uci.Codec,
	daemons.Codec,
	ovpn.Codec,
	ovpn.Folder,
	ovpn.Phone,
}

// Texts are read like the formats, and nothing is written in them.
var Texts = []format.Codec{prose.Codec}

// ByName finds the codec of a format that a platform takes.
func ByName(name platform.Format) (format.Codec, bool) {
	i := slices.IndexFunc(Codecs, func(c format.Codec) bool { return c.Name == name })
	if i < 0 {
		return format.Codec{}, false
	}
	return Codecs[i], true
}

// Titles lists the formats for a message.
func Titles() string {
	var list []string
	for _, c := range Codecs {
		list = append(list, c.Title)
	}
	return strings.Join(list, ", ")
}

// Read reads a file of any format, with those that came with it. What fits none is
// remarked as unreadable.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	for _, c := range slices.Concat(Codecs, Texts) {
		if c.Detect(name, data) {
			return c.Read(name, data, format.NewBudget(int64(len(data)), nil).Bound(beside))
		}
	}
	var r format.Reading
	r.Note(
		format.Unreadable,
		format.Position{File: name, Line: 1, Column: 1},
		"none of the formats that are read here (%s)",
		Titles(),
	)
	return r
}
