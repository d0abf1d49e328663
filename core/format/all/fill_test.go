package all_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
)

func TestFill(t *testing.T) {
	lists, _ := filepath.Glob("testdata/options/*")
	for _, list := range lists {
		data, _ := os.ReadFile(list)
		base, options, _ := strings.Cut(string(data), "\n-----\n")
		name := filepath.Base(list)
		read := func(at, option string) format.Reading {
			text := strings.Replace(base, at, option, 1)
			return all.Read(name, []byte(place.ReplaceAllString(text, "")), nil)
		}
		plain, at := read("@none@", ""), ""
		if len(plain.Connections) != 1 || len(plain.NotCarried) > 0 {
			t.Errorf("%s: %d connections, not carried: %v; %v", name, len(plain.Connections),
				plain.NotCarried, plain.Notes)
			continue
		}
		var out strings.Builder
		out.WriteString(base + "\n-----\n")
		for line := range strings.SplitSeq(strings.TrimSpace(options), "\n") {
			if place.MatchString(line) && !strings.Contains(line, " => ") {
				at = line
				out.WriteString(line + "\n")
				continue
			}
			option, _, _ := strings.Cut(line, " => ")
			fmt.Fprintf(&out, "%s => %s\n", option, fate(plain, read(at, strings.ReplaceAll(option, `\n`, "\n"))))
		}
		os.WriteFile(list, []byte(out.String()), 0o644)
	}
}
