// Package demo holds the sample data: Skerry Line, a ferry operator on a made-up
// coast, with mistakes that the checks find.
package demo

import (
	"context"
	"fmt"

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
	ctx = service.As(ctx, "demo")
	if err := svc.AddOwner(ctx, OwnerName, secret.New(OwnerPassword)); err != nil {
		return fmt.Errorf("owner: %w", err)
	}
	if _, err := svc.SetOrganisation(ctx, organisation); err != nil {
		return err
	}
	gatewayID, personID := map[string]string{}, map[string]string{}
	for _, sample := range gateways {
		g, psk := sample.Gateway, secret.New(sample.psk)
		offer := *g.Offers.L2TP
		offer.PSK = &psk
		g.Offers.L2TP = &offer
		row, err := svc.Gateways.Add(ctx, &g)
		if err != nil {
			return fmt.Errorf("%s: %w", sample.Name, err)
		}
		gatewayID[g.Name] = row.ID
	}
	for _, sample := range people {
		row, err := svc.People.Add(ctx, &vpn.Person{Name: sample.name, Mail: sample.mail, Language: sample.language, Groups: []string{sample.group}})
		if err != nil {
			return fmt.Errorf("%s: %w", sample.name, err)
		}
		personID[sample.name] = row.ID
		for _, one := range sample.accounts {
			a := vpn.Account{PersonID: row.ID, Login: one.login, Realm: one.realm}
			if one.password != "" {
				password := secret.New(one.password)
				a.Password = &password
			}
			for _, name := range one.gateways {
				a.GatewayIDs = append(a.GatewayIDs, gatewayID[name])
			}
			if _, err := svc.Accounts.Add(ctx, &a); err != nil {
				return fmt.Errorf("account of %s: %w", sample.name, err)
			}
		}
	}
	for _, sample := range devices {
		row, err := svc.Devices.Add(ctx, &vpn.Device{
			Name: sample.name, PersonID: personID[sample.owner], Platform: sample.platform, Release: sample.release, Encrypted: sample.encrypted, CannotAsk: sample.cannotAsk,
		})
		if err != nil {
			return fmt.Errorf("%s: %w", sample.name, err)
		}
		for _, p := range sample.profiles {
			if _, err := svc.Profiles.Add(ctx, &vpn.Profile{DeviceID: row.ID, GatewayID: gatewayID[p.gateway], Wishes: p.wishes}); err != nil {
				return fmt.Errorf("%s to %s: %w", sample.name, p.gateway, err)
			}
		}
	}
	_, err := svc.CheckAll(ctx)
	return err
}

// Secrets lists every secret of the sample data, for tests that look for them where
// they must not be.
func Secrets() []string {
	list := []string{OwnerPassword}
	for _, g := range gateways {
		list = append(list, g.psk)
	}
	for _, p := range people {
		for _, a := range p.accounts {
			// A password that equals the login stands in the records as a login.
			if a.password != "" && a.password != a.login {
				list = append(list, a.password)
			}
		}
	}
	return list
}
