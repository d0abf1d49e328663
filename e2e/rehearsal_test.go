package e2e

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/simulate"
)

// TestRehearsals signs in to a simulated gateway from the page of a profile and from the command
// line, by the service and by a file alone.
func TestRehearsals(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	stand := f.tunnel()
	id := f.profile("Hall Mac", "Brattvik")
	if _, err := f.client.Build(ctx, id, false); err != nil {
		t.Fatal(err)
	}
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.goTo("/", "Sign in to Wardicon")
	b.signIn()
	b.load("/profiles/"+id+"?tab=rehearsal", "Hall Mac → Brattvik")
	b.see("Not rehearsed yet.")
	b.press("Rehearse")
	b.see("timetable.inside.skerryline.example is 10.20.0.1, by 10.50.0.53")
	b.see("response to an echo request: 10.20.0.1")
	b.see("login r_sand@crew.skerryline.example")
	eval[bool](b, `(document.getElementById('rehearsals').scrollIntoView(), true)`)
	b.accessible("a rehearsal")
	b.fits()
	b.shot("rehearsal")
	b.do(chromedp.EmulateViewport(360, 740))
	eval[bool](b, `(document.getElementById('rehearsals').scrollIntoView(), true)`)
	b.fits()
	b.shot("phone-rehearsal")
	b.do(chromedp.EmulateViewport(1280, 800))
	b.press("Rehearse")
	b.see("signed in less than a minute ago")

	b.press("Rehearse all offers")
	b.see("Rehearse the offers of Brattvik as Hall Mac: running")
	b.see("not rehearsed")
	b.press("Cancel")
	b.see("Rehearse the offers of Brattvik as Hall Mac: cancelled")
	b.accessible("rehearsals of all offers")

	b.goTo("/rehearsals", "Rehearsals")
	b.see("Hall Mac")
	b.see("Never rehearsed")
	b.see("just now")
	b.accessible("the list of rehearsals")
	b.fits()
	b.shot("rehearsals")
	b.do(chromedp.EmulateViewport(360, 740))
	b.fits()
	b.shot("phone-rehearsals")
	b.do(chromedp.EmulateViewport(1280, 800))

	file := filepath.Join(t.TempDir(), "hall.ovpn")
	if err := os.WriteFile(file, fmt.Appendf(nil, "client\ndev tun\nremote brattvik.skerryline."+
		"example 1194 udp\nremote-cert-tls server\nauth-user-pass\ndata-ciphers AES-256-GCM\n"+
		"<ca>\n%s</ca>\n", stand.Authority), 0o600); err != nil {
		t.Fatal(err)
	}
	b.load("/check", "Check files")
	b.do(chromedp.SetUploadFiles("#files", []string{file}))
	b.see("on record as Brattvik")
	b.press("Rehearse")
	b.see("expected both. Enter them")
	b.accessible("a file that is to be rehearsed")
	for _, try := range [][2]string{
		{"r_sand@crew.skerryline.example", "signed in less than a minute ago"},
		{"trial", "response to an echo request: 10.20.0.1"},
	} {
		b.fill("Login, where the file has none", try[0])
		b.fill("Password; it is not stored", tunnelPassword)
		b.press("Rehearse with it")
		b.see(try[1])
	}
	b.accessible("a rehearsal of a file")
	b.fits()
	b.shot("file-rehearsal")
	b.do(chromedp.EmulateViewport(360, 740))
	b.fits()
	b.shot("phone-file-rehearsal")
	b.do(chromedp.EmulateViewport(1280, 800))

	b.load("/gateways/"+f.gateway("Brattvik"), "Brattvik")
	b.press("Rehearse a sample")
	b.see("an account to sign in with")
	eval[bool](b, `(document.querySelectorAll('details').forEach((d) => (d.open = true)), true)`)
	b.see("r_sand (Rune Sand)")
	b.accessible("the schedule of a gateway")
	b.shot("gateway-schedule")

	page, err := f.client.Rehearsals(ctx, client.Query{Limit: 10})
	if err != nil || page.Total != 1 || page.Items[0].State != api.RehearsalPassed {
		t.Fatalf("%+v %v", page, err)
	}
	run := f.commands()
	out := run(0, "passed", "rehearse", "--history")
	if !strings.Contains(out, "Hall Mac") {
		t.Error(out)
	}
	run(2, "expected files, or one of --profile", "rehearse")
	run(2, "belong together", "rehearse", "x.ovpn", "--place", "Easthaven")
	run(0, "passed", "rehearse", "--matrix")
	run(1, "an account to sign in with", "rehearse", "--gateway", "Brattvik")
	run(0, "", "gateway", "change", "Brattvik", "--rehearse-account", "r_sand", "--rehearse-every",
		"60")
	run(0, "running", "rehearse", "--gateway", "Brattvik", "--background")
	run(2, "expected an IP address", "rehearse", "x.ovpn", "--host", "timetable")
	run(1, "less than a minute ago", "rehearse", "--profile", "Hall Mac/Brattvik")
}

const tunnelPassword = "tern-11-Oakum-reef-fathom"

// tunnel puts a simulated gateway in the place of Brattvik's, to which Rune Sand can sign in by TLS.
func (f *fleet) tunnel() *simulate.Gateway {
	f.t.Helper()
	ctx := f.t.Context()
	stand := &simulate.Gateway{
		Name: "brattvik.skerryline.example", Protocols: []vpn.Protocol{vpn.TLS},
		Accounts: map[string]string{
			"r_sand@crew.skerryline.example": tunnelPassword, "trial": tunnelPassword,
		},
		DNS: []netip.Addr{netip.MustParseAddr("10.50.0.53")},
	}
	if err := stand.Start(); err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { _ = stand.Close() })
	lead := &vpn.ProbeAt{Address: stand.Bind.String(), Ports: map[string]int{}}
	for from, to := range stand.Ports() {
		lead.Ports[strconv.Itoa(from)] = to
	}
	list, err := f.client.Gateways.List(ctx, client.Query{Search: "Brattvik", Limit: 1})
	if err != nil {
		f.t.Fatal(err)
	}
	owner := service.As(ctx, "test")
	if _, err := f.svc.Gateways.Change(owner, list.Items[0].ID, 0,
		func(g *vpn.Gateway) (*vpn.Gateway, error) {
			g.ProbeAt, g.Certificate = lead, ""
			o := *g.Offers.TLS
			o.Authority, o.ServerName, o.ControlKey = stand.Authority, stand.Name, nil
			o.Remotes = []vpn.Remote{{Port: 1194, Transport: vpn.UDP}}
			g.Offers.TLS = &o
			return g, nil
		}, func(string) bool { return false }); err != nil {
		f.t.Fatal(err)
	}
	accounts, err := f.client.Accounts.List(ctx, client.Query{Search: "r_sand", Limit: 1})
	if err != nil || len(accounts.Items) == 0 {
		f.t.Fatalf("%v %v", accounts, err)
	}
	known := secret.New(tunnelPassword)
	if _, err := f.svc.Accounts.Change(owner, accounts.Items[0].ID, 0,
		func(a *vpn.Account) (*vpn.Account, error) { a.Password = &known; return a, nil },
		func(string) bool { return false }); err != nil {
		f.t.Fatal(err)
	}
	return stand
}
