package ovpn

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/format"
	"wardicon/core/vpn"
)

// client runs the real client on a file for at most so long, and gives what it says.
func client(t *testing.T, limit time.Duration, text string) string {
	t.Helper()
	if _, err := exec.LookPath("openvpn"); err != nil {
		t.Skip("openvpn is not installed")
	}
	dir := t.TempDir()
	for name, content := range map[string]string{"a.ovpn": text, "up": "a_fjell\ngannet\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "openvpn", "--cd", dir, "--config", "a.ovpn")
	out, _ := cmd.CombinedOutput() // it fails: no gateway is there
	return string(out)
}

// outsiders are options that the client of Debian is built without, or that end it at once.
var outsiders = []string{
	"setcon", "config", "daemon", "genkey", "help", "inetd", "version", "chroot", "syslog",
	"test-crypto", "log",
	"log-append", "errors-to-stderr", "parameter",
}

// named are options that the client knows well enough to say by name that it refuses them.
var named = []string{"client-cert-not-required", "compat-names", "no-name-remapping"}

// TestTunnelOptions asks the real client of every option whether it knows it, and with how many
// words: those that others refuse must be those that it refuses.
func TestTunnelOptions(t *testing.T) {
	if testing.Short() {
		t.Skip("one run of the client for each option")
	}
	for name, c := range options {
		if slices.Contains(outsiders, name) || strings.HasPrefix(name, "show-") {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			known := false
			count, counted := arity[name]
			for n, words := range []string{"", " 1", " 1 2", " 1 2 3", " 1 2 3 4", " 1 2 3 4 5"} {
				out := client(t, 5*time.Second, name+words+"\n")
				takes := !strings.Contains(out, "Unrecognized option")
				if known = known || takes; counted && takes != (n >= count.least && n <= count.most) {
					t.Errorf("with %d words the client takes it: %t", n, takes)
				}
			}
			want := c != windows && c != removed || slices.Contains(named, name)
			if known != want {
				t.Errorf("the client knows it: %t, expected %t", known, want)
			}
		})
	}
}

const tunnelHead = "client\ndev null\nremote 127.0.0.1 9 udp\nremote-cert-tls server\n" +
	"auth-user-pass up\n"

// TestTunnelKept reads files whose routes the gateway decides, and whose remotes stand in blocks:
// written again they mean the same, and what has no place is named.
func TestTunnelKept(t *testing.T) {
	text := tunnelHead + "<connection>\nremote one.example 443 tcp-client\nhttp-proxy 10.0.0.9 " +
		"3128\n</connection>\n" +
		"<connection>\nremote two.example\nproto udp\nport 1200\n</connection>\nstatic-challenge " +
		"\"Code\" 1\n"
	r := Read("a.ovpn", []byte(text), nil)
	if len(r.Connections) != 1 {
		t.Fatalf("%d connections, %+v", len(r.Connections), r.Notes)
	}
	c := r.Connections[0].Connection
	want := []vpn.Remote{
		{Address: "one.example", Port: 443, Transport: vpn.TCP},
		{Address: "two.example", Port: 1200, Transport: vpn.UDP},
	}
	if !slices.Equal(c.TLS.Remotes, want) || c.Tunnel != vpn.TunnelPushed {
		t.Errorf("remotes %+v, tunnel %s", c.TLS.Remotes, c.Tunnel)
	}
	var left []string
	for _, u := range r.NotCarried {
		left = append(left, u.What)
	}
	if got := strings.Join(left, ", "); got != "http-proxy 10.0.0.9, static-challenge Code" {
		t.Errorf("not carried: %s", got)
	}
	c.TLS.Auth, c.Identifier, c.UUID =
		vpn.TLSPassword, "a.example", "6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11"
	files, err := Codec.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	again := Read(files[0].Name, files[0].Content, format.Files(files))
	if len(again.Connections) != 1 || again.Connections[0].Connection.Tunnel != vpn.TunnelPushed ||
		!slices.Equal(again.Connections[0].Connection.TLS.Remotes, want) {
		t.Errorf("written again it says\n%s", files[0].Content)
	}
}
