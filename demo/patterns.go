package demo

import (
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// modern are the gateways with newer offers; ca vouches for them. Brattvik is nearer to the
// people of both.
func modern(ca string) []gateway {
	return []gateway{
		{
			vpn.Gateway{
				Name:      "Brattvik",
				Address:   "brattvik.skerryline.example",
				Addresses: []string{"198.51.100.120"},
				LoadShare: 3,
				Place: vpn.Place{
					City:      "Brattvik",
					Country:   "NO",
					Latitude:  degrees(59.92),
					Longitude: degrees(5.48),
				},
				SignIn: vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"},
				DNS: []string{
					"10.50.0.53",
				},
				Domains: []string{"inside.skerryline.example"},
				Routes:  []string{"10.50.0.0/16", "10.51.0.0/16"},
				Pool: []string{
					"10.99.50.0/24",
				},
				Egress: []string{"198.51.100.120"},
				Hosts:  []string{"timetable.inside.skerryline.example"},
				Offers: vpn.Offers{
					IKEv2: &vpn.IKEv2Offer{
						Auth: []vpn.IKEv2Auth{
							vpn.IKEv2EAPTLS,
							vpn.IKEv2Certificate,
							vpn.IKEv2MSCHAPv2,
						},
						Authority: ca,
						IKE: []string{
							"aes256-sha256-ecp256",
							"aes256-sha256-modp2048",
						},
						ESP: []string{"aes256gcm16-ecp256", "aes256-sha256-modp2048"},
						IKEv2Options: vpn.IKEv2Options{
							IKELifetime:   480,
							ChildLifetime: 60,
							DPD:           60,
						},
					},
					TLS: &vpn.TLSOffer{
						Remotes: []vpn.Remote{
							{Port: 1194, Transport: vpn.UDP},
							{Port: 443, Transport: vpn.TCP},
						},
						Auth:      []vpn.TLSAuth{vpn.TLSCertificate, vpn.TLSPassword},
						Authority: ca,
						ControlKey: &vpn.ControlKey{
							Kind: vpn.ControlCrypt,
							Key:  controlKey(),
						},
						Ciphers: []string{"AES-256-GCM", "CHACHA20-POLY1305"},
						TLSOptions: vpn.TLSOptions{
							Digest:     "SHA256",
							MinTLS:     "1.2",
							ServerName: "brattvik.skerryline.example",
							Keepalive:  25,
						},
					},
					SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}, Authority: ca},
					L2TP: &vpn.L2TPOffer{
						Auth: []vpn.MachineAuth{
							vpn.MachinePSK,
						},
						PPP: []suite.PPPMethod{suite.MSCHAPv2},
						IKE: []string{"aes256-sha256-modp2048", "aes256-sha1-modp2048"},
						ESP: []string{"aes256-sha256", "aes256-sha1"},
					},
					PPTP: &vpn.PPTPOffer{
						PPP:  []suite.PPPMethod{suite.MSCHAPv2},
						MPPE: []suite.MPPE{"128"},
					},
				},
				Note: "Crew centre. Every protocol, certificates of our own authority.",
			},
			"rudder-67-Sandbar-compass-18-plover",
		},
		{
			vpn.Gateway{ // IKEv2 by a key that all share, and the TLS tunnel over TCP alone
				Name:      "Lyngholm",
				Address:   "lyngholm.skerryline.example",
				Addresses: []string{"203.0.113.77"},
				LoadShare: 1,
				Place: vpn.Place{
					City:      "Lyngholm",
					Country:   "NO",
					Latitude:  degrees(59.55),
					Longitude: degrees(5.90),
				},
				SignIn: vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"},
				DNS: []string{
					"10.60.0.53",
				},
				Domains: []string{"inside.skerryline.example"},
				Routes:  []string{"10.60.0.0/16"},
				Pool:    []string{"10.99.60.0/24"},
				Egress:  []string{"203.0.113.77"},
				Offers: vpn.Offers{
					IKEv2: &vpn.IKEv2Offer{
						Auth:    []vpn.IKEv2Auth{vpn.IKEv2PSK},
						LocalID: "crew",
						IKE:     []string{"aes256-sha256-modp2048"},
						ESP:     []string{"aes256-sha256-modp2048"},
					},
					TLS: &vpn.TLSOffer{
						Remotes: []vpn.Remote{
							{Port: 443, Transport: vpn.TCP},
						},
						Auth:      []vpn.TLSAuth{vpn.TLSPassword},
						Authority: ca,
						Ciphers:   []string{"AES-256-GCM"},
						TLSOptions: vpn.TLSOptions{
							MinTLS:     "1.2",
							Digest:     "SHA256",
							ServerName: "lyngholm.skerryline.example",
						},

						ControlKey: &vpn.ControlKey{
							Kind:      vpn.ControlAuth,
							Direction: "1",
							Key:       controlKey(),
						},
					},
				},
				Note: "Yard. Stands in for Brattvik.",
			},
			"anchor-52-Driftwood-lichen-39-skua",
		},
	}
}

// newcomers are the people whose devices are planned by patterns.
var newcomers = []person{
	{
		"Olav Brekke",
		"olav@skerryline.example",
		"no",
		"masters",
		[]account{{"o_brekke", "", "mast-71-Juniper-gravel-teal", nil}},
	},
	{
		"Petra Lind",
		"petra@skerryline.example",
		"sv",
		"yard",
		[]account{{"p_lind", "", "weld-38-Saffron-marlin-oak", nil}},
	},
	{
		"Rune Sand",
		"rune@skerryline.example",
		"no",
		"halls",
		[]account{{"r_sand", "", "kiosk-94-Thistle-amber-hull", nil}},
	},
}

// certified are the devices that have a certificate.
var certified = []string{"Master laptop", "Yard laptop", "Yard server"}

var newDevices = []device{
	{"Master tablet", "Olav Brekke", vpn.IPadOS, "17", true, false, nil},
	{"Master laptop", "Olav Brekke", vpn.Windows, "11", true, false, nil},
	{"Master desk", "Olav Brekke", vpn.Windows, "7", true, false, nil},
	{"Yard laptop", "Petra Lind", vpn.LinuxDesktop, "1.46", true, false, nil},
	{"Yard phone", "Petra Lind", vpn.Android, "14", true, false, nil},
	{"Yard old phone", "Petra Lind", vpn.Android, "9", true, false, nil},
	{"Yard server", "Petra Lind", vpn.Linux, "6", true, true, nil},
	{"Hall router", "Rune Sand", vpn.OpenWrt, "23.05", true, true, nil},
	{"Hall desk phone", "Rune Sand", vpn.DeskPhone, "1", true, true, nil},
	{"Hall laptop", "Rune Sand", vpn.ChromeOS, "140", true, false, nil},
	{"Hall Mac", "Rune Sand", vpn.MacOS, "15", true, false, nil},
}

// patterns for the newcomers' devices; the names of gateways stand in the place of their
// identifiers.
var patterns = []vpn.Pattern{
	{
		Name:       "Masters",
		Groups:     []string{"masters"},
		Protocols:  []vpn.Protocol{vpn.IKEv2, vpn.SSTP, vpn.L2TP},
		Gateways:   vpn.ChooseNearest,
		GatewayIDs: []string{"Brattvik", "Lyngholm"},
		Connect:    vpn.OnDemand,
		Demand: vpn.Demand{
			Networks: []string{"Skerry Line bridge"},
			Suffixes: []string{"office.skerryline.example"},
			Domains:  []string{"inside.skerryline.example"},
		},
		Reconnect: true,
		Naming:    "{organisation} {city}",
		Note:      "On demand, by the strongest that the device has.",
	},
	{
		Name:       "Yard",
		Groups:     []string{"yard"},
		Protocols:  []vpn.Protocol{vpn.IKEv2, vpn.TLS, vpn.L2TP},
		Gateways:   vpn.ChooseListed,
		GatewayIDs: []string{"Brattvik", "Lyngholm"},
		Connect:    vpn.ByHand,
		Naming:     "{organisation} {gateway} {protocol}",
		Reconnect:  true,
	},
	{
		Name:       "Ticket halls",
		Groups:     []string{"halls"},
		Protocols:  []vpn.Protocol{vpn.TLS, vpn.IKEv2},
		Gateways:   vpn.ChooseEach,
		GatewayIDs: []string{"Brattvik", "Lyngholm"},
		Connect:    vpn.Always,
		Tunnel:     vpn.TunnelFull,
		IPv6:       vpn.IPv6Refused,
		Password:   vpn.PasswordSaved,
		Reconnect:  true,
		Note:       "Always connected, everything inside.",
	},
}
