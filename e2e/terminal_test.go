package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"wardicon/client"
)

// onTerminal runs a command line on a terminal of so many columns, as somebody who types an answer.
func (f *fleet) onTerminal(columns, answer string, env []string, args ...string) string {
	f.t.Helper()
	if _, err := exec.LookPath("script"); err != nil {
		f.t.Skip("script, of the package bsdutils, is not installed: no terminal to run on")
	}
	quoted := []string{"stty", "cols", columns, ";", "'" + os.Args[0] + "'"}
	for _, arg := range args {
		quoted = append(quoted, "'"+arg+"'")
	}
	cmd := exec.Command("script", "-qec", strings.Join(quoted, " "), "/dev/null")
	cmd.Env = append(
		os.Environ(),
		"WARDICON_PROCESS=1",
		"WARDICON_SERVICE="+f.url,
		"TERM=xterm",
		"XDG_CONFIG_HOME="+filepath.Join(
			f.dir,
			"..",
			"config",
		),
		"WARDICON_CONFIRM_FILE="+f.confirmFile(),
	)
	cmd.Env = append(cmd.Env, env...)
	cmd.Stdin = strings.NewReader(answer)
	out, _ := cmd.CombinedOutput() // its exit code is the command's
	return string(out)
}

var identifiers = regexp.MustCompile(`\b[a-z]{2}-[0-9a-z]{16}\b`)

// TestTerminal runs commands on a terminal: output fits it, severities are coloured unless that is
// not wanted, and what cannot be undone is asked for.
func TestTerminal(t *testing.T) {
	f := start(t, true)
	f.commands()
	widest := func(out string) (most int) {
		for line := range strings.Lines(strings.NewReplacer("\x1b[31m", "", "\x1b[0m",
			"").Replace(out)) {
			most = max(most, utf8.RuneCountInString(strings.TrimRight(line, "\r\n")))
		}
		return most
	}
	const errorsOnly = "severity=error"
	for _, c := range []struct {
		name, columns string
		args          []string
	}{
		{"plan", "90", []string{"plan", "Planner Mac 1", "Norrvik"}},
		{"findings", "100", []string{"finding", "list", "--filter", errorsOnly, "--limit", "5"}},
		{"devices", "80", []string{"device", "list"}},
		{"help", "80", []string{"gateway", "add", "--help"}},
	} {
		out := f.onTerminal(c.columns, "", nil, c.args...)
		if want := map[string]int{"80": 80, "90": 90, "100": 100}[c.columns]; c.name != "help" &&
			widest(out) > want {
			t.Errorf("%s: %d columns on a terminal of %d\n%s", c.name, widest(out), want, out)
		}
		if c.name == "help" &&
			strings.Contains(
				out,
				"\n      --known-address strings          IP addresses that the name should "+
					"resolve to; the checks verify",
			) {
			t.Errorf("the help of a flag is not wrapped\n%s", out)
		}
	}
	const red = "\x1b[31merror\x1b[0m"
	list := []string{"finding", "list", "--filter", errorsOnly, "--limit", "1"}
	if out := f.onTerminal("120", "", nil, list...); !strings.Contains(out, red) {
		t.Errorf("no colour on a terminal\n%q", out)
	}
	if out := f.onTerminal(
		"120",
		"",
		[]string{"NO_COLOR=1"},
		list...); strings.Contains(
		out,
		"\x1b[",
	) {
		t.Errorf("coloured although NO_COLOR is set\n%q", out)
	}
	if _, out, _ := f.run("", list...); strings.Contains(out, "\x1b[") {
		t.Errorf("coloured in a file\n%q", out)
	}

	ctx := t.Context()
	if _, err := f.client.People.Add(
		ctx,
		client.Patch{"name": "Mira \x1b[31;7m Holt"},
	); err == nil {
		t.Error("a name with an escape sequence was accepted")
	}
	person, err := f.client.People.Add(ctx, client.Patch{"name": "Mira Holt"})
	if err != nil {
		t.Fatal(err)
	}
	if out := f.onTerminal(
		"80",
		"n\n",
		nil,
		"person",
		"remove",
		"Mira Holt",
	); !strings.Contains(
		out,
		"Remove the person Mira Holt? [y/N]",
	) {
		t.Errorf("not asked before a person is removed\n%s", out)
	}
	if _, err := f.client.People.Show(ctx, person.ID); err != nil {
		t.Errorf("removed after the answer n: %v", err)
	}
	f.onTerminal("80", "y\n", nil, "person", "remove", "Mira Holt")
	if _, err := f.client.People.Show(ctx, person.ID); err == nil {
		t.Error("still there after the answer y")
	}
}

// TestShowAndTake gives what show prints to add and change: a record of another name, and no
// change.
func TestShowAndTake(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	page, err := f.client.Authorities.List(t.Context(), client.Query{Limit: 1})
	if err != nil || len(page.Items) == 0 {
		t.Fatalf("%d authorities, %v", len(page.Items), err)
	}
	for _, c := range []struct {
		noun, title, name, copied string
		named                     string // in the file, in the place of an identifier
	}{
		{"gateway", "name", "Norrvik", "Norrvik 2", "realm: crew"},
		{"person", "name", "Ada Fjell", "Ada Fjell 2", "ada"},
		{"account", "login", "a_fjell", "a_fjell2", "person_id: Ada Fjell"},
		{"device", "name", "Planner Mac 1", "Planner Mac 9", "person_id: Ada Fjell"},
		{"pattern", "name", "Ticket halls", "Ticket halls 2", "protocols:"},
		{"authority", "name", page.Items[0].Name, "Second authority", "BEGIN CERTIFICATE"},
		{"profile", "device_id", "Planner Mac 1/Norrvik", "Planner Mac 2", "gateway_id: Norrvik"},
	} {
		t.Run(c.noun, func(t *testing.T) {
			shown := run(0, c.named, c.noun, "show", c.name, "--output", "yaml")
			if strings.Contains(shown, "\nid:") || identifiers.MatchString(shown) {
				t.Errorf("identifiers in a file for people\n%s", shown)
			}
			path := filepath.Join(t.TempDir(), "record.yaml")
			if err := os.WriteFile(path, []byte(shown), 0o600); err != nil {
				t.Fatal(err)
			}
			run(0, "", c.noun, "change", c.name, "--from", path)
			if again := run(0, "", c.noun, "show", c.name, "--output", "yaml"); again != shown {
				t.Errorf("the record has changed from\n%s\nto\n%s", shown, again)
			}
			if c.noun == "profile" { // one of a device and a gateway is all there can be
				run(1, "", c.noun, "add", "Planner Mac 1", "--from", path)
				return
			}
			run(0, "", c.noun, "add", c.copied, "--from", path)
			other := run(0, "", c.noun, "show", c.copied, "--output", "yaml")
			if want := strings.Replace(
				shown,
				c.title+": "+c.name+"\n",
				c.title+": "+c.copied+"\n",
				1,
			); other != want {
				t.Errorf("the copy is\n%s\nexpected\n%s", other, want)
			}
		})
	}
	if out := run(
		0,
		"",
		"gateway",
		"show",
		"Brattvik",
	); strings.ContainsAny(out, "{}[]") ||
		strings.Contains(out, "false") {
		t.Errorf("a raw dump:\n%s", out)
	}
}
