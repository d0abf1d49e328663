package corpus_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// pppClient brings options to pppd: it says what it does not take before it looks for the device.
func pppClient(t *testing.T, tab *table, text string) string {
	cmd := exec.Command("pppd", "file", filepath.Join(tab.fresh(t, text), tab.file), "nodetach", "dryrun")
	out, _ := cmd.CombinedOutput()
	if strings.Contains(string(out), "/dev/ppp") || strings.Contains(string(out), "kernel") ||
		len(out) == 0 {
		return ""
	}
	return string(out)
}

// starterClient brings the older form to the program that reads it.
func starterClient(t *testing.T, tab *table, text string) string {
	cmd := exec.Command("unshare", "-n", "-m", "sh", "-c", `mount -t tmpfs tmpfs /run
mount --bind "$2" /usr/lib/ipsec/charon
timeout 2 /usr/lib/ipsec/starter --nofork --conf "$1" --debug 2>&1`, "sh",
		filepath.Join(tab.fresh(t, text), tab.file), "/bin/true")
	out, _ := cmd.CombinedOutput()
	var said []string
	for line := range strings.SplitSeq(string(out), "\n") {
		for _, word := range []string{"bad value", "not found", "syntax error", "fatal errors", "ignored"} {
			if strings.Contains(line, word) {
				said = append(said, line)
				break
			}
		}
	}
	return strings.Join(said, "\n")
}

// daemonClient brings a configuration to the IKE daemon, and tells what it says when it refuses a
// connection, a secret or the whole file.
func daemonClient(t *testing.T, tab *table, text string) string {
	dir := tab.fresh(t, text)
	for name, to := range map[string]string{
		"root.pem": "x509ca", "client.pem": "x509", "client.key": "private",
	} {
		if err := os.MkdirAll(filepath.Join(dir, to), 0o700); err != nil {
			t.Fatal(err)
		}
		if data, err := os.ReadFile(filepath.Join(dir, name)); err == nil {
			if err := os.WriteFile(filepath.Join(dir, to, name), data, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	cmd := exec.Command("unshare", "-n", "-m", "sh", "-c", `mount -t tmpfs tmpfs /run
printf 'charon-systemd { plugins { vici { socket = unix:///run/charon.vici } } }\n' > strongswan.conf
export STRONGSWAN_CONF="$PWD/strongswan.conf" SWANCTL_DIR="$PWD"
/usr/sbin/charon-systemd > /dev/null 2>&1 & daemon=$!
for i in $(seq 200); do [ -S /run/charon.vici ] && break; sleep 0.02; done
timeout 10 swanctl --load-all --noprompt --file "$1" 2>&1
kill $daemon; wait $daemon`, "sh", tab.file)
	cmd.Dir = dir
	out, _ := cmd.CombinedOutput()
	var said []string
	for line := range strings.SplitSeq(string(out), "\n") {
		fails := strings.Contains(line, "failed:") || strings.Contains(line, "invalid") ||
			strings.Contains(line, "syntax error") || strings.Contains(line, "unsupported")
		// Folders that nobody needs, and modules that Debian packs apart, are no faults.
		if fails && !strings.Contains(line, "opening directory") &&
			!strings.Contains(line, "expanding file pattern") && !strings.Contains(line, "plugin '") {
			said = append(said, line)
		}
	}
	return strings.Join(said, "\n")
}
