package keyfile

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Bounds on what a hostile file may ask for.
const (
	maxLines = 10_000
	maxLine  = 64 << 10 // bytes
)

// Detect tells a keyfile by its name or its first group.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 4096)]
	return strings.EqualFold(filepath.Ext(name), ".nmconnection") || bytes.Contains(head, []byte("[connection]"))
}

// value is the text behind a key, still escaped, with its place.
type value struct {
	raw string
	at  format.Position
}

// groups holds group -> key -> value.
type groups map[string]map[string]value

// Keys of each group that a VPN profile may have; nil takes any.
var known = map[string][]string{
	"connection": {"id", "uuid", "type", "autoconnect", "permissions", "timestamp", "interface-name", "zone", "stable-id", "metered", "autoconnect-priority", "secondaries", "dns-over-tls", "mdns"},
	"vpn": {
		"service-type", "gateway", "user", "password-flags", "domain", "user-auth-type", "user-ca", "user-cert", "user-key", "user-certpass-flags",
		"refuse-eap", "refuse-pap", "refuse-chap", "refuse-mschap", "refuse-mschapv2", "require-mppe", "require-mppe-40", "require-mppe-128", "mppe-stateful",
		"nobsdcomp", "nodeflate", "no-vj-comp", "nopcomp", "noaccomp", "lcp-echo-failure", "lcp-echo-interval", "unit-num", "mru", "mtu",
		"ipsec-enabled", "machine-auth-type", "machine-ca", "machine-cert", "machine-key", "machine-certpass-flags", "ipsec-psk", "ipsec-psk-flags",
		"ipsec-gateway-id", "ipsec-remote-id", "ipsec-ike", "ipsec-esp", "ipsec-ikelifetime", "ipsec-salifetime", "ipsec-forceencaps", "ipsec-ipcomp", "ipsec-ikev2", "ipsec-pfs",
		"ephemeral-port", "persistent", "timeout", "use-cert", "user-name", "ipsec-group-name", "ipsec-pfs",
	},
	"vpn-secrets": {"password", "ipsec-psk", "user-certpass", "machine-certpass"},
	"ipv4":        addressKeys,
	"ipv6":        addressKeys,
	"proxy":       nil,
	"user":        nil,
}

var addressKeys = []string{"method", "dns", "dns-search", "dns-options", "dns-priority", "never-default", "ignore-auto-dns", "ignore-auto-routes", "may-fail", "route-metric", "addr-gen-mode", "ip6-privacy", "gateway", "required-timeout"}

type reader struct {
	format.Reading
	file   string
	groups groups
}

// Read takes a keyfile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte) format.Reading {
	r := &reader{file: name, groups: groups{}}
	start := format.Position{File: name, Line: 1, Column: 1}
	switch {
	case len(data) > format.MaxFile:
		r.Note(format.Unreadable, start, "%d bytes, more than %d", len(data), format.MaxFile)
	case !utf8.Valid(data) || bytes.HasPrefix(data, []byte{0xEF, 0xBB, 0xBF}):
		r.Note(format.Unreadable, start, "not in UTF-8 without a byte order mark; save it in that encoding")
	default:
		if r.split(string(data)) {
			r.settle()
		}
	}
	return r.Reading
}

// split sorts the lines into groups. Reports whether the file could be read.
func (r *reader) split(text string) bool {
	group, number := "", 0
	for line := range strings.SplitSeq(text, "\n") {
		number++
		line = strings.TrimSuffix(line, "\r")
		at := format.Position{File: r.file, Line: number, Column: 1}
		trimmed := strings.TrimLeft(line, " \t")
		switch {
		case number > maxLines:
			r.Note(format.Unreadable, at, "more than %d lines", maxLines)
			return false
		case len(line) > maxLine:
			r.Note(format.Unreadable, at, "a line of %d bytes, more than %d", len(line), maxLine)
			return false
		case strings.ContainsFunc(line, func(c rune) bool { return c < ' ' && c != '\t' || c == 0x7F }):
			r.Note(format.Unreadable, at, "a control character")
			return false
		case trimmed == "" || strings.HasPrefix(trimmed, "#"):
		case strings.HasPrefix(trimmed, "["):
			name, rest, ok := strings.Cut(trimmed[1:], "]")
			if !ok || strings.TrimSpace(rest) != "" {
				r.Note(format.Unreadable, at, "a group that is not closed")
				return false
			}
			if _, again := r.groups[name]; again {
				r.Note(format.KeyTwice, at, "the group [%s]", name)
			} else {
				r.groups[name] = map[string]value{}
			}
			if _, ok := known[name]; !ok {
				r.Note(format.KeyUnknown, at, "the group [%s]", name)
			}
			group = name
		default:
			key, raw, ok := strings.Cut(line, "=")
			if !ok || group == "" {
				r.Note(format.Unreadable, at, "neither a group, a comment nor key=value inside a group")
				return false
			}
			r.add(group, strings.TrimSpace(key), raw, at)
		}
	}
	return true
}

func (r *reader) add(group, key, raw string, at format.Position) {
	at.Path = group + "." + key
	if _, again := r.groups[group][key]; again {
		r.Note(format.KeyTwice, at, "%s in [%s]", key, group)
	}
	numbered := strings.HasPrefix(key, "route") || strings.HasPrefix(key, "address")
	if keys := known[group]; keys != nil && !slices.Contains(keys, key) && !(numbered && strings.HasPrefix(group, "ipv")) {
		r.Note(format.KeyUnknown, at, "%s in [%s]", key, group)
	}
	r.groups[group][key] = value{strings.TrimLeft(raw, " \t"), at}
}

// text reads a value with its escapes undone (GLib: \s \n \t \r \\).
func (r *reader) text(group, key string) string {
	v, ok := r.groups[group][key]
	if !ok {
		return ""
	}
	text, err := unescape(v.raw)
	if err != nil {
		r.Note(format.KeyMalformed, v.at, "%s: %s", key, err)
	}
	return text
}

func unescape(raw string) (string, error) {
	if !strings.Contains(raw, `\`) {
		return raw, nil
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' {
			b.WriteByte(raw[i])
			continue
		}
		if i++; i == len(raw) {
			return b.String(), fmt.Errorf("a backslash at the end")
		}
		j := strings.IndexByte(`sntr\;`, raw[i])
		if j < 0 {
			return b.String(), fmt.Errorf("the escape \\%c is not known", raw[i])
		}
		b.WriteByte(" \n\t\r\\;"[j])
	}
	return b.String(), nil
}

// list splits at semicolons that are not escaped.
func (r *reader) list(group, key string) []string {
	list := []string{}
	v, ok := r.groups[group][key]
	if !ok {
		return list
	}
	var item strings.Builder
	escaped := false
	flush := func() {
		text, err := unescape(item.String())
		if err != nil {
			r.Note(format.KeyMalformed, v.at, "%s: %s", key, err)
		}
		if text != "" {
			list = append(list, text)
		}
		item.Reset()
	}
	for _, c := range v.raw {
		if c == ';' && !escaped {
			flush()
			continue
		}
		escaped = c == '\\' && !escaped
		item.WriteRune(c)
	}
	flush()
	return list
}

// yes reads a switch; another word is remarked.
func (r *reader) yes(group, key string) bool {
	switch v := r.text(group, key); v {
	case "yes", "true", "1":
		return true
	case "", "no", "false", "0":
		return false
	default:
		r.Note(format.KeyMalformed, r.groups[group][key].at, "%s is %q, expected yes or no", key, v)
		return false
	}
}

func (r *reader) settle() {
	start := format.Position{File: r.file, Line: 1, Column: 1}
	if len(r.groups["connection"]) == 0 {
		r.Note(format.Unreadable, start, "no group [connection]")
		return
	}
	if kind := r.text("connection", "type"); kind != "vpn" {
		r.Note(format.Unrelated, r.where("connection", "type"), "a connection of type %q", kind)
		return
	}
	switch s := r.text("vpn", "service-type"); s {
	case service:
	case "":
		r.Note(format.KeyMalformed, r.where("vpn", "service-type"), "no service-type in [vpn]: NetworkManager does not know which kind of VPN this is")
		return
	default:
		r.Note(format.NotYetRead, r.where("vpn", "service-type"), "service %q; L2TP is what is checked so far", s)
		return
	}
	if _, err := uuid.Parse(r.text("connection", "uuid")); err != nil {
		r.Note(format.KeyMalformed, r.where("connection", "uuid"), "uuid is not a UUID")
	}
	c := vpn.Connection{
		Protocol: vpn.L2TP, Name: r.text("connection", "id"), UUID: strings.ToUpper(r.text("connection", "uuid")), Scope: vpn.ScopeMachine,
		Server: r.text("vpn", "gateway"), Login: r.text("vpn", "user"), Keep: vpn.KeepAsked, Tunnel: vpn.TunnelFull,
		DNS: append(r.list("ipv4", "dns"), r.list("ipv6", "dns")...), Domains: append(r.list("ipv4", "dns-search"), r.list("ipv6", "dns-search")...),
		Routes: append(r.routes("ipv4"), r.routes("ipv6")...),
	}
	if r.text("connection", "permissions") != "" {
		c.Scope = vpn.ScopePerson
	}
	if r.yes("ipv4", "never-default") {
		c.Tunnel = vpn.TunnelSplit
	}
	r.yes("ipv6", "never-default")
	if password, ok := r.groups["vpn-secrets"]["password"]; ok {
		c.Password, c.Keep = secret.New(r.text("vpn-secrets", "password")), vpn.KeepSaved
		r.Note(format.SecretClear, password.at, "the password")
	}
	if r.yes("vpn", "ipsec-enabled") {
		c.L2TP = r.ipsec()
	} else {
		r.Note(format.KeyMalformed, r.where("vpn", "ipsec-enabled"), "L2TP without IPsec: nothing is encrypted; expected ipsec-enabled=yes")
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field][2]string{
		vpn.FieldName: {"connection", "id"}, vpn.FieldUUID: {"connection", "uuid"}, vpn.FieldServer: {"vpn", "gateway"}, vpn.FieldLogin: {"vpn", "user"},
		vpn.FieldPassword: {"vpn-secrets", "password"}, vpn.FieldKeep: {"vpn", "password-flags"}, vpn.FieldPSK: {"vpn-secrets", "ipsec-psk"},
		vpn.FieldIKE: {"vpn", "ipsec-ike"}, vpn.FieldESP: {"vpn", "ipsec-esp"}, vpn.FieldDNS: {"ipv4", "dns"}, vpn.FieldDomains: {"ipv4", "dns-search"},
		vpn.FieldRoutes: {"ipv4", "route1"}, vpn.FieldTunnel: {"ipv4", "never-default"}, vpn.FieldPPP: {"vpn", "service-type"}, vpn.FieldProtocol: {"vpn", "service-type"},
	} {
		positions[field] = r.where(key[0], key[1])
	}
	r.Connections = append(r.Connections, format.Located{Connection: c, Positions: positions})
}

// where is the place of a key, or the file's beginning where the key is absent.
func (r *reader) where(group, key string) format.Position {
	if v, ok := r.groups[group][key]; ok {
		return v.at
	}
	return format.Position{File: r.file, Line: 1, Column: 1}
}

func (r *reader) routes(group string) []string {
	list := []string{}
	for i := 1; ; i++ {
		key := fmt.Sprintf("route%d", i)
		v, ok := r.groups[group][key]
		if !ok {
			return list
		}
		route, _, _ := strings.Cut(r.text(group, key), ",") // next hop and metric may follow
		if _, err := netip.ParsePrefix(route); err != nil {
			r.Note(format.KeyMalformed, v.at, "%s is %q, expected a network in CIDR form", key, route)
			continue
		}
		list = append(list, route)
	}
}

func (r *reader) ipsec() *vpn.L2TPSetting {
	l := &vpn.L2TPSetting{PPP: []suite.PPPMethod{}, IKE: r.proposals("ipsec-ike"), ESP: r.proposals("ipsec-esp")}
	for _, refusal := range refusals {
		if !r.yes("vpn", refusal.key) {
			l.PPP = append(l.PPP, refusal.method)
		}
	}
	group := "vpn-secrets"
	if _, ok := r.groups[group]["ipsec-psk"]; !ok {
		group = "vpn" // where older releases of the plugin kept it
	}
	v, ok := r.groups[group]["ipsec-psk"]
	if !ok {
		return l
	}
	r.Note(format.SecretClear, v.at, "the pre-shared key")
	psk := r.text(group, "ipsec-psk")
	if encoded, is := strings.CutPrefix(psk, "0s"); is {
		data, err := base64.StdEncoding.DecodeString(encoded)
		if err != nil || !utf8.Valid(data) {
			r.Note(format.KeyMalformed, v.at, "what follows 0s in ipsec-psk is not base64 of a text")
		}
		psk = string(data)
	}
	l.PSK = secret.New(psk)
	return l
}

func (r *reader) proposals(key string) []string {
	list := []string{}
	v, ok := r.groups["vpn"][key]
	if !ok {
		return list
	}
	for text := range strings.SplitSeq(strings.TrimSuffix(r.text("vpn", key), "!"), ",") {
		p, err := suite.Parse(text)
		if err != nil {
			r.Note(format.KeyMalformed, v.at, "%s", err)
			continue
		}
		list = append(list, p.String())
	}
	return list
}
