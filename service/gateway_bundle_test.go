package service_test

import (
	"bytes"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/signature"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// TestGatewayBundle has openssl open every file that a gateway gets; the key is not kept.
func TestGatewayBundle(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	svc, _, c, authority, _, _ := certified(t)
	ctx := service.As(t.Context(), "issuer")
	gateways, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	g := gateways.Items[0]
	for _, kind := range pki.KeyChoices {
		out, err := svc.IssueGatewayBundle(ctx, g.ID, authority.ID, kind, 30)
		if err != nil {
			t.Fatal(err)
		}
		dir := t.TempDir()
		for _, f := range out.Files {
			if err := os.WriteFile(filepath.Join(dir, f.Name), f.Content, 0o600); err != nil {
				t.Fatal(err)
			}
			if private := bytes.Contains(f.Content, []byte("PRIVATE")) ||
				strings.HasSuffix(f.Name, ".p12"); private != f.Private {
				t.Errorf("%s: marked private %t", f.Name, f.Private)
			}
		}
		for _, test := range []struct {
			args []string
			want string
		}{
			{
				[]string{"pkey", "-in", "north-key.pem", "-noout", "-text"},
				map[pki.KeyChoice]string{
					pki.P256:    "P-256",
					pki.P384:    "P-384",
					pki.RSA3072: "3072 bit",
				}[kind],
			},
			{[]string{"x509", "-in", "north-certificate.pem", "-noout", "-text"},
				"DNS:north.example"},
			{
				[]string{"x509", "-inform", "DER", "-in", "north-certificate.der", "-noout",
					"-subject"},
				"north.example",
			},
			{[]string{"pkcs7", "-in", "north-chain.p7b", "-print_certs", "-noout"}, "CN = Crew\n"},
			{
				[]string{"verify", "-CAfile", "north-root.pem", "-untrusted", "north-chain.pem",
					"-purpose", "sslserver", "-verify_hostname", "north.example", "-attime", "",
					"north-certificate.pem"},
				"",
			},
			{[]string{"pkcs12", "-in", "north.p12", "-passin", "pass:" + out.Passphrase, "-nodes"},
				"PRIVATE KEY"},
		} {
			if i := slices.Index(test.args, "-attime"); i >= 0 {
				test.args[i+1] = strconv.FormatInt(c.now().Unix(), 10)
			}
			cmd := exec.Command(openssl, test.args...)
			cmd.Dir = dir
			if said, err := cmd.CombinedOutput(); err != nil ||
				!strings.Contains(string(said), test.want) {
				t.Errorf(
					"%s: %v, openssl says %.300s, expected %q",
					strings.Join(test.args[:3], " "),
					err,
					said,
					test.want,
				)
			}
		}
		row, err := svc.Gateways.Get(ctx, g.ID)
		if err != nil || !strings.HasPrefix(row.Certificate, out.Certificate.PEM) {
			t.Errorf("the record does not show it (%v)", err)
		}
	}
	_, err = svc.IssueGatewayBundle(ctx, g.ID, authority.ID, "dsa", 0)
	refusedAt(t, "another kind", err, "/kind", "dsa")
	_, err = svc.IssueGatewayBundle(ctx, "gw-x", authority.ID, pki.P256, 0)
	refusedAt(t, "nobody's", err, "/gateway_id", "gw-x")
}

// TestTaken brings in what others issued, of gateways and devices, and looks at the checks on what
// a gateway shows.
func TestTaken(t *testing.T) {
	svc, _, c, authority, laptop, _ := certified(t)
	ctx := service.As(t.Context(), "issuer")
	gateways, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	gateway := gateways.Items[0].ID
	root, vault, server := chained(t, c.now(), pki.ForServer, "north.example")
	_, _, other := chained(t, c.now(), pki.ForServer, "south.example")
	_, _, old := chained(t, c.now().AddDate(-2, 0, 0), pki.ForServer, "north.example")
	_, _, client := chained(t, c.now(), pki.ForClient, "laptop.example")
	closed, err := pki.Close(rand.Reader, client, secret.New(passphrase))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0); err != nil {
		t.Fatal(err)
	}
	profiles, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 1, Conditions: map[string]string{"device_id": laptop}},
	)
	if err != nil {
		t.Fatal(err)
	}
	believe := func(text string) {
		t.Helper()
		if _, err := svc.Gateways.Change(
			ctx,
			gateway,
			0,
			func(g *vpn.Gateway) (*vpn.Gateway, error) {
				g.Offers.IKEv2.Authority = text
				return g,
					nil
			},
			func(string) bool { return true },
		); err != nil {
			t.Fatal(err)
		}
	}
	for _, test := range []struct {
		name, believed string
		file           []byte
		rules          string // that the plan then has of certificates
		link           string // at fault
	}{
		{"by its authority", pki.Bundle(root.Leaf), []byte(pki.Bundle(server.Leaf, vault.Leaf)), "",
			""},
		{"in DER form", pki.Bundle(vault.Leaf, root.Leaf), server.Leaf.Raw, "", ""},
		{"without the one between", pki.Bundle(root.Leaf), server.Leaf.Raw, "chain-incomplete",
			"Vault is not there"},
		{"of another authority", authority.Certificate, []byte(pki.Bundle(server.Leaf, vault.Leaf)),
			"chain-incomplete", "Vault Root is not there"},
		{"with another name", pki.Bundle(other.Chain[1]),
			[]byte(pki.Bundle(other.Leaf, other.Chain[0])), "name-not-certified", ""},
		{"that has ended", pki.Bundle(old.Chain[1]), []byte(pki.Bundle(old.Leaf, old.Chain[0])),
			"certificate-expired", "leaf expired on"},
	} {
		believe(test.believed)
		if _, err := svc.TakeGatewayCertificate(
			ctx,
			gateway,
			api.Material{File: test.file},
		); err != nil {
			t.Errorf("%s: %v", test.name, err)
			continue
		}
		plan, err := svc.Plan(ctx, profiles.Items[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		var rules []string
		for _, f := range plan.Findings {
			if slices.Contains(
				[]string{
					"chain-incomplete",
					"authority-wrong",
					"name-not-certified",
					"certificate-expired",
					"server-usage-missing",
				},
				f.Rule,
			) &&
				!slices.Contains(rules, f.Rule) {
				rules = append(rules, f.Rule)
			}
		}
		chain, err := svc.Chain(ctx, "gateway", gateway)
		if err != nil {
			t.Fatal(err)
		}
		at := ""
		for _, l := range chain.Links {
			if l.Fault != "" && at == "" {
				at = l.Subject + " " + l.Fault
			}
		}
		if !strings.HasPrefix(strings.Join(rules, " "), test.rules) ||
			(test.rules == "") != (len(rules) == 0) ||
			!strings.HasPrefix(at, test.link) ||
			(test.link == "") != (at == "") {
			t.Errorf(
				"%s: rules %v, link %q; expected %q and %q",
				test.name,
				rules,
				at,
				test.rules,
				test.link,
			)
		}
	}
	_, err = svc.TakeGatewayCertificate(
		ctx,
		gateway,
		api.Material{File: []byte(pki.Bundle(server.Leaf) + keyPEM(t, server))},
	)
	refusedAt(t, "with its key", err, "/file", "private key")
	_, err = svc.TakeGatewayCertificate(
		ctx,
		gateway,
		api.Material{File: []byte(pki.Bundle(client.Leaf))},
	)
	refusedAt(t, "a client's", err, "/file", "for client")
	_, err = svc.TakeDeviceIdentity(
		ctx,
		laptop,
		api.Material{File: []byte(pki.Bundle(client.Leaf))},
	)
	refusedAt(t, "without its key", err, "/file", "no private key")
	_, err = svc.TakeDeviceIdentity(
		ctx,
		laptop,
		api.Material{File: []byte(pki.Bundle(server.Leaf) + keyPEM(t, server))},
	)
	refusedAt(t, "a server's", err, "/file", "for server")
	d, err := svc.TakeDeviceIdentity(
		ctx,
		laptop,
		api.Material{File: closed, Passphrase: secret.New(passphrase)},
	)
	if err != nil || !strings.HasPrefix(d.Identity.Certificate, pki.Bundle(client.Leaf)) ||
		!d.Identity.KeySet {
		t.Errorf("%+v (%v)", d.Identity, err)
	}
	list, err := svc.Expiries(ctx, 400)
	if err != nil || !slices.ContainsFunc(list, func(e api.Expiry) bool {
		return e.Noun == "device" && e.Name == "Ada's laptop" &&
			e.Expires.Equal(client.Leaf.NotAfter)
	}) {
		t.Errorf("the calendar does not have it: %+v (%v)", list, err)
	}
}

// TestSignedParcels signs what is built, by a certificate made here and by one brought in; a new
// signer makes what was built outdated.
func TestSignedParcels(t *testing.T) {
	svc, s, c, authority, laptop, _ := certified(t)
	c.turn(time.Since(c.now())) // signatures have the time of the real clock
	ctx := service.As(t.Context(), "issuer")
	if _, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0); err != nil {
		t.Fatal(err)
	}
	d, err := svc.Devices.Get(ctx, laptop)
	if err != nil {
		t.Fatal(err)
	}
	mac, err := svc.Devices.Add(
		ctx,
		&vpn.Device{Name: "Ada's Mac", PersonID: d.PersonID, Platform: vpn.MacOS, Release: "15"},
	)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.IssueToDevice(ctx, mac.ID, authority.ID, nil, 0); err != nil {
		t.Fatal(err)
	}
	gateways, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	onMac, err := svc.Profiles.Add(
		ctx,
		&vpn.Profile{DeviceID: mac.ID, GatewayID: gateways.Items[0].ID},
	)
	if err != nil {
		t.Fatal(err)
	}
	page, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 1, Conditions: map[string]string{"device_id": laptop}},
	)
	if err != nil {
		t.Fatal(err)
	}
	onLaptop := page.Items[0].ID
	roots, err := pki.Certificates(authority.Certificate)
	if err != nil {
		t.Fatal(err)
	}
	built := func(profile string) (files map[string][]byte) {
		t.Helper()
		p, err := svc.Build(ctx, profile, false)
		if err != nil {
			t.Fatal(err)
		}
		files = map[string][]byte{}
		for _, f := range p.Files {
			got, err := svc.ParcelFile(ctx, p.ID, f.Name)
			if err != nil {
				t.Fatal(err)
			}
			files[f.Name] = got.Content
		}
		return files
	}
	proven := func(files map[string][]byte, ending string) signature.Proof {
		t.Helper()
		var names []string
		for n := range files {
			names = append(names, n)
		}
		i := slices.IndexFunc(names, func(n string) bool { return strings.HasSuffix(n, ending) })
		if i < 0 {
			t.Fatalf("no file %s in %v", ending, names)
		}
		return signature.Of(
			names[i],
			files[names[i]],
			names,
			format.Beside(func(n string) ([]byte, bool) { data, ok := files[n]; return data, ok }),
			roots,
			time.Now(),
		)
	}
	outdated := func(profile string) bool {
		t.Helper()
		list, err := svc.Parcels(ctx, profile)
		if err != nil {
			t.Fatal(err)
		}
		return list[0].Outdated
	}
	bare := built(onLaptop)
	if p := proven(bare, "-install.sh"); !p.Sound() || p.Signed || p.List == "" {
		t.Errorf("without a signer: %+v", p)
	}
	if files := built(onMac.ID); len(files) != 4 {
		t.Errorf("without a signer an Apple parcel has %d files", len(files))
	}
	shown, err := svc.MakeSigner(ctx, authority.ID, "Network office", 0, 0)
	if err != nil || !shown.Set || shown.Subject != "Network office" || len(shown.Links) != 3 {
		t.Fatalf("%+v (%v)", shown, err)
	}
	if !outdated(onLaptop) || !outdated(onMac.ID) {
		t.Error("a signer does not make parcels outdated")
	}
	laptopFiles, macFiles := built(onLaptop), built(onMac.ID)
	if outdated(onLaptop) || outdated(onMac.ID) {
		t.Error("a parcel is outdated as soon as it is built")
	}
	for _, test := range []struct {
		files  map[string][]byte
		ending string
	}{
		{laptopFiles, "-install.sh"},
		{laptopFiles, "-card.pdf"},
		{laptopFiles, ".nmconnection"},
		{macFiles, ".mobileconfig"},
		{macFiles, "-card.html"},
	} {
		if p := proven(
			test.files,
			test.ending,
		); !p.Sound() || !p.Fits || !p.Trusted ||
			p.Signer != "Network office" {
			t.Errorf("%s: %+v", test.ending, p)
		}
	}
	for name, data := range macFiles {
		if strings.HasSuffix(name, ".mobileconfig") {
			if data[0] != 0x30 {
				t.Error("the profile is not signed")
			}
			macFiles[name] = bytes.Replace(
				data,
				[]byte("north.example"),
				[]byte("morth.example"),
				1,
			)
		}
	}
	if p := proven(macFiles, ".mobileconfig"); p.Sound() || p.Trusted {
		t.Error("a changed profile passes")
	}
	_, _, office := chained(t, c.now(), pki.ForSigning)
	shown, err = svc.TakeSigner(
		ctx,
		api.Material{
			File: []byte(pki.Bundle(office.Leaf, office.Chain[0], office.Chain[1])),
			Key:  []byte(keyPEM(t, office)),
		},
		0,
	)
	if err != nil || shown.Subject != "leaf" || shown.Authority != "" || !outdated(onMac.ID) {
		t.Errorf("%+v (%v)", shown, err)
	}
	if p := proven(built(onMac.ID), ".mobileconfig"); p.Sound() || !p.Fits || p.Trusted {
		t.Errorf("by one that is not believed: %+v", p)
	}
	_, _, client := chained(t, c.now(), pki.ForClient, "x.example")
	_, err = svc.TakeSigner(
		ctx,
		api.Material{File: []byte(pki.Bundle(client.Leaf)), Key: []byte(keyPEM(t, client))},
		0,
	)
	refusedAt(t, "a client's", err, "/file", "for client")
	_, err = svc.TakeSigner(ctx, api.Material{File: []byte(pki.Bundle(office.Leaf))}, 0)
	refusedAt(t, "without its key", err, "/file", "no private key")
	if err := svc.RemoveSigner(ctx, 0); err != nil {
		t.Fatal(err)
	}
	if p := proven(built(onLaptop), "-install.sh"); p.Signed {
		t.Error("signed by nobody")
	}
	if n, err := s.Read().References(ctx, "secrets", "owner", "signer:1"); err != nil || n != 0 {
		t.Errorf("the key of a signer that was removed is kept (%v)", err)
	}
}
