package format

import (
	"path"
	"regexp"
	"strings"

	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Where a device that makes its key itself has what it does that with: a script, and the secret that
// it asks with.
const (
	EnrolScript = "-certificate.sh"
	EnrolConfig = "-enrol.conf"
)

// ownPEM are the files that such a script makes, after the connection's name.
var ownPEM = regexp.MustCompile(`^(.+)-(?:cert1?|key)\.pem$`)

// made tells whether a script beside the file makes what is not there: the key of the device and its
// certificate. The secret that it asks with stands in clear.
func (r *Reading) made(beside Beside, name string, at Position) bool {
	found := ownPEM.FindStringSubmatch(path.Base(strings.ReplaceAll(name, `\`, "/")))
	if found == nil {
		return false
	}
	script, ok := beside.Get(found[1] + EnrolScript)
	if !ok || !strings.Contains(string(script), found[0]) {
		return false
	}
	if r.enrol != nil {
		return true
	}
	r.Pieces, r.enrol = append(r.Pieces, found[1]+EnrolScript), &vpn.Enrol{}
	if said := enrolAddress.FindSubmatch(script); said != nil {
		r.enrol.EST = string(said[1])
	}
	config := found[1] + EnrolConfig
	data, ok := beside.Get(config)
	if said := enrolSecret.FindSubmatch(data); ok && said != nil {
		r.Pieces = append(r.Pieces, config)
		r.enrol.Secret = secret.New(string(said[1]))
		r.Note(SecretClear, at, "an enrolment secret, in %s", config)
	}
	return true
}

// Where address and secret stand in them.
var (
	enrolAddress = regexp.MustCompile(`(?m)^enrol='([^'\s]+)'$`)
	enrolSecret  = regexp.MustCompile(`(?m)^user = "device:([^"\s]+)"$`)
)

// Enrolled is the identity of a device that gets its certificate by a script beside the file; nil
// where it does not.
func (r *Reading) Enrolled() *vpn.Identity {
	if r.enrol == nil {
		return nil
	}
	return &vpn.Identity{Enrol: r.enrol}
}
