package check

import (
	"wardicon/core/format"
	"wardicon/core/plan"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Sound makes a subject in which no rule finds anything: the ground on which the
// examples of the rules stand.
func Sound() *Subject {
	return soundOn(vpn.LinuxDesktop, "1.42")
}

func soundOn(p vpn.Platform, release string) *Subject {
	psk, password := secret.New("kelp-4497-Harbor-mizzen-93-osprey"), secret.New("tern-88-Gannet-orbit-luff-3497")
	in := plan.Input{
		Organisation: vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"},
		Profile:      vpn.Profile{Stamp: vpn.Stamp{ID: "p-example"}, DeviceID: "d-example", GatewayID: "g-example"},
		Gateway: vpn.Gateway{
			Stamp: vpn.Stamp{ID: "g-example"}, Name: "Norrvik", Address: "norrvik.skerryline.example",
			Addresses: []string{"198.51.100.7"}, SignIn: vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"},
			DNS: []string{"10.20.0.53"}, Domains: []string{"inside.skerryline.example"}, Routes: []string{"10.20.0.0/16"}, Pool: []string{"10.99.20.0/24"},
			Offers: vpn.Offers{L2TP: &vpn.L2TPOffer{
				PSK: &psk, PPP: []suite.PPPMethod{suite.MSCHAPv2},
				IKE: []string{"aes256-sha256-modp2048"}, ESP: []string{"aes256-sha256-modp2048"},
			}},
		},
		Person:   vpn.Person{Stamp: vpn.Stamp{ID: "m-example"}, Name: "Ada Fjell", Mail: "ada@skerryline.example"},
		Accounts: []vpn.Account{{Stamp: vpn.Stamp{ID: "a-example"}, Login: "a_fjell", Password: &password}},
		Device:   vpn.Device{Stamp: vpn.Stamp{ID: "d-example"}, Name: "Ada's laptop", Platform: p, Release: release, Encrypted: true},
	}
	in.Gateway.Normalise()
	s := Planned(in, plan.Make(in), nil)
	s.Positions = map[vpn.Field]format.Position{}
	return s
}

// onto replaces the subject by a sound one on another platform.
func (s *Subject) onto(p vpn.Platform, release string) { *s = *soundOn(p, release) }
