// Package prose reads what people write to each other about a connection: a welcome mail or a page
// of a wiki, with server, login, key and password behind their names. Nothing is written in this
// form, and no device reads it.
package prose

import (
	"bytes"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Codec is the form; it has no writer.
var Codec = format.Codec{Name: "text", Title: "Plain text", Detect: Detect, Read: Read}

// maxText bounds what is looked through, in bytes.
const maxText = 256 << 10

// label is what stands before a value, in English, German, French and Spanish.
type label string

const (
	server   label = "server"
	login    label = "login"
	password label = "password"
	key      label = "key"
	kind     label = "kind"
	title    label = "title"
	resolver label = "resolver"
	network  label = "network"
)

// labels are the words for each, without signs and in small letters.
var labels = map[label][]string{
	server: {
		"server", "vpn server", "server address", "server name", "server name or address",
		"gateway",
		"vpn gateway", "host", "hostname", "host name", "remote host", "serveradresse",
		"vpn-server",
		"serveur", "serveur vpn", "adresse du serveur", "passerelle", "servidor", "servidor vpn",
		"dirección del servidor", "puerta de enlace", "internet address", "adresse des servers",
	},
	login: {
		"login", "user", "username", "user name", "account", "account name", "benutzer",
		"benutzername", "anmeldename", "konto", "kontoname", "utilisateur", "nom d'utilisateur",
		"nom d’utilisateur", "identifiant", "compte", "nom de compte", "usuario",
		"nombre de usuario",
		"cuenta", "nombre de cuenta",
	},
	password: {
		"password", "your password", "initial password", "passwort", "kennwort", "mot de passe",
		"contraseña", "clave de acceso",
	},
	key: {
		"psk", "pre-shared key", "preshared key", "pre shared key", "shared secret", "shared key",
		"ipsec key", "ipsec pre-shared key", "ipsec psk", "secret", "pre-shared secret",
		"vorinstallierter schlüssel", "gemeinsamer schlüssel", "geteilter schlüssel",
		"shared secret (psk)", "clé partagée", "clé pré-partagée", "secret partagé", "secret ipsec",
		"clave compartida", "clave precompartida", "secreto compartido",
	},
	kind: {
		"type", "vpn type", "type of vpn", "protocol", "vpn protocol", "typ", "vpn-typ",
		"protokoll",
		"vpn-protokoll", "type de vpn", "protocole", "tipo", "tipo de vpn", "protocolo",
	},
	title: {
		"connection name", "name of the connection", "verbindungsname", "nom de la connexion",
		"nombre de la conexión", "vpn name", "vpn-name",
	},
	resolver: {"dns", "dns server", "dns servers", "name server", "dns-server", "serveur dns",
		"servidor dns"},
	network: {
		"network",
		"networks",
		"route",
		"routes",
		"subnet",
		"netz",
		"netze",
		"réseau",
		"réseaux",
		"red",
		"redes",
	},
}

// meaning is the label that each word stands for.
var meaning = func() map[string]label {
	all := map[string]label{}
	for what, words := range labels {
		for _, word := range words {
			all[word] = what
		}
	}
	return all
}()

// protocols are the words by which texts tell a protocol, the plainest first.
var protocols = []struct {
	words    *regexp.Regexp
	protocol vpn.Protocol
}{
	{regexp.MustCompile(`(?i)\bl2tp\b`), vpn.L2TP},
	{regexp.MustCompile(`(?i)\bike ?v2\b`), vpn.IKEv2},
	{regexp.MustCompile(`(?i)\bsstp\b`), vpn.SSTP},
	{regexp.MustCompile(`(?i)\bpptp\b`), vpn.PPTP},
}

// said is one value of a text with its place.
type said struct {
	what label
	text string
	at   format.Position
}

// Detect tells a text by its ending and by what stands in it: a server, and what belongs to one.
func Detect(name string, data []byte) bool {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".txt", ".md", ".eml", ".text", "":
	default:
		return false
	}
	if len(data) > maxText || !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		return false
	}
	var r format.Reading
	list := values(&r, name, data)
	has := func(what label) bool {
		return slices.ContainsFunc(list, func(s said) bool {
			expected, _ := vpn.HostProblem(s.text)
			return s.what == what &&
				(what != server || expected == "" && strings.Contains(s.text, "."))
		})
	}
	return has(server) && (has(login) || has(key) || has(password) || has(kind))
}

var (
	// marks are signs of lists, headings and stress around a label or a value.
	marks = "*_`#>|•·–—-\"“”„‘’ \t\u00a0"
	// stress is what ends before a value that does not belong to it: **Server:** n.example.
	stress = regexp.MustCompile(`^[*_]{1,2}\s+`)
	// pairs stand around a value, and are no part of it.
	pairs = []*regexp.Regexp{
		regexp.MustCompile("^`(.+)`$"), regexp.MustCompile(`^\*\*(.+)\*\*$`),
		regexp.MustCompile(`^["“„”](.+)["“”]$`),
	}
	remark = regexp.MustCompile(`\s*\([^()]*\)?$`)
	// between stands between a label and its value: a colon, an equals sign, a bar or a tab.
	between = regexp.MustCompile(`\s*(?:[:=|\t]|\s[–—]\s)\s*`)
)

// values reads the lines with a label and a value.
func values(r *format.Reading, name string, data []byte) []said {
	var list []said
	r.Lines(name, data, func(at format.Position, line string) bool {
		trimmed := strings.TrimLeft(line, marks)
		cut := between.FindStringIndex(trimmed)
		if cut == nil || cut[0] > 40 {
			return true
		}
		word := strings.ToLower(strings.Trim(trimmed[:cut[0]], marks+"():"))
		value := stress.ReplaceAllString(strings.TrimSpace(trimmed[cut[1]:]), "")
		if strings.Contains(trimmed[cut[0]:cut[1]], "|") { // a row of a table
			value, _, _ = strings.Cut(value, "|")
		}
		value = strings.Trim(value, " \t\u00a0")
		if value == "" {
			return true
		}
		what, known := meaning[word]
		if !known { // a remark behind the label
			what, known = meaning[strings.Trim(remark.ReplaceAllString(word, ""), marks+":")]
		}
		if !known {
			return true
		}
		for _, pair := range pairs {
			if inside := pair.FindStringSubmatch(value); inside != nil {
				value = inside[1]
			}
		}
		at.Column = strings.Index(line, value) + 1
		at.Path = word
		list = append(list, said{what, value, at})
		return true
	})
	return list
}

// Read takes a text apart: a connection for each server in it. What stands before the first server
// holds for all.
func Read(name string, data []byte, _ format.Beside) format.Reading {
	var r format.Reading
	list := values(&r, name, data)
	first := slices.IndexFunc(list, func(s said) bool { return s.what == server })
	if first < 0 {
		r.Note(format.Unreadable, format.Position{File: name, Line: 1, Column: 1},
			"a text without a server")
		return r
	}
	spoken := vpn.Protocol("")
	for _, one := range protocols {
		if one.words.Match(data) && spoken == "" {
			spoken = one.protocol
		}
	}
	for from := first; from < len(list); {
		to := from + 1
		for to < len(list) && list[to].what != server {
			to++
		}
		one := slices.Concat(list[:first], list[from:to])
		if from == first && to < len(list) && len(one) == 1 { // servers first, and the rest for all
			last := to
			for last < len(list) && list[last].what == server {
				last++
			}
			one = append(one, list[last:]...)
		}
		connection(&r, one, spoken)
		from = to
	}
	return r
}

func connection(r *format.Reading, list []said, spoken vpn.Protocol) {
	c := vpn.Connection{
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelFull,
		Routes:       []string{},
		DNS:          []string{},
		Domains:      []string{},
		Protocol:     spoken,
	}
	positions := map[vpn.Field]format.Position{}
	psk := secret.Text{}
	for _, s := range list {
		switch s.what {
		case server:
			c.Server = strings.TrimRight(s.text, ".,;")
			positions[vpn.FieldServer], positions[vpn.FieldProtocol] = s.at, s.at
		case login:
			c.Login, positions[vpn.FieldLogin] = s.text, s.at
		case password:
			c.Password, c.PasswordMode = secret.New(s.text), vpn.PasswordSaved
			positions[vpn.FieldPassword] = s.at
			r.Note(format.SecretClear, s.at, "the password")
		case key:
			psk, positions[vpn.FieldPSK] = secret.New(s.text), s.at
			r.Note(format.SecretClear, s.at, "the pre-shared key")
		case title:
			c.Name, positions[vpn.FieldName] = s.text, s.at
		case resolver:
			c.DNS = append(c.DNS, strings.FieldsFunc(s.text, apart)...)
			positions[vpn.FieldDNS] = s.at
		case network:
			c.Routes = append(c.Routes, strings.FieldsFunc(s.text, apart)...)
			c.Tunnel, positions[vpn.FieldRoutes] = vpn.TunnelSplit, s.at
		case kind:
			for _, one := range protocols {
				if one.words.MatchString(s.text) {
					c.Protocol, positions[vpn.FieldProtocol] = one.protocol, s.at
				}
			}
		}
	}
	if c.Protocol == "" && !psk.IsZero() {
		c.Protocol = vpn.L2TP // what a key beside login and password is for
	}
	if c.Name == "" {
		c.Name = c.Server
	}
	ppp := []suite.PPPMethod{suite.MSCHAPv2}
	switch c.Protocol {
	case vpn.L2TP:
		c.L2TP = &vpn.L2TPSetting{Auth: vpn.MachinePSK, PSK: psk, PPP: ppp, IKE: []string{},
			ESP: []string{}}
	case vpn.IKEv2:
		c.IKEv2 = &vpn.IKEv2Setting{Auth: vpn.IKEv2MSCHAPv2, IKE: []string{}, ESP: []string{}}
		if c.Login == "" && !psk.IsZero() {
			c.IKEv2.Auth, c.IKEv2.PSK = vpn.IKEv2PSK, psk
		}
	case vpn.PPTP:
		c.PPTP = &vpn.PPTPSetting{PPP: ppp, MPPE: []suite.MPPE{"128"}}
	case vpn.SSTP:
		c.SSTP = &vpn.SSTPSetting{PPP: ppp, Port: 443}
	default:
		r.Note(
			format.NotYetRead,
			positions[vpn.FieldServer],
			"a server without a protocol: the text "+
				"names none of L2TP, IKEv2, SSTP and PPTP",
		)
		r.Left("the server "+c.Server, positions[vpn.FieldServer])
		return
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: []vpn.Field{
		vpn.FieldAuthority, vpn.FieldIdentity, vpn.FieldRoutes, vpn.FieldLogin, vpn.FieldPassword,
		vpn.FieldPPP, vpn.FieldPSK, // many come another way
	}})
}

func apart(r rune) bool { return r == ',' || r == ';' || r == ' ' }
