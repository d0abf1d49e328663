package demo

import (
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// organisation is whom the sample data is about.
var organisation = vpn.Organisation{
	Name:        "Skerry Line",
	Domain:      "skerryline.example",
	KeepParcels: 90,
}

// gateway is a sample gateway with its key apart from the record.
type gateway struct {
	vpn.Gateway
	psk string
}

func degrees(v float64) *float64 { return &v }

// gateways of the three harbours. Norrvik is sound; the others have the mistakes that
// are named beside them.
var gateways = []gateway{
	{
		vpn.Gateway{
			Name:      "Norrvik",
			Address:   "norrvik.skerryline.example",
			Addresses: []string{"198.51.100.7", "2001:db8:20::7"},
			Place: vpn.Place{
				City:      "Norrvik",
				Country:   "NO",
				Latitude:  degrees(60.42),
				Longitude: degrees(5.11),
			},
			SignIn: vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"},
			DNS: []string{
				"10.20.0.53",
				"10.21.0.53",
			},
			Domains: []string{"inside.skerryline.example"},
			Routes: []string{
				"10.20.0.0/16",
				"10.21.0.0/16",
			},
			Pool:   []string{"10.99.20.0/24"},
			Egress: []string{"198.51.100.7"},
			Hosts:  []string{"timetable.inside.skerryline.example"},
			Offers: vpn.Offers{L2TP: &vpn.L2TPOffer{
				PPP: []suite.PPPMethod{suite.MSCHAPv2},
				IKE: []string{
					"aes256-sha256-modp2048",
					"aes256-sha1-ecp384",
					"aes256-sha1-modp2048",
				},
				ESP: []string{"aes256-sha256", "aes256-sha1"},
			}},
			Note: "Main harbour office. Crew accounts.",
		},
		"halyard-58-Cormorant-shingle-27-thrift",
	},
	{
		// behind NAT, a route with host bits, a network of homes, PAP, a key that can be guessed
		vpn.Gateway{
			Name:      "Tallholm",
			Address:   "tallholm.skerryline.example",
			Addresses: []string{"198.51.100.90"},
			BehindNAT: true,
			Place: vpn.Place{
				City:      "Tallholm",
				Country:   "NO",
				Latitude:  degrees(61.03),
				Longitude: degrees(4.88),
			},
			SignIn:  vpn.SignIn{Form: vpn.RealmSlashLogin, Realm: "SKERRY"},
			DNS:     []string{"10.30.0.53"},
			Domains: []string{"inside.skerryline.example"},
			Routes: []string{
				"10.30.4.7/16",
				"192.168.1.0/24",
			},
			Pool:   []string{"10.99.30.0/24"},
			Egress: []string{"198.51.100.90"},
			Hosts:  []string{"stores.inside.skerryline.example"},
			Offers: vpn.Offers{L2TP: &vpn.L2TPOffer{
				PPP: []suite.PPPMethod{suite.CHAP, suite.PAP},
				IKE: []string{
					"aes256-sha1-modp2048",
					"3des-sha1-modp1024",
				},
				ESP: []string{"aes128-sha1", "3des-sha1"},
			}},
			Note: "Behind the harbour authority's router.",
		},
		"Tallholm2024",
	},
	{
		vpn.Gateway{ // a changing address given as a number, group 2 as the only one, no DNS server
			Name:      "Easthaven",
			Address:   "203.0.113.40",
			Addresses: []string{"203.0.113.40"},
			Dynamic:   true,
			Place: vpn.Place{
				City:      "Easthaven",
				Country:   "GB",
				Latitude:  degrees(57.70),
				Longitude: degrees(-2.05),
			},
			Pool:   []string{"10.99.40.0/24"},
			Egress: []string{"203.0.113.40"},
			Offers: vpn.Offers{L2TP: &vpn.L2TPOffer{
				PPP: []suite.PPPMethod{suite.MSCHAPv2, suite.MSCHAP},
				IKE: []string{
					"aes256-sha256-modp1024",
					"aes256-sha1-modp1024",
				},
				ESP: []string{"aes256-sha256", "aes256-sha1"},
			}},
			Note: "Ticket hall, leased line of the harbour café.",
		},
		"breaker-91-Gannet-lantern-46-mizzen",
	},
}

// person is a sample person with the accounts: login, realm, password, and the
// gateways where it is valid (none means all).
type person struct {
	name, mail, language, group string
	accounts                    []account
}

type account struct {
	login, realm, password string
	gateways               []string
}

var people = []person{
	{
		"Ada Fjell",
		"ada@skerryline.example",
		"en",
		"planners",
		[]account{{"a_fjell", "", "tern-83-Quayside-orbit-luff", nil}},
	},
	{
		"Bosse Ravn",
		"bosse@skerryline.example",
		"sv",
		"pursers",
		[]account{{"b_ravn ", "", "keel-29-Saffron-anvil-drift", nil}},
	}, // blank at the end
	{
		"Cleo Strand",
		"cleo@skerryline.example",
		"en",
		"pursers",
		[]account{{"c strand", "", "gale-74-Marzipan-hinge-otter", nil}},
	}, // underscore lost
	{
		"Dag Holm",
		"dag@skerryline.example",
		"no",
		"bridge",
		[]account{{"d_holm", "skerryline.example", "buoy-36-Paprika-wicker-elm", nil}},
	}, // domain taken for the realm
	{
		"Edda Voss",
		"edda@skerryline.example",
		"de",
		"bridge",
		[]account{{"e_voss", "", "reef-57-Lavender-cobalt-fern", nil}},
	}, // sound
	{
		"Finn Okoro",
		"finn@skerryline.example",
		"en",
		"deck",
		[]account{{"f_okoro", "", "f_okoro", nil}},
	}, // password is the login
	{
		"Gry Lund",
		"gry@skerryline.example",
		"no",
		"deck",
		[]account{
			{"gry@skerryline.example", "", "cove-68-Nutmeg-bramble-ivy", []string{"Easthaven"}},
		},
	}, // mail address as login
	{
		"Hal Brenner",
		"hal@skerryline.example",
		"de",
		"engineers",
		[]account{{"h_brenner", "", "Brenner2023", nil}},
	}, // guessable
	{
		"Ines Moreau",
		"ines@skerryline.example",
		"fr",
		"engineers",
		[]account{{"i_moreau", "", "dune-45-Tangerine-flint-moss", nil}},
	}, // sound
	{
		"Jon Aker",
		"jon@skerryline.example",
		"en",
		"tickets",
		[]account{
			{"j_\u200baker", "", "silt-92-Rosemary-pewter-ash", []string{"Easthaven", "Norrvik"}},
		},
	}, // zero-width space
	{
		"Kaja Nyman",
		"kaja@skerryline.example",
		"sv",
		"tickets",
		nil,
	}, // no account
	{
		"Leif Sund",
		"leif@skerryline.example",
		"no",
		"planners",
		[]account{
			{"l_sund", "", "isle-14-Cardamom-thatch-yew", nil},
			{"l_sund_relief", "", "", nil},
		},
	}, // one without a password
}

// device is a sample device with its profiles.
type device struct {
	name, owner string
	platform    vpn.Platform
	release     string
	encrypted   bool
	cannotAsk   bool
	profiles    []profile
}

type profile struct {
	gateway     string
	preferences vpn.Preferences
}

func to(gateways ...string) []profile {
	var list []profile
	for _, g := range gateways {
		list = append(list, profile{gateway: g})
	}
	return list
}

// sites stand behind routers.
var sites = map[string]*vpn.Site{
	"Ticket hall router": {Networks: []string{"10.71.4.0/24"}, Masquerade: true},
}

var devices = []device{
	{"Planner Mac 1", "Ada Fjell", vpn.MacOS, "14", true, false, to("Norrvik", "Easthaven")},
	{
		"Planner Mac 2",
		"Leif Sund",
		vpn.MacOS,
		"10.15",
		true,
		false,
		[]profile{{"Norrvik", vpn.Preferences{Name: "VPN"}}},
	}, // a name that says nothing
	{
		"Planner phone",
		"Ada Fjell",
		vpn.IOS,
		"17",
		true,
		false,
		[]profile{{"Norrvik", vpn.Preferences{Tunnel: vpn.TunnelSplit}}},
	},
	{"Purser laptop 1", "Bosse Ravn", vpn.Windows, "11", true, false, to("Norrvik")},
	{"Purser laptop 2", "Cleo Strand", vpn.Windows, "10", false, false, to("Tallholm")},
	{
		"Purser laptop 3",
		"Leif Sund",
		vpn.Windows,
		"8.1",
		false,
		false,
		[]profile{{"Norrvik", vpn.Preferences{Password: vpn.PasswordSaved}}},
	}, // saved, not encrypted
	{"Purser desk", "Edda Voss", vpn.Windows, "7", true, false, to("Norrvik")},
	{"Bridge tablet 1", "Dag Holm", vpn.IPadOS, "16", true, false, to("Norrvik")},
	{"Bridge tablet 2", "Edda Voss", vpn.IPadOS, "18", true, false, to("Norrvik")},
	{"Bridge tablet 3", "Edda Voss", vpn.Android, "11", true, false, to("Norrvik")}, // only group 2
	{"Deck phone 1", "Finn Okoro", vpn.Android, "10", true, false, to("Easthaven")},
	{"Deck phone 2", "Gry Lund", vpn.Android, "14", true, false, to("Easthaven")}, // protocol gone
	{"Deck phone 3", "Gry Lund", vpn.Android, "9", true, false, to("Easthaven")},
	{
		"Engine laptop 1",
		"Ines Moreau",
		vpn.LinuxDesktop,
		"1.42",
		true,
		false,
		to("Norrvik", "Tallholm"),
	},
	{"Engine laptop 2", "Hal Brenner", vpn.LinuxDesktop, "1.46", true, false, to("Norrvik")},
	{"Engine server", "Ines Moreau", vpn.Linux, "6", true, true, to("Norrvik")},
	{"Ticket hall router", "Jon Aker", vpn.OpenWrt, "23.05", false, true, to("Norrvik")},
	{
		"Ticket desk phone",
		"Jon Aker",
		vpn.DeskPhone,
		"1",
		false,
		true,
		to("Easthaven"),
	}, // never had it
	{
		"Ticket laptop",
		"Kaja Nyman",
		vpn.ChromeOS,
		"120",
		true,
		false,
		to("Norrvik"),
	}, // no account
	{
		"Relief phone",
		"Leif Sund",
		vpn.IOS,
		"27",
		true,
		false,
		to("Easthaven"),
	}, // release unknown
}
