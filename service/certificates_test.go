package service_test

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// certified is a service with an organisation, a root and an issuing authority, a gateway that
// wants certificates, and a laptop and a phone.
func certified(
	t *testing.T,
) (svc *service.Service, s *store.Store, c *clock, authority api.Authority, laptop, phone string) {
	t.Helper()
	svc, s, c = start(t)
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	_, err := svc.SetOrganisation(
		ctx,
		vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"},
	)
	must(err)
	made, err := svc.MakeAuthority(
		ctx,
		api.NewAuthority{
			Name:    "Crew",
			Issuing: true,
			Lists:   []string{"http://lists.skerryline.example/crew.crl"},
		},
	)
	must(err)
	if len(made) != 2 || made[0].Name != "Crew Root" || made[1].Name != "Crew" || !made[1].KeySet ||
		made[1].Key != nil ||
		made[1].Expires.After(made[0].Expires) {
		t.Fatalf("%+v", made)
	}
	g, err := svc.Gateways.Add(
		ctx,
		&vpn.Gateway{
			Name:    "North",
			Address: "north.example",
			Offers: vpn.Offers{
				IKEv2: &vpn.IKEv2Offer{
					Auth:      []vpn.IKEv2Auth{vpn.IKEv2Certificate},
					Authority: made[1].Certificate,
					IKE:       []string{"aes256-sha256-ecp256"},
					ESP:       []string{"aes256gcm16-ecp256"},
				},
			},
		},
	)
	must(err)
	p, err := svc.People.Add(ctx, &vpn.Person{Name: "Ada"})
	must(err)
	for _, d := range []*vpn.Device{
		{
			Name:     "Ada's laptop",
			Platform: vpn.LinuxDesktop,
			Release:  "1.42",
		},
		{Name: "Ada's phone", Platform: vpn.Android, Release: "14"},
	} {
		d.PersonID = p.ID
		row, err := svc.Devices.Add(ctx, d)
		must(err)
		_, err = svc.Profiles.Add(ctx, &vpn.Profile{DeviceID: row.ID, GatewayID: g.ID})
		must(err)
		laptop, phone = phone, row.ID
	}
	return svc, s, c, made[1], laptop, phone
}

// TestIssueAndRevoke goes the whole way of a certificate: issued, in the parcel, renewed,
// taken back, on the list.
func TestIssueAndRevoke(t *testing.T) {
	svc, _, c, authority, laptop, phone := certified(t)
	ctx := service.As(t.Context(), "issuer")
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	chain, err := pki.Certificates(authority.Certificate)
	if err != nil || len(chain) != 2 {
		t.Fatalf("%d certificates (%v)", len(chain), err)
	}
	roots.AddCert(chain[1])
	between.AddCert(chain[0])
	good := func(text string) *x509.Certificate {
		t.Helper()
		list, err := pki.Certificates(text)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := list[0].Verify(
			x509.VerifyOptions{
				Roots:         roots,
				Intermediates: between,
				CurrentTime:   c.now(),
				KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
			},
		); err != nil {
			t.Errorf("%s: %v", list[0].Subject.CommonName, err)
		}
		return list[0]
	}
	first, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	one := good(first.PEM)
	if first.Names[0] != "ada-s-laptop.devices.skerryline.example" || first.Operator != "issuer" ||
		first.To.Sub(c.now()) != 365*24*time.Hour ||
		one.CRLDistributionPoints[0] != "http://lists.skerryline.example/crew.crl" {
		t.Errorf("%+v", first)
	}
	if _, ok := one.PublicKey.(*ecdsa.PublicKey); !ok {
		t.Errorf("a laptop has a key of the kind %T", one.PublicKey)
	}
	d, err := svc.Devices.Get(ctx, laptop)
	if err != nil || d.Identity == nil || !d.Identity.KeySet || d.Identity.Key != nil {
		t.Fatalf("%+v (%v)", d.Identity, err)
	}
	if list, _ := pki.Certificates(
		d.Identity.Certificate,
	); len(list) != 2 || !list[0].Equal(one) ||
		!list[1].Equal(chain[0]) {
		t.Errorf(
			"the device brings %d certificates along, expected its own and the one between",
			len(list),
		)
	}
	mobile, err := svc.IssueToDevice(
		ctx,
		phone,
		authority.ID,
		[]string{"ada@skerryline.example"},
		90,
	)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := good(mobile.PEM).PublicKey.(*rsa.PublicKey); !ok ||
		mobile.Names[0] != "ada@skerryline.example" ||
		mobile.To.Sub(c.now()) != 90*24*time.Hour {
		t.Errorf("%+v", mobile)
	}
	profiles, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"device_id": laptop}},
	)
	if err != nil {
		t.Fatal(err)
	}
	profile := profiles.Items[0].ID
	if parcel, err := svc.Build(ctx, profile, false); err != nil || len(parcel.Files) == 0 {
		t.Errorf("no parcel: %v", err)
	}

	list := func() *x509.RevocationList {
		t.Helper()
		der, until, err := svc.RevocationList(ctx, authority.ID, false)
		if err != nil {
			t.Fatal(err)
		}
		l, err := x509.ParseRevocationList(der)
		if err != nil || l.CheckSignatureFrom(chain[0]) != nil || !l.NextUpdate.After(c.now()) ||
			!until.After(c.now()) {
			t.Fatalf("%+v (%v)", l, err)
		}
		return l
	}
	empty := list()
	if again := list(); again.Number.Cmp(empty.Number) != 0 ||
		len(empty.RevokedCertificateEntries) != 0 {
		t.Error("the same list was signed twice")
	}
	c.turn(time.Minute)
	second, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	if err != nil || second.Serial == first.Serial {
		t.Fatalf("%+v (%v)", second, err)
	}
	if w, err := svc.Revoke(
		ctx,
		first.ID,
		"",
		pki.Superseded,
	); err != nil || len(w.Certificates) != 1 || len(w.Profiles) != 0 ||
		w.Certificates[0].Revoked == nil {
		t.Errorf("the old one: %+v (%v)", w, err)
	}
	if d, err := svc.Devices.Get(ctx, laptop); err != nil || d.Identity == nil {
		t.Errorf("the device lost its new certificate with the old one (%v)", err)
	}
	l := list()
	if len(l.RevokedCertificateEntries) != 1 ||
		l.RevokedCertificateEntries[0].SerialNumber.Cmp(one.SerialNumber) != 0 ||
		l.RevokedCertificateEntries[0].ReasonCode != 4 ||
		l.Number.Cmp(empty.Number) <= 0 {
		t.Errorf("%+v", l.RevokedCertificateEntries)
	}
	w, err := svc.Revoke(ctx, "", laptop, pki.KeyCompromise)
	if err != nil || len(w.Certificates) != 1 || w.Certificates[0].ID != second.ID ||
		len(w.Profiles) != 1 ||
		w.Profiles[0] != "Ada's laptop to North" {
		t.Errorf("the device: %+v (%v)", w, err)
	}
	if d, err := svc.Devices.Get(ctx, laptop); err != nil || d.Identity != nil {
		t.Errorf("the device still has a certificate (%v)", err)
	}
	if w, err := svc.Revoke(ctx, "", laptop, pki.Ceased); err != nil || len(w.Certificates) != 0 {
		t.Errorf("once more: %+v (%v)", w, err)
	}
	c.turn(2 * time.Hour)
	if fresh := list(); fresh.Number.Cmp(l.Number) <= 0 ||
		len(fresh.RevokedCertificateEntries) != 2 {
		t.Errorf(
			"two hours later: number %s with %d entries",
			fresh.Number,
			len(fresh.RevokedCertificateEntries),
		)
	}
	c.turn(400 * 24 * time.Hour)
	if old := list(); len(old.RevokedCertificateEntries) != 0 {
		t.Errorf("%d entries for certificates that have ended", len(old.RevokedCertificateEntries))
	}
	var actions []string
	entries, err := svc.Audit(ctx, store.Query{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range entries.Items {
		if slices.Contains([]string{"issue", "revoke", "make"}, d.Action) {
			actions = append(actions, d.Action)
		}
		if strings.Contains(d.Detail, "PRIVATE") {
			t.Error("a key in the audit log")
		}
	}
	if got := strings.Join(actions, " "); got != "revoke revoke issue issue issue make make" {
		t.Errorf("the audit says %q", got)
	}
}

// TestRevokedFound gives a device a certificate that was taken back: the checks say so.
func TestRevokedFound(t *testing.T) {
	svc, s, _, authority, laptop, _ := certified(t)
	ctx := t.Context()
	row, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	profiles, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"device_id": laptop}},
	)
	if err != nil {
		t.Fatal(err)
	}
	found := func() bool {
		t.Helper()
		planned, err := svc.Plan(ctx, profiles.Items[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(
			planned.Findings,
			func(f check.Finding) bool { return f.Rule == "certificate-revoked" },
		)
	}
	if found() {
		t.Error("found before it was revoked")
	}
	kept, err := store.Devices.Get(ctx, s.Read(), laptop)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Revoke(ctx, row.ID, "", pki.KeyCompromise); err != nil {
		t.Fatal(err)
	}
	if found() {
		t.Error("found although the device no longer has it")
	}
	// Somebody brings the same certificate in again, from a copy.
	if _, err := svc.Devices.Change(
		ctx,
		laptop,
		0,
		func(d *vpn.Device) (*vpn.Device, error) { d.Identity = kept.Identity; return d, nil },
		func(string) bool { return false },
	); err != nil {
		t.Fatal(err)
	}
	if !found() {
		t.Error("not found although it was revoked")
	}
}

// TestNotIssued asks for what cannot be issued or made: each is refused with its field, and
// nothing is kept.
func TestNotIssued(t *testing.T) {
	svc, _, c, authority, laptop, _ := certified(t)
	ctx := t.Context()
	add := func(name string, change func(*vpn.Authority)) string {
		t.Helper()
		a := &vpn.Authority{Name: name, Certificate: authority.Certificate}
		change(a)
		row, err := svc.Authorities.Add(ctx, a)
		if err != nil {
			t.Fatal(err)
		}
		return row.ID
	}
	abroad := add("Abroad", func(*vpn.Authority) {})
	made, err := svc.MakeAuthority(
		ctx,
		api.NewAuthority{Name: "Bound", Permitted: []string{"harbour.example"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	bound := made[0].ID
	made, err = svc.MakeAuthority(ctx, api.NewAuthority{Name: "Retired"})
	if err != nil {
		t.Fatal(err)
	}
	retired := made[0].ID
	if _, err := svc.Authorities.Change(
		ctx,
		retired,
		0,
		func(a *vpn.Authority) (*vpn.Authority, error) { a.Retired = true; return a, nil },
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
	made, err = svc.MakeAuthority(ctx, api.NewAuthority{Name: "Short", Years: 1})
	if err != nil {
		t.Fatal(err)
	}
	short := made[0].ID
	issue := func(device, by string, days int, names ...string) func() error {
		return func() error {
			_, err := svc.IssueToDevice(ctx,
				device, by, names, days)
			return err
		}
	}
	take := func(a vpn.Authority) func() error {
		return func() error { _, err := svc.Authorities.Add(ctx, &a); return err }
	}
	create := func(n api.NewAuthority) func() error {
		return func() error { _, err := svc.MakeAuthority(ctx, n); return err }
	}
	leaf, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		do      func() error
		pointer string
	}{
		"no such device":          {issue("de-x", authority.ID, 0), "/device_id"},
		"no such authority":       {issue(laptop, "au-x", 0), "/authority_id"},
		"whose key is elsewhere":  {issue(laptop, abroad, 0), "/authority_id"},
		"retired":                 {issue(laptop, retired, 0), "/authority_id"},
		"bound to another domain": {issue(laptop, bound, 0), "/names"},
		"a name that is none":     {issue(laptop, authority.ID, 0, "a b"), "/names"},
		"too many days":           {issue(laptop, authority.ID, 4000), "/days"},
		"a name that is taken":    {create(api.NewAuthority{Name: "crew"}), "/name"},
		"no name":                 {create(api.NewAuthority{}), "/name"},
		"a kind that is none":     {create(api.NewAuthority{Name: "x", Kind: "dsa"}), "/kind"},
		"a hundred years":         {create(api.NewAuthority{Name: "x", Years: 100}), "/years"},
		"a bound that is none": {create(api.NewAuthority{
			Name:      "x",
			Permitted: []string{"a b"},
		}), "/permitted"},
		"a list that is none": {create(api.NewAuthority{Name: "x", Lists: []string{"lists"}}),
			"/lists/0"},
		"the root's name is taken": {create(api.NewAuthority{Name: "crew", Issuing: true}),
			"/name"},
		"not a certificate": {take(vpn.Authority{Name: "x", Certificate: "hello"}),
			"/certificate"},
		"a client's certificate": {take(vpn.Authority{Name: "x", Certificate: leaf.PEM}),
			"/certificate"},
		"another key": {take(vpn.Authority{
			Name:        "x",
			Certificate: authority.Certificate,
			Key: words("-----BEGIN PRIVATE " +
				"KEY-----\nMAA=\n-----END PRIVATE KEY-----\n"),
		}), "/key"},
		"many days": {take(vpn.Authority{
			Name:        "x",
			Certificate: authority.Certificate,
			DeviceDays:  5000,
		}), "/device_days"},
	} {
		var refused *vpn.Problems
		if err := test.do(); !errors.As(err, &refused) || len(refused.List) != 1 ||
			refused.List[0].Pointer != test.pointer ||
			refused.List[0].Expected == "" {
			t.Errorf("%s: %v, expected it refused at %s", name, err, test.pointer)
		}
	}
	if page, err := svc.Certificates(ctx, store.Query{Limit: 10}); err != nil || page.Total != 1 {
		t.Errorf("%d certificates were kept (%v)", page.Total, err)
	}
	if page, err := svc.Authorities.List(
		ctx,
		store.Query{Limit: 20},
	); err != nil ||
		page.Total != 6 {
		t.Errorf("%d authorities were kept (%v)", page.Total, err)
	}
	c.turn(300 * 24 * time.Hour)
	if row, err := svc.IssueToDevice(
		ctx,
		laptop,
		short,
		nil,
		0,
	); err != nil ||
		row.To.After(made[0].Expires) {
		t.Errorf("it outlives its authority: %+v (%v)", row, err)
	}
	c.turn(100 * 24 * time.Hour)
	var refused *vpn.Problems
	if _, err := svc.IssueToDevice(ctx, laptop, short, nil, 0); !errors.As(err, &refused) {
		t.Errorf("issued by one that has ended: %v", err)
	}
	var used *service.InUseError
	if err := svc.Authorities.Remove(ctx, authority.ID); !errors.As(err, &used) {
		t.Errorf("removed although it has issued: %v", err)
	}
	if err := svc.Authorities.Remove(ctx, abroad); err != nil {
		t.Error(err)
	}
	var none *store.NotFoundError
	if _, _, err := svc.RevocationList(ctx, abroad, false); !errors.As(err, &none) {
		t.Errorf("a list of nobody: %v", err)
	}
	if _, err := svc.Revoke(ctx, "ce-x", "", pki.Ceased); !errors.As(err, &none) {
		t.Errorf("%v", err)
	}
	if _, err := svc.Revoke(ctx, leaf.ID, "", "bored"); !errors.As(err, &refused) {
		t.Errorf("%v", err)
	}
}

// TestSign signs what a gateway asks for, and refuses names that it must not have.
func TestSign(t *testing.T) {
	svc, _, c, authority, _, _ := certified(t)
	ctx := t.Context()
	g, err := svc.Gateways.Add(
		ctx,
		&vpn.Gateway{
			Name:      "South",
			Address:   "south.example",
			Addresses: []string{"198.51.100.9"},
			Offers: vpn.Offers{
				IKEv2: &vpn.IKEv2Offer{
					Auth:     []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
					RemoteID: "ike.south.example",
				},
				TLS: &vpn.TLSOffer{
					Remotes: []vpn.Remote{
						{Address: "tls.south.example", Port: 443, Transport: vpn.TCP},
					},
					Auth: []vpn.TLSAuth{vpn.TLSPassword},
				},
			},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	key, err := pki.NewKey(rand.Reader, pki.P384)
	if err != nil {
		t.Fatal(err)
	}
	request := func(names ...string) string {
		t.Helper()
		text, err := pki.NewRequest(
			rand.Reader,
			key,
			pki.Wanted{
				Name:         "whoever",
				Organisation: "Somebody Else",
				Names:        names,
				Usage:        pki.ForServer,
			},
		)
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	for _, test := range []struct {
		name, request, gateway string
		days                   int
		names                  string // empty: refused at pointer
		pointer                string
	}{
		{"no names", request(), g.ID, 0, "south.example ike.south.example tls.south.example " +
			"198.51.100.9", ""},
		{"some of its names", request("ike.south.example", "SOUTH.example"), g.ID, 30,
			"ike.south.example SOUTH.example", ""},
		{"its address", request("198.51.100.9"), g.ID, 0, "198.51.100.9", ""},
		{"a name of another", request("south.example", "north.example"), g.ID, 0, "", "/request"},
		{"a mail address", request("ada@south.example"), g.ID, 0, "", "/request"},
		{"no request", "hello", g.ID, 0, "", "/request"},
		{"nothing", "", g.ID, 0, "", "/request"},
		{"no such gateway", request(), "gw-x", 0, "", "/gateway_id"},
		{"ten years and a day", request(), g.ID, 3651, "", "/days"},
	} {
		out, err := svc.IssueToGateway(ctx, test.gateway, authority.ID, test.request, test.days)
		if test.names == "" {
			var refused *vpn.Problems
			if !errors.As(err, &refused) || refused.List[0].Pointer != test.pointer ||
				out.Chain != "" {
				t.Errorf("%s: %v, expected it refused at %s", test.name, err, test.pointer)
			}
			continue
		}
		if err != nil {
			t.Fatalf("%s: %v", test.name, err)
		}
		list, err := pki.Certificates(out.Chain)
		days := cmp.Or(test.days, 397)
		if err != nil || len(list) != 2 || strings.Join(pki.Names(list[0]), " ") != test.names ||
			pki.UsageOf(list[0]) != pki.ForServer ||
			!pki.Belongs(list[0], key) ||
			list[0].NotAfter.Sub(c.now()) != time.Duration(days)*24*time.Hour {
			t.Errorf(
				"%s: for %v until %s (%v)",
				test.name,
				pki.Names(list[0]),
				list[0].NotAfter,
				err,
			)
		}
		if s := list[0].Subject; s.CommonName != "south.example" ||
			s.Organization[0] != "Skerry Line" ||
			out.Certificate.Gateway != "South" {
			t.Errorf("%s: the subject %s came from the request", test.name, s)
		}
	}
	if page, err := svc.Certificates(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"gateway_id": g.ID}},
	); err != nil ||
		page.Total != 3 {
		t.Errorf("%d were kept (%v)", page.Total, err)
	}
}

// TestEndings looks at the calendar on several days, and reads what the log says on them.
func TestEndings(t *testing.T) {
	var log strings.Builder
	_, s, c, authority, laptop, phone := certified(t)
	svc := service.New(s, slog.New(slog.NewTextHandler(&log, nil)), c.now)
	ctx := t.Context()
	short, err := svc.MakeAuthority(ctx, api.NewAuthority{Name: "Short", Years: 1})
	if err != nil {
		t.Fatal(err)
	}
	gone, err := svc.IssueToDevice(ctx, laptop, short[0].ID, nil, 20)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Revoke(ctx, gone.ID, "", pki.Superseded); err != nil {
		t.Fatal(err)
	}
	for device, days := range map[string]int{laptop: 90, phone: 40} {
		if _, err := svc.IssueToDevice(ctx, device, authority.ID, nil, days); err != nil {
			t.Fatal(err)
		}
	}
	said := 0
	for _, test := range []struct {
		turn, ahead int // days
		listed      string
		logged      string // what is new in the log
	}{
		{0, 60, "Ada's phone 40", ""},
		{0, 100, "Ada's phone 40, Ada's laptop 90", ""},
		{0, 400, "Ada's phone 40, Ada's laptop 90, Short 365", ""},
		{5, 60, "Ada's phone 35", ""},
		{6, 60, "Ada's phone 29", "Ada's phone"},
		{2, 60, "Ada's phone 27", ""},
		{21, 60, "Ada's phone 6, Ada's laptop 56", "Ada's phone Ada's laptop"},
		{8, 60, "Ada's phone -2, Ada's laptop 48", ""},
		{40, 60, "Ada's laptop 8", "Ada's laptop"},
		{250, 60, "Short 33", "Short"},
	} {
		c.turn(time.Duration(test.turn) * 24 * time.Hour)
		if err := svc.Pass(ctx); err != nil {
			t.Fatal(err)
		}
		list, err := svc.Expiries(ctx, test.ahead)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, e := range list {
			got = append(got, fmt.Sprint(e.Name, " ", e.Days))
		}
		if strings.Join(got, ", ") != test.listed {
			t.Errorf(
				"after %d more days: %q, expected %q",
				test.turn,
				strings.Join(got, ", "),
				test.listed,
			)
		}
		var names []string
		for line := range strings.SplitSeq(log.String()[said:], "\n") {
			if _, rest, ok := strings.Cut(
				line,
				`name="`,
			); ok &&
				strings.Contains(line, "expires soon") {
				name, _, _ := strings.Cut(rest, `"`)
				names = append(names, name)
			} else if _, rest, ok := strings.Cut(
				line,
				"name=",
			); ok &&
				strings.Contains(line, "expires soon") {
				name, _, _ := strings.Cut(rest, " ")
				names = append(names, name)
			}
		}
		said = log.Len()
		if strings.Join(names, " ") != test.logged {
			t.Errorf(
				"after %d more days the log speaks of %q, expected %q",
				test.turn,
				names,
				test.logged,
			)
		}
	}
	if strings.Contains(log.String(), "PRIVATE") {
		t.Error("a key in the log")
	}
}
