package daemons

import (
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
)

// The files in which pppd looks for secrets (pppd(8), AUTHENTICATION): client, server, secret and
// addresses.
const (
	chapSecrets = "chap-secrets"
	papSecrets  = "pap-secrets"
)

var secretsHead = format.NewSign(
	`^# [Ss]ecrets for authentication using (CHAP|PAP)`, "ecrets for authentication",
)

// entry is one line of such a file.
type entry struct {
	client, server string
	secret         secret.Text
	at             format.Position
}

// entries reads such a file; what is no entry is remarked.
func entries(r *format.Reading, file string, data []byte) []entry {
	var list []entry
	r.Lines(file, data, func(at format.Position, line string) bool {
		words, err := format.Words(line, "#", false)
		switch {
		case err != nil:
			r.Note(format.KeyMalformed, at, "%s", err)
		case len(words) == 0:
		case len(words) < 3:
			r.Note(format.KeyMalformed, at,
				"%d words, expected client, server, secret and addresses", len(words))
		default:
			at.Column = strings.Index(line, words[2]) + 1
			list = append(list, entry{words[0], words[1], secret.New(words[2]), at})
		}
		return true
	})
	return list
}

// pppSecrets reads such a file where nothing came with it that needs it.
func (r *reader) pppSecrets(data []byte) {
	list := entries(&r.Reading, r.file, data)
	for _, e := range list {
		r.Note(format.SecretClear, e.at, "the password of %s", e.client)
		r.Left("the password of "+e.client, e.at)
	}
	r.Note(format.NotYetRead, format.Position{File: r.file, Line: 1, Column: 1},
		"secrets for pppd, without the connections that they are for")
}

// stored looks for the password of a login in the files beside, as pppd does: an entry for the
// login itself comes before one for anybody.
func (r *reader) stored(login, server string, at format.Position) (secret.Text, bool) {
	var others []string
	for _, name := range []string{chapSecrets, papSecrets} {
		data, ok := r.beside.Get(name)
		if !ok {
			continue
		}
		r.Pieces = append(r.Pieces, name)
		list := entries(&r.Reading, name, data)
		for _, client := range []string{login, "*"} {
			i := slices.IndexFunc(list, func(e entry) bool {
				return e.client == client && (e.server == "*" || server == "" || e.server == server)
			})
			if i >= 0 {
				r.Note(format.SecretClear, list[i].at, "the password")
				return list[i].secret, true
			}
		}
		for _, e := range list {
			others = append(others, e.client)
		}
	}
	if len(others) > 0 {
		r.Note(format.SecretElsewhere, at, "the secrets are for %s, and %s is wanted",
			strings.Join(others[:min(5, len(others))], ", "), login)
	}
	return secret.Text{}, false
}
