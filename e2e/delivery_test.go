package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestDelivery lets a gateway fetch its configuration by its script: what changed goes into place,
// the daemons are reloaded once, and what the gateway runs is seen.
func TestDelivery(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("curl"); err != nil {
		t.Skip("curl is not installed")
	}
	f := start(t, true)
	run := f.commands()
	dir := t.TempDir()
	script, root := filepath.Join(dir, "fetch.sh"), filepath.Join(dir, "root")
	reloaded := filepath.Join(dir, "reloaded")
	run(4, "", "gateway", "delivery", "Brattvik")
	run(0, "fetches from "+f.url, "gateway", "delivery", "Brattvik", "--script", script, "--reload",
		"echo 'it'\"'\"'s done' >> "+reloaded+" && test ! -e "+dir+"/broken")
	run(0, "has not asked", "gateway", "delivery", "Brattvik")
	fetch := func(well bool) string {
		t.Helper()
		cmd := exec.Command("sh", script)
		cmd.Env = append(os.Environ(), "ROOT="+root)
		out, err := cmd.CombinedOutput()
		if (err == nil) != well {
			t.Fatalf("%v: %s", err, out)
		}
		if strings.Contains(string(out), "wg-") {
			t.Errorf("the token is shown: %s", out)
		}
		return string(out)
	}
	reloads := func() int {
		data, _ := os.ReadFile(reloaded)
		return strings.Count(string(data), "it's done\n")
	}
	if out := fetch(true); !strings.Contains(out, "brattvik.conf") || reloads() != 1 {
		t.Errorf("the first time: %s, %d reloads", out, reloads())
	}
	for path, mode := range map[string]os.FileMode{
		"/etc/swanctl/conf.d/brattvik.conf":          0o600,
		"/etc/swanctl/conf.d/brattvik-users.conf":    0o600,
		"/etc/openvpn/server/brattvik-udp-1194.conf": 0o600,
		"/etc/openvpn/server/brattvik-check":         0o755,
		"/etc/ppp/chap-secrets":                      0o600,
		"/etc/xl2tpd/xl2tpd.conf":                    0o600,
		"/etc/pptpd.conf":                            0o644,
		"/var/lib/wardicon-gateway/README.txt":       0o600,
		"/etc/openvpn/server/brattvik-tcp-443.conf":  0o600,
		"/etc/ppp/options.brattvik-pptp":             0o600,
		"/etc/openvpn/server/brattvik-control.key":   0o600,
		"/var/lib/wardicon-gateway/brattvik.nft":     0o600,
		"/var/lib/wardicon-gateway/version":          0o600,
		"/etc/openvpn/server/brattvik-clients.pem":   0o600,
	} {
		if info, err := os.Stat(root + path); err != nil || info.Mode().Perm() != mode {
			t.Errorf("%s: %v, %v", path, info, err)
		}
	}
	if out := fetch(true); out != "" || reloads() != 1 {
		t.Errorf("nothing has changed: %q, %d reloads", out, reloads())
	}
	run(0, "runs what was on record", "gateway", "delivery", "Brattvik")

	// One remote goes, and a reload that fails is tried again. Another gateway's files stay.
	neighbour := root + "/etc/openvpn/server/brattvik-2-udp-1194.conf"
	if err := os.WriteFile(neighbour, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	run(0, "", "gateway", "change", "Brattvik", "--tls-remote", "udp:1194")
	broken := filepath.Join(dir, "broken")
	if err := os.WriteFile(broken, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if out := fetch(false); !strings.Contains(out, "not reloaded") {
		t.Errorf("a reload that fails: %s", out)
	}
	if _, err := os.Stat(root + "/etc/openvpn/server/brattvik-tcp-443.conf"); err == nil {
		t.Error("what is no longer on record still runs")
	}
	if _, err := os.Stat(neighbour); err != nil {
		t.Errorf("the files of another gateway: %v", err)
	}
	run(0, "is on record", "gateway", "delivery", "Brattvik")
	if err := os.Remove(broken); err != nil {
		t.Fatal(err)
	}
	if fetch(true); reloads() != 3 {
		t.Errorf("%d reloads, expected 3", reloads())
	}
	run(0, "runs what was on record", "gateway", "delivery", "Brattvik")
	data, err := os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(f.log.String(), "wg-") {
		t.Error("the log has the token")
	}
	run(0, "", "gateway", "delivery", "Brattvik", "--end", "--yes")
	if out := fetch(false); !strings.Contains(out, "answers 401") {
		t.Errorf("a token that was taken away: %s", out)
	}
	if out, err := exec.Command("sh", "-n", script).CombinedOutput(); err != nil {
		t.Errorf("%v %s\n%s", err, out, data)
	}
}
