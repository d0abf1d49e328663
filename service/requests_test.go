package service_test

import (
	"crypto/rand"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// TestElsewhere has certificates signed where this service has no key: for a device and for an
// authority, and brings back what must not be taken.
func TestElsewhere(t *testing.T) {
	svc, s, c, _, laptop, phone := certified(t)
	ctx := service.As(t.Context(), "issuer")
	root, vault, _ := chained(t, c.now(), pki.ForClient, "leaf.example")
	_, stranger, _ := chained(t, c.now(), pki.ForClient, "leaf.example")
	a, err := svc.TakeAuthority(
		ctx,
		"Vault",
		api.Material{File: []byte(pki.Bundle(vault.Leaf, root.Leaf))},
	)
	if err != nil || a.KeySet {
		t.Fatalf("%+v (%v)", a, err)
	}
	ask := func(device string, names ...string) api.Request {
		t.Helper()
		r, err := svc.RequestForDevice(ctx, device, a.ID, names)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	signed := func(r api.Request, by pki.Identity, change func(*pki.Wanted)) []byte {
		t.Helper()
		asked, err := pki.Request([]byte(r.PEM))
		if err != nil {
			t.Fatal(err)
		}
		w := pki.Wanted{
			Name:  asked.Subject.CommonName,
			Usage: pki.ForClient,
			Names: pki.Asked(asked),
			From:  c.now().Add(-time.Hour),
			To:    c.now().AddDate(0, 3, 0),
		}
		if change != nil {
			change(&w)
		}
		leaf, err := pki.Issue(
			rand.Reader,
			pki.Issuer{Certificate: by.Leaf, Key: by.Key},
			asked.PublicKey,
			w,
		)
		if err != nil {
			t.Fatal(err)
		}
		return []byte(pki.Bundle(leaf))
	}
	r := ask(laptop)
	if !strings.HasPrefix(r.PEM, "-----BEGIN CERTIFICATE REQUEST-----") ||
		r.Names[0] != "ada-s-laptop.devices.skerryline.example" ||
		r.Authority != "Vault" ||
		r.Operator != "issuer" {
		t.Errorf("%+v", r)
	}
	other := ask(phone, "ada@skerryline.example")
	for _, test := range []struct {
		name  string
		file  []byte
		found string
	}{
		{"by another of the same name", signed(r, stranger, nil), "Vault"},
		{"for a server", signed(r, vault, func(w *pki.Wanted) { w.Usage = pki.ForServer }),
			"for server"},
		{"with other names", signed(r, vault,
			func(w *pki.Wanted) { w.Names = []string{"other.example"} }), "other.example"},
		{"that has ended", signed(r, vault,
			func(w *pki.Wanted) { w.To = c.now().Add(-time.Minute) }), "expired on"},
		{"for nobody's request", []byte(pki.Bundle(vault.Leaf)),
			`"Vault", a certificate for authority`},
		{"nothing", []byte("hello"), "neither PEM nor DER"},
	} {
		_, err := svc.Answer(ctx, api.Material{File: test.file})
		refusedAt(t, test.name, err, "/file", test.found)
	}
	if page, err := svc.Requests(ctx, store.Query{Limit: 10}); err != nil || page.Total != 2 {
		t.Errorf("%d requests wait (%v)", page.Total, err)
	}
	out, err := svc.Answer(ctx, api.Material{File: signed(r, vault, nil)})
	if err != nil || out.Certificate == nil || out.Certificate.Device != "Ada's laptop" ||
		out.Certificate.Authority != "Vault" {
		t.Fatalf("%+v (%v)", out, err)
	}
	d, err := svc.Devices.Get(ctx, laptop)
	if err != nil || d.Identity == nil || !d.Identity.KeySet {
		t.Fatalf("%+v (%v)", d.Identity, err)
	}
	if list, err := pki.Certificates(
		d.Identity.Certificate,
	); err != nil || len(list) != 2 ||
		!list[1].Equal(vault.Leaf) {
		t.Errorf("the device brings %d certificates along (%v)", len(list), err)
	}
	_, err = svc.Answer(ctx, api.Material{File: signed(r, vault, nil)})
	refusedAt(t, "a second time", err, "/file", "Ada's laptop")
	if err := svc.ForgetRequest(ctx, other.ID); err != nil {
		t.Fatal(err)
	}
	_, err = svc.Answer(ctx, api.Material{File: signed(other, vault, nil)})
	refusedAt(t, "a forgotten one", err, "/file", "Ada's phone")

	own, err := svc.RequestForAuthority(ctx, "Crew below the vault", pki.RSA3072)
	if err != nil {
		t.Fatal(err)
	}
	_, err = svc.Answer(
		ctx,
		api.Material{
			File: append(
				signed(own, vault, func(w *pki.Wanted) { w.Names = []string{"x.example"} }),
				pki.Bundle(vault.Leaf, root.Leaf)...),
		},
	)
	refusedAt(t, "an authority without the flag", err, "/file", "for client")
	out, err = svc.Answer(
		ctx,
		api.Material{
			File: append(
				signed(own, root, func(w *pki.Wanted) { w.Usage, w.Names = pki.ForAuthority, nil }),
				pki.Bundle(root.Leaf)...),
		},
	)
	if err != nil || out.Authority == nil || !out.Authority.KeySet {
		t.Fatalf("%+v (%v)", out, err)
	}
	if _, err := svc.IssueToDevice(ctx, phone, out.Authority.ID, nil, 0); err != nil {
		t.Errorf("it does not issue: %v", err)
	}

	// A device that goes takes what it has asked for along, with the key.
	ask(phone)
	third, err := svc.Devices.Add(
		ctx,
		&vpn.Device{
			Name:     "Third",
			PersonID: d.PersonID,
			Platform: vpn.LinuxDesktop,
			Release:  "1.42",
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	ask(third.ID)
	if err := svc.Devices.Remove(ctx, third.ID); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := svc.Pass(ctx); err != nil {
			t.Fatal(err)
		}
		c.turn(25 * time.Hour)
	}
	if n, err := s.Read().
		References(ctx, "secrets", "field = 'key' AND owner LIKE 'request:%' AND ''",
			""); err != nil ||
		n != 1 {
		t.Errorf("%d keys of requests are kept, expected 1 (%v)", n, err)
	}
}

// TestRenew lets time pass: certificates are renewed ahead of their end by themselves, by the
// authority's rule, by its successor, or by a request where its key is elsewhere; limits hold.
func TestRenew(t *testing.T) {
	svc, _, c, authority, laptop, phone := certified(t)
	ctx := service.As(t.Context(), "issuer")
	change := func(id string, do func(*vpn.Authority)) {
		t.Helper()
		if _, err := svc.Authorities.Change(
			ctx,
			id,
			0,
			func(a *vpn.Authority) (*vpn.Authority, error) { do(a); return a, nil },
			func(string) bool { return true },
		); err != nil {
			t.Fatal(err)
		}
	}
	pass := func(days int) (laptopExpires, phoneExpires int) {
		t.Helper()
		for range days {
			c.turn(24 * time.Hour)
			if err := svc.Pass(ctx); err != nil {
				t.Fatal(err)
			}
			if err := svc.WorkAll(ctx); err != nil {
				t.Fatal(err)
			}
		}
		ends := func(id string) int {
			d, err := svc.Devices.Get(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			list, err := pki.Certificates(d.Identity.Certificate)
			if err != nil {
				t.Fatal(err)
			}
			return int(list[0].NotAfter.Sub(c.now()).Hours() / 24)
		}
		return ends(laptop), ends(phone)
	}
	if _, err := svc.IssueToDevice(
		ctx,
		laptop,
		authority.ID,
		[]string{"ada@skerryline.example"},
		60,
	); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.IssueToDevice(ctx, phone, authority.ID, nil, 200); err != nil {
		t.Fatal(err)
	}
	pass(1)
	if l, p := pass(28); l != 31 || p != 171 {
		t.Errorf("renewed too early: %d and %d days are left", l, p)
	}
	if l, p := pass(2); l != 365 || p != 169 {
		t.Errorf(
			"31 days ahead of the end: %d and %d days are left, expected a new one for the laptop",
			l,
			p,
		)
	}
	d, err := svc.Devices.Get(ctx, laptop)
	if err != nil {
		t.Fatal(err)
	}
	if list, _ := pki.Certificates(
		d.Identity.Certificate,
	); strings.Join(
		pki.Names(list[0]),
		" ",
	) != "ada@skerryline.example" {
		t.Errorf("the names changed to %v", pki.Names(list[0]))
	}
	change(authority.ID, func(a *vpn.Authority) { a.RenewDays = -1 })
	if _, p := pass(150); p != 19 {
		t.Errorf("renewed although it must not be: %d days are left", p)
	}
	change(authority.ID, func(a *vpn.Authority) { a.RenewDays, a.DeviceLimit = 20, 1 })
	if _, p := pass(1); p != 18 {
		t.Errorf("renewed past the limit: %d days are left", p)
	}
	_, err = svc.IssueToDevice(ctx, phone, authority.ID, nil, 0)
	refusedAt(t, "a device's limit", err, "/device_id", "1 valid certificates")
	change(authority.ID, func(a *vpn.Authority) { a.DeviceLimit, a.DayLimit = 0, 1 })
	if _, p := pass(1); p != 365 {
		t.Errorf("not renewed within the limit: %d days are left", p)
	}
	_, err = svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	refusedAt(t, "a day's limit", err, "/authority_id", "1 certificates within a day")

	root, vault, _ := chained(t, c.now(), pki.ForClient, "leaf.example")
	abroad, err := svc.TakeAuthority(
		ctx,
		"Vault",
		api.Material{File: []byte(pki.Bundle(vault.Leaf, root.Leaf))},
	)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.RollOver(ctx, authority.ID, abroad.ID, "begin", false); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"requested", "waiting"} {
		j, err := svc.Renew(ctx, authority.ID, -1)
		if err == nil {
			err = svc.WorkAll(ctx)
		}
		if err != nil {
			t.Fatal(err)
		}
		if j, err = svc.Job(ctx, j.ID); err != nil || j.Result[want] != 2 || j.Done != 2 {
			t.Errorf("by one whose key is elsewhere: %+v (%v)", j, err)
		}
	}
	if page, err := svc.Requests(ctx, store.Query{Limit: 10}); err != nil || page.Total != 2 {
		t.Errorf("%d requests were made (%v)", page.Total, err)
	}
	_, err = svc.Renew(ctx, authority.ID, -2)
	refusedAt(t, "days", err, "/days", "-2")
}
