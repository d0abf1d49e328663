package daemons

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"wardicon/core/format"
)

// The older form of the IKE daemon's configuration, ipsec.conf(5) and ipsec.secrets(5), is read
// into the words of the newer one: both say the same of a connection.
const secretsFile = "ipsec.secrets"

var (
	connSection = format.NewSign(`^(?:conn|config|ca)[ \t]+\S`,
		"\nconn", "\nconfig", "\nca ", "\nca\t")
	secretLine = format.NewSign(`^[^#;\n<]*:[ \t]+(?:(?:PSK|EAP|XAUTH|NTLM)[ \t]+["0]|`+
		`(?:RSA|ECDSA|P12|PKCS8)[ \t]+\S+\.(?:pem|der|p12|key)\b)`,
		"PSK", "EAP", "XAUTH", "NTLM", "RSA", "ECDSA", "P12", "PKCS8")
)

// maxGathered bounds the keys of all sections together, with those that they take from others.
const maxGathered = 500_000

// conn is a section: its keys with their places.
type conn map[string]setting

// plain are keys with the words that they have in the newer form: of the connection, or with a
// colon of its child.
var plain = map[string]string{
	"ike":           "proposals",
	"esp":           ":esp_proposals",
	"dpddelay":      "dpd_delay",
	"ikelifetime":   "rekey_time",
	"lifetime":      ":rekey_time",
	"keylife":       ":rekey_time",
	"mobike":        "mobike",
	"fragmentation": "fragmentation",
	"aggressive":    "aggressive",
	"eap_identity":  "local.eap_id",
}

// quiet are keys that say how the daemon goes about a connection, not what it is.
var quiet = strings.Fields(`keyingtries margintime rekeymargin rekeyfuzz dpdaction dpdtimeout
	reauth keyexchange authby type also left right leftid rightid leftauth rightauth leftcert
	leftsourceip rightsubnet leftprotoport rightprotoport leftsendcert rightsendcert
	marginbytes marginpackets leftallowany rightallowany leftdns pfs auth`)

// assumed are keys that change nothing at the value that the daemon assumes.
var assumed = map[string][]string{
	"auto": {"add", "ignore"}, "rekey": {"yes"}, "closeaction": {"none"}, "installpolicy": {"yes"},
	"leftsubnet": {"%dynamic"}, "inactivity": {"0"}, "lifebytes": {"0"}, "lifepackets": {"0"},
	"leftikeport": {"500"}, "rightikeport": {"500"}, "leftfirewall": {"no"},
	"lefthostaccess": {"no"}, "compress": {"no"}, "forceencaps": {"no"}, "modeconfig": {"pull"},
	"xauth": {"client"}, "mark": {"0"}, "tfc": {"0"}, "sha256_96": {"no"}, "rightca": {"%any"},
}

// unsaid are keys that concern the connection, and that the newer words here have no place for.
var unsaid = strings.Fields(`rightca leftca rightcert rightca2 leftca2 leftcert2 leftauth2
	rightauth2 leftid2 rightid2 rightsourceip mark mark_in mark_out reqid tfc compress
	forceencaps modeconfig xauth xauth_identity aaa_identity rightgroups leftgroups
	leftcertpolicy rightcertpolicy leftrsasigkey rightrsasigkey leftsigkey rightsigkey me_peerid
	mediated_by mediation replay_window ah ikedscp sha256_96 rightdns`)

// stroke reads ipsec.conf with the secrets beside it.
func (r *reader) stroke(data []byte) {
	r.legacy = true
	names, sections := r.conns(data)
	if secrets, ok := r.beside.Get(secretsFile); ok {
		r.Pieces = append(r.Pieces, secretsFile)
		r.strokeSecrets(secretsFile, secrets)
	}
	gathered := 0
	for _, name := range names {
		c := sections.gather(name, func(other string) {
			r.Note(
				format.OptionValue,
				sections[name]["also"].at,
				"also=%s, a section that is not here",
				other,
			)
		})
		if gathered += len(c) + len(sections["%default"]); gathered > maxGathered {
			r.Note(format.NotYetRead, r.at("connections."+strings.ReplaceAll(name, ".", dotted)),
				"this section and what follows: they take very many keys from each other")
			break
		}
		for key, value := range sections["%default"] {
			if _, own := c[key]; !own {
				c[key] = value
			}
		}
		section := strings.ReplaceAll(name, ".", dotted)
		if r.translate(section, r.translated(c)) {
			r.order = append(r.order, section)
		}
	}
	for _, one := range r.order[:min(len(r.order), format.MaxConnections+1)] {
		r.connection("connections." + one)
	}
	r.account()
	if len(r.order) == 0 {
		r.Note(format.NotYetRead, format.Position{File: r.file, Line: 1, Column: 1},
			"a configuration of the IKE daemon without a connection of a device")
	}
}

type connections map[string]conn

// gather is a section with those that it names by also=; what comes first counts.
func (all connections) gather(name string, missing func(string)) conn {
	whole := conn{}
	seen := map[string]bool{}
	var take func(name string)
	take = func(name string) {
		seen[name] = true
		for key, value := range all[name] {
			if _, own := whole[key]; !own {
				whole[key] = value
			}
		}
		for _, other := range strings.Fields(all[name]["also"].text) {
			if all[other] == nil {
				missing(other)
			} else if !seen[other] {
				take(other)
			}
		}
	}
	take(name)
	return whole
}

// conns reads the sections of a file (ipsec.conf(5)): keys are indented below the head of their
// section.
func (r *reader) conns(data []byte) (names []string, all connections) {
	all = connections{}
	current := ""
	r.Lines(r.file, data, func(at format.Position, line string) bool {
		text, _, _ := strings.Cut(line, " #")
		trimmed := strings.TrimSpace(text)
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			return true
		}
		if line[0] != ' ' && line[0] != '\t' {
			kind, name, _ := strings.Cut(trimmed, " ")
			name = strings.TrimSpace(name)
			current = ""
			switch kind {
			case "conn":
				current = name
				if all[name] == nil {
					all[name] = conn{}
					r.begun["connections."+strings.ReplaceAll(name, ".", dotted)] = at
					if name != "%default" {
						names = append(names, name)
					}
				}
			case "include":
				r.Left("include "+name, at)
			case "ca":
				r.Left("ca "+name, at)
			case "config", "version":
			default:
				r.Note(
					format.Unreadable,
					at,
					"%q at the beginning of a line, where only conn, ca, "+
						"config and include may stand",
					trimmed,
				)
				return false
			}
			return true
		}
		key, value, ok := strings.Cut(trimmed, "=")
		key, value = strings.TrimSpace(key), strings.Trim(strings.TrimSpace(value), `"`)
		switch {
		case !ok:
			r.Note(format.Unreadable, at, "%q, expected key=value", trimmed)
			return false
		case current == "":
			if key == "strictcrlpolicy" && value != "no" {
				r.Left(key+" "+value, at)
			}
			return true
		}
		at.Column = strings.Index(line, key) + 1
		at.Path = "conn " + current + "." + key
		if before := all[current][key]; key == "also" && before.text != "" {
			value = before.text + " " + value
		}
		all[current][key] = setting{value, at}
		return true
	})
	return names, all
}

// translate puts a section into the newer words; false where it is no connection of a device.
func (r *reader) translate(name string, c conn) bool {
	if gateway := func(side string) bool {
		return c[side].text != "" &&
			c[side].text[0] != '%'
	}; !gateway("right") &&
		gateway("left") { // the other way round
		turned := conn{}
		for key, value := range c {
			switch {
			case strings.HasPrefix(key, "left"):
				turned["right"+strings.TrimPrefix(key, "left")] = value
			case strings.HasPrefix(key, "right"):
				turned["left"+strings.TrimPrefix(key, "right")] = value
			default:
				turned[key] = value
			}
		}
		c = turned
	}
	server := c["right"]
	if server.text == "" || server.text[0] == '%' {
		return false // a template, or a gateway's side
	}
	at := "connections." + name
	child := at + ".children." + name
	put := func(path string, value setting) {
		if value.text != "" {
			r.set[path] = value
			r.ordered = append(r.ordered, value.text)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(c)) {
		value := c[key]
		if words := strokeWords[key]; words != nil && !slices.Contains(words, value.text) {
			r.Note(format.OptionValue, value.at, "%s=%s, expected %s", key, value.text,
				format.Choice(words))
		}
		word, ok := plain[key]
		switch {
		case ok && strings.HasPrefix(word, ":"):
			put(child+"."+word[1:], strict(value))
		case ok:
			put(at+"."+word, strict(value))
		case key == "leftupdown" || key == "rightupdown":
			if !ownUpdown.MatchString(value.text) && value.text != "" {
				r.Note(format.RunsProgram, value.at, "%s; it is not imported", key)
				r.Left(key, value.at)
			}
		case slices.Contains(assumed[key], value.text):
		case slices.Contains(unsaid, key) || assumed[key] != nil && key != "auto":
			r.Left(key+" "+value.text, value.at)
		case !slices.Contains(quiet, key) && key != "auto":
			r.unheard(key, value)
			r.Left(key, value.at)
		}
	}
	version := "2"
	if c["keyexchange"].text == "ikev1" {
		version = "1"
	}
	where := server
	where.text = version
	put(at+".version", where)
	put(at+".remote_addrs", server)
	put(at+".remote.id", unlooked(c["rightid"]))
	put(at+".local.id", unlooked(c["leftid"]))
	put(at+".local.certs", c["leftcert"])
	put(child+".remote_ts", c["rightsubnet"])
	if source := c["leftsourceip"]; strings.HasPrefix(source.text, "%") {
		source.text = map[bool]string{
			false: "0.0.0.0",
			true:  "0.0.0.0, ::",
		}[strings.Contains(source.text, "6")]
		put(at+".vips", source)
	}
	r.authentication(at, c)
	if version == "1" && (c["type"].text != "transport" ||
		strings.Contains(c["authby"].text, "xauth")) {
		r.Note(format.NotYetRead, server.at, "a connection by IKEv1 alone, without L2TP")
		r.Left("a connection by IKEv1, "+strings.ReplaceAll(name, dotted, "."), server.at)
		for key := range r.under(at) { // which says it all
			r.read[at+"."+key] = true
		}
		return false
	}
	put(child+".mode", c["type"])
	if auto := c["auto"]; auto.text == "start" || auto.text == "route" {
		auto.text = map[string]string{"start": "start", "route": "trap"}[auto.text]
		put(child+".start_action", auto)
	}
	if left := c["left"]; left.text != "" && left.text[0] != '%' {
		r.Left("left "+left.text, left.at)
	}
	return true
}

// strokeWords are the words that the daemon takes where it takes a few alone (ipsec.conf(5)); it
// leaves a connection out for another.
var strokeWords = map[string][]string{
	"auto":          {"ignore", "add", "route", "start"},
	"keyexchange":   {"ike", "ikev1", "ikev2"},
	"type":          {"tunnel", "transport", "transport_proxy", "passthrough", "pass", "drop"},
	"dpdaction":     {"none", "clear", "hold", "restart"},
	"closeaction":   {"none", "clear", "hold", "restart"},
	"fragmentation": {"yes", "accept", "force", "no"},
	"aggressive":    yesNo,
	"compress":      yesNo, "forceencaps": yesNo, "mobike": yesNo, "reauth": yesNo,
	"rekey": yesNo, "leftallowany": yesNo, "rightallowany": yesNo, "installpolicy": yesNo,
	"sha256_96": yesNo, "leftfirewall": yesNo,
	"modeconfig":    {"push", "pull"},
	"leftsendcert":  {"never", "no", "ifasked", "always", "yes"},
	"rightsendcert": {"never", "no", "ifasked", "always", "yes"},
}

var yesNo = []string{"yes", "no"}

// unheard tells of a key that the daemon passes over.
func (r *reader) unheard(key string, value setting) {
	known := slices.Concat(quiet, unsaid, slices.Collect(maps.Keys(plain)),
		slices.Collect(maps.Keys(assumed)))
	if right := format.Meant(key, known); right != "" {
		r.Note(format.KeyMisspelt, value.at, "%s, expected %s", key, right)
		return
	}
	r.Note(format.KeyUnknown, value.at, "%s", key)
}

// strict takes the sign away that forbids other proposals than those that are named.
func strict(s setting) setting {
	s.text = strings.TrimSuffix(s.text, "!")
	return s
}

// unlooked takes the sign away that keeps a name from being looked up (ipsec.conf(5), leftid).
func unlooked(s setting) setting {
	s.text = strings.TrimPrefix(s.text, "@")
	return s
}

func (r *reader) authentication(at string, c conn) {
	both := c["authby"]
	switch both.text {
	case "secret", "psk":
		both.text = "psk"
	case "rsasig", "ecdsasig", "pubkey", "rsa", "ecdsa", "":
		both.text = "pubkey"
	}
	for side, key := range map[string]string{"local": "leftauth", "remote": "rightauth"} {
		auth := c[key]
		if auth.text == "" {
			auth = both
		}
		if auth.at.Line == 0 {
			auth.at = c["right"].at
		}
		kind, _, _ := strings.Cut(auth.text, "-")
		switch {
		case auth.text == "secret":
			auth.text = "psk"
		case auth.text == "eap" || auth.text == "eap-dynamic":
			auth.text = "eap-mschapv2"
		case kind == "pubkey" || kind == "rsa" || kind == "ecdsa" || kind == "ed25519":
			auth.text = "pubkey"
		}
		r.set[at+"."+side+".auth"] = auth
	}
}

// strokeSecrets reads ipsec.secrets: who it is for, a colon, its kind and the secret.
func (r *reader) strokeSecrets(file string, data []byte) {
	number := 0
	r.Lines(file, data, func(at format.Position, line string) bool {
		trimmed := strings.TrimSpace(line)
		if pattern, ok := strings.CutPrefix(trimmed, "include "); ok {
			r.Left("include "+pattern, at)
			return true
		}
		words, err := format.Words(trimmed, "#", true)
		if err != nil {
			r.Note(format.KeyMalformed, at, "%s", err)
			return true
		}
		colon := slices.Index(words, ":")
		if colon < 0 && len(words) > 0 && strings.HasSuffix(words[0], ":") { // name: PSK
			words = slices.Concat([]string{strings.TrimSuffix(words[0], ":"), ":"}, words[1:])
			colon = 1
		}
		if colon < 0 || len(words) < colon+3 {
			return true
		}
		number++
		section := ""
		switch kind := words[colon+1]; kind {
		case "PSK":
			section = fmt.Sprintf("secrets.ike-%d", number)
		case "EAP", "XAUTH", "NTLM":
			section = fmt.Sprintf("secrets.eap-%d", number)
		case "RSA", "ECDSA", "P12", "PKCS8":
			r.Left(kind+" "+words[colon+2], at)
			return true
		default:
			r.Left(kind, at)
			return true
		}
		at.Column = strings.LastIndex(line, words[colon+2]) + 1
		r.secrets = true
		r.set[section+".secret"] = setting{words[colon+2], at}
		for i, id := range words[:colon] {
			r.set[fmt.Sprintf("%s.id%d", section, i)] = setting{strings.TrimPrefix(id, "@"), at}
		}
		return true
	})
}
