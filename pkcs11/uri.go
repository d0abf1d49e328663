package pkcs11

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	uri11 "github.com/stefanberger/go-pkcs11uri"
)

// place is where a token is found: what a URI says (RFC 7512 §2).
type place struct {
	label, serial string
	module        string
	pinFile       string
	object        Object
}

// parse reads a PKCS #11 URI (RFC 7512).
func parse(text string) (p place, err error) {
	u := uri11.New()
	if err := u.Parse(text); err != nil {
		return p, fmt.Errorf("found a PKCS #11 URI that cannot be read (%w), expected one such as "+
			"pkcs11:token=Skerry%%20Line;object=devices", err)
	}
	path := func(name string) string { v, _ := u.GetPathAttribute(name, false); return v }
	query := func(name string) string { v, _ := u.GetQueryAttribute(name, false); return v }
	if query("pin-value") != "" {
		return p, fmt.Errorf(
			"found pin-value, expected pin-source=file:/path: a PIN in a setting is " +
				"seen by everybody",
		)
	}
	p = place{
		label: path("token"), serial: path("serial"), module: query("module-path"),
		pinFile: strings.TrimPrefix(query("pin-source"), "file:"),
		object:  Object{ID: []byte(path("id")), Label: path("object")},
	}
	if p.label == "" && p.serial == "" {
		return p, fmt.Errorf("found a PKCS #11 URI without a token, expected token= or serial=")
	}
	return p, nil
}

// name is what a token is called.
func (p place) name() string { return cmp.Or(p.label, p.serial) }

// is tells whether two URIs are about the same token.
func (p place) is(other place) bool {
	return (p.label == "" || other.label == "" || p.label == other.label) &&
		(p.serial == "" || other.serial == "" || p.serial == other.serial) &&
		(p.label == other.label || p.serial == other.serial)
}

// pin reads the PIN of a token out of its file, which nobody else may read.
func (p place) pin() (string, error) {
	info, err := os.Stat(p.pinFile)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", fmt.Errorf("there is no file %s with the PIN of %s", p.pinFile, p.name())
	case err != nil:
		return "", fmt.Errorf("the PIN of %s: %w", p.name(), err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf(
			"the PIN of %s in %s: found mode %04o, expected 0600; run chmod 600 on it",
			p.name(),
			p.pinFile,
			info.Mode().Perm(),
		)
	}
	text, err := os.ReadFile(p.pinFile)
	return strings.TrimRight(string(text), "\r\n"), err
}

// CheckKey tells whether a text names a key in a token, as a record does: without a module or a PIN,
// which are the host's affair.
func CheckKey(text string) error {
	p, err := parse(text)
	switch {
	case err != nil:
		return err
	case p.module != "" || p.pinFile != "":
		return fmt.Errorf(
			"found a module or a PIN, expected only where the key is: the rest is set " +
				"where the service runs",
		)
	case len(p.object.ID) == 0 && p.object.Label == "":
		return fmt.Errorf("found a PKCS #11 URI without a key, expected object= or id=")
	}
	return nil
}

// address writes the URI of a key.
func (p place) address(o Object) string {
	u := uri11.New()
	set := func(name, v string) {
		if v != "" {
			u.SetPathAttributeUnencoded(name, []byte(v))
		}
	}
	set("token", p.label)
	set("serial", p.serial)
	set("object", o.Label)
	set("id", string(o.ID))
	text, _ := u.Format()
	return text
}
