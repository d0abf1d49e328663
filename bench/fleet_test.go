package bench

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"strconv"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/store"
)

// fleetSize is how many devices the large store has; each has a profile and a parcel. What is
// measured grows as little from 10,000 to 100,000 as it does to 10,000: the larger one takes a
// quarter of an hour.
func fleetSize() int {
	if n, err := strconv.Atoi(os.Getenv("WARDICON_BENCH_DEVICES")); err == nil && n > 0 {
		return n
	}
	return 10_000
}

const fleetGateways = 50

var (
	givenNames = []string{
		"Ines",
		"Tomas",
		"Aroha",
		"Ravi",
		"Signe",
		"Mateo",
		"Keiko",
		"Nadia",
		"Olu",
		"Freya",
		"Bram",
		"Lucia",
	}
	familyNames = []string{
		"Moreau",
		"Halloran",
		"Lindqvist",
		"Okafor",
		"Tanaka",
		"Petrov",
		"Castell",
		"Dray",
		"Voss",
		"Ferreira",
		"Adeyemi",
		"Brandt",
	}
	teams = []string{"crew", "office", "engineers", "pilots", "harbour"}
)

// loadFleet fills a store with devices, their people, accounts, profiles and parcels.
func loadFleet(ctx context.Context, s *store.Store, n int) error {
	var gateways []string
	err := s.Write(ctx, func(tx *store.Tx) error {
		for i := range fleetGateways {
			psk := secret.New("halyard-58-Cormorant-shingle-" + strconv.Itoa(i))
			g := vpn.Gateway{
				Name: fmt.Sprintf(
					"Harbour %02d",
					i,
				),
				Address: fmt.Sprintf("h%02d.skerryline.example", i),
				Place:   vpn.Place{City: fmt.Sprintf("Port %02d", i%20)},
				SignIn: vpn.SignIn{
					Form:  vpn.LoginAtRealm,
					Realm: "crew.skerryline.example",
				},
				DNS:     []string{"10.20.0.53"},
				Domains: []string{"inside.skerryline.example"},
				Routes:  []string{"10.20.0.0/16"},
				Pool:    []string{fmt.Sprintf("10.99.%d.0/24", i)},
				Offers: vpn.Offers{
					L2TP: &vpn.L2TPOffer{
						PSK: &psk,
						PPP: []suite.PPPMethod{suite.MSCHAPv2},
						IKE: []string{"aes256-sha256-modp2048"},
						ESP: []string{"aes256-sha256"},
					},
					IKEv2: &vpn.IKEv2Offer{
						Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
						IKE:  []string{"aes256-sha256-modp2048"},
						ESP:  []string{"aes256-sha256-modp2048"},
					},
				},
			}
			g.Normalise()
			if err := store.Gateways.Insert(ctx, tx, &g); err != nil {
				return err
			}
			gateways = append(gateways, g.ID)
		}
		return nil
	})
	const step = 1000
	for from := 0; from < n && err == nil; from += step {
		err = s.Write(ctx, func(tx *store.Tx) error {
			for i := from; i < min(n, from+step); i++ {
				if err := loadDevice(ctx, tx, i, gateways[i%len(gateways)]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return err
}

// loadDevice adds a person with an account, a device, a profile and a parcel.
func loadDevice(ctx context.Context, tx *store.Tx, i int, gateway string) error {
	p := vpn.Person{
		Name: fmt.Sprintf(
			"%s %s %05d",
			givenNames[i%len(givenNames)],
			familyNames[i/7%len(familyNames)],
			i,
		),
		Mail:   fmt.Sprintf("p%05d@skerryline.example", i),
		Groups: []string{teams[i%len(teams)]},
	}
	if err := store.People.Insert(ctx, tx, &p); err != nil {
		return err
	}
	password := secret.New("dune-" + rand.Text()[:14] + "-flint")
	if err := store.Accounts.Insert(
		ctx,
		tx,
		&vpn.Account{PersonID: p.ID, Login: fmt.Sprintf("login%05d", i), Password: &password},
	); err != nil {
		return err
	}
	d := vpn.Device{
		Name:      fmt.Sprintf("Device %06d", i),
		PersonID:  p.ID,
		Platform:  vpn.Windows,
		Release:   "11",
		Encrypted: true,
	}
	switch i % 4 {
	case 0:
		d.Platform, d.Release = vpn.IOS, "17"
	case 1:
		d.Platform, d.Release = vpn.LinuxDesktop, "1.42"
	}
	if err := store.Devices.Insert(ctx, tx, &d); err != nil {
		return err
	}
	f := vpn.Profile{DeviceID: d.ID, GatewayID: gateway}
	if err := store.Profiles.Insert(ctx, tx, &f); err != nil {
		return err
	}
	content := make([]byte, 3000)
	_, _ = rand.Read(content)
	return tx.AddParcel(
		ctx,
		&api.Parcel{
			ProfileID: f.ID,
			Digest:    rand.Text(),
			Files:     []format.File{{Name: "profile.bin", Content: content}},
		},
	)
}
