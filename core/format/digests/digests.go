// Package digests writes and reads the list of the SHA-256 digests of a parcel's files, in the form
// that sha256sum checks: 64 hexadecimal digits, two blanks, the name.
package digests

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format"
)

// Expiry ends the name of a list; SignedExpiring that of its signature, which stands apart from it.
const (
	Expiry         = "-digests.txt"
	SignedExpiring = "-digests.p7s"
)

const maxEntries = 500

// Entry is one file of a list.
type Entry struct {
	Name   string
	Digest string // SHA-256, hexadecimal
}

// Of is the digest of a content.
func Of(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// List makes the list of a parcel's files, by name.
func List(connection string, files []format.File) format.File {
	var lines []string
	for _, f := range files {
		lines = append(lines, Of(f.Content)+"  "+f.Name+"\n")
	}
	slices.SortFunc(lines, func(a, b string) int { return strings.Compare(a[66:], b[66:]) })
	return format.File{
		Name:      format.FileName(connection, Expiry),
		MediaType: "text/plain; charset=utf-8",
		Purpose:   "Digests of the files, as sha256sum checks them",
		Content:   []byte(strings.Join(lines, "")),
	}
}

// Is tells whether a file may be such a list.
func Is(data []byte) bool {
	_, err := Read(data)
	return err == nil
}

// Read reads a list.
func Read(data []byte) ([]Entry, error) {
	var list []Entry
	lines := bufio.NewScanner(bytes.NewReader(data))
	for n := 1; lines.Scan(); n++ {
		digest, name, ok := strings.Cut(strings.TrimSuffix(lines.Text(), "\r"), " ")
		if ok &&
			// text or binary, which is the same here
			(strings.HasPrefix(name, " ") || strings.HasPrefix(name, "*")) {
			name = name[1:]
		} else {
			ok = false
		}
		raw, err := hex.DecodeString(digest)
		if !ok || err != nil || len(raw) != sha256.Size || name == "" ||
			strings.ContainsAny(name, "/\\\x00") {
			return nil, fmt.Errorf(
				"line %d: found no digest and name, expected 64 hexadecimal digits, two spaces "+
					"and a file name",
				n,
			)
		}
		if list = append(list, Entry{name, strings.ToLower(digest)}); len(list) > maxEntries {
			return nil, fmt.Errorf("found more than %d lines", maxEntries)
		}
	}
	if err := lines.Err(); err != nil || len(list) == 0 {
		return nil, fmt.Errorf("found no list of digests")
	}
	return list, nil
}
