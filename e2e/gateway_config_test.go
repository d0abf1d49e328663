package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/demo"
)

// TestGatewayConfig writes the configuration of a gateway that offers everything: nobody else reads
// it, no password of the TLS tunnel stands in it, what is left is said, and nft takes its rules. That
// the daemons connect by it is shown by the tests of package connect.
func TestGatewayConfig(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	dir := filepath.Join(t.TempDir(), "brattvik")
	out := run(0, "left to you: SSTP", "gateway", "config", "Brattvik", "--out", dir)
	if strings.Contains(out, "spindle") || strings.Contains(out, "$6$") {
		t.Error("a secret is shown")
	}
	text := map[string]string{}
	files, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		data, err := os.ReadFile(filepath.Join(dir, file.Name()))
		if err != nil {
			t.Fatal(err)
		}
		text[file.Name()] = string(data)
		if info, err := file.Info(); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", file.Name(), info.Mode(), err)
		}
	}
	for name, want := range map[string]string{
		"brattvik.conf":          "addrs = 10.99.50.0/27",
		"brattvik-users.conf":    "eap-brattvik-1 {",
		"brattvik-udp-1194.conf": "server 10.99.50.32 255.255.255.224",
		"brattvik-tcp-443.conf":  "server 10.99.50.64 255.255.255.224",
		"xl2tpd.conf":            "ip range = 10.99.50.98-10.99.50.126",
		"pptpd.conf":             "remoteip 10.99.50.130-158",
		"options.brattvik-pptp":  "require-mschap-v2\n",
		"brattvik-users":         "a_fjell@crew.skerryline.example\t$6$",
		"chap-secrets":           "a_fjell@crew.skerryline.example * ",
		"brattvik.nft":           "udp dport 1701 drop",
		"README.txt":             "Left to you:\n",
	} {
		if !strings.Contains(text[name], want) {
			t.Errorf("%s has no %q:\n%s", name, want, text[name])
		}
	}
	if nft, err := exec.LookPath("nft"); err == nil && os.Geteuid() == 0 {
		if out, err := exec.Command(nft, "-c", "-f",
			filepath.Join(dir, "brattvik.nft")).CombinedOutput(); err != nil {
			t.Errorf("nft: %v %s", err, out)
		}
	} else {
		t.Log("skipped: nft is not installed, or this is not root")
	}
	again := filepath.Join(t.TempDir(), "again")
	run(0, "", "gateway", "config", "Brattvik", "--out", again)
	for name, before := range text { // only what changed may differ from one time to the next
		if data, err := os.ReadFile(filepath.Join(again, name)); err != nil || string(data) != before {
			t.Errorf("%s differs the second time (%v)", name, err)
		}
	}
	run(2, "--out", "gateway", "config", "Brattvik")
	list, err := f.client.Gateways.List(t.Context(), client.Query{Search: "Brattvik"})
	if err != nil {
		t.Fatal(err)
	}
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	b.goTo("/gateways/"+list.Items[0].ID+"?tab=keys", "Brattvik")
	b.press("Make configuration")
	b.confirm(demo.OwnerPassword)
	b.see("Some of the files hold passwords")
	b.see("brattvik-udp-1194.conf")
	b.accessible("a gateway's configuration")
	b.fits()
	b.do(chromedp.ScrollIntoView("#side"))
	b.shot("gateway-side")
	run(4, "", "gateway", "config", "Nowhere", "--out", filepath.Join(t.TempDir(), "x"))
}
