package corpus_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// table is a file of testdata/cases: a sound file, and cases that each change little of it. It
// begins with lines "name: value" (file, client, release, beside with names of certificates that
// lie there, pasted with those that only its lines name), a blank line and the sound file; behind a
// line of dashes come the cases, a blank line between two:
//
//	what is wrong
//	- text of the sound file
//	+ what takes its place; without a line above, what is added at the end
//	> severity and rule, with line and column; none where nothing is wrong
//	" what the real client says
//
// A line "@name" stands for a file of testdata/certificates, "@name bare" for its base64 alone and
// "@name glued" for one without the end of its last line.
type table struct {
	path, file, client, release string
	beside                      []filecheck.File
	base                        string
	pasted                      []string // words and what they stand for
	cases                       []oneCase
}

type oneCase struct {
	name, text, said string
	expected         []string
	line             int
}

// armour is what stands around the base64 of a PEM file.
var armour = regexp.MustCompile(`-----[A-Z ]+-----\n`)

// escaped are what cases write on one line.
var escaped = strings.NewReplacer(`\n`, "\n", `\t`, "\t", `\s`, " ")

func tables(t *testing.T) []table {
	t.Helper()
	paths, err := filepath.Glob("testdata/cases/*.txt")
	if err != nil {
		t.Fatal(err)
	}
	var list []table
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		head, rest, _ := strings.Cut(string(data), "\n\n")
		base, cases, ok := strings.Cut(rest, "\n-----\n")
		if !ok {
			t.Fatalf("%s: no line of dashes", path)
		}
		tab := table{path: path, base: base + "\n"}
		for line := range strings.SplitSeq(head, "\n") {
			switch key, value, _ := strings.Cut(line, ": "); key {
			case "file":
				tab.file = value
			case "client":
				tab.client = value
			case "release":
				tab.release = value
			case "beside", "pasted":
				for _, name := range strings.Fields(value) {
					pem, err := os.ReadFile(filepath.Join("testdata/certificates", name))
					if err != nil {
						t.Fatal(err)
					}
					if key == "beside" {
						tab.beside = append(tab.beside, filecheck.File{Name: name, Data: pem})
					}
					body := string(armour.ReplaceAll(pem, nil))
					tab.pasted = append(tab.pasted, "@"+name+" bare\n", body,
						"@"+name+" glued\n", strings.TrimRight(string(pem), "\n"),
						"@"+name+"\n", string(pem))
				}
			default:
				t.Fatalf("%s: %s", path, line)
			}
		}
		tab.base = strings.NewReplacer(tab.pasted...).Replace(tab.base)
		number := strings.Count(string(data[:len(data)-len(cases)]), "\n") + 1
		for part := range strings.SplitSeq(cases, "\n\n") {
			tab.cases = append(tab.cases, tab.read(t, strings.TrimRight(part, "\n"), number))
			number += strings.Count(part, "\n") + 2
		}
		list = append(list, tab)
	}
	return list
}

func (tab *table) read(t *testing.T, text string, number int) oneCase {
	t.Helper()
	c := oneCase{text: tab.base, line: number}
	from, pasted := "", strings.NewReplacer(tab.pasted...)
	for i, line := range strings.Split(text, "\n") {
		if i == 0 {
			c.name = line
			continue
		}
		if len(line) < 2 {
			t.Fatalf("%s:%d: %q", tab.path, number+i, line)
		}
		switch value := line[2:]; line[0] {
		case '-':
			from = pasted.Replace(escaped.Replace(value))
			if !strings.Contains(c.text, from) {
				t.Fatalf("%s:%d: not in the sound file: %s", tab.path, number+i, from)
			}
			c.text = strings.Replace(c.text, from, "\x00", 1)
		case '+':
			if to := pasted.Replace(escaped.Replace(value)); from == "" {
				c.text += to + "\n"
			} else {
				c.text, from = strings.Replace(c.text, "\x00", to, 1), ""
			}
		case '>':
			c.expected = append(c.expected, value)
		case '"':
			c.said = value
		default:
			t.Fatalf("%s:%d: %q", tab.path, number+i, line)
		}
	}
	c.text = strings.ReplaceAll(strings.ReplaceAll(c.text, "\x00\n", ""), "\x00", "")
	return c
}

// findings are what is found in a text that the sound file does not have, in words.
func (tab *table) findings(t *testing.T, text string) []check.Finding {
	t.Helper()
	o := filecheck.Options{Now: now}
	if p, release, ok := strings.Cut(tab.release, " "); ok {
		found, known := platform.Find(vpn.Platform(p), release)
		if !known {
			t.Fatalf("%s: no platform %q", tab.path, p)
		}
		o.Release = &found
	}
	files := append([]filecheck.File{{Name: tab.file, Data: []byte(text), Asked: true}},
		tab.beside...)
	return filecheck.Findings(filecheck.Check(files, o))
}

func worded(f check.Finding) string {
	s := fmt.Sprintf("%s %s", f.Severity, f.Rule)
	if f.Position != nil {
		s += fmt.Sprintf(" %d:%d", f.Position.Line, f.Position.Column)
	}
	return s
}

// TestCases changes sound files little by little: what is found beside the findings of the sound
// one is what the case expects, with severity and place, and nothing else.
func TestCases(t *testing.T) {
	count := map[string]int{}
	for _, tab := range tables(t) {
		usual := map[string]bool{}
		for _, f := range tab.findings(t, tab.base) {
			if f.Severity == vpn.Error {
				t.Errorf("%s: the sound file has %s, %s", tab.path, worded(f), f.Found)
			}
			usual[f.Rule+f.Found] = true
		}
		for _, c := range tab.cases {
			count[filepath.Base(tab.path)]++
			var got, details []string
			for _, f := range tab.findings(t, c.text) {
				if !usual[f.Rule+f.Found] {
					got = append(got, worded(f))
					details = append(details, f.Found)
				}
			}
			if got == nil {
				got = []string{"none"}
			}
			slices.Sort(got)
			slices.Sort(c.expected)
			if !slices.Equal(got, c.expected) {
				t.Errorf("%s:%d: %s\n  found    %s\n  expected %s\n  %q", tab.path, c.line, c.name,
					strings.Join(got, ", "), strings.Join(c.expected, ", "), details)
			}
		}
	}
	all := 0
	for _, n := range count {
		all += n
	}
	t.Logf("%d cases by table: %v", all, count)
}

// fresh is a folder with the files of a case.
func (tab *table) fresh(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range append(tab.beside, filecheck.File{Name: tab.file, Data: []byte(text)}) {
		if err := os.WriteFile(filepath.Join(dir, f.Name), bytes.Clone(f.Data), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}
