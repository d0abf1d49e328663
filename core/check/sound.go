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

func soundOn(p vpn.Platform, release string) *Subject { return soundBy(vpn.L2TP, p, release) }

func soundBy(protocol vpn.Protocol, p vpn.Platform, release string) *Subject {
	psk, password := secret.New(
		"kelp-4497-Harbor-mizzen-93-osprey",
	), secret.New(
		"tern-88-Gannet-orbit-luff-3497",
	)
	in := plan.Input{
		Organisation: vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"},
		Profile: vpn.Profile{
			Meta:        vpn.Meta{ID: "p-example"},
			DeviceID:    "d-example",
			GatewayID:   "g-example",
			Preferences: vpn.Preferences{Protocol: protocol},
		},
		Gateway: vpn.Gateway{
			Meta:    vpn.Meta{ID: "g-example"},
			Name:    "Norrvik",
			Address: "norrvik.skerryline.example",
			Addresses: []string{
				"198.51.100.7",
			},
			SignIn: vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"},
			DNS: []string{
				"10.20.0.53",
			},
			Domains: []string{"inside.skerryline.example"},
			Routes:  []string{"10.20.0.0/16"},
			Pool:    []string{"10.99.20.0/24"},
			Offers: vpn.Offers{
				L2TP: &vpn.L2TPOffer{
					Auth: []vpn.MachineAuth{
						vpn.MachinePSK,
					},
					PSK: &psk,
					PPP: []suite.PPPMethod{suite.MSCHAPv2},
					IKE: []string{
						"aes256-sha256-modp2048",
					},
					ESP: []string{"aes256-sha256-modp2048"},
				},
				IKEv2: &vpn.IKEv2Offer{
					Auth:      []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
					Authority: sampleAuthority,
					IKE:       []string{"aes256-sha256-ecp256"},
					ESP:       []string{"aes256gcm16-ecp256"},
				},
				PPTP: &vpn.PPTPOffer{
					PPP:  []suite.PPPMethod{suite.MSCHAPv2},
					MPPE: []suite.MPPE{"128"},
				},
				SSTP: &vpn.SSTPOffer{
					PPP:       []suite.PPPMethod{suite.MSCHAPv2},
					Authority: sampleAuthority,
				},
				TLS: &vpn.TLSOffer{
					Remotes: []vpn.Remote{
						{Port: 1194, Transport: vpn.UDP},
					},
					Auth:      []vpn.TLSAuth{vpn.TLSPassword},
					Authority: sampleAuthority,
					Ciphers:   []string{"AES-256-GCM"},
					TLSOptions: vpn.TLSOptions{
						Digest:     "SHA256",
						MinTLS:     "1.2",
						ServerName: "norrvik.skerryline.example",
					},

					ControlKey: &vpn.ControlKey{Kind: vpn.ControlCrypt, Key: &psk},
				},
			},
		},
		Person: vpn.Person{
			Meta: vpn.Meta{ID: "m-example"},
			Name: "Ada Fjell",
			Mail: "ada@skerryline.example",
		},
		Accounts: []vpn.Account{
			{Meta: vpn.Meta{ID: "a-example"}, Login: "a_fjell", Password: &password},
		},
		Device: vpn.Device{
			Meta:      vpn.Meta{ID: "d-example"},
			Name:      "Ada's laptop",
			Platform:  p,
			Release:   release,
			Encrypted: true,
		},
	}
	in.Gateway.Normalise()
	s := Planned(in, plan.Make(in), nil)
	s.Positions, s.Now = map[vpn.Field]format.Position{}, sampleNow
	return s
}

// onto replaces the subject by a sound one on another platform.
func (s *Subject) onto(p vpn.Platform, release string) { *s = *soundOn(p, release) }

// by replaces the subject by a sound one of another protocol.
func (s *Subject) by(protocol vpn.Protocol) { *s = *soundBy(protocol, vpn.LinuxDesktop, "1.42") }
