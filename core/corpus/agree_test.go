package corpus_test

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// begun are the words with which the client of the tunnel tells that it took a file and sets off.
var begun = []string{
	"link remote:", "Attempting to establish", "Preserving recently used", "RESOLVE:",
	"can't ask for 'CHALLENGE",
}

// tunnelClient brings a file to the client of the tunnel; it answers what it says when it refuses,
// or nothing.
func tunnelClient(t *testing.T, tab *table, text string) string {
	t.Helper()
	here := strings.NewReplacer("auth-user-pass\n", "auth-user-pass up\n",
		"remote norrvik.skerryline.example", "remote 127.0.0.1")
	dir := tab.fresh(t, here.Replace(text))
	if err := os.WriteFile(filepath.Join(dir, "up"), []byte("a\nb\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "unshare", "-n", "openvpn", "--cd", dir, "--config", tab.file)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stderr = cmd.Stdout
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var said []string
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		for _, word := range begun {
			if strings.Contains(lines.Text(), word) {
				cancel()
				_ = cmd.Wait()
				return ""
			}
		}
		said = append(said, lines.Text())
	}
	if _ = cmd.Wait(); ctx.Err() != nil {
		return ""
	}
	return strings.Join(said, "\n")
}

// clients are those that are installed, by the name that tables have for them.
func clients(t *testing.T) map[string]func(*testing.T, *table, string) string {
	t.Helper()
	list := map[string]func(*testing.T, *table, string) string{}
	if _, err := exec.LookPath("openvpn"); err == nil {
		list["openvpn"] = tunnelClient
	}
	if p := startPlugins(t); p != nil {
		list["nmcli"] = p.keyfileClient
	}
	if _, err := os.Stat("/usr/lib/ipsec/plugins/libstrongswan-openssl.so"); err == nil {
		if _, err := exec.LookPath("/usr/sbin/charon-systemd"); err == nil {
			list["swanctl"] = daemonClient
		}
	}
	if _, err := exec.LookPath("pppd"); err == nil {
		list["pppd"] = pppClient
	}
	if _, err := exec.LookPath("/usr/lib/ipsec/starter"); err == nil {
		list["starter"] = starterClient
	}
	return list
}

// TestClientsAgree brings the cases to the real clients: what a client refuses, with the words that
// stand in the case, is an error, and where it has no words it takes the file.
func TestClientsAgree(t *testing.T) {
	t.Parallel()
	clients := clients(t)
	for _, tab := range tables(t) {
		client := clients[tab.client]
		if client == nil {
			continue
		}
		t.Run(filepath.Base(tab.path), func(t *testing.T) {
			t.Parallel()
			for _, c := range tab.cases {
				t.Run(c.name, func(t *testing.T) {
					if tab.client == "starter" {
						t.Parallel() // it never ends by itself
					}
					agrees(t, &tab, c, client(t, &tab, c.text))
				})
			}
		})
	}
}

// agrees holds what a case expects to what the client says.
func agrees(t *testing.T, tab *table, c oneCase, said string) {
	t.Helper()
	expected := strings.Join(c.expected, " ")
	switch {
	case c.said == "" && said != "":
		t.Errorf("%s:%d: %s: the client refuses it:\n%s", tab.path, c.line, c.name, said)
	case !strings.Contains(said, c.said):
		t.Errorf("%s:%d: %s: the client says\n%s", tab.path, c.line, c.name, said)
	case said != "" && !strings.Contains(expected, "error ") &&
		!strings.Contains(expected, "option-older-clients"):
		t.Errorf("%s:%d: %s: the client refuses it, and no error is expected", tab.path, c.line, c.name)
	}
}
