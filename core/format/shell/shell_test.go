package shell_test

import (
	"os/exec"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/shell"
)

// TestQuote lets a real shell say what it makes of quoted words.
func TestQuote(t *testing.T) {
	for _, v := range []string{"", "a b", "'", "''", `\'`, `"$(id)"`, "`id`", "$HOME", "a\nb", "*",
		"~", "-n", "ü漢", "\\", "!x", "#", "a;b&c|d>e"} {
		out, err := exec.Command("sh", "-c", "printf '%s' "+shell.Quote(v)).Output()
		if err != nil || string(out) != v {
			t.Errorf("%q: the shell has %q, %v", v, out, err)
		}
	}
}

// TestScripts holds the order in which a script works, and that nothing is started below
// a root of its own.
func TestScripts(t *testing.T) {
	files := shell.Scripts(shell.Job{
		Connection: "Skerry Line's",
		ID:         "AB",
		Done:       "It's done.",
		Apply:      []string{"apply"},
		Revoke:     []string{"revoke"},
		Placements: []shell.Placement{
			{File: "a", Path: "/etc/a b", Mode: "0600"},
			{File: "c", Path: "/etc/c", Mode: "0644", Merge: "skerry"},
		},
	}, []format.File{{Name: "a", Content: []byte("abc")}})
	for i, want := range [][]string{
		{"set -eu", "umask 077", "sound 'a' " +
			"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
			"place 'a' '/etc/a b' 0600", "merge 'c' '/etc/c' 0644 ';' 'skerry'",
			"if [ -z \"$root\" ]; then\n\tapply\nfi", `echo 'It'\''s done.'`},
		{"set -eu", "if [ -z \"$root\" ]; then\n\trevoke\nfi", `forget "$list"`},
	} {
		text := string(files[i].Content)
		for _, part := range want {
			_, rest, ok := strings.Cut(text, part)
			if !ok {
				t.Fatalf("%s: %q is not there, or not in its place", files[i].Name, part)
			}
			text = rest
		}
		if out, err := exec.Command("sh", "-n", "-c", string(files[i].Content)).
			CombinedOutput(); err != nil {
			t.Errorf("%s: %s", files[i].Name, out)
		}
	}
	if files[0].Name != "skerry-line-s-install.sh" || files[1].Name != "skerry-line-s-remove.sh" {
		t.Errorf("named %s and %s", files[0].Name, files[1].Name)
	}
}
