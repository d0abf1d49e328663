package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/demo"
)

// identity makes an authority, and a device's certificate by it with its key, in PEM form.
func identity(t *testing.T) (authority, certificate, key string) {
	t.Helper()
	until := time.Now().AddDate(1, 0, 0)
	root := &x509.Certificate{
		SerialNumber:          big.NewInt(9),
		Subject:               pkix.Name{CommonName: "Cliff Authority"},
		NotAfter:              until,
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	leaf := &x509.Certificate{
		SerialNumber: big.NewInt(10),
		Subject:      pkix.Name{CommonName: "Cliff laptop"},
		NotAfter:     until,
		DNSNames:     []string{"laptop.cliff.example"},
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
	}
	var signer *ecdsa.PrivateKey
	var made []string
	for _, c := range []*x509.Certificate{root, leaf} {
		own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if signer == nil {
			signer = own
		}
		der, err := x509.CreateCertificate(rand.Reader, c, root, own.Public(), signer)
		if err != nil {
			t.Fatal(err)
		}
		text, err := pki.KeyPEM(own)
		if err != nil {
			t.Fatal(err)
		}
		made, key = append(made, string(pki.Encode(der))), text.Reveal()
	}
	return made[0], made[1], key
}

var controlKey = vpn.StaticKeyBegin + "\n" + strings.Repeat(
	"6acef03f62675b4b1bbd03e53b187727\n",
	16,
) + vpn.StaticKeyEnd + "\n"

// TestOffersByCommand offers every protocol with every flag, gives a device a
// certificate, removes offers, and reads all of it back.
func TestOffersByCommand(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	authority, certificate, key := identity(t)
	ca, own, keyFile, psk, control := write(
		t,
		"ca.pem",
		authority,
	), write(
		t,
		"own.pem",
		certificate,
	), write(
		t,
		"key.pem",
		key,
	), write(
		t,
		"psk",
		"spindle-73-Basalt-clover\n",
	), write(
		t,
		"control.key",
		controlKey,
	)
	must := func(args ...string) string {
		t.Helper()
		code, out, errs := f.run("", args...)
		if code != 0 {
			t.Fatalf("%v ended with %d: %s", args, code, errs)
		}
		if strings.Contains(out, "spindle") || strings.Contains(out, "6acef03f") ||
			strings.Contains(out, "PRIVATE KEY") {
			t.Errorf("%v shows a secret", args)
		}
		return out
	}
	must(
		"gateway",
		"add",
		"Cliff",
		"--address",
		"cliff.example",
		"--load-share",
		"4",
		"--psk-file",
		psk,
		"--ppp",
		"mschapv2",
		"--l2tp-auth",
		"psk,certificate",
		"--l2tp-authority",
		ca,
		"--l2tp-aggressive",
		"--l2tp-group",
		"crew",
		"--ikev2-auth",
		"eap-tls,psk",
		"--ikev2-psk-file",
		psk,
		"--ikev2-remote-id",
		"ike.cliff.example",
		"--ikev2-local-id",
		"crew",
		"--ikev2-authority",
		ca,
		"--ikev2-ike",
		"aes256-sha256-ecp256",
		"--ikev2-esp",
		"aes256gcm16-ecp256",
		"--ikev2-ike-lifetime",
		"480",
		"--ikev2-child-lifetime",
		"60",
		"--ikev2-dpd",
		"30",
		"--ikev2-no-mobike",
		"--ikev2-no-fragmentation",
		"--pptp-ppp",
		"mschapv2",
		"--pptp-mppe",
		"128,40",
		"--pptp-stateful",
		"--sstp-port",
		"8443",
		"--sstp-ppp",
		"mschapv2",
		"--sstp-authority",
		ca,
		"--sstp-server-name",
		"sstp.cliff.example",
		"--tls-remote",
		"udp:1194,tcp:other.example:443",
		"--tls-auth",
		"certificate",
		"--tls-authority",
		ca,
		"--tls-control-kind",
		"auth",
		"--tls-control-key",
		control,
		"--tls-control-direction",
		"1",
		"--tls-cipher",
		"AES-256-GCM",
		"--tls-digest",
		"SHA256",
		"--tls-min-tls",
		"1.2",
		"--tls-server-name",
		"tls.cliff.example",
		"--tls-keepalive",
		"20",
	)
	var g struct {
		Offers    vpn.Offers
		LoadShare int `json:"load_share"`
	}
	if err := json.Unmarshal(
		[]byte(must("gateway", "show", "Cliff", "--output", "json")),
		&g,
	); err != nil {
		t.Fatal(err)
	}
	o := g.Offers
	got := fmt.Sprintln(
		g.LoadShare,
		o.L2TP.Auth,
		o.L2TP.PSKSet,
		o.L2TP.Aggressive,
		o.L2TP.Group,
		o.L2TP.Authority == authority,
		*o.PPTP,
		o.SSTP.Port,
		o.SSTP.ServerName,
		o.IKEv2.Auth,
		o.IKEv2.PSKSet,
		o.IKEv2.RemoteID,
		o.IKEv2.LocalID,
		o.IKEv2.IKE,
		o.IKEv2.ESP,
		o.IKEv2.IKELifetime,
		o.IKEv2.ChildLifetime,
		o.IKEv2.DPD,
		o.IKEv2.NoMOBIKE,
		o.IKEv2.NoFragmentation,
		o.TLS.Remotes,
		o.TLS.Auth,
		o.TLS.ControlKey.Kind,
		o.TLS.ControlKey.Direction,
		o.TLS.ControlKey.KeySet,
		o.TLS.Ciphers,
		o.TLS.Digest,
		o.TLS.MinTLS,
		o.TLS.ServerName,
		o.TLS.Keepalive,
	)
	if want := "4 [psk certificate] true true crew true {[mschapv2] [128 40] {true}} 8443 " +
		"sstp.cliff.example [eap-tls psk] true ike.cliff.example crew [aes256-sha256-ecp256] " +
		"[aes256gcm16-ecp256] 480 60 30 true true " +
		"[{ 1194 udp} {other.example 443 tcp}] [certificate] auth 1 true [AES-256-GCM] SHA256 " +
		"1.2 tls.cliff.example 20\n"; got != want {
		t.Errorf("stored is\n%s, expected\n%s", got, want)
	}
	// Changing one value keeps the secrets beside it; removing an offer takes its own away.
	must("gateway", "change", "Cliff", "--tls-keepalive", "30", "--remove-offer", "pptp,l2tp")
	if err := json.Unmarshal(
		[]byte(must("gateway", "show", "Cliff", "--output", "json")),
		&g,
	); err != nil || !g.Offers.TLS.ControlKey.KeySet ||
		g.Offers.TLS.Keepalive != 30 {
		t.Errorf("%+v (%v)", g.Offers.TLS, err)
	}
	if out := must(
		"gateway",
		"list",
		"--search",
		"Cliff",
	); !strings.Contains(out, "IKEv2, TLS tunnel, SSTP") ||
		strings.Contains(out, "PPTP") {
		t.Errorf("the list says\n%s", out)
	}
	must(
		"device",
		"add",
		"Cliff laptop",
		"--person",
		"Ines Moreau",
		"--platform",
		"linux-desktop",
		"--release",
		"1.46",
		"--encrypted",
		"--certificate",
		own,
		"--key-file",
		keyFile,
	)
	if out := must("device", "show", "Cliff laptop"); !strings.Contains(out, "key set  ") {
		t.Error("the device has no key")
	}
	if code, _, errs := f.run(
		"",
		"device",
		"change",
		"Cliff laptop",
		"--key-file",
		psk,
	); code != 1 || !strings.Contains(errs, "identity/key") ||
		strings.Contains(errs, "spindle") {
		t.Errorf("a key that is none ended with %d: %s", code, errs)
	}
	if code, _, errs := f.run(
		"",
		"gateway",
		"change",
		"Cliff",
		"--tls-remote",
		"udp",
	); code != 2 ||
		!strings.Contains(errs, "udp:1194") {
		t.Errorf("a remote that is none ended with %d: %s", code, errs)
	}
	if out := must(
		"plan",
		"Cliff laptop",
		"Cliff",
		"--protocol",
		"tls",
	); !strings.Contains(
		out,
		"device certificate",
	) {
		t.Errorf("the plan says\n%s", out)
	}
}

// TestPatternsByCommand adds a pattern with every flag, tries it, changes it for one look,
// rolls it out and follows the job.
func TestPatternsByCommand(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	code, out, errs := f.run(
		"",
		"pattern",
		"add",
		"Deck",
		"--group",
		"deck",
		"--platform",
		"android",
		"--protocol",
		"ikev2,l2tp",
		"--gateways",
		"listed",
		"--gateway",
		"Easthaven,Brattvik",
		"--tunnel",
		"split",
		"--route",
		"10.50.0.0/16",
		"--dns",
		"10.50.0.53",
		"--domain",
		"inside.skerryline.example",
		"--ipv6",
		"left",
		"--connect",
		"on-demand",
		"--trusted-network",
		"deck",
		"--trusted-suffix",
		"office.skerryline.example",
		"--demand-domain",
		"inside.skerryline.example",
		"--probe",
		"https://inside.skerryline.example/",
		"--interface",
		"wifi",
		"--reconnect",
		"--unmetered",
		"--fallback",
		"--proxy",
		"proxy.skerryline.example:3128",
		"--proxy-bypass",
		"*.local",
		"--password",
		"saved",
		"--scope",
		"person",
		"--naming",
		"{gateway} {protocol}",
		"--require-rehearsal",
		"--note",
		"for phones",
		"--output",
		"json",
	)
	if code != 0 {
		t.Fatal(errs)
	}
	var p vpn.Pattern
	if err := json.Unmarshal([]byte(out), &p); err != nil {
		t.Fatal(err)
	}
	p.Meta, p.GatewayIDs = vpn.Meta{}, nil
	if got, want := fmt.Sprint(
		p,
	), "{{ 0 0001-01-01 00:00:00 +0000 UTC 0001-01-01 00:00:00 +0000 UTC []} Deck [deck] "+
		"[android] [ikev2 l2tp] listed true [] split [10.50.0.0/16] [10.50.0.53] "+
		"[inside.skerryline.example] left on-demand "+
		"{[deck] [office.skerryline.example] [inside.skerryline.example] "+
		"https://inside.skerryline.example/ wifi} true true { proxy.skerryline.example:3128 "+
		"[*.local]} saved person {gateway} {protocol} true for phones}"; got != want {
		t.Errorf("stored is\n%s, expected\n%s", got, want)
	}
	for _, test := range []struct {
		args string
		code int
		want []string
	}{
		{"pattern|try|Deck", 0, []string{"Deck phone 2", "Brattvik", "the first of the list that " +
			"the device can use", "IKEv2: Easthaven does not offer it", "3 devices in the class"}},
		{"pattern|try|Deck|--gateways|each|--protocol|l2tp", 0,
			[]string{"one profile for each gateway", "L2TP/IPsec, blocked"}},
		{"pattern|roll-out|Deck", 0, []string{"3 of 3", "done"}},
		{"pattern|try|Deck", 0, []string{"same"}},
		{"profile|list|--filter|pattern_id=nothing", 0, []string{"no profiles"}},
		{"job|list", 0, []string{"Roll out Deck", "jobs"}},
		{"job|show|jo-nothing", 4, []string{"jo-nothing"}},
		{"plan|Deck phone 2|Brattvik", 1, []string{"not chosen", "connects: on-demand"}},
		{"pattern|change|Deck|--naming|{boat}", 1, []string{"/naming", "naming"}},
		{"pattern|remove|Deck", 1, []string{"still used by 5 profiles"}},
	} {
		code, out, errs := f.run("", strings.Split(test.args, "|")...)
		if code != test.code {
			t.Errorf("%s ended with %d: %s%s", test.args, code, out, errs)
		}
		flat := strings.Join(strings.Fields(out+errs), " ")
		if !slices.ContainsFunc(
			test.want,
			func(w string) bool { return strings.Contains(flat, w) },
		) {
			t.Errorf("%s says\n%s, expected %v", test.args, out+errs, test.want)
		}
	}
}

// TestConvert builds a parcel, converts its file from format to format and back, and
// reads what is said to be lost on the way.
func TestConvert(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	dir := t.TempDir()
	at := func(parts ...string) string { return filepath.Join(append([]string{dir}, parts...)...) }
	if code, _, errs := f.run("", "build", "Hall Mac/Brattvik", "--out", at("mac")); code != 0 {
		t.Fatal(errs)
	}
	for _, test := range []struct {
		from, to string
		code     int
		says     string
	}{
		{"mac/*.ovpn", "keyfile", 0, "not carried: ipv6"},
		{"keyfile/*.nmconnection", "ovpn-folder", 0, ".ovpn"},
		{"ovpn-folder/*.ovpn", "ovpn-phone", 0, ".ovpn"},
		{"mac/*.ovpn", "onc", 1, "control_key"},
		{"mac/*.ovpn", "apple", 1, "field protocol"},
		{"mac/*.ovpn", "paper", 2, "expected one of apple"},
		{"mac/*-card.txt", "apple", 2, "none of the formats"},
	} {
		names, err := filepath.Glob(at(test.from))
		if err != nil || len(names) != 1 {
			t.Fatalf("%v fit %s (%v)", names, test.from, err)
		}
		code, out, errs := f.run("", "convert", names[0], "--format", test.to, "--out", at(test.to))
		if code != test.code || !strings.Contains(out+errs, test.says) {
			t.Errorf("%s to %s ended with %d: %s%s", test.from, test.to, code, out, errs)
		}
		if made, _ := filepath.Glob(at(test.to, "*")); code == 0 {
			for _, name := range made {
				if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
					t.Errorf("%s has mode %s (%v)", name, info.Mode(), err)
				}
			}
			if code, out, errs := f.run(
				"",
				"check",
				made[0],
				"--exit-on",
				"error",
			); !strings.HasSuffix(made[0], ".pem") && !strings.HasSuffix(made[0], ".key") &&
				code != 0 {
				t.Errorf("check of %s ended with %d: %s%s", made[0], code, out, errs)
			}
		}
	}
}

// TestPatternForm makes a pattern in the console: what it would make is seen before it is
// kept, errors stand beside their fields, and the roll-out is followed to its end.
func TestPatternForm(t *testing.T) {
	f, b := signedInTab(t)
	b.goTo("/patterns/new", "New pattern")
	b.see("31 devices in the class")
	b.fill("Name", "Planners")
	b.fill("Groups of people", "planners")
	b.see("5 devices in the class")
	b.tick("macOS")
	b.see("2 devices in the class")
	b.part("Connection")
	b.press("+ IKEv2")
	b.press("+ TLS tunnel")
	b.press("+ Brattvik")
	b.see("the first of the list")
	b.part("When")
	b.fill("Connect", "on-demand")
	b.fill("When looking up names in", "inside.skerryline.example")
	b.fill("Template for connection names", "{boat}")
	b.press("Add the pattern")
	b.until(`document.querySelector('.invalid-feedback')?.textContent.includes('{boat}')`)
	b.accessible("a pattern with an error")
	b.fill("Template for connection names", "{gateway} for {person}")
	b.press("Add the pattern")
	b.until(`document.title === 'Planners · Wardicon'`)
	b.see("new")
	b.shot("pattern-preview")
	b.do(chromedp.EmulateViewport(1280, 1600))
	b.shot("pattern-whole")
	b.do(chromedp.EmulateViewport(1280, 800))
	b.press("Roll out")
	eval[bool](b, `(document.querySelector('#prospects').scrollIntoView(), true)`)
	b.see("done, 2 of 2 devices")
	b.see("as it is")
	b.shot("pattern-rolled-out")
	b.accessible("a pattern that was rolled out")
	page, err := f.client.Patterns.List(t.Context(), query("Planners"))
	if err != nil || page.Total != 1 || page.Items[0].Profiles != 2 {
		t.Fatalf("%+v (%v)", page, err)
	}
	p := page.Items[0]
	if fmt.Sprintln(
		p.Groups,
		p.Platforms,
		p.Protocols,
		p.Connect,
		p.Demand.Domains,
		p.Naming,
	) != "[planners] [macos] [ikev2 tls] on-demand [inside.skerryline.example] {gateway} for "+
		"{person}\n" {
		t.Errorf("stored is %+v", p)
	}
	b.goTo("/profiles?pattern_id="+p.ID, "Profiles")
	b.see("2 profiles")
	b.goTo("/profiles/"+f.profile("Planner Mac 1", "Brattvik"), "Planner Mac 1 → Brattvik")
	b.see("for names in inside.skerryline.example")
	b.see("Brattvik for Ada Fjell")
	b.part("Settings")
	b.fill("Protocol", "tls")
	b.press("Save and plan again")
	b.part("Plan")
	b.see("set on the profile")
	b.part("Findings")
	b.see("Device does not support what the pattern sets")
}

// TestOfferForm offers the TLS tunnel and IKEv2 in the console and gives a device its
// certificate; secrets do not come back.
func TestOfferForm(t *testing.T) {
	f, b := signedInTab(t)
	authority, certificate, key := identity(t)
	gateways, err := f.client.Gateways.List(t.Context(), query("Easthaven"))
	if err != nil {
		t.Fatal(err)
	}
	id := gateways.Items[0].ID
	b.goTo("/gateways/"+id, "Easthaven")
	b.tick("The gateway offers TLS tunnel")
	b.fill("Remotes", "udp:1194\ntcp:other.example:443")
	b.fill("CA of the gateway's certificate", authority)
	b.fill("Control-channel key", "crypt")
	b.fill("The key file", "not a key")
	b.press("Save")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => ` +
			`e.textContent.includes('static key of 2048 bits'))`,
	)
	b.accessible("an offer with an error")
	b.fill("The key file", controlKey)
	b.press("Save")
	b.see("Saved.")
	g, err := f.client.Gateways.Show(t.Context(), id)
	if err != nil || g.Offers.TLS == nil || !g.Offers.TLS.ControlKey.KeySet ||
		len(g.Offers.TLS.Remotes) != 2 ||
		g.Offers.TLS.Remotes[1].Address != "other.example" ||
		g.Offers.TLS.Authority != authority ||
		!g.Offers.L2TP.PSKSet {
		t.Errorf("stored is %+v (%v)", g.Offers.TLS, err)
	}
	b.goTo("/gateways/"+id, "Easthaven")
	eval[bool](b, `(document.querySelector('#offer-ikev2').scrollIntoView(), true)`)
	b.shot("offers")
	if got := b.value("The key file"); got != "" {
		t.Error("the key came back to the page")
	}
	devices, err := f.client.Devices.List(
		t.Context(),
		client.Query{Search: "Engine laptop 2", Limit: 1},
	)
	if err != nil {
		t.Fatal(err)
	}
	b.goTo("/devices/"+devices.Items[0].ID, "Engine laptop 2")
	b.press("Certificate of the device")
	b.fill("Certificate with chain", certificate)
	b.press("Save")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => ` +
			`e.textContent.includes('private key of the certificate'))`,
	)
	b.fill("Private key", key)
	b.press("Save")
	b.see("Saved.")
	if d, err := f.client.Devices.Show(
		t.Context(),
		devices.Items[0].ID,
	); err != nil || d.Identity == nil || !d.Identity.KeySet ||
		d.Identity.Key != nil {
		t.Errorf("stored is %+v (%v)", d.Identity, err)
	}
}
