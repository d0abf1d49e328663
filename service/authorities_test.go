package service_test

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"math/big"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// passphrase is one that is hard to guess.
const passphrase = "kelp Harbor mizzen 4497 lantern"

// chained makes a root, an authority below it and a leaf, with their keys, valid around a moment.
func chained(
	t *testing.T,
	at time.Time,
	usage pki.Usage,
	names ...string,
) (root, issuing, leaf pki.Identity) {
	t.Helper()
	issue := func(by pki.Identity, w pki.Wanted) pki.Identity {
		t.Helper()
		key, err := pki.NewKey(rand.Reader, pki.P256)
		if err != nil {
			t.Fatal(err)
		}
		issuer := pki.Issuer{Certificate: by.Leaf, Key: by.Key}
		if by.Leaf == nil {
			issuer.Key = key
		}
		w.From, w.To = at.AddDate(0, -1, 0).
			Truncate(time.Second),
			at.AddDate(1, 0, 0).
				Truncate(time.Second)
		c, err := pki.Issue(rand.Reader, issuer, key.Public(), w)
		if err != nil {
			t.Fatal(err)
		}
		return pki.Identity{Leaf: c, Key: key}
	}
	root = issue(
		pki.Identity{},
		pki.Wanted{Name: "Vault Root", Usage: pki.ForAuthority, MaxPath: 1},
	)
	issuing = issue(root, pki.Wanted{Name: "Vault", Usage: pki.ForAuthority})
	leaf = issue(issuing, pki.Wanted{Name: "leaf", Usage: usage, Names: names})
	issuing.Chain, leaf.Chain = []*x509.Certificate{
		root.Leaf,
	}, []*x509.Certificate{
		issuing.Leaf,
		root.Leaf,
	}
	return root, issuing, leaf
}

func keyPEM(t *testing.T, id pki.Identity) string {
	t.Helper()
	text, err := pki.KeyPEM(id.Key)
	if err != nil {
		t.Fatal(err)
	}
	return text.Reveal()
}

// refusedAt holds that something was refused at a field, with what is expected and how to fix it.
func refusedAt(t *testing.T, name string, err error, pointer, found string) {
	t.Helper()
	var refused *vpn.Problems
	if !errors.As(err, &refused) || len(refused.List) != 1 || refused.List[0].Pointer != pointer ||
		!strings.Contains(refused.List[0].Found, found) ||
		refused.List[0].Expected == "" ||
		refused.List[0].Fix == "" {
		t.Errorf("%s: %v, expected it refused at %s with %q", name, err, pointer, found)
	}
}

// TestBring brings authorities in out of files of every shape, and files that it must refuse, each
// with a word of its own. What was refused left nothing behind.
func TestBring(t *testing.T) {
	svc, _, c, _, _, _ := certified(t)
	ctx := t.Context()
	root, issuing, leaf := chained(t, c.now(), pki.ForClient, "leaf.example")
	_, old, _ := chained(t, c.now().AddDate(-3, 0, 0), pki.ForClient, "leaf.example")
	_, early, _ := chained(t, c.now().AddDate(3, 0, 0), pki.ForClient, "leaf.example")
	closed, err := pki.Close(rand.Reader, issuing, secret.New(passphrase))
	if err != nil {
		t.Fatal(err)
	}
	collection, err := pki.Collection(root.Leaf, issuing.Leaf)
	if err != nil {
		t.Fatal(err)
	}
	encrypted := string(
		pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: []byte{0x30, 0}}),
	)
	whole := pki.Bundle(issuing.Leaf, root.Leaf)
	for _, test := range []struct {
		name       string
		m          api.Material
		pointer    string // empty: taken
		found      string
		keyed      bool
		passphrase string
	}{
		{"PEM, its key beside", api.Material{File: []byte(whole), Key: []byte(keyPEM(t, issuing))},
			"", "", true, ""},
		{"PEM, all in one, the root first",
			api.Material{File: []byte(pki.Bundle(root.Leaf, issuing.Leaf) + keyPEM(t,
				issuing))}, "", "", true, ""},
		{"PEM without a key", api.Material{File: []byte(whole)}, "", "", false, ""},
		{"DER", api.Material{File: root.Leaf.Raw}, "", "", false, ""},
		{"PKCS #7", api.Material{File: collection}, "", "", false, ""},
		{"PKCS #12", api.Material{File: closed}, "", "", true, passphrase},
		{"a wrong passphrase", api.Material{File: closed}, "/passphrase",
			"closed by another passphrase", false, "kelp"},
		{"several keys", api.Material{File: []byte(whole + keyPEM(t, issuing) + keyPEM(t, root))},
			"/file", "2 private keys", false, ""},
		{"a missing chain", api.Material{File: []byte(pki.Bundle(issuing.Leaf))}, "/certificate",
			`"Vault" without "Vault Root"`, false, ""},
		{"one that has ended",
			api.Material{File: []byte(pki.Bundle(append([]*x509.Certificate{old.Leaf},
				old.Chain...)...))}, "/file", "expired on", false, ""},
		{"one of the future",
			api.Material{File: []byte(pki.Bundle(append([]*x509.Certificate{early.Leaf},
				early.Chain...)...))}, "/file", "valid only from", false, ""},
		{"a key that is not the pair", api.Material{
			File: []byte(pki.Bundle(issuing.Leaf)),
			Key:  []byte(keyPEM(t, leaf)),
		}, "/key", "belongs to none", false, ""},
		{"the key of a device",
			api.Material{File: []byte(pki.Bundle(leaf.Leaf, issuing.Leaf, root.Leaf) + keyPEM(t,
				leaf))}, "/file", `the key of "leaf"`, false, ""},
		{"a device's certificate", api.Material{File: []byte(pki.Bundle(leaf.Leaf))}, "/file",
			`"leaf", a certificate for client`, false, ""},
		{"a closed key", api.Material{File: []byte(whole), Key: []byte(encrypted)}, "/key",
			"closed by a passphrase", false, ""},
		{"a key alone", api.Material{File: []byte(keyPEM(t, issuing))}, "/file", "no certificate",
			false, ""},
		{"another file", api.Material{File: []byte("hello")}, "/file", "neither PEM nor DER", false,
			""},
		{"a broken one", api.Material{File: closed[:300]}, "/file", "cannot be read", false,
			passphrase},
	} {
		test.m.Passphrase = secret.New(test.passphrase)
		before, err := svc.Authorities.List(ctx, store.Query{Limit: 1})
		if err != nil {
			t.Fatal(err)
		}
		row, err := svc.TakeAuthority(ctx, test.name, test.m)
		if test.pointer != "" {
			refusedAt(t, test.name, err, test.pointer, test.found)
			if after, err := svc.Authorities.List(
				ctx,
				store.Query{Limit: 1},
			); err != nil ||
				after.Total != before.Total {
				t.Errorf("%s: something was kept (%v)", test.name, err)
			}
			continue
		}
		if err != nil || row.KeySet != test.keyed || row.Key != nil {
			t.Errorf("%s: %+v (%v)", test.name, row, err)
		}
	}
}

// TestExport packs an authority under a passphrase, for the owner alone.
func TestExport(t *testing.T) {
	svc, _, _, authority, _, _ := certified(t)
	owner := service.As(t.Context(), "owner")
	for _, test := range []struct{ name, one, two, pointer, found string }{
		{"said once", passphrase, "", "/again", "another"},
		{"said otherwise", passphrase, passphrase + " ", "/again", "another"},
		{"short", "kelp4497", "kelp4497", "/passphrase", "8 characters"},
		{"guessable", "passwordpassword", "passwordpassword", "/passphrase", "find"},
	} {
		_, _, err := svc.ExportAuthority(
			owner,
			authority.ID,
			secret.New(test.one),
			secret.New(test.two),
		)
		refusedAt(t, test.name, err, test.pointer, test.found)
	}
	for _, role := range []string{"issuer", "auditor", ""} {
		if _, _, err := svc.ExportAuthority(
			service.AsRole(t.Context(), "somebody", role),
			authority.ID,
			secret.New(passphrase),
			secret.New(passphrase),
		); !errors.Is(
			err,
			service.ErrRole,
		) {
			t.Errorf("exported by the role %q: %v", role, err)
		}
	}
	data, name, err := svc.ExportAuthority(
		owner,
		authority.ID,
		secret.New(passphrase),
		secret.New(passphrase),
	)
	if err != nil || name != "Crew" {
		t.Fatal(err)
	}
	back, err := svc.TakeAuthority(
		owner,
		"Crew again",
		api.Material{File: data, Passphrase: secret.New(passphrase)},
	)
	if err != nil || back.Certificate != authority.Certificate || !back.KeySet {
		t.Errorf("brought in again: %+v (%v)", back, err)
	}
	log, err := svc.Audit(owner, store.Query{Limit: 10})
	if err != nil || log.Items[1].Action != "export key" || log.Items[1].Operator != "owner" ||
		log.Items[1].Object != authority.ID {
		t.Errorf("not in the audit log: %+v (%v)", log.Items[:2], err)
	}
	abroad, err := svc.TakeAuthority(
		owner,
		"Abroad",
		api.Material{File: []byte(authority.Certificate)},
	)
	if err != nil {
		t.Fatal(err)
	}
	_, _, err = svc.ExportAuthority(
		owner,
		abroad.ID,
		secret.New(passphrase),
		secret.New(passphrase),
	)
	refusedAt(t, "without a key", err, "/id", "whose key is not here")
}

// TestRollover goes from one authority to another: both are believed for a while, and parcels carry
// both.
func TestRollover(t *testing.T) {
	svc, _, c, authority, laptop, phone := certified(t)
	ctx := service.As(t.Context(), "owner")
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, id := range []string{laptop, phone} {
		_, err := svc.IssueToDevice(ctx, id, authority.ID, nil, 0)
		must(err)
	}
	others, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"device_id": phone}},
	)
	must(err)
	must(
		svc.Profiles.Remove(ctx, others.Items[0].ID),
	) // the phone and the gateway have no proposal in common
	gateways, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	must(err)
	gateway := gateways.Items[0].ID
	_, err = svc.IssueGatewayBundle(ctx, gateway, authority.ID, pki.P256, 0)
	must(err)
	made, err := svc.MakeAuthority(ctx, api.NewAuthority{Name: "Crew 2", Kind: pki.P384})
	must(err)
	next := made[0]
	rollOver := func(step string, anyway bool) (api.Rollover, error) {
		return svc.RollOver(ctx, authority.ID, next.ID, step, anyway)
	}
	at, err := svc.Rollover(ctx, authority.ID)
	refusedAt(t, "before it began", err, "/id", "no successor")
	_, err = svc.RollOver(ctx, authority.ID, authority.ID, "begin", false)
	refusedAt(t, "to itself", err, "/successor_id", "the same")
	_, err = svc.RollOver(ctx, authority.ID, "au-x", "begin", false)
	refusedAt(t, "to nobody", err, "/successor_id", "au-x")
	_, err = rollOver("sideways", false)
	refusedAt(t, "another way", err, "/step", "sideways")
	offered := func() []string {
		t.Helper()
		g, err := svc.Gateways.Get(ctx, gateway)
		must(err)
		list, err := pki.Certificates(g.Offers.IKEv2.Authority)
		must(err)
		var names []string
		for _, one := range list {
			names = append(names, one.Subject.CommonName)
		}
		return names
	}
	profiles, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"device_id": laptop}},
	)
	must(err)
	_, err = svc.Build(ctx, profiles.Items[0].ID, false)
	must(err)
	c.turn(time.Hour)

	at, err = rollOver("begin", false)
	must(err)
	if at.Devices != 2 || at.Servers != 1 || at.Parcels != 1 || len(at.Gateways) != 1 ||
		!at.Gateways[0].Both ||
		at.Finished ||
		strings.Join(offered(), ", ") != "Crew, Crew Root, Crew 2" {
		t.Errorf("begun: %+v, offers name %v", at, offered())
	}
	_, err = rollOver("begin", false)
	refusedAt(t, "twice", err, "/id", "already")
	_, err = svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	refusedAt(t, "issued by the old one", err, "/authority_id", "retired")
	list, err := svc.Parcels(ctx, profiles.Items[0].ID)
	if err != nil || !list[0].Outdated {
		t.Errorf("the parcel without the new one is not outdated (%v)", err)
	}
	_, err = rollOver("finish", false)
	refusedAt(t, "too early", err, "/step", "2 devices and 1 gateways")

	at, err = rollOver("undo", false)
	must(err)
	if at.From.SuccessorID != "" || at.From.Retired ||
		strings.Join(offered(), ", ") != "Crew, Crew Root" {
		t.Errorf("undone: %+v, offers name %v", at.From, offered())
	}
	_, err = rollOver("begin", false)
	must(err)
	j, err := svc.Renew(ctx, authority.ID, -1)
	must(err)
	must(svc.WorkAll(ctx))
	if j, err = svc.Job(ctx, j.ID); err != nil || j.Result["renewed"] != 2 || j.State != api.Done {
		t.Errorf("renewed: %+v (%v)", j, err)
	}
	bundle, err := svc.IssueGatewayBundle(ctx, gateway, next.ID, pki.P256, 0)
	must(err)
	for _, f := range bundle.Files {
		if strings.HasSuffix(f.Name, "-authority.pem") {
			if list, err := pki.Certificates(string(f.Content)); err != nil || len(list) != 3 {
				t.Errorf(
					"the gateway is told of %d authorities, expected the new one and the old one "+
						"with its root (%v)",
					len(list),
					err,
				)
			}
		}
	}
	for _, id := range []string{laptop, phone} {
		chain, err := svc.Chain(ctx, "device", id)
		if err != nil || len(chain.Links) != 2 || chain.Links[1].Subject != "Crew 2" ||
			chain.Links[0].Fault+chain.Links[1].Fault != "" {
			t.Errorf("%+v (%v)", chain, err)
		}
	}
	at, err = rollOver("finish", false)
	refusedAt(t, "without parcels", err, "/step", "1 profiles")
	all, err := svc.Profiles.List(ctx, store.Query{Limit: 10})
	must(err)
	for _, p := range all.Items {
		_, err := svc.Build(ctx, p.ID, true)
		must(err)
	}
	at, err = rollOver("finish", false)
	must(err)
	if !at.Finished || strings.Join(offered(), ", ") != "Crew 2" {
		t.Errorf("finished: %+v, offers name %v", at, offered())
	}
}

// TestDelta revokes over days and looks at the whole list and at what was revoked lately.
func TestDelta(t *testing.T) {
	svc, _, c, authority, laptop, phone := certified(t)
	ctx := t.Context()
	serials := []string{}
	revoke := func(device string) {
		t.Helper()
		row, err := svc.IssueToDevice(ctx, device, authority.ID, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := svc.Revoke(ctx, row.ID, "", pki.Superseded); err != nil {
			t.Fatal(err)
		}
		serials = append(serials, row.Serial)
	}
	list := func(delta bool) (numbers []string, l *x509.RevocationList) {
		t.Helper()
		der, _, err := svc.RevocationList(ctx, authority.ID, delta)
		if err != nil {
			t.Fatal(err)
		}
		if l, err = x509.ParseRevocationList(der); err != nil {
			t.Fatal(err)
		}
		for _, e := range l.RevokedCertificateEntries {
			numbers = append(numbers, e.SerialNumber.Text(16))
		}
		return numbers, l
	}
	revoke(laptop)
	c.turn(5 * 24 * time.Hour)
	_, held := list(false)
	c.turn(4 * 24 * time.Hour)
	revoke(phone)
	whole, l := list(false)
	lately, d := list(true)
	if strings.Join(whole, " ") != strings.Join(serials, " ") ||
		strings.Join(lately, " ") != serials[1] {
		t.Errorf("whole %v, delta %v, expected %v and the last of them", whole, lately, serials)
	}
	base := pki.Base(d)
	if pki.Base(l) != nil || base == nil || base.Cmp(held.Number) > 0 ||
		d.Number.Cmp(l.Number) < 0 ||
		!held.NextUpdate.After(c.now()) {
		t.Errorf("the delta is for %v, held is %v, the last one %v", base, held.Number, l.Number)
	}
	if d.NextUpdate.Sub(c.now()) > 3*time.Hour || new(big.Int).Sub(d.Number, base).Sign() <= 0 {
		t.Errorf("the delta counts until %v", d.NextUpdate)
	}
}
