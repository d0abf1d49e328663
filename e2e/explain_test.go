package e2e

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/core/explain"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/simulate"
)

// TestExplainCommand explains codes, lines and logs on the command line, with a case and without
// one.
func TestExplainCommand(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	profile := "Purser laptop 3/Norrvik"
	log := filepath.Join(t.TempDir(), "log")
	if err := os.WriteFile(
		log,
		[]byte(
			"Nov 21 10:00:00 h charon: 05[IKE] initiating Main Mode IKE_SA a[1] to "+
				"198.51.100.7\nNov 21 10:00:01 h charon: 09[ENC] invalid HASH_V1 payload length, "+
				"decryption failed? psk=halyard-58-Cormorant-shingle-27-thrift\nNov 21 10:00:02 h "+
				"charon: 09[IKE] peer not responding, "+
				"halyard-58-Cormorant-shingle-27-thrift\n",
		),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		code int
		want string
		args []string
	}{
		{0, "no response from the gateway", []string{"809"}},
		{0, "1. The device's network blocks the protocol", []string{"error", "809"}},
		{0, "1. The pre-shared key on the device is not the gateway's", []string{log}},
		{0, "Norrvik", []string{"809", "--profile", profile}},
		{0, "1. The pre-shared key", []string{log, "--profile", profile}},
		{0, "peer not responding, [hidden]", []string{log,
			"--profile", profile, "--output", "json"}},
		{0, "login or password", []string{"E=691", "--device", "Purser laptop 3"}},
		{1, "Nothing is known about this", []string{"the dog ate the router"}},
		{4, "", []string{"809", "--device", "No such device"}},
		{2, "", []string{}},
	} {
		if out := run(
			test.code,
			test.want,
			append([]string{"explain"}, test.args...)...); strings.Contains(
			out,
			"halyard-58",
		) {
			t.Errorf("a secret is shown:\n%s", out)
		}
	}
	// The key is changed after the parcel was built: that is what is said first.
	id := f.profile("Engine laptop 1", "Norrvik")
	if _, err := f.client.Build(t.Context(), id, false); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(t.TempDir(), "psk")
	if err := os.WriteFile(key, []byte("lantern-77-Gannet-shoal-18-thrift"), 0o600); err != nil {
		t.Fatal(err)
	}
	run(0, "", "gateway", "change", "Norrvik", "--psk-file", key)
	var x explain.Explanation
	if err := json.Unmarshal(
		[]byte(
			run(
				0,
				"",
				"explain",
				"NO_PROPOSAL_CHOSEN",
				"--profile",
				"Engine laptop 1/Norrvik",
				"--output",
				"json",
			),
		),
		&x,
	); err != nil || x.Code == nil ||
		x.Causes[0].ID != "suites-differ" {
		t.Errorf("%+v (%v)", x, err)
	}
	if err := json.Unmarshal(
		[]byte(
			run(
				0,
				"",
				"explain",
				"AUTHENTICATION_FAILED",
				"--profile",
				"Engine laptop 1/Norrvik",
				"--output",
				"json",
			),
		),
		&x,
	); err != nil || x.Causes[0].ID != "key-wrong" ||
		!strings.Contains(strings.Join(x.Causes[0].Reasons, " "), "after this parcel was built") {
		t.Errorf("%+v (%v)", x.Causes[0], err)
	}
	bad := client.Failure{
		Reading: &explain.Reading{
			Sources: map[explain.Source]int{},
			Events: []explain.Event{
				{Source: explain.AppleLog, Text: "x", Causes: []string{"witchcraft"}},
			},
		},
	}
	if _, err := f.client.Explain(t.Context(), bad); err == nil {
		t.Errorf("a reading of somebody else's was taken (%v)", err)
	}
}

// TestReports lets a person say what does not work on their page; they are told what to do, and the
// administrator sees it in the console without its secrets.
func TestReports(t *testing.T) {
	t.Parallel()
	f := start(t, true, trusting)
	emails, err := simulate.NewMailServer("", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = emails.Close() })
	if err := demo.Post(
		t.Context(),
		f.svc,
		vpn.Mail{Server: emails.Host, Port: emails.Port, Authority: emails.Authority},
	); err != nil {
		t.Fatal(err)
	}
	made := f.handed("Bridge tablet 2", false)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(360, 740))
	b.openLink(made.Link+"?lang=en", made.Passcode, "Passcode", "Open")
	b.see("See that it works")
	if read := scanned(b, "svg.qr"); read != made.Link {
		t.Errorf("what a camera reads is %q, expected %q", read, made.Link)
	}
	eval[bool](b, `(document.querySelector('.steps input').click(), true)`)
	b.see("1 of 3 steps are done.")
	b.do(chromedp.Reload())
	b.see("1 of 3 steps are done.")
	eval[bool](b, `(document.getElementById('help').open = true)`)
	b.fill(
		"What does your device say?",
		"IPSec phase 1 client timed out, my password is reef-57-Lavender-cobalt-fern",
	)
	b.accessible("saying what does not work")
	b.press("Tell me what to do")
	b.see("Your administrator has been told")
	b.see("Try it from another network")
	b.accessible("what to do")
	b.shot("phone-help")

	for end := time.Now().Add(20 * time.Second); len(emails.Emails()) == 0 &&
		time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}
	if got := emails.Emails(); len(got) != 1 ||
		got[0].Subject != "Edda Voss: Bridge tablet 2 does not get through to Norrvik" ||
		!strings.Contains(string(got[0].Raw), "Likeliest cause") ||
		strings.Contains(string(got[0].Raw), "phase 1") {
		t.Errorf("%+v, expected one email without what was said", got)
	}

	b.do(chromedp.EmulateViewport(1280, 800))
	b.goTo("/", "Sign in to Wardicon")
	b.signIn()
	b.see("1 person reports a problem")
	b.goTo("/explain", "Explain a failure")
	b.see("Problem reports")
	if text := eval[string](
		b,
		"document.body.innerText",
	); strings.Contains(text, "reef-57") ||
		!strings.Contains(text, "Edda Voss") {
		t.Errorf("%s", text)
	}
	b.press("What was seen then")
	b.see("Public address: 127.0.0.1, through no gateway")
	b.see("Files fetched: not yet")
	b.press("Analyse")
	b.see("likeliest")
	b.accessible("an explanation")
	b.shot("explain")
	b.press("Close")
	b.until(`!document.body.innerText.includes('Problem reports')`)
	b.do(chromedp.EmulateViewport(360, 740))
	b.fill("Code or log", "789")
	b.press("Explain")
	b.see("AssumeUDPEncapsulationContextOnSendRule")
	b.fits()
	page, err := f.client.Reports(t.Context(), client.Query{})
	if err != nil || page.Total != 1 || page.Items[0].Done == nil ||
		strings.Contains(page.Items[0].Message, "reef-57") {
		t.Errorf("%+v (%v)", page, err)
	}
}

// TestGatewayAnswers asks a simulator by the button of the gateway's page, has the record take over
// what was seen, and sees it on the overview.
func TestGatewayAnswers(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	g, err := f.client.Gateways.List(t.Context(), query("Tallholm"))
	if err != nil {
		t.Fatal(err)
	}
	takes, err := suite.ParseAll([]string{"aes256-sha1-modp2048", "aes256-sha256-modp2048"})
	if err != nil {
		t.Fatal(err)
	}
	stand := &simulate.Gateway{
		Name:      "127.0.0.1",
		Protocols: []vpn.Protocol{vpn.L2TP},
		Suites:    takes,
	}
	if err := stand.Start(
		simulate.FaultAggressive,
		simulate.FaultBare,
		simulate.FaultNAT,
	); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = stand.Close() })
	ports := map[string]any{}
	for _, from := range slices.Sorted(maps.Keys(stand.Ports())) {
		ports[strconv.Itoa(from)] = stand.Ports()[from]
	}
	id := g.Items[0].ID
	if _, err := f.client.Gateways.Change(
		t.Context(),
		id,
		g.Items[0].Version,
		client.Patch{
			"address":   "127.0.0.1",
			"addresses": []string{"127.0.0.1"},
			"probe_at":  map[string]any{"address": "127.0.0.1", "ports": ports},
		},
	); err != nil {
		t.Fatal(err)
	}
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.goTo("/", "Sign in to Wardicon")
	b.signIn()
	b.goTo("/gateways/"+id+"?tab=probe", "Tallholm")
	b.see("Not probed yet.")
	b.press("Probe now")
	b.see("IKEv1 main mode")
	b.see("accepts L2TP without IPsec")
	b.see("3des-sha1-modp1024")
	b.press("Accept all into the record")
	b.see("Accepted into the record")
	after, err := f.client.Gateways.Show(t.Context(), id)
	if err != nil || slices.Contains(after.Offers.L2TP.IKE, "3des-sha1-modp1024") ||
		len(after.Offers.L2TP.IKE) == 0 {
		t.Errorf("%v (%v)", after.Offers.L2TP.IKE, err)
	}
	b.press("Probe now")
	b.see("Response times")
	b.until(`document.querySelector('.plot canvas')?.height > 100`)
	b.accessible("what a gateway answers")
	b.goTo("/gateways", "Gateways")
	b.press("Probe all gateways")
	b.see("Probe all gateways: running")
	b.press("Cancel")
	b.see("cancelled, ")
	b.goTo("/gateways/ask", "Probe an address")
	b.fill("Address", "127.0.0.1")
	b.tick("It is ours, or its owner agrees to the probe")
	b.press("Probe")
	b.see("127.0.0.1 is an address of the gateway Tallholm")
	b.fill("Address", "127.0.0.77")
	b.press("Probe")
	b.see("What 127.0.0.77 answers")
	b.see("nothing listens there")
	b.accessible("what a stranger answers")
	b.goTo("/gateways/"+id+"?tab=probe", "Tallholm")
	b.see("Response times")
	b.until(`document.querySelector('.plot canvas')?.height > 100`)
	b.shot("answers")
	eval[bool](b, `(document.querySelector('.plot').scrollIntoView(), true)`)
	b.shot("answers-plot")
	b.goTo("/", "Skerry Line")
	b.see("Probe results")
	b.see("differs")
}
