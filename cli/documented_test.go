package cli

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/pflag"
)

// TestSettingsDocumented holds that every setting of the service stands in the documents.
func TestSettingsDocumented(t *testing.T) {
	var all strings.Builder
	files, err := filepath.Glob("../docs/*.md")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, name := range append(files, "../README.md") {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all.Write(data)
	}
	n := 0
	(&app{}).serve().Flags().VisitAll(func(f *pflag.Flag) {
		n++
		if !strings.Contains(all.String(), "--"+f.Name) {
			t.Errorf("--%s stands in no document", f.Name)
		}
	})
	if n < 20 {
		t.Errorf("there are %d settings", n)
	}
}

// blocks are the fenced blocks of a document.
var blocks = regexp.MustCompile("(?ms)^```[a-z]*\n(.*?)^```")

// TestDocumentedCommands reads every command of the documents as the command line does.
func TestDocumentedCommands(t *testing.T) {
	files, err := filepath.Glob("../docs/*.md")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	seen := 0
	for _, name := range append(files, "../README.md") {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, block := range blocks.FindAllStringSubmatch(string(data), -1) {
			for line := range strings.SplitSeq(strings.ReplaceAll(block[1], "\\\n", " "), "\n") {
				env := func(string) string { return "" }
				root := (&app{Streams: Streams{Out: io.Discard, Err: io.Discard, Env: env}}).root()
				if read, err := readCommand(root, line); err != nil {
					t.Errorf("%s: %q: %v", filepath.Base(name), line, err)
				} else if read {
					seen++
				}
			}
		}
	}
	if seen < 140 {
		t.Errorf("only %d commands were read", seen)
	}
}
