package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
)

// collector is a real syslog server that writes what it takes to a file.
type collector struct {
	t         *testing.T
	port      int
	conf, out string
	cmd       *exec.Cmd
}

func (c *collector) begin() {
	c.t.Helper()
	c.cmd = exec.Command("rsyslogd", "-n", "-f", c.conf, "-i", filepath.Join(c.t.TempDir(), "pid"))
	if err := c.cmd.Start(); err != nil {
		c.t.Fatal(err)
	}
	c.t.Cleanup(func() { _ = c.cmd.Process.Kill() })
	for end := time.Now().Add(40 * time.Second); time.Now().Before(end); {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", c.port))
		if err == nil {
			_ = conn.Close()
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	c.t.Fatal("the syslog server does not listen")
}

func (c *collector) end() {
	c.t.Helper()
	if err := c.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		c.t.Fatal(err)
	}
	_ = c.cmd.Wait()
}

var sequence = regexp.MustCompile(`seq="(\d+)"`)

// taken are the lines by the number of their entry.
func (c *collector) taken() map[string]string {
	c.t.Helper()
	lines := map[string]string{}
	data, err := os.ReadFile(c.out)
	if err != nil && !os.IsNotExist(err) {
		c.t.Fatal(err)
	}
	for _, line := range strings.Split(string(data), "\n") {
		if m := sequence.FindStringSubmatch(line); m != nil {
			lines[m[1]] = line
		}
	}
	return lines
}

// TestTrails has the audit log copied to a file and to a real syslog server over TLS. Nothing is left
// out when the server is away, or the service is killed.
func TestTrails(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rsyslogd"); err != nil {
		t.Skip("rsyslogd is not installed")
	}
	ctx, here := t.Context(), t.TempDir()
	dir := setUp(t)
	certificate, key := filepath.Join(here, "log.pem"), filepath.Join(here, "log.key")
	own, private := pairUntil(t, time.Now().AddDate(0, 0, 30), "localhost")
	for path, text := range map[string]string{certificate: own, key: private} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c := &collector{t: t, port: listener.Addr().(*net.TCPAddr).Port,
		conf: filepath.Join(here, "rsyslog.conf"), out: filepath.Join(here, "taken.log")}
	if err := listener.Close(); err != nil {
		t.Fatal(err)
	}
	conf := fmt.Sprintf(`global(workDirectory=%q DefaultNetstreamDriverCAFile=%q
  DefaultNetstreamDriverCertFile=%q DefaultNetstreamDriverKeyFile=%q)
module(load="imtcp" StreamDriver.Name="gtls" StreamDriver.Mode="1" StreamDriver.AuthMode="anon")
input(type="imtcp" port="%d" address="127.0.0.1")
template(name="all" type="string"
  string="%%pri%%|%%timestamp:::date-rfc3339%%|%%app-name%%|%%msgid%%|%%structured-data%%|%%msg%%\n")
action(type="omfile" file=%q template="all")
`, here, certificate, certificate, key, c.port, c.out)
	if err := os.WriteFile(c.conf, []byte(conf), 0o600); err != nil {
		t.Fatal(err)
	}
	c.begin()
	file := filepath.Join(here, "audit.jsonl")
	options := []string{"--audit-file", file, "--audit-syslog", fmt.Sprintf("localhost:%d", c.port),
		"--audit-syslog-ca", certificate}
	p := serve(t, dir, options...)
	owner := signedIn(t, p.url)
	add := func(name string) {
		t.Helper()
		if _, err := owner.People.Add(ctx, client.Patch{"name": name}); err != nil {
			t.Fatal(err)
		}
	}
	all := func() map[string]api.AuditEntry {
		t.Helper()
		page, err := owner.Audit(ctx, client.Query{Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		entries := map[string]api.AuditEntry{}
		for _, e := range page.Items {
			entries[fmt.Sprint(e.Seq)] = e
		}
		return entries
	}
	arrived := func(when string) {
		t.Helper()
		var entries map[string]api.AuditEntry
		var lines map[string]string
		for end := time.Now().Add(40 * time.Second); time.Now().Before(end); {
			entries, lines = all(), c.taken()
			if len(lines) == len(entries) {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatalf("%s: %d of %d entries have arrived\n%s", when, len(lines), len(entries), p.logged())
	}
	add(`Ada "of the" fjells] \ ünï`)
	arrived("at first")
	hostile := ""
	for _, line := range c.taken() {
		if strings.Contains(line, "fjells") {
			hostile = line
		}
		if !strings.HasPrefix(line, "110|20") || !strings.Contains(line, "|wardicon|audit|") {
			t.Errorf("the server has taken %s", line)
		}
	}
	if !strings.Contains(hostile, `noun="person"`) ||
		!strings.Contains(hostile, `Ada "of the" fjells] \ ünï`) {
		t.Errorf("the server has taken %s", hostile)
	}

	c.end()
	add("Bo, while the server is away")
	add("Cy, while the server is away")
	p.stop(os.Kill)
	c.begin()
	p = serve(t, dir, options...)
	owner = signedIn(t, p.url)
	arrived("after both were away")

	appended := func() map[string]bool {
		t.Helper()
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for lines := bufio.NewScanner(bytes.NewReader(data)); lines.Scan(); {
			var e api.AuditEntry
			if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
				t.Fatalf("%v: %s", err, lines.Text())
			}
			seen[fmt.Sprint(e.Seq)] = true
		}
		return seen
	}
	wanted := all()
	for end := time.Now().Add(20 * time.Second); len(appended()) < len(wanted) &&
		time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	seen := appended()
	for seq := range wanted {
		if !seen[seq] {
			t.Errorf("entry %s is not in the file", seq)
		}
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file has mode %v (%v)", info.Mode(), err)
	}
	p.stop(os.Interrupt)
	if code, out := said(t, nil, "serve", "--data", dir, "--listen", "127.0.0.1:0",
		"--audit-syslog", "localhost"); code != 2 || !strings.Contains(out, "a host and a port") {
		t.Errorf("ended with %d: %s", code, out)
	}
}
