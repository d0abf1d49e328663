// Package all lists the file formats: a new one is a new package and one line here.
package all

import (
	"slices"

	"wardicon/core/format"
	"wardicon/core/format/apple"
	"wardicon/core/format/keyfile"
	"wardicon/core/format/powershell"
	"wardicon/core/platform"
)

// Codecs are the formats, in the order in which a file is tried against them.
var Codecs = []format.Codec{apple.Codec, keyfile.Codec, powershell.Codec}

// ByName finds the codec of a format that a platform takes.
func ByName(name platform.Format) (format.Codec, bool) {
	i := slices.IndexFunc(Codecs, func(c format.Codec) bool { return c.Name == name })
	if i < 0 {
		return format.Codec{}, false
	}
	return Codecs[i], true
}

// Read reads a file of any format. What fits none is remarked as unreadable.
func Read(name string, data []byte) format.Reading {
	for _, c := range Codecs {
		if c.Detect(name, data) {
			return c.Read(name, data)
		}
	}
	var r format.Reading
	r.Note(format.Unreadable, format.Position{File: name, Line: 1, Column: 1}, "none of the formats that are read here (Apple profile, NetworkManager keyfile, install script)")
	return r
}
