package e2e

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

var (
	firstPort = 21000 + rand.Int32N(9000) // others may be testing, too
	nextPort  atomic.Int32
)

// freeAddress is one on loopback that nobody listens at. Its port is below those that the system
// gives away by itself, lest another test's connection take it first.
func freeAddress(t *testing.T) string {
	t.Helper()
	for range 1000 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", firstPort+nextPort.Add(1)))
		if err == nil {
			_ = l.Close()
			return l.Addr().String()
		}
	}
	t.Fatal("no port is free")
	return ""
}

// TestMonitoring has a real collector read the metrics of a real service, judge the alert rules, and
// draw the page about it.
func TestMonitoring(t *testing.T) {
	t.Parallel()
	rules, err := filepath.Abs("../packaging/monitoring")
	if err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{
		{"promtool", "check", "rules", "alerts.yaml"}, {"promtool", "test", "rules", "alerts-test.yaml"},
	} {
		if out, err := judged(t, rules, args[0], args[1:]...); err != nil {
			t.Errorf("%s: %s", strings.Join(args, " "), out)
		}
	}
	metrics, collector := freeAddress(t), freeAddress(t)
	p := serve(t, setUp(t), "--metrics", metrics, "--mirror-to", t.TempDir())
	if res, err := http.Get(p.url + "/api/v1/start"); err == nil {
		_ = res.Body.Close()
	}
	text := fetched(t, "http://"+metrics+"/metrics")
	check := exec.Command("promtool", "check", "metrics")
	check.Stdin = strings.NewReader(text)
	if out, err := check.CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	// Every number that rules and page ask for is there.
	names := regexp.MustCompile(`wardicon_[a-z_]+`)
	for _, name := range []string{"alerts.yaml", "wardicon.html"} {
		data, err := os.ReadFile(filepath.Join(rules, name))
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range names.FindAllString(string(data), -1) {
			if !strings.Contains(text, n) && n != "wardicon_gateways" && n != "wardicon_next_expiry" {
				t.Errorf("%s asks for %s, which there is not", name, n)
			}
		}
	}
	dir := t.TempDir()
	config := filepath.Join(dir, "prometheus.yml")
	if err := os.WriteFile(config, []byte(fmt.Sprintf("global: {scrape_interval: 1s, "+
		"evaluation_interval: 1s}\nrule_files: [%s/alerts.yaml]\nscrape_configs:\n- job_name: wardicon\n"+
		"  static_configs: [{targets: [%q]}]\n", rules, metrics)), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("prometheus", "--config.file="+config, "--storage.tsdb.path="+dir+"/data",
		"--web.listen-address="+collector, "--web.console.templates="+rules)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	page := ""
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(300 *
		time.Millisecond) {
		if res, err := http.Get("http://" + collector + "/consoles/wardicon.html"); err == nil {
			data, _ := io.ReadAll(res.Body)
			_ = res.Body.Close()
			if page = string(data); strings.Contains(page, "Version") && strings.Contains(page, "Emails") {
				break
			}
		}
	}
	for _, want := range []string{"Version", "Emails", "Jobs, running", "None"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not show %s:\n%s", want, page)
		}
	}
	if text := fetched(t, "http://"+collector+"/api/v1/rules"); strings.Count(text, `"health":"ok"`) < 9 {
		t.Errorf("rules are not sound: %s", text)
	}
}

func fetched(t *testing.T, url string) string {
	t.Helper()
	res, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	data, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != 200 {
		t.Fatalf("%s: %d %v", url, res.StatusCode, err)
	}
	return string(data)
}
