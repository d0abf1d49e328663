package cli

import (
	"io"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// shellWords are the parts of a command line, as far as examples need a shell.
var shellWords = regexp.MustCompile(`"[^"]*"|'[^']*'|[^\s"']+`)

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
			line, _, _ = strings.Cut(line, "#")
			line, _, _ = strings.Cut(line, "|")
			line, _, _ = strings.Cut(line, ">")
			line, _, _ = strings.Cut(line, "<")
			rest, ok := strings.CutPrefix(strings.TrimSpace(line), "wardicon ")
			if !ok {
				continue
			}
			seen++
			var args []string
			for _, w := range shellWords.FindAllString(rest, -1) {
				args = append(args, strings.Trim(w, `"'`))
			}
			target, left, err := fresh().Find(args)
			if err != nil {
				t.Errorf("%s: %q: %v", c.CommandPath(), line, err)
				continue
			}
			if err := target.ParseFlags(left); err != nil {
				t.Errorf("%s: %q: %v", c.CommandPath(), line, err)
				continue
			}
			if err := target.ValidateArgs(target.Flags().Args()); err != nil {
				t.Errorf("%s: %q: %v", c.CommandPath(), line, err)
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
