// Package demo holds the sample data: Skerry Line, a ferry operator on a made-up
// coast, with mistakes that the checks find.
package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
)

// The owner of the demo.
const (
	OwnerName     = "harbourmaster"
	OwnerPassword = "ferry-lantern-osprey-47-quarterdeck"
)

// Load puts the sample data into a service without any.
func Load(ctx context.Context, svc *service.Service) error {
	_, err := Furnish(ctx, svc)
	return err
}

// Furnish does the same, and gives what the gateways themselves would have: their certificates with
// the keys, by name.
func Furnish(ctx context.Context, svc *service.Service) (map[string]pki.Identity, error) {
	l := newLoader(svc)
	return l.identities, l.load(service.As(ctx, "demo"))
}

func newLoader(svc *service.Service) *loader {
	l := &loader{
		svc:        svc,
		gateways:   map[string]string{},
		people:     map[string]string{},
		identities: map[string]pki.Identity{},
	}
	l.sign = func(ctx context.Context) error {
		_, err := svc.MakeSigner(ctx, l.authority, organisation.Name+" network office", 0, 0)
		return err
	}
	return l
}

func (l *loader) load(ctx context.Context) error {
	svc := l.svc
	owner := make(chan error, 1) // to hash a password takes a while, in which the others are put in
	go func() { owner <- svc.AddOwner(ctx, OwnerName, secret.New(OwnerPassword), "") }()
	if _, err := svc.SetOrganisation(ctx, organisation); err != nil {
		return err
	}
	made, err := svc.MakeAuthority(ctx, api.NewAuthority{Name: "Skerry Line Authority"})
	if err != nil {
		return err
	}
	l.authority = made[0].ID
	signed := make(chan error, 1) // so does a key
	go func() { signed <- l.sign(ctx) }()
	for _, g := range slices.Concat(gateways, modern(made[0].Certificate)) {
		if err := l.gateway(ctx, g); err != nil {
			return fmt.Errorf("%s: %w", g.Name, err)
		}
	}
	for _, p := range slices.Concat(people, newcomers) {
		if err := l.person(ctx, p); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	for _, d := range slices.Concat(devices, newDevices) {
		if err := l.device(ctx, d); err != nil {
			return fmt.Errorf("%s: %w", d.name, err)
		}
	}
	for _, p := range patterns {
		if err := l.pattern(ctx, p); err != nil {
			return fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	if err := errors.Join(l.certify(ctx), <-owner, <-signed); err != nil {
		return err
	}
	_, err = svc.CheckAll(ctx)
	return err
}

// certify gives gateways their certificates, one of which ends soon.
func (l *loader) certify(ctx context.Context) error {
	for name, days := range map[string]int{"Brattvik": 0, "Lyngholm": 21 + l.lead} {
		out, err := l.svc.IssueGatewayBundle(ctx, l.gateways[name], l.authority, pki.P256, days)
		if err == nil {
			l.identities[name], err = identity(out)
		}
		if err != nil {
			return fmt.Errorf("certificate of %s: %w", name, err)
		}
	}
	return nil
}

// identity finds the certificate and its key among the files of a gateway.
func identity(out api.GatewayBundle) (pki.Identity, error) {
	var chain, key string
	for _, f := range out.Files {
		switch {
		case strings.HasSuffix(f.Name, "-key.pem"):
			key = string(f.Content)
		case strings.HasSuffix(f.Name, "-chain.pem"):
			chain = string(f.Content)
		}
	}
	return pki.Pair(chain, secret.New(key))
}

// Post has emails sent through a mail server.
func Post(ctx context.Context, svc *service.Service, server vpn.Mail) error {
	server.Security, server.From, server.Reminders =
		vpn.MailStartTLS, "wardicon@skerryline.example", []string{
			"network@skerryline.example",
		}
	_, err := svc.SetMail(service.As(ctx, "demo"), server, false)
	return err
}

// Egress is what the world sees of who comes through Norrvik.
const Egress = "198.51.100.7"

// Reach notes under which address people reach the service.
func Reach(ctx context.Context, svc *service.Service, address string) error {
	o := organisation
	o.Links, o.ProbeEvery = address, 1
	_, err := svc.SetOrganisation(service.As(ctx, "demo"), o)
	return err
}

// loader puts records in and remembers their identifiers by name.
type loader struct {
	svc              *service.Service
	sign             func(context.Context) error // sets what signs parcels
	authority        string                      // that vouches for gateways and devices
	lead             int                         // days by which what ends soon is made earlier
	gateways, people map[string]string
	identities       map[string]pki.Identity // of gateways
}

func (l *loader) gateway(ctx context.Context, sample gateway) error {
	g, psk := sample.Gateway, secret.New(sample.psk)
	if g.Offers.L2TP != nil {
		offer := *g.Offers.L2TP
		offer.PSK = &psk
		g.Offers.L2TP = &offer
	}
	if i := g.Offers.IKEv2; i != nil && slices.Contains(i.Auth, vpn.IKEv2PSK) {
		i.PSK = &psk
	}
	row, err := l.svc.Gateways.Add(ctx, &g)
	l.gateways[g.Name] = row.ID
	return err
}

// site is where the newcomers are.
var site = vpn.Place{
	City:      "Brattvik",
	Country:   "NO",
	Latitude:  degrees(59.91),
	Longitude: degrees(5.495),
}

func (l *loader) person(ctx context.Context, sample person) error {
	p := vpn.Person{
		Name:     sample.name,
		Mail:     sample.mail,
		Language: sample.language,
		Groups:   []string{sample.group},
	}
	if slices.ContainsFunc(newcomers, func(n person) bool { return n.name == sample.name }) {
		p.Place = site
	}
	row, err := l.svc.People.Add(ctx, &p)
	if err != nil {
		return err
	}
	l.people[sample.name] = row.ID
	for _, one := range sample.accounts {
		a := vpn.Account{PersonID: row.ID, Login: one.login, Realm: one.realm}
		if one.password != "" {
			password := secret.New(one.password)
			a.Password = &password
		}
		for _, name := range one.gateways {
			a.GatewayIDs = append(a.GatewayIDs, l.gateways[name])
		}
		if _, err := l.svc.Accounts.Add(ctx, &a); err != nil {
			return fmt.Errorf("account: %w", err)
		}
	}
	return nil
}

func (l *loader) device(ctx context.Context, sample device) error {
	d := vpn.Device{
		Name:      sample.name,
		PersonID:  l.people[sample.owner],
		Platform:  sample.platform,
		Release:   sample.release,
		Encrypted: sample.encrypted,
		CannotAsk: sample.cannotAsk,
		Site:      sites[sample.name],
	}
	row, err := l.svc.Devices.Add(ctx, &d)
	if err != nil {
		return err
	}
	if slices.Contains(certified, d.Name) {
		if _, err := l.svc.IssueToDevice(ctx, row.ID, l.authority, nil, 0); err != nil {
			return err
		}
	}
	for _, p := range sample.profiles {
		if _, err := l.svc.Profiles.Add(
			ctx,
			&vpn.Profile{
				DeviceID:    row.ID,
				GatewayID:   l.gateways[p.gateway],
				Preferences: p.preferences,
			},
		); err != nil {
			return fmt.Errorf("to %s: %w", p.gateway, err)
		}
	}
	return nil
}

// pattern keeps a pattern and rolls it out.
func (l *loader) pattern(ctx context.Context, p vpn.Pattern) error {
	p.GatewayIDs = slices.Clone(p.GatewayIDs)
	for i, name := range p.GatewayIDs {
		p.GatewayIDs[i] = l.gateways[name]
	}
	row, err := l.svc.Patterns.Add(ctx, &p)
	if err != nil {
		return err
	}
	if _, err := l.svc.RollOut(ctx, row.ID); err != nil {
		return err
	}
	return l.svc.WorkAll(ctx)
}

// Secrets lists every secret of the sample data, for tests that look for them where
// they must not be.
func Secrets() []string {
	list := []string{OwnerPassword}
	for _, g := range slices.Concat(gateways, modern("")) {
		list = append(list, g.psk)
	}
	for _, p := range slices.Concat(people, newcomers) {
		for _, a := range p.accounts {
			// A password that equals the login stands in the records as a login.
			if a.password != "" && a.password != a.login {
				list = append(list, a.password)
			}
		}
	}
	return list
}
