package cli

import (
	"os"
	"path/filepath"
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
