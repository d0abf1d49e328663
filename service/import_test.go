package service_test

import (
	"errors"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// TestImportIdentity gives the certificate in a file to a device, old or new, and holds one to the
// records while it is valid and after it was revoked.
func TestImportIdentity(t *testing.T) {
	svc, s, _, authority, laptop, phone := certified(t)
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	row, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	must(err)
	d, err := store.Devices.Get(ctx, s.Read(), laptop)
	must(err)
	file := []filecheck.File{{Name: "north.ovpn", Asked: true, Data: []byte(
		"client\ndev tun\nremote north.example 1194\nremote-cert-tls server\n" +
			"data-ciphers AES-256-GCM\n<ca>\n" + authority.Certificate + "</ca>\n<cert>\n" +
			d.Identity.Certificate + "</cert>\n<key>\n" + d.Identity.Key.Reveal() + "</key>\n")}}
	bring := func(to api.ImportFor) string {
		t.Helper()
		got, err := svc.Import(ctx, file, to)
		must(err)
		var list []string
		for _, i := range got.Items {
			if i.Noun != "gateway" {
				list = append(list, i.State+" "+i.Noun+" "+i.Name)
			}
		}
		return strings.Join(list, ", ")
	}
	ada, err := svc.People.List(ctx, store.Query{Limit: 1})
	must(err)
	name := row.Subject
	for _, test := range []struct {
		to   api.ImportFor
		want string
	}{
		{api.ImportFor{}, "same certificate " + name},
		{api.ImportFor{Device: "Ada's laptop"}, "same certificate " + name},
		{api.ImportFor{Device: "Ada's phone"}, "new certificate " + name},
		{api.ImportFor{Device: "Ada's tablet", PersonID: ada.Items[0].ID, Release: "ipados 17"},
			"new device Ada's tablet, new certificate " + name},
	} {
		if items := bring(test.to); items != test.want {
			t.Errorf("%+v: %s, expected %s", test.to, items, test.want)
		}
	}
	if after, err := store.Devices.Get(ctx, s.Read(), phone); err != nil || after.Identity != nil {
		t.Errorf("only shown, and the phone has %v (%v)", after.Identity, err)
	}
	var refused *vpn.Problems
	for _, to := range []api.ImportFor{
		{Device: "Nobody's"},
		{Device: "Ada's tablet", PersonID: ada.Items[0].ID, Release: "ipados"},
		{Device: "Ada's tablet", PersonID: "pe-x", Release: "ipados 17"},
	} {
		if _, err := svc.Import(ctx, file, to); !errors.As(err, &refused) {
			t.Errorf("%+v: %v", to, err)
		}
	}
	compare := func() string {
		t.Helper()
		checked, err := svc.CheckFiles(ctx, file, "")
		must(err)
		for _, f := range checked.Findings {
			if f.Rule == "certificate-not-current" {
				return f.Found
			}
		}
		return ""
	}
	if found := compare(); found != "" {
		t.Errorf("a certificate in use: %s", found)
	}
	_, err = svc.Revoke(ctx, row.ID, "", pki.KeyCompromise)
	must(err)
	if found := compare(); !strings.Contains(found, "was revoked on") {
		t.Errorf("a revoked certificate: %q", found)
	}
	g, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	must(err)
	told, err := svc.Compare(ctx, g.Items[0].ID, api.Comparison{
		Field: vpn.FieldIdentity, Value: secret.New("no certificate"),
	})
	if err != nil || told.Known {
		t.Errorf("no certificate: %+v (%v)", told, err)
	}
	// One from elsewhere is kept with its key.
	if got := bring(api.ImportFor{Device: "Ada's phone", Keep: true}); got !=
		"new certificate "+name {
		t.Errorf("kept: %s", got)
	}
	after, err := store.Devices.Get(ctx, s.Read(), phone)
	must(err)
	if after.Identity == nil || after.Identity.Key.Reveal() != d.Identity.Key.Reveal() {
		t.Error("the phone does not have the key of the file")
	}
}

// TestImportOptions holds that what a file says of a protocol reaches the record of the gateway.
func TestImportOptions(t *testing.T) {
	svc, s, _, _, _, _ := certified(t)
	text := "connections {\n east {\n  version = 2\n  remote_addrs = east.example\n" +
		"  dpd_delay = 45s\n  mobike = no\n  fragmentation = no\n  rekey_time = 4h\n" +
		"  proposals = aes256-sha256-ecp256\n  local { auth = eap-mschapv2\n eap_id = ada }\n" +
		"  remote { auth = pubkey\n id = east.example }\n" +
		"  children { net { rekey_time = 30m\n remote_ts = 0.0.0.0/0 } }\n }\n}\n" +
		"secrets {\n eap-ada {\n  id = ada\n  secret = \"a long enough password\"\n }\n}\n"
	file := []filecheck.File{{Name: "swanctl.conf", Asked: true, Data: []byte(text)}}
	if _, err := svc.Import(t.Context(), file, api.ImportFor{Keep: true}); err != nil {
		t.Fatal(err)
	}
	found, err := store.Gateways.Where(t.Context(), s.Read(), "address = ?", "east.example")
	if err != nil || len(found) != 1 || found[0].Offers.IKEv2 == nil {
		t.Fatalf("%v, %v", found, err)
	}
	want := vpn.IKEv2Options{
		IKELifetime:     240,
		ChildLifetime:   30,
		DPD:             45,
		NoMOBIKE:        true,
		NoFragmentation: true,
	}
	if got := found[0].Offers.IKEv2.IKEv2Options; got != want {
		t.Errorf("the record has %+v, expected %+v", got, want)
	}
}
