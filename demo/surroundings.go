package demo

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"

	"wardicon/core/pki"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/service"
	"wardicon/simulate"
	"wardicon/store"
)

// faults are what is wrong with the simulators for the sample gateways; the others are as their
// records say.
var faults = map[string][]simulate.Fault{
	"Tallholm":  {simulate.FaultNAT, simulate.FaultAggressive, simulate.FaultBare},
	"Easthaven": {simulate.FaultSilent},
	"Lyngholm":  {simulate.FaultOldTLS},
}

// other suites than those on record.
var otherSuites = map[string][]string{"Lyngholm": {"aes256-sha256-ecp256"}}

// Surroundings are simulators for what lies around the service: every sample gateway, some of them
// faulty, and a name server that knows them.
type Surroundings struct {
	Gateways map[string]*simulate.Gateway
	Names    *simulate.NameServer
}

// Surround starts them, and has the service ask there. Nothing of it leaves this machine.
func Surround(
	ctx context.Context,
	svc *service.Service,
	st *store.Store,
	identities map[string]pki.Identity,
) (s *Surroundings, err error) {
	ctx = service.As(ctx, "demo")
	s = &Surroundings{Gateways: map[string]*simulate.Gateway{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Close())
		}
	}()
	list, err := store.Gateways.Where(ctx, st.Read(), "1")
	if err != nil {
		return s, err
	}
	names := map[string][]string{}
	for i, g := range list {
		g, err := store.Gateways.Get(ctx, st.Read(), g.ID) // with its keys
		if err != nil {
			return s, err
		}
		names[g.Address] = g.Addresses
		if err := s.stand(
			ctx,
			svc,
			st,
			g,
			identities,
			netip.AddrFrom4([4]byte{127, 7, 0, byte(i + 1)}),
		); err != nil {
			return s, fmt.Errorf("%s: %w", g.Name, err)
		}
	}
	names[MovedAddress] = names["norrvik.skerryline.example"]
	names["tallholm.skerryline.example"] = []string{"198.51.100.91"} // not as on record
	if s.Names, err = simulate.NewNameServer(names); err != nil {
		return s, err
	}
	svc.Resolver(s.Names.Address)
	return s, nil
}

// accounts are the passwords of those who may sign in at a gateway, by login with and without
// realm.
func (s *Surroundings) accounts(
	ctx context.Context,
	st *store.Store,
	g *vpn.Gateway,
) (map[string]string, error) {
	list, err := store.Accounts.Where(ctx, st.Read(), "1")
	known := map[string]string{}
	for _, a := range list {
		a, err := store.Accounts.Get(ctx, st.Read(), a.ID) // with its password
		if err != nil {
			return nil, err
		}
		if a.Password == nil || len(a.GatewayIDs) > 0 && !slices.Contains(a.GatewayIDs, g.ID) {
			continue
		}
		for _, realm := range []string{a.Realm, g.SignIn.Realm} {
			for _, form := range vpn.LoginForms {
				known[vpn.JoinLogin(form, a.Login, realm)] = a.Password.Reveal()
			}
		}
		known[a.Login] = a.Password.Reveal()
	}
	return known, err
}

// stand starts the simulator for one gateway, at an address of its own.
func (s *Surroundings) stand(
	ctx context.Context,
	svc *service.Service,
	st *store.Store,
	g *vpn.Gateway,
	identities map[string]pki.Identity,
	at netip.Addr,
) error {
	stand := &simulate.Gateway{Name: g.Address, Bind: at, Protocols: g.Offers.Protocols()}
	if id, ok := identities[g.Name]; ok {
		stand.Identity = &id
	}
	var texts []string
	if o := g.Offers.IKEv2; o != nil {
		texts = append(texts, o.IKE...)
	}
	if o := g.Offers.L2TP; o != nil {
		texts = append(texts, o.IKE...)
	}
	if other := otherSuites[g.Name]; other != nil {
		texts = other
	}
	var err error
	if stand.Suites, err = suite.ParseAll(texts); err != nil {
		return err
	}
	if o := g.Offers.TLS; o != nil {
		stand.Tunnel = o.Remotes
		if stand.Wrapping, err = wrapping(o); err != nil {
			return err
		}
	}
	for _, text := range g.DNS { // as on record
		if a, err := netip.ParseAddr(text); err == nil && a.Is4() {
			stand.DNS = append(stand.DNS, a)
		}
	}
	if o := g.Offers.IKEv2; o != nil {
		stand.IKEv2ID = o.RemoteID
		if slices.Contains(o.Auth, vpn.IKEv2PSK) && o.PSK != nil {
			stand.PSK = o.PSK.Reveal()
		}
		stand.Certificates = slices.Contains(o.Auth, vpn.IKEv2Certificate)
		stand.EAPTLS = slices.Contains(o.Auth, vpn.IKEv2EAPTLS)
		stand.EAPBoth = slices.Contains(o.Auth, vpn.IKEv2MSCHAPv2)
	}
	if o := g.Offers.TLS; o != nil {
		stand.Certificates = stand.Certificates || slices.Contains(o.Auth, vpn.TLSCertificate) ||
			slices.Contains(o.Auth, vpn.TLSCertificatePassword)
	}
	if o := g.Offers.L2TP; o != nil && o.PSK != nil {
		stand.KeyL2TP = o.PSK.Reveal()
	}
	if o := g.Offers.PPTP; o != nil {
		stand.MPPE = o.MPPE
	}
	stand.Methods = linkMethods(g.Offers)
	if stand.Accounts, err = s.accounts(ctx, st, g); err != nil {
		return err
	}
	if err := stand.Start(faults[g.Name]...); err != nil {
		return err
	}
	s.Gateways[g.Name] = stand
	led := &vpn.ProbeAt{Address: stand.Bind.String(), Ports: map[string]int{}}
	for from, to := range stand.Ports() {
		led.Ports[strconv.Itoa(from)] = to
	}
	_, err = svc.Gateways.Change(ctx, g.ID, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
		g.ProbeAt = led
		return g, nil
	}, func(string) bool { return true })
	return err
}

// linkMethods are the methods of PPP that a gateway offers, strongest first; MS-CHAP of the first
// version is spoken by nobody here.
func linkMethods(o vpn.Offers) (list []suite.PPPMethod) {
	var all []suite.PPPMethod
	if o.L2TP != nil {
		all = append(all, o.L2TP.PPP...)
	}
	if o.SSTP != nil {
		all = append(all, o.SSTP.PPP...)
	}
	if o.PPTP != nil {
		all = append(all, o.PPTP.PPP...)
	}
	for _, m := range suite.PPPMethods {
		if m != suite.MSCHAP && slices.Contains(all, m) {
			list = append(list, m)
		}
	}
	return list
}

// wrapping is how the gateway's end wraps the control channel.
func wrapping(o *vpn.TLSOffer) (w tlstunnel.Wrapping, err error) {
	if o.ControlKey == nil || o.ControlKey.Key == nil {
		return w, nil
	}
	if own, err := vpn.ServerKeyBytes(o.ControlKey.Key.Reveal()); err == nil {
		return tlstunnel.CryptV2Server(own)
	}
	key, err := vpn.ControlKeyBytes(o.ControlKey.Kind, o.ControlKey.Key.Reveal())
	switch {
	case err != nil:
		return w, err
	case o.ControlKey.Kind == vpn.ControlAuth:
		return tlstunnel.Auth(
			key,
			map[string]string{"0": "1", "1": "0"}[o.ControlKey.Direction],
			o.Digest,
		)
	default:
		return tlstunnel.Crypt(key, true)
	}
}

// Close ends them.
func (s *Surroundings) Close() error {
	var err error
	for _, name := range slices.Sorted(maps.Keys(s.Gateways)) {
		err = errors.Join(err, s.Gateways[name].Close())
	}
	if s.Names != nil {
		err = errors.Join(err, s.Names.Close())
	}
	return err
}
