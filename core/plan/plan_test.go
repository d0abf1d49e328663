package plan_test

import (
	"slices"
	"strings"
	"testing"

	"wardicon/core/plan"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

func input() plan.Input {
	psk, password := secret.New("the-key"), secret.New("the-password")
	return plan.Input{
		Organisation: vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"},
		Profile:      vpn.Profile{Meta: vpn.Meta{ID: "pr-1"}},
		Gateway: vpn.Gateway{
			Meta: vpn.Meta{
				ID: "gw-1",
			},
			Name:    "Norrvik",
			Address: "norrvik.skerryline.example",
			SignIn:  vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew"},
			Routes:  []string{"10.20.0.0/16"},
			DNS:     []string{"10.20.0.53"},
			Offers: vpn.Offers{
				L2TP: &vpn.L2TPOffer{
					PSK: &psk,
					PPP: []suite.PPPMethod{suite.PAP, suite.EAP, suite.MSCHAPv2},
					IKE: []string{"3des-sha1-modp1024", "aes256-sha1-modp2048"},
					ESP: []string{"aes256-sha1"},
				},
			},
		},
		Person:   vpn.Person{Name: "Ada"},
		Accounts: []vpn.Account{{Meta: vpn.Meta{ID: "ac-1"}, Login: "ada", Password: &password}},
		Device: vpn.Device{
			Name:      "d",
			Platform:  vpn.LinuxDesktop,
			Release:   "1.42",
			Encrypted: true,
		},
	}
}

// sited makes the device a router with a site behind it, beside another one.
func sited(masquerade bool) func(*plan.Input) {
	return func(in *plan.Input) {
		in.Device.Platform, in.Device.Release, in.Device.Site = vpn.Linux, "6", &vpn.Site{
			Networks:   []string{"10.50.1.0/24"},
			Masquerade: masquerade,
		}
		in.Gateway.Announced = []string{"10.50.0.0/22", "10.51.0.0/24"}
	}
}

// TestChoices changes one thing at a time and looks at what is settled, by whom.
func TestChoices(t *testing.T) {
	without := func(list []vpn.Account) []vpn.Account { list[0].Password = nil; return list }
	for _, test := range []struct {
		name   string
		change func(*plan.Input)
		field  vpn.Field
		value  string
		by     plan.Origin
	}{
		{"login and realm", func(*plan.Input) {}, vpn.FieldLogin, "ada@crew", plan.ByGateway},
		{"login alone", func(in *plan.Input) { in.Gateway.SignIn.Form = vpn.LoginPlain },
			vpn.FieldLogin, "ada", plan.ByGateway},
		{"account's own realm", func(in *plan.Input) { in.Accounts[0].Realm = "deck" },
			vpn.FieldLogin, "ada@deck", plan.ByGateway},
		{"account for the gateway first", func(in *plan.Input) {
			in.Accounts = append(in.Accounts, vpn.Account{
				Login:      "zoe",
				GatewayIDs: []string{"gw-1"},
			})
		}, vpn.FieldAccount, "zoe", plan.ByRule},
		{"account with a password first", func(in *plan.Input) {
			in.Accounts = append(without(input().Accounts),
				vpn.Account{Login: "zoe", Password: in.Accounts[0].Password})
		}, vpn.FieldAccount, "zoe", plan.ByRule},
		{"account of another gateway",
			func(in *plan.Input) { in.Accounts[0].GatewayIDs = []string{"gw-2"} }, vpn.FieldAccount, "none", plan.ByRule},
		{"preferred account", func(in *plan.Input) {
			in.Accounts = append(in.Accounts, vpn.Account{Meta: vpn.Meta{ID: "ac-2"}, Login: "b"})
			in.Profile.Preferences.AccountID = "ac-2"
		}, vpn.FieldAccount, "b", plan.ByOperator},
		{"preferred account that is not valid here", func(in *plan.Input) {
			in.Accounts = append(in.Accounts, vpn.Account{
				Meta:       vpn.Meta{ID: "ac-2"},
				Login:      "b",
				GatewayIDs: []string{"gw-2"},
			})
			in.Profile.Preferences.AccountID = "ac-2"
		}, vpn.FieldAccount, "none", plan.ByOperator},
		{"encrypted: saved", func(*plan.Input) {}, vpn.FieldPasswordMode, "saved", plan.ByDevice},
		{"not encrypted: asked", func(in *plan.Input) { in.Device.Encrypted = false },
			vpn.FieldPasswordMode, "asked", plan.ByDevice},
		{"cannot ask: saved", func(in *plan.Input) {
			in.Device.Encrypted,
				in.Device.CannotAsk = false, true
		}, vpn.FieldPasswordMode, "saved", plan.ByDevice},
		{"encrypted, and nothing can be saved: asked",
			func(in *plan.Input) {
				in.Device.Platform, in.Device.Release = vpn.Android,
					"14"
			}, vpn.FieldPasswordMode, "asked", plan.ByDevice},
		{"no PPP method shared",
			func(in *plan.Input) { in.Gateway.Offers.L2TP.PPP = []suite.PPPMethod{suite.EAP} }, vpn.FieldPPP, "none", plan.ByGateway},
		{"strongest PPP method only, no EAP", func(*plan.Input) {}, vpn.FieldPPP, "mschapv2",
			plan.ByRule},
		{"weak proposals left off", func(*plan.Input) {}, vpn.FieldIKE, "aes256-sha1-modp2048",
			plan.ByGateway},
		{"only weak proposals kept",
			func(in *plan.Input) { in.Gateway.Offers.L2TP.IKE = []string{"3des-sha1-modp1024"} }, vpn.FieldIKE, "3des-sha1-modp1024", plan.ByGateway},
		{"built-in proposal matched", func(in *plan.Input) {
			in.Device.Platform,
				in.Device.Release = vpn.Windows, "7"
		}, vpn.FieldIKE, "aes256-sha1-modp2048", plan.ByDevice},
		{"nothing matched", func(in *plan.Input) {
			in.Device.Platform,
				in.Device.Release = vpn.ChromeOS, "120"
		}, vpn.FieldESP, "none", plan.ByDevice},
		{"split by routes", func(*plan.Input) {}, vpn.FieldTunnel, "split", plan.ByGateway},
		{"full without routes", func(in *plan.Input) { in.Gateway.Routes = nil }, vpn.FieldTunnel,
			"full", plan.ByGateway},
		{"full where routes cannot be set", func(in *plan.Input) {
			in.Device.Platform,
				in.Device.Release = vpn.MacOS, "14"
		}, vpn.FieldTunnel, "full", plan.ByDevice},
		{"preferred tunnel",
			func(in *plan.Input) { in.Profile.Preferences.Tunnel = vpn.TunnelFull }, vpn.FieldTunnel, "full", plan.ByOperator},
		{"machine on Windows", func(in *plan.Input) {
			in.Device.Platform,
				in.Device.Release = vpn.Windows, "10"
		}, vpn.FieldScope, "machine", plan.ByDevice},
		{"person on iOS", func(in *plan.Input) {
			in.Device.Platform, in.Device.Release = vpn.IOS,
				"17"
		}, vpn.FieldScope, "person", plan.ByRule},
		{"protocol gone", func(in *plan.Input) {
			in.Device.Platform,
				in.Device.Release = vpn.Android, "14"
		}, vpn.FieldProtocol, "none", plan.ByDevice},
		{"what the certificate of a bare address contains", func(in *plan.Input) {
			in.Gateway.Address, in.Gateway.Offers =
				"203.0.113.9", vpn.Offers{SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}}}
			in.Device.Platform, in.Device.Release = vpn.Windows, "11"
		}, vpn.FieldServerName, "203.0.113.9", plan.ByGateway},
		{"site as it is", sited(false), vpn.FieldSite, "10.50.1.0/24", plan.ByDevice},
		{"site masqueraded", sited(true), vpn.FieldSite, "10.50.1.0/24, masqueraded",
			plan.ByDevice},
		{"other sites are made known, its own is not", sited(false), vpn.FieldRoutes,
			"10.20.0.0/16, 10.50.0.0/24, 10.50.2.0/23, 10.51.0.0/24", plan.ByGateway},
		{"no offer", func(in *plan.Input) { in.Gateway.Offers.L2TP = nil }, vpn.FieldProtocol,
			"none", plan.ByGateway},
	} {
		t.Run(test.name, func(t *testing.T) {
			in := input()
			test.change(&in)
			p := plan.Make(in)
			i := slices.IndexFunc(
				p.Choices,
				func(c plan.Choice) bool { return c.Field == test.field },
			)
			if i < 0 {
				t.Fatalf("nothing was set for %s: %v", test.field, p.Choices)
			}
			if c := p.Choices[i]; c.Value != test.value || c.Origin != test.by || c.Reason == "" {
				t.Errorf("%+v, expected %q by %s", c, test.value, test.by)
			}
			for _, c := range p.Choices {
				if strings.Contains(c.Value+c.Reason, "the-key") ||
					strings.Contains(c.Value+c.Reason, "the-password") {
					t.Errorf("the choice tells a secret: %+v", c)
				}
			}
		})
	}
}

// TestStable holds that planning the same profile again assigns the same identity, and
// another profile another one.
func TestStable(t *testing.T) {
	in := input()
	first, again := plan.Make(in).Connection, plan.Make(in).Connection
	in.Profile.ID = "pr-2"
	other := plan.Make(in).Connection
	if first.UUID != again.UUID || first.Identifier != "example.skerryline.vpn.pr-1" ||
		other.UUID == first.UUID ||
		other.Identifier == first.Identifier {
		t.Errorf(
			"identities: %s %s, again %s, other %s",
			first.UUID,
			first.Identifier,
			again.UUID,
			other.UUID,
		)
	}
}
