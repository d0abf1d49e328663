package main

import (
	"bytes"
	"strings"
	"testing"
)

// TestRun reads logs as go test writes them.
func TestRun(t *testing.T) {
	const (
		start = `{"Action":"run","Package":"a","Test":"TestX"}` + "\n" +
			`{"Action":"output","Package":"a","Test":"TestX","Output":"=== RUN   TestX\n"}` + "\n" +
			`{"Action":"output","Package":"a","Test":"TestX","Output":"    x_test.go:7: no ` +
			`chromium here\n"}` + "\n"
		pass  = start + `{"Action":"pass","Package":"a","Test":"TestX"}` + "\n"
		skip  = start + `{"Action":"skip","Package":"a","Test":"TestX"}` + "\n"
		fail  = start + `{"Action":"fail","Package":"a","Test":"TestX"}` + "\n"
		build = `{"Action":"build-output","Output":"a.go:1: undefined: y\n"}` + "\n" +
			`{"Action":"build-fail"}` + "\n"
	)
	for _, c := range []struct {
		name, log string
		strict    bool
		code      int
		said      string // or nothing
	}{
		{"passes", pass, true, 0, ""},
		{"is skipped", skip, false, 0, "1 tests were skipped:\n  a TestX: no chromium here\n"},
		{"is skipped where nothing may be", skip, true, 1, "With CI=true"},
		{"fails", fail, false, 1, "no chromium here"},
		{"is not built", build, false, 1, "undefined: y"},
	} {
		var out bytes.Buffer
		if code := run(strings.NewReader(c.log), &out, c.strict); code != c.code {
			t.Errorf("a test that %s ends with %d, expected %d", c.name, code, c.code)
		}
		if !strings.Contains(out.String(), c.said) || c.said == "" && out.Len() > 0 {
			t.Errorf("a test that %s says %q, expected %q", c.name, out.String(), c.said)
		}
	}
}
