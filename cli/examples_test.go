package cli

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// shellWords are the parts of a command line, as far as examples need a shell.
var shellWords = regexp.MustCompile(`"[^"]*"|'[^']*'|[^\s"']+`)

// readCommand reads a line as the command line does; it is false where the line is none of ours.
func readCommand(root *cobra.Command, line string) (bool, error) {
	if _, after, ok := strings.Cut(line, "| wardicon"); ok {
		line = "wardicon" + after
	}
	for _, end := range []string{"#", "|", ">", "<"} {
		line, _, _ = strings.Cut(line, end)
	}
	rest, ok := strings.CutPrefix(strings.TrimSpace(line), "wardicon ")
	if !ok {
		return false, nil
	}
	var args []string
	for _, w := range shellWords.FindAllString(rest, -1) {
		args = append(args, strings.Trim(w, `"'`))
	}
	target, left, err := root.Find(args)
	if err != nil {
		return true, err
	}
	if err := target.ParseFlags(left); err != nil {
		return true, err
	}
	if target.HasSubCommands() && target.Name() != "import" {
		return true, fmt.Errorf("%s only groups other commands", target.CommandPath())
	}
	return true, target.ValidateArgs(target.Flags().Args())
}

// TestExamples reads every example of every help as the command line does: a flag or a command that
// is not there would lead somebody astray.
func TestExamples(t *testing.T) {
	fresh := func() *cobra.Command { // flags keep what was read before
		env := func(string) string { return "" }
		return (&app{Streams: Streams{Out: io.Discard, Err: io.Discard, Env: env}}).root()
	}
	seen := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		own := c.HasParent() && c.Name() != "help" && c.Parent().Name() != "completion"
		if own && c.Runnable() && c.Example == "" {
			t.Errorf("%s has no example", c.CommandPath())
		}
		for line := range strings.SplitSeq(strings.ReplaceAll(c.Example, "\\\n", " "), "\n") {
			if read, err := readCommand(fresh(), line); err != nil {
				t.Errorf("%s: %q: %v", c.CommandPath(), line, err)
			} else if read {
				seen++
			}
		}
		for _, below := range c.Commands() {
			walk(below)
		}
	}
	walk(fresh())
	if seen < 150 {
		t.Errorf("only %d examples were read", seen)
	}
}
