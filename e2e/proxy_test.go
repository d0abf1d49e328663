package e2e

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wardicon/client"
)

// TestProxies puts the service behind proxies with the examples of the package: the address of whoever
// asks is the one that the proxy has seen and no other, cookies are those of TLS, and pages are told of
// changes at once.
func TestProxies(t *testing.T) {
	t.Parallel()
	cert, key, pool := certificate(t)
	for name, proxy := range map[string]struct {
		file, pem string
		run       func(t *testing.T, dir, config string) *exec.Cmd
	}{
		"nginx": {"nginx.conf", "", func(_ *testing.T, dir, config string) *exec.Cmd {
			main := filepath.Join(dir, "main.conf")
			text := "daemon off; pid " + dir + "/pid; error_log stderr; worker_processes 1;\n" +
				"events {}\nhttp { client_body_temp_path " + dir + "/b; proxy_temp_path " + dir +
				"/p; fastcgi_temp_path " + dir + "/f; uwsgi_temp_path " + dir + "/u; scgi_temp_path " +
				dir + "/s; include " + config + "; }\n"
			if err := os.WriteFile(main, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
			return exec.Command("/usr/sbin/nginx", "-p", dir, "-c", main, "-e", "stderr")
		}},
		"haproxy": {"haproxy.cfg", "one", func(_ *testing.T, _, config string) *exec.Cmd {
			return exec.Command("/usr/sbin/haproxy", "-db", "-f", config)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			p := serve(t, setUp(t), "--proxy", "127.0.0.1")
			address := freeAddress(t)
			chain, private := cert, key
			if proxy.pem != "" { // both in one file
				chain = filepath.Join(dir, "both.pem")
				var both []byte
				for _, f := range []string{cert, key} {
					data, err := os.ReadFile(f)
					if err != nil {
						t.Fatal(err)
					}
					both = append(both, data...)
				}
				if err := os.WriteFile(chain, both, 0o600); err != nil {
					t.Fatal(err)
				}
			}
			text, err := os.ReadFile(filepath.Join("../packaging/proxies", proxy.file))
			if err != nil {
				t.Fatal(err)
			}
			changed := strings.NewReplacer("listen 443", "listen "+address, "bind :443", "bind "+address,
				"127.0.0.1:7480;", strings.TrimPrefix(p.url, "http://")+";",
				"127.0.0.1:7480 check", strings.TrimPrefix(p.url, "http://")+" check",
				"/etc/ssl/connect/chain.pem", chain, "/etc/ssl/connect/connect.pem", chain,
				"/etc/ssl/connect/key.pem", private).Replace(string(text))
			config := filepath.Join(dir, proxy.file)
			if err := os.WriteFile(config, []byte(changed), 0o600); err != nil {
				t.Fatal(err)
			}
			cmd := proxy.run(t, dir, config)
			if _, err := os.Stat(cmd.Path); err != nil {
				if os.Getenv("CI") == "true" {
					t.Fatal(err)
				}
				t.Skip("skipped: " + name + " is not installed")
			}
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			defer func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }()
			jar, _ := cookiejar.New(nil)
			from := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 9)}, Timeout: 5 * time.Second}
			web := &http.Client{Jar: jar, Transport: &http.Transport{
				TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true,
				DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
					return from.DialContext(ctx, network, to)
				},
			}}
			var res *http.Response
			body := `{"name":"owner","password":"` + ownerPassword + `","kind":"cookie"}`
			for end := time.Now().Add(15 * time.Second); time.Now().Before(end); time.Sleep(200 *
				time.Millisecond) {
				r, err := http.NewRequest("POST", "https://"+address+"/api/v1/session", strings.NewReader(body))
				if err != nil {
					t.Fatal(err)
				}
				r.Header.Set("Content-Type", "application/json")
				r.Header.Set("X-Forwarded-For", "203.0.113.9")
				if res, err = web.Do(r); err == nil && res.StatusCode == 200 {
					break
				}
			}
			if res == nil || res.StatusCode != 200 || res.ProtoMajor != 2 {
				t.Fatalf("signing in is answered with %+v", res)
			}
			_ = res.Body.Close()
			for _, c := range res.Cookies() {
				if !c.Secure || !strings.HasPrefix(c.Name, "__Host-") {
					t.Errorf("the cookie %s is not one of TLS", c.Name)
				}
			}
			direct := signedIn(t, p.url)
			audit, err := direct.Audit(t.Context(), client.Query{Limit: 20})
			if err != nil || !strings.Contains(fmt.Sprint(audit.Items), "cookie from 127.0.0.9") ||
				strings.Contains(fmt.Sprint(audit.Items), "203.0.113.9") {
				t.Errorf("the audit log has %v (%v)", audit.Items, err)
			}
			// Pages are told of changes at once.
			live, err := web.Get("https://" + address + "/api/v1/changes")
			if err != nil || live.StatusCode != 200 {
				t.Fatal(err, live)
			}
			defer func() { _ = live.Body.Close() }()
			told := make(chan bool, 1)
			go func() {
				for lines := bufio.NewScanner(live.Body); lines.Scan(); {
					if strings.Contains(lines.Text(), "person") {
						told <- true
						return
					}
				}
			}()
			time.Sleep(300 * time.Millisecond)
			if _, err := direct.People.Add(t.Context(), map[string]any{"name": "Ada Fjell"}); err != nil {
				t.Fatal(err)
			}
			select {
			case <-told:
			case <-time.After(5 * time.Second):
				t.Error("a page is not told of a change")
			}
		})
	}
}
