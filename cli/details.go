package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// details prints a record for a reader: what is set, a line a field, parts under a heading of their
// own.
func (a *app) details(v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	top, err := members(dec)
	if err != nil {
		return err
	}
	for _, line := range detailLines("", top) {
		if line.heading {
			a.say("\n%s", line.label)
			continue
		}
		a.say(
			"%-24s  %s",
			line.label,
			strings.TrimLeft(a.wrap(line.value, strings.Repeat(" ", 26)), " "),
		)
	}
	return nil
}

// member is a field of a JSON object, in the order in which it was sent.
type member struct {
	key   string
	value any // string, json.Number, bool, nil, []any or []member
}

// members reads a JSON value and keeps the order of objects.
func members(dec *json.Decoder) (any, error) {
	token, err := dec.Token()
	if err != nil {
		return nil, err
	}
	delimiter, nested := token.(json.Delim)
	if !nested {
		return token, nil
	}
	var object []member
	var list []any
	for dec.More() {
		if delimiter == '[' {
			one, err := members(dec)
			if err != nil {
				return nil, err
			}
			list = append(list, one)
			continue
		}
		key, err := dec.Token()
		if err != nil {
			return nil, err
		}
		value, err := members(dec)
		if err != nil {
			return nil, err
		}
		object = append(object, member{fmt.Sprint(key), value})
	}
	if _, err = dec.Token(); delimiter == '[' {
		return list, err
	}
	return object, err
}

type detailLine struct {
	label, value string
	heading      bool
}

// detailLines words what is set in a value: simple fields first, then the parts.
func detailLines(under string, v any) (lines []detailLine) {
	object, ok := v.([]member)
	if !ok {
		return nil
	}
	var parts []detailLine
	for _, m := range object {
		name := labelOf(m.key)
		if inner, ok := m.value.([]member); ok {
			at := strings.TrimPrefix(under+", "+name, ", ")
			if below := detailLines(at, inner); len(below) > 0 {
				if !below[0].heading {
					parts = append(parts, detailLine{label: at, heading: true})
				}
				parts = append(parts, below...)
			}
			continue
		}
		if text := valueOf(m.value); text != "" {
			lines = append(lines, detailLine{label: name, value: text})
		}
	}
	return append(lines, parts...)
}

// abbreviations are written in capitals, as the trade does.
var abbreviations = map[string]string{
	"dns":      "DNS",
	"esp":      "ESP",
	"id":       "ID",
	"ids":      "IDs",
	"ike":      "IKE",
	"ikev2":    "IKEv2",
	"ipv6":     "IPv6",
	"l2tp":     "L2TP/IPsec",
	"mobike":   "MOBIKE",
	"mppe":     "MPPE",
	"nat":      "NAT",
	"ppp":      "PPP",
	"pptp":     "PPTP",
	"psk":      "PSK",
	"sstp":     "SSTP",
	"tls":      "TLS",
	"url":      "URL",
	"dpd":      "DPD",
	"links_v4": "links over IPv4",
}

func labelOf(key string) string {
	words := strings.Split(key, "_")
	for i, w := range words {
		if short, ok := abbreviations[w]; ok {
			words[i] = short
		}
	}
	return strings.Join(words, " ")
}

// valueOf words a value that is not an object; what is not set is empty.
func valueOf(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if v {
			return "yes"
		}
		return ""
	case string:
		if at, err := time.Parse(time.RFC3339, v); err == nil {
			return at.Local().Format("2006-01-02 15:04 MST")
		}
		if head, _, several := strings.Cut(
			strings.TrimSpace(v),
			"\n",
		); several &&
			strings.HasPrefix(head, "-----BEGIN ") {
			return fmt.Sprintf("%d in PEM form", strings.Count(v, "-----BEGIN "))
		}
		return v
	case []any:
		var texts []string
		for _, one := range v {
			if object, ok := one.([]member); ok {
				var fields []string
				for _, m := range object {
					if text := valueOf(m.value); text != "" {
						fields = append(fields, text)
					}
				}
				one = strings.Join(fields, " ")
			}
			texts = append(texts, valueOf(one))
		}
		return strings.Join(texts, ", ")
	}
	if text := fmt.Sprint(v); text != "0" {
		return text
	}
	return ""
}
