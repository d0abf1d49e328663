package keyfile

import (
	"bytes"
	"fmt"
	"maps"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/vpn"
)

// Detect tells a keyfile by its name or its first group.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 4096)]
	return strings.EqualFold(filepath.Ext(name), ".nmconnection") ||
		bytes.Contains(head, []byte("[connection]"))
}

// value is the text behind a key, still escaped, with its place.
type value struct {
	raw  string
	at   format.Position
	read bool // somebody asked for it
}

// groups holds group -> key -> value.
type groups map[string]map[string]*value

type reader struct {
	format.Reading
	file   string
	groups groups
	begun  map[string]format.Position // where groups begin
	beside format.Beside
	apart  []vpn.Field
	held   bool // to what the plugin takes
}

// Read takes a keyfile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &reader{file: name, groups: groups{}, begun: map[string]format.Position{}, beside: beside}
	group := ""
	if r.Lines(
		name,
		data,
		func(at format.Position, line string) bool { return r.line(&group, at, line) },
	) {
		r.settle()
		r.account()
	}
	return r.Reading
}

// line sorts one line into its group.
func (r *reader) line(group *string, at format.Position, line string) bool {
	trimmed := strings.TrimLeft(line, " \t")
	switch {
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
			r.groups[name], r.begun[name] = map[string]*value{}, at
		}
		if right := format.Meant(name, slices.Collect(maps.Keys(known))); right != "" {
			r.Note(format.KeyMisspelt, at, "the group [%s], expected [%s]", name, right)
		} else if _, ok := known[name]; !ok {
			r.Note(format.KeyUnknown, at, "the group [%s]", name)
		}
		*group = name
	default:
		key, raw, ok := strings.Cut(line, "=")
		if !ok || *group == "" {
			r.Note(format.Unreadable, at, "neither a group, a comment nor key=value inside a group")
			return false
		}
		r.add(*group, strings.TrimSpace(key), raw, at)
	}
	return true
}

func (r *reader) add(group, key, raw string, at format.Position) {
	at.Path = group + "." + key
	if _, again := r.groups[group][key]; again {
		r.Note(format.KeyTwice, at, "%s in [%s]", key, group)
	}
	numbered := strings.HasPrefix(key, "route") || strings.HasPrefix(key, "address")
	if keys := known[group]; keys != nil && !slices.Contains(keys, key) &&
		!strings.HasPrefix(group, "vpn") && !(numbered && strings.HasPrefix(group, "ipv")) {
		r.strange(key, group, keys, at)
	}
	r.groups[group][key] = &value{raw: strings.TrimLeft(raw, " \t"), at: at}
}

// get looks a value up; what was looked up counts as read.
func (r *reader) get(group, key string) (*value, bool) {
	v, ok := r.groups[group][key]
	if ok {
		v.read = true
	}
	return v, ok
}

// text reads a value with its escapes undone (GLib: \s \n \t \r \\).
func (r *reader) text(group, key string) string {
	v, ok := r.get(group, key)
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
	v, ok := r.get(group, key)
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
		if group != "vpn" || !r.held { // what the plugin takes is said elsewhere
			r.Note(
				format.KeyMalformed,
				r.groups[group][key].at,
				"%s is %q, expected yes or no",
				key,
				v,
			)
		}
		return false
	}
}

// where is the place of a key; one that is missing is missing in its group.
func (r *reader) where(group, key string) format.Position {
	for _, g := range []string{group, "vpn", "vpn-secrets"} { // plugins look for a secret in both
		if v, ok := r.groups[g][key]; ok && (g == group || strings.HasPrefix(group, "vpn")) {
			return v.at
		}
	}
	if at, ok := r.begun[group]; ok {
		at.Path = group + "." + key
		return at
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
		route, rest, _ := strings.Cut(r.text(group, key), ",") // next hop and metric may follow
		if hop := strings.Trim(rest, ",0.:"); hop != "" {
			r.Left(key+" by "+rest, v.at)
		}
		if _, ok := r.groups[group][key+"_options"]; ok {
			r.Left(key+"_options", v.at)
		}
		if _, err := netip.ParsePrefix(route); err != nil {
			r.Note(
				format.KeyMalformed,
				v.at,
				"%s is %q, expected a network in CIDR form",
				key,
				route,
			)
			continue
		}
		list = append(list, route)
	}
}
