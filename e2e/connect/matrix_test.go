package connect

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
)

// levels are how far a parcel was proven, the furthest last. docs/formats.md says what each
// means.
var levels = []string{"read back", "accepted", "signs in", "connects"}

var (
	proofs   sync.Mutex
	evidence = map[string]string{} // by way and format
	partly   bool                  // some test could not run here
)

// proves notes how far a parcel of a way and a format came, where the test did not fail.
func proves(t testing.TB, level, form string, ways ...string) {
	t.Helper()
	if t.Failed() {
		return
	}
	proofs.Lock()
	defer proofs.Unlock()
	for _, way := range ways {
		key := way + "/" + form
		if slices.Index(levels, level) > slices.Index(levels, evidence[key]) {
			evidence[key] = level
		}
	}
}

// matrix holds the table in docs/formats.md against what was proven: a cell says no more
// than the tests do, and no less. It is looked at when all tests of the package ran.
func matrix() error {
	if f := flag.Lookup("test.run"); f != nil && f.Value.String() != "" || partly {
		return nil
	}
	data, err := os.ReadFile("../../docs/formats.md")
	if err != nil {
		return err
	}
	var forms []string
	var wrong []string
	for line := range strings.SplitSeq(string(data), "\n") {
		cells := strings.Split(line, "|")
		if len(cells) < 5 {
			continue
		}
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		if cells[1] == "protocol and way" {
			forms = cells[2:]
			continue
		}
		if forms == nil || strings.HasPrefix(cells[1], "-") {
			continue
		}
		for i, cell := range cells[2 : len(cells)-1] {
			proven := evidence[cells[1]+"/"+forms[i]]
			says := slices.Index(levels, cell)
			if strings.HasPrefix(cell, "no: ") && proven == "" ||
				says >= 0 && says <= 1 && slices.Index(levels, proven) <= 1 ||
				says > 1 && cell == proven {
				continue
			}
			wrong = append(
				wrong,
				fmt.Sprintf(
					"%s as %s: docs/formats.md says %q, proven is %q",
					cells[1],
					forms[i],
					cell,
					proven,
				),
			)
		}
		if strings.HasPrefix(cells[1], "pptp") {
			break
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s", strings.Join(wrong, "\n"))
	}
	return nil
}
