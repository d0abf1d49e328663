package format_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/vpn"
)

func TestWords(t *testing.T) {
	for _, test := range []struct {
		line, remarks string
		verbatim      bool
		want          string // words between bars, or ! and the error
	}{
		{"a  b\tc", "#;", false, "a|b|c"},
		{`"a b" 'c d'`, "#;", false, "a b|c d"},
		{`a\ b "c\"d" 'e\'f'`, "#;", false, `a b|c"d|e'f`},
		{`'e\' f`, "#;", true, `e\|f`},
		{`"" ''`, "#;", false, "|"},
		{`a"b"c`, "#;", false, "abc"},
		{"a # b", "#;", false, "a"},
		{"a#b ;c", "#;", false, "a#b"},
		{"a ;b", "#", false, "a|;b"},
		{"", "#;", false, "!none"},
		{"  # only", "#;", false, "!none"},
		{`a\`, "#;", false, "!a backslash at the end of the line"},
		{`"a`, "#;", false, "!a quote that does not end"},
	} {
		words, err := format.Words(test.line, test.remarks, test.verbatim)
		got := strings.Join(words, "|")
		switch {
		case err != nil:
			got = "!" + err.Error()
		case len(words) == 0:
			got = "!none"
		}
		if got != test.want {
			t.Errorf("%s: %s, expected %s", test.line, got, test.want)
		}
	}
}

func TestLines(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{"a\nb\r\n\nc", "1 a;2 b;3 ;4 c"},
		{"\ufeffa", "1 a"},
		{"", "1 "},
		{"a\tb", "1 a\tb"},
		{"a\x00", "note at 1: a control character"},
		{"a\nb\rc", "1 a;note at 2: a control character"},
		{"a\n\x7f", "1 a;note at 2: a control character"},
		{"a\xff", "note at 1: not in UTF-8; save it in that encoding"},
		{strings.Repeat("x", 70_000), "note at 1: a line of 70000 bytes, more than 65536"},
		{strings.Repeat("x", format.MaxFile+1), "note at 1: 8388609 bytes, more than 8388608"},
		{"stop\nnever", "1 stop"},
	} {
		var r format.Reading
		var got []string
		ok := r.Lines("f", []byte(test.text), func(at format.Position, line string) bool {
			got = append(got, fmt.Sprintf("%d %s", at.Line, line))
			return line != "stop"
		})
		for _, n := range r.Notes {
			got = append(got, fmt.Sprintf("note at %d: %s", n.At.Line, n.Found))
		}
		if ok == (len(r.Notes) > 0 || strings.HasPrefix(test.text, "stop")) ||
			strings.Join(got, ";") != test.want {
			t.Errorf(
				"%.20q: %t, %.200q, expected %q",
				test.text,
				ok,
				strings.Join(got, ";"),
				test.want,
			)
		}
	}
	var r format.Reading
	n := 0
	if r.Lines(
		"f",
		[]byte(strings.Repeat("\n", 30_000)),
		func(format.Position, string) bool { n++; return true },
	) ||
		n != 20_000 {
		t.Errorf("%d lines, then %v", n, r.Notes)
	}
}

// TestPrintable holds that no writer gets a value with a character that could begin
// something new, in whatever field it is.
func TestPrintable(t *testing.T) {
	for field, set := range map[vpn.Field]func(*vpn.Connection, string){
		vpn.FieldName:   func(c *vpn.Connection, v string) { c.Organisation = v },
		vpn.FieldServer: func(c *vpn.Connection, v string) { c.Server = v },
		vpn.FieldRoutes: func(c *vpn.Connection,
			v string) {
			c.Routes = []string{"10.0.0.0/8", v}
		},
		vpn.FieldGroup: func(c *vpn.Connection,
			v string) {
			c.L2TP = &vpn.L2TPSetting{L2TPOptions: vpn.L2TPOptions{Group: v}}
		},
		vpn.FieldIKE: func(c *vpn.Connection,
			v string) {
			c.IKEv2 = &vpn.IKEv2Setting{IKE: []string{v}}
		},
		vpn.FieldLocalID: func(c *vpn.Connection,
			v string) {
			c.IKEv2 = &vpn.IKEv2Setting{LocalID: v}
		},
		vpn.FieldServerName: func(c *vpn.Connection,
			v string) {
			c.TLS = &vpn.TLSSetting{TLSOptions: vpn.TLSOptions{ServerName: v}}
		},
		vpn.FieldRemotes: func(c *vpn.Connection,
			v string) {
			c.TLS = &vpn.TLSSetting{Remotes: []vpn.Remote{{Address: v}}}
		},
		vpn.FieldDemand: func(c *vpn.Connection,
			v string) {
			c.Demand = &vpn.Demand{Suffixes: []string{v}}
		},
		vpn.FieldProxy: func(c *vpn.Connection,
			v string) {
			c.Proxy = &vpn.Proxy{Bypass: []string{v}}
		},
	} {
		for v, bad := range map[string]bool{
			"plain":  false,
			"ü漢😀":    false,
			"\u202e": false,
			"\ufffd": false,
			"a\nb":   true,
			"\t":     true,
			"\x00":   true,
			"\x7f":   true,
			"\u0085": true,
			"\u2028": true,
			"\ufffe": true,
			"\ufdd0": true,
			"\xff":   true,
		} {
			var c vpn.Connection
			set(&c, v)
			err := format.Printable("the format", c)
			unfit, ok := err.(*format.UnfitError)
			if (err != nil) != bad || bad && (!ok || unfit.Field != field || unfit.Expected == "") {
				t.Errorf("%s with %q: %v", field, v, err)
			}
		}
	}
}

func TestBeside(t *testing.T) {
	files := format.Files([]format.File{{Name: "ca.crt", Content: []byte("x")}})
	for name, want := range map[string]bool{
		"ca.crt":         true,
		"keys/ca.crt":    true,
		`C:\keys\ca.crt`: true,
		"../../ca.crt":   true,
		"ca.key":         false,
		"":               false,
	} {
		if _, ok := files.Get(name); ok != want {
			t.Errorf("%q: %t", name, ok)
		}
	}
	var none format.Beside
	if _, ok := none.Get("ca.crt"); ok {
		t.Error("a file out of nothing")
	}
	if !slices.Equal(
		[]string{
			(format.Position{File: "f", Line: 3, Column: 2, Path: "a.b"}).String(),
			(format.Position{File: "f"}).String(),
		},
		[]string{"f:3:2 a.b", "f"},
	) {
		t.Error("places are written in another way")
	}
}
