package tree_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/tree"
)

func TestJSONPlaces(t *testing.T) {
	root, twice, err := tree.JSON(
		"a.json",
		[]byte("{\n  \"a\": [1, {\"b\": \"x\"}],\n\t\"c\": true,\n  \"c\": null\n}\n"),
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		node *tree.Node
		want string
	}{
		{root, "dict a.json:1:1"},
		{root.Get("a").Items[0], "integer a.json:2:9 a[0]"},
		{root.Get("a").Items[1].Get("b"), "string a.json:2:18 a[1].b"},
		{root.Get("c"), "null a.json:4:8 c"},
	} {
		if got := test.node.Kind + " " + test.node.At.String(); got != test.want {
			t.Errorf("%s, expected %s", got, test.want)
		}
	}
	if len(twice) != 1 || twice[0].At.String() != "a.json:4:3 c" {
		t.Errorf("twice: %v", twice)
	}
	if n := root.Get("a", "b", "c"); n != nil {
		t.Errorf("a way through an array leads to %v", n)
	}
}

// TestHostileTrees gives both parsers what is broken, too deep or too much: each answers
// with a place, in time and space that its bounds allow.
func TestHostileTrees(t *testing.T) {
	deep, many := tree.MaxDepth+2, tree.MaxNodes+1
	for _, test := range []struct{ name, kind, text, want string }{
		{"empty", "json", "", "ends unexpectedly"},
		{"cut in a dict", "json", `{"a":`, "ends unexpectedly"},
		{"cut in a string", "json", `{"a":"b`, "ends unexpectedly"},
		{"after the end", "json", `{} {}`, "something after the end"},
		{"no JSON", "json", `{a: 1}`, "not JSON"},
		{"a comma too many", "json", `[1,]`, "not JSON"},
		{"deep", "json", strings.Repeat("[", deep) + strings.Repeat("]", deep), "deeper ones"},
		{"deep dicts", "json", strings.Repeat(`{"a":`, deep) + "1" + strings.Repeat("}", deep),
			"deeper ones"},
		{"many", "json", "[" + strings.Repeat("0,", many) + "0]", "more values"},

		{"empty", "xml", "", "no element"},
		{"cut", "xml", "<a><b>", "ends unexpectedly"},
		{"crossed", "xml", "<a><b></a></b>", "not XML"},
		{"unknown entity", "xml", "<a>&x;</a>", "not XML"},
		{"own entities", "xml", `<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`,
			"document type declaration"},
		{"declaration inside", "xml", `<a><!DOCTYPE b></a>`, "document type declaration"},
		{"deep", "xml", strings.Repeat("<a>", deep), "deeper ones"},
		{"many", "xml", "<a>" + strings.Repeat("<b/>", many) + "</a>", "more elements"},
	} {
		t.Run(test.kind+"/"+test.name, func(t *testing.T) {
			var err error
			if test.kind == "json" {
				_, _, err = tree.JSON("f", []byte(test.text))
			} else {
				_, err = tree.XML("f", []byte(test.text))
			}
			var fault *tree.SyntaxError
			if !errors.As(err, &fault) || !strings.Contains(fault.What, test.want) ||
				fault.At.Line < 1 ||
				fault.At.File != "f" {
				t.Errorf("%v, expected %q with a place", err, test.want)
			}
		})
	}
}

func TestXMLNodes(t *testing.T) {
	root, err := tree.XML(
		"f",
		[]byte(
			"<?xml version=\"1.0\"?>\n<!-- no --><P xmlns=\"urn:x\">\n<R "+
				"n=\"1\">a&amp;b<![CDATA[<c>]]></R><R/></P>",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	all := root.Get("P").All("R")
	if len(all) != 2 || all[0].Text != "a&b<c>" || all[1].Text != "" || all[0].At.Line != 3 ||
		all[0].At.Path != "P.R" {
		t.Errorf("%+v", all)
	}
}

// TestWalker holds that what is of another kind is remarked at its place and counts as
// absent.
func TestWalker(t *testing.T) {
	w := &tree.Walker{File: "f"}
	root := w.Object(
		[]byte(
			`{"s": 1, "l": {"x": 1}, "m": ["a", 2], "n": "5", "r": 1.5, "yes": true, "odd": 0, ` +
				`"odd": 1}`,
		),
	)
	got := fmt.Sprintf(
		"%q %q %q %d %d %t %d",
		w.Text(root, "s"),
		w.List(root, "l"),
		w.List(root, "m"),
		w.Integer(root, "n"),
		w.Integer(root, "r"),
		w.Flag(root, "yes"),
		w.Integer(root, "odd"),
	)
	if got != `"" [] ["a"] 0 0 true 1` {
		t.Errorf("read %s", got)
	}
	w.Known(root, []string{"s", "l", "m", "n", "r", "yes"})
	var notes []string
	for _, n := range w.Notes {
		notes = append(notes, fmt.Sprintf("%s@%d %s", n.Kind, n.At.Column, n.At.Path))
	}
	want := "key-twice@83 odd; key-malformed@7 s; key-malformed@15 l; key-malformed@36 m[1]; " +
		"key-malformed@45 n; key-malformed@55 r; key-unknown@73 odd; key-unknown@83 odd"
	if strings.Join(notes, "; ") != want {
		t.Errorf("remarked %s", strings.Join(notes, "; "))
	}
	for text, kind := range map[string]format.NoteKind{
		"[]":       format.Unreadable,
		"\"x\"":    format.Unreadable,
		"\xff{}":   format.Unreadable,
		"\ufeff{}": "",
	} {
		w := &tree.Walker{File: "f"}
		root := w.Object([]byte(text))
		if (root == nil) != (kind != "") ||
			root == nil && (len(w.Notes) != 1 || w.Notes[0].Kind != kind) {
			t.Errorf("%q: %v with %v", text, root, w.Notes)
		}
	}
}
