package check_test

import (
	"strings"
	"testing"
	"time"

	"wardicon/core/check"
	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// TestAgreements holds what both sides negotiate, and where they share nothing, the change
// that brings them together.
func TestAgreements(t *testing.T) {
	connection := func(p vpn.Protocol, ike, esp []string) *check.Subject {
		s := &check.Subject{
			Connection: vpn.Connection{Protocol: p},
			Gateway:    &vpn.Gateway{Name: "Norrvik"},
		}
		switch p {
		case vpn.L2TP:
			s.Connection.L2TP = &vpn.L2TPSetting{
				IKE: ike,
				ESP: esp,
				PPP: []suite.PPPMethod{suite.MSCHAPv2},
			}
		case vpn.IKEv2:
			s.Connection.IKEv2 = &vpn.IKEv2Setting{IKE: ike, ESP: esp}
		}
		return s
	}
	on := func(s *check.Subject, p vpn.Platform, release string) *check.Subject {
		found, _ := platform.Find(p, release)
		a := found.Ability(s.Connection.Protocol)
		s.Release, s.Ability = &found, &a
		return s
	}
	ikev2 := func(ike, esp, gatewayIKE, gatewayESP string) *check.Subject {
		s := connection(vpn.IKEv2, strings.Fields(ike), strings.Fields(esp))
		s.Gateway.Offers.IKEv2 = &vpn.IKEv2Offer{
			IKE: strings.Fields(gatewayIKE),
			ESP: strings.Fields(gatewayESP),
		}
		return s
	}
	l2tp := func(ike, gatewayIKE string, ppp ...suite.PPPMethod) *check.Subject {
		s := connection(vpn.L2TP, strings.Fields(ike), nil)
		s.Gateway.Offers.L2TP = &vpn.L2TPOffer{IKE: strings.Fields(gatewayIKE), PPP: ppp}
		return s
	}
	tls := func(device, gateway string) *check.Subject {
		return &check.Subject{
			Connection: vpn.Connection{
				Protocol: vpn.TLS,
				TLS:      &vpn.TLSSetting{Ciphers: strings.Fields(device)},
			},
			Gateway: &vpn.Gateway{
				Offers: vpn.Offers{TLS: &vpn.TLSOffer{Ciphers: strings.Fields(gateway)}},
			},
		}
	}
	pptp := func(device, gateway []suite.MPPE) *check.Subject {
		return &check.Subject{
			Connection: vpn.Connection{
				Protocol: vpn.PPTP,
				PPTP: &vpn.PPTPSetting{
					MPPE: device,
					PPP:  []suite.PPPMethod{suite.MSCHAPv2, suite.CHAP},
				},
			},
			Gateway: &vpn.Gateway{
				Offers: vpn.Offers{
					PPTP: &vpn.PPTPOffer{
						MPPE: gateway,
						PPP:  []suite.PPPMethod{suite.CHAP, suite.MSCHAPv2},
					},
				},
			},
		}
	}
	for _, test := range []struct {
		name    string
		subject *check.Subject
		field   vpn.Field
		chosen  string
		change  string
	}{
		{"the device's order counts", ikev2("aes256-sha256-ecp256 aes128-sha256-modp2048",
			"", "aes128-sha256-modp2048 aes256-sha256-ecp256", ""), vpn.FieldIKE,
			"aes256-sha256-ecp256", ""},
		{"the second fits", ikev2("aes256-sha256-ecp256 aes128-sha256-modp2048", "",
			"aes128-sha256-modp2048", ""), vpn.FieldIKE, "aes128-sha256-modp2048", ""},
		{"another group", ikev2("aes256-sha256-ecp256", "", "aes256-sha256-modp2048", ""),
			vpn.FieldIKE, "", "differ in the Diffie-Hellman group. Set aes256-sha256-modp2048 on " +
				"the device, or let the gateway take aes256-sha256-ecp256."},
		{"the nearest of several", ikev2("aes256-sha256-ecp256", "", "aes128-sha1-modp2048 "+
			"aes256-sha384-ecp256", ""), vpn.FieldIKE, "", "differ in the integrity. Set " +
			"aes256-sha384-ecp256"},
		{"a weaker gateway is not followed", ikev2("aes256-sha256-ecp256",
			"", "aes256-sha256-modp1024", ""), vpn.FieldIKE, "", "group. Let the gateway take " +
			"aes256-sha256-ecp256."},
		{"children without a group on one side", ikev2("", "aes256gcm16", "", "aes256gcm16-ecp256"),
			vpn.FieldESP, "aes256gcm16", ""},
		{"children of another group", ikev2("", "aes256gcm16-ecp384", "", "aes256gcm16-ecp256"),
			vpn.FieldESP, "aes256gcm16 until the keys are renewed", "Set aes256gcm16-ecp256 on " +
				"the device, or let the gateway take aes256gcm16-ecp384."},
		{"the pair that differs in its group alone", ikev2("", "aes128gcm16-ecp256 "+
			"aes256gcm16-ecp384", "", "aes256gcm16-ecp256"), vpn.FieldESP,
			"aes256gcm16 until the keys are renewed", "Set aes256gcm16-ecp256 on the device, or " +
				"let the gateway take aes256gcm16-ecp384."},
		{"built in", on(ikev2("", "", "aes256-sha256-modp2048", ""), vpn.IOS, "17"), vpn.FieldIKE,
			"aes256-sha256-modp2048", ""},
		{"built in, and cannot be set", on(l2tp("", "aes256-sha512-modp4096", suite.MSCHAPv2),
			vpn.Windows, "7"), vpn.FieldIKE, "", "Let the gateway take aes256-sha1-modp2048."},
		{"PPP", l2tp("", "", suite.CHAP, suite.MSCHAPv2), vpn.FieldPPP, "mschapv2", ""},
		{"no PPP method", l2tp("", "", suite.PAP), vpn.FieldPPP, "",
			"Let the device take pap, or " +
				"the gateway mschapv2."},
		{"the gateway chooses the cipher", tls("AES-128-GCM AES-256-GCM",
			"AES-256-GCM AES-128-GCM"), vpn.FieldCiphers, "AES-256-GCM", ""},
		{"the client's own ciphers", tls("", "CHACHA20-POLY1305"), vpn.FieldCiphers,
			"CHACHA20-POLY1305", ""},
		{"no cipher", tls("AES-256-GCM", "BF-CBC"), vpn.FieldCiphers, "",
			"Let the device take BF-CBC, or the gateway AES-256-GCM."},
		{"the longest key of MPPE", pptp([]suite.MPPE{"128", "40"}, []suite.MPPE{"40", "128"}),
			vpn.FieldMPPE, "128", ""},
		{"PPTP's methods", pptp([]suite.MPPE{"128"}, []suite.MPPE{"128"}), vpn.FieldPPP, "mschapv2",
			""},
	} {
		t.Run(test.name, func(t *testing.T) {
			var seen []vpn.Field
			for _, a := range test.subject.Agreements() {
				if seen = append(seen, a.Field); a.Field != test.field {
					continue
				}
				if a.Chosen != test.chosen || !strings.Contains(a.Change, test.change) ||
					test.change == "" && a.Change != "" {
					t.Errorf(
						"chosen %q, change %q; expected %q and %q",
						a.Chosen,
						a.Change,
						test.chosen,
						test.change,
					)
				}
				return
			}
			t.Errorf("nothing is said of %s, only of %v", test.field, seen)
		})
	}
	if list := (&check.Subject{Connection: vpn.Connection{
		Protocol: vpn.IKEv2,
		IKEv2:    &vpn.IKEv2Setting{IKE: []string{"aes256-sha256-ecp256"}},
	}}).Agreements(); len(
		list,
	) > 0 {
		t.Errorf("an agreement with nobody: %v", list)
	}
}

// TestPolicy sets severities and lets an error pass for a time.
func TestPolicy(t *testing.T) {
	sick := func(p check.Policy) []check.Finding {
		s := check.Sound()
		s.Account.Login, s.Policy = "a_fjell ", p // edge-space, an error
		return only(check.Run(s), "edge-space")
	}
	now := check.Sound().Now
	pass := func(rule string, until time.Time) check.Policy {
		return check.Policy{
			Overrides: []check.Override{{Rule: rule, Reason: "as at the gateway", Until: until}},
		}
	}
	set := func(s vpn.Severity) check.Policy {
		return check.Policy{Severities: map[string]vpn.Severity{"edge-space": s}}
	}
	both := pass("edge-space", now.AddDate(0, 0, 1))
	both.Severities = set(vpn.Note).Severities
	for _, test := range []struct {
		name   string
		policy check.Policy
		want   vpn.Severity
		passed bool
	}{
		{"as it is", check.Policy{}, vpn.Error, false},
		{"set to a warning", set(vpn.Warning), vpn.Warning, false},
		{"switched off", set(check.Off), "", false},
		{"passes until tomorrow", pass("edge-space", now.AddDate(0, 0, 1)), vpn.Warning, true},
		{"passed until yesterday", pass("edge-space", now.AddDate(0, 0, -1)), vpn.Error, false},
		{"passes to this moment", pass("edge-space", now), vpn.Error, false},
		{"another rule passes", pass("login-space", now.AddDate(0, 0, 1)), vpn.Error, false},
		{"a note needs no pass", both, vpn.Note, false},
	} {
		found := sick(test.policy)
		switch {
		case test.want == "" && len(found) > 0:
			t.Errorf("%s: %+v", test.name, found)
		case test.want != "" && (len(found) != 1 ||
			found[0].Severity != test.want || (found[0].Override != nil) != test.passed):
			t.Errorf("%s: %+v, expected %s", test.name, found, test.want)
		}
	}
}
