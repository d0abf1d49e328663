package all_test

import (
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
)

// place is where the lines under a heading go into the file of which they are options.
var place = regexp.MustCompile(`@[a-z0-9-]+@`)

// unescaped are lines and tabs that an option needs.
var unescaped = strings.NewReplacer(`\n`, "\n", `\t`, "\t")

// TestOptions puts every option that a format's reference names into a sound file, one at a time:
// it is carried, noted, left (told as not carried), or idle, as testdata/options says. A file there
// begins with the sound one; behind a line of dashes come places, options and their fates.
func TestOptions(t *testing.T) {
	lists, err := filepath.Glob("testdata/options/*")
	if err != nil || len(lists) < 12 {
		t.Fatal(lists, err)
	}
	seen := 0
	for _, list := range lists {
		data, err := os.ReadFile(list)
		if err != nil {
			t.Fatal(err)
		}
		base, options, ok := strings.Cut(string(data), "\n-----\n")
		if !ok {
			t.Fatalf("%s: no line of dashes", list)
		}
		name := filepath.Base(list)
		read := func(at, option string) format.Reading {
			text := strings.Replace(base, at, option, 1)
			return all.Read(name, []byte(place.ReplaceAllString(text, "")), nil)
		}
		plain, at := read("@none@", ""), ""
		if len(plain.Connections) != 1 || len(plain.NotCarried) > 0 {
			t.Fatalf("%s: %d connections, not carried: %v; %v", name, len(plain.Connections),
				plain.NotCarried, plain.Notes)
		}
		for line := range strings.SplitSeq(strings.TrimSpace(options), "\n") {
			if place.MatchString(line) && !strings.Contains(line, " => ") {
				at = line
				continue
			}
			option, want, _ := strings.Cut(line, " => ")
			seen++
			if got := fate(plain, read(at, unescaped.Replace(option))); got != want {
				t.Errorf("%s: %s %s => %s, expected %s", name, at, option, got, want)
			}
		}
	}
	if seen < 500 {
		t.Errorf("%d options, expected at least 500", seen)
	}
}

// fate tells what became of an option.
func fate(plain, with format.Reading) string {
	var told []string
	for _, n := range with.Notes {
		if n.Kind == format.Unreadable || len(with.Connections) == 0 {
			return "refused"
		}
	}
	switch {
	case len(with.NotCarried) > 0:
		told = append(told, "left")
	case len(with.Connections) != 1:
		return "gone"
	case !reflect.DeepEqual(plain.Connections[0].Connection, with.Connections[0].Connection):
		told = append(told, "carried")
	}
	if len(with.Notes) > len(plain.Notes) {
		told = append(told, "noted")
	}
	if told == nil {
		return "idle"
	}
	return strings.Join(told, " ")
}
