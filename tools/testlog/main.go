// Command testlog reads what go test -json prints: it shows packages and what failed, and at the
// end what was skipped and why. It exits 1 if something failed, or with CI=true if something was
// skipped.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

// event is one line of go test -json (go doc test2json).
type event struct {
	Action, Package, Test, Output string
}

func main() { os.Exit(run(os.Stdin, os.Stdout, os.Getenv("CI") == "true")) }

func run(in io.Reader, out io.Writer, strict bool) int {
	said := map[string][]string{} // output of each test that has not ended
	var skipped []string
	failed := false
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e event
		if json.Unmarshal(lines.Bytes(), &e) != nil { // of the compiler
			_, _ = fmt.Fprintln(out, lines.Text())
			continue
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output", "build-output":
			if e.Test == "" {
				if e.Output != "PASS\n" { // said of every package, beside its line
					_, _ = io.WriteString(out, e.Output)
				}
				continue
			}
			if !strings.HasPrefix(e.Output, "=== ") {
				said[key] = append(said[key], e.Output)
			}
		case "fail", "build-fail":
			failed = true
			_, _ = io.WriteString(out, strings.Join(said[key], ""))
			delete(said, key)
		case "skip":
			if e.Test != "" {
				skipped = append(skipped, key+reason(said[key]))
			}
			delete(said, key)
		case "pass":
			delete(said, key)
		}
	}
	slices.Sort(skipped)
	if len(skipped) > 0 {
		_, _ = fmt.Fprintf(out, "\n%d tests were skipped:\n", len(skipped))
		for _, s := range skipped {
			_, _ = fmt.Fprintln(out, "  "+s)
		}
	}
	switch {
	case lines.Err() != nil:
		_, _ = fmt.Fprintln(out, lines.Err())
		return 1
	case failed:
		return 1
	case strict && len(skipped) > 0:
		_, _ = fmt.Fprintln(out, "With CI=true a skipped test is a failure.")
		return 1
	}
	return 0
}

// reason is what a test said when it was skipped.
func reason(output []string) string {
	for _, line := range output {
		text := strings.TrimSpace(line)
		if text == "" || strings.HasPrefix(text, "--- ") {
			continue
		}
		if _, said, ok := strings.Cut(text, ".go:"); ok {
			_, text, _ = strings.Cut(said, ": ")
		}
		return ": " + text
	}
	return ""
}
