package check_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"wardicon/core/check"
	"wardicon/core/vpn"
)

const document = "../../docs/rules.md"

// TestDocument holds docs/rules.md to the register. make docs writes it.
func TestDocument(t *testing.T) {
	want := written()
	if os.Getenv("WARDICON_WRITE") != "" {
		if err := os.WriteFile(document, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, err := os.ReadFile(document); err != nil || string(have) != want {
		t.Errorf("%s is not as the rules are (%v): run make docs", document, err)
	}
}

func written() string {
	var b strings.Builder
	counts := map[vpn.Severity]int{}
	for _, r := range check.Register {
		counts[r.Severity]++
	}
	fmt.Fprintf(
		&b,
		"# Rules\n\nMade from the register by `make docs`. %d rules: %d errors, which keep a "+
			"parcel from being built or handed over, %d warnings and %d notes.\n`wardicon rule list --effective` "+
			"lists them with the severities that the owner has set; `wardicon rule list CODE` "+
			"tells one.\n",
		len(check.Register),
		counts[vpn.Error],
		counts[vpn.Warning],
		counts[vpn.Note],
	)
	fmt.Fprint(&b, "\n| code | severity | finds |\n|---|---|---|\n")
	cell := strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;")
	for _, r := range check.Register {
		fmt.Fprintf(
			&b,
			"| [%s](#%s) | %s | %s |\n",
			r.Code,
			r.Code,
			r.Severity,
			cell.Replace(r.Title),
		)
	}
	text := strings.NewReplacer("<", "&lt;", "*", "\\*", "_", "\\_")
	for _, r := range check.Register {
		fields := make([]string, len(r.Fields))
		for i, f := range r.Fields {
			fields[i] = "`" + string(f) + "`"
		}
		fmt.Fprintf(
			&b,
			"\n## %s\n\n**%s** (%s, %s)\n\n",
			r.Code,
			text.Replace(r.Title),
			r.Severity,
			strings.Join(fields, ", "),
		)
		for _, line := range [][2]string{
			{"Why", r.Why},
			{"For the person", r.Plain},
			{"Fix", r.Fix},
			{"Finds", r.Bad.Text},
			{"Leaves alone", r.Good.Text},
			{"Source", r.Source},
		} {
			fmt.Fprintf(&b, "- %s: %s\n", line[0], text.Replace(line[1]))
		}
	}
	return b.String()
}
