package corpus_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// line is where the client found it.
var line = regexp.MustCompile(` in a\.ovpn:\d+`)

// TestClientSays brings faults to the real client of the tunnel: it refuses each with the words
// that stand in its case.
func TestClientSays(t *testing.T) {
	if _, err := exec.LookPath("openvpn"); err != nil {
		t.Skip("openvpn is not installed")
	}
	folders, err := filepath.Glob("testdata/faults/*")
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, folder := range folders {
		f, _ := load(t, folder)
		if f.Client == "" {
			continue
		}
		seen++
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		dir := t.TempDir()
		text, err := os.ReadFile(filepath.Join(folder, "norrvik.ovpn"))
		if err != nil {
			t.Fatal(err)
		}
		// Nobody is asked for a login, and no name is looked up.
		here := strings.NewReplacer("auth-user-pass\n", "auth-user-pass up\n",
			"remote norrvik.skerryline.example", "remote 127.0.0.1")
		for name, content := range map[string]string{
			"a.ovpn": here.Replace(string(text)),
			"up":     "a\nb\n",
		} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		out, _ := exec.CommandContext(ctx, "openvpn", "--cd", dir, "--config", "a.ovpn", "--dev",
			"null").CombinedOutput()
		cancel()
		said := line.ReplaceAllString(string(out), "")
		if !strings.Contains(said, f.Client) {
			t.Errorf("%s: the client says\n%sexpected %q", folder, out, f.Client)
		}
	}
	if seen < 25 {
		t.Errorf("only %d faults have the client's words", seen)
	}
}
