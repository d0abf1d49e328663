package rehearse_test

import (
	"net"
	"net/netip"
	"testing"

	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/rehearse"
	"wardicon/simulate"
)

const key = "halyard-58-Cormorant-shingle"

// by is a case of a connection that carries PPP.
type by struct {
	name   string
	gate   *simulate.Gateway
	lead   *vpn.ProbeAt
	change func(*vpn.Connection)
	step   rehearsal.StepName
	cause  string
}

// all runs cases, each of a connection that is changed.
func all(t *testing.T, list []by, sound func(*simulate.Gateway) vpn.Connection) {
	t.Helper()
	for _, test := range list {
		t.Run(test.name, func(t *testing.T) {
			c := sound(test.gate)
			test.change(&c)
			expect(t, rehearse.Request{
				Connection: c, Lead: test.lead, Hosts: []string{"10.20.0.1", "10.20.0.1:443"},
				Names: []string{"timetable.inside.skerryline.example"},
			}, test.step, test.cause)
		})
	}
}

// TestL2TP signs in to simulated gateways by L2TP/IPsec: main and aggressive mode, key and
// certificate, and with what may be wrong in each of its layers.
func TestL2TP(t *testing.T) {
	t.Parallel()
	accounts := map[string]string{"a_fjell": good}
	keyed := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.L2TP}, Accounts: accounts, KeyL2TP: key,
		Methods: []suite.PPPMethod{suite.MSCHAPv2, suite.CHAP, suite.PAP},
	}
	keyedLead := stand(t, keyed, simulate.FaultAggressive)
	byEAP := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.L2TP}, Accounts: accounts, KeyL2TP: key,
		Methods: []suite.PPPMethod{suite.EAP},
	}
	byEAPLead := stand(t, byEAP)
	both := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.L2TP}, Accounts: accounts, KeyL2TP: key,
		IPv6: netip.MustParsePrefix("fd00:10:20:30::/64"),
	}
	bothLead := stand(t, both)
	t.Run("IPv6", func(t *testing.T) {
		r := expect(t, rehearse.Request{
			Connection: vpn.Connection{
				Name: "North", Protocol: vpn.L2TP, Server: both.Name, Login: "a_fjell",
				Password: secret.New(good), Tunnel: vpn.TunnelFull,
				L2TP: &vpn.L2TPSetting{Auth: vpn.MachinePSK, PSK: secret.New(key)},
			}, Lead: bothLead, Hosts: []string{"10.20.0.1", "fd00:10:20::1", "10.20.0.1:443"},
			Names: []string{"timetable.inside.skerryline.example"},
		}, "", "")
		if len(r.Addresses) != 2 || !both.IPv6.Contains(r.Addresses[1]) || len(r.Default) != 2 ||
			len(r.Differences) > 0 {
			t.Errorf("addresses %v, default %v, differences %q", r.Addresses, r.Default,
				r.Differences)
		}
	})
	lossy := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.L2TP}, Accounts: accounts, KeyL2TP: key,
	}
	lossyLead := stand(t, lossy, simulate.FaultLossy)
	certified := &simulate.Gateway{Protocols: []vpn.Protocol{vpn.L2TP}, Accounts: accounts}
	certifiedLead := stand(t, certified)
	identity := deviceIdentity(t)
	certificate := func(c *vpn.Connection) {
		c.Identity, c.L2TP.Auth = identity, vpn.MachineCertificate
	}
	all(t, []by{
		{"key", keyed, keyedLead, func(*vpn.Connection) {}, "", ""},
		{"a line that loses", lossy, lossyLead, func(*vpn.Connection) {}, "", ""},
		{"aggressive mode", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.Aggressive, c.L2TP.Group = true, "crew"
		}, "", ""},
		{"PFS", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.ESP = []string{"aes256-sha1-modp2048"}
		}, "", ""},
		{"CHAP", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.PPP = []suite.PPPMethod{suite.CHAP}
		}, "", ""},
		{"EAP", byEAP, byEAPLead, func(c *vpn.Connection) {
			c.L2TP.PPP = []suite.PPPMethod{suite.EAP}
		}, "", ""},
		{"certificate", certified, certifiedLead, certificate, "", ""},
		{"another CA", certified, certifiedLead, func(c *vpn.Connection) {
			certificate(c)
			c.Authority = identity.Certificate
		}, rehearsal.Gateway, "authority-missing"},
		{"another gateway", certified, certifiedLead, func(c *vpn.Connection) {
			certificate(c)
			c.L2TP.RemoteID = "south.skerryline.example"
		}, rehearsal.Gateway, "identity-differs"},
		{"another key", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.PSK = secret.New("another")
		}, rehearsal.Gateway, "key-wrong"},
		{"another key in aggressive mode", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.Aggressive, c.L2TP.PSK = true, secret.New("another")
		}, rehearsal.Gateway, "key-wrong"},
		{"suite", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.IKE = []string{"3des-md5-modp1024"}
		}, rehearsal.Exchange, "suites-differ"},
		{"child suite", keyed, keyedLead, func(c *vpn.Connection) {
			c.L2TP.ESP = []string{"3des-md5"}
		}, rehearsal.Address, "child-suites-differ"},
		{"password", keyed, keyedLead, func(c *vpn.Connection) {
			c.Password = secret.New("another")
		}, rehearsal.SignIn, "password-wrong"},
		{"method", byEAP, byEAPLead, func(c *vpn.Connection) {
			c.L2TP.PPP = []suite.PPPMethod{suite.PAP}
		}, rehearsal.SignIn, "methods-differ"},
	}, func(g *simulate.Gateway) vpn.Connection {
		return vpn.Connection{
			Name: "North", Protocol: vpn.L2TP, Server: g.Name, Login: "a_fjell",
			Password: secret.New(good), Authority: g.Authority,
			L2TP: &vpn.L2TPSetting{Auth: vpn.MachinePSK, PSK: secret.New(key)},
		}
	})
}

// TestPPTP signs in to simulated gateways by PPTP, with and without MPPE; a machine that lets
// nobody use GRE says so after the call was accepted, and what to do.
func TestPPTP(t *testing.T) {
	t.Parallel()
	accounts := map[string]string{"a_fjell": good}
	gate := func(methods []suite.PPPMethod, mppe ...suite.MPPE) (*simulate.Gateway, *vpn.ProbeAt) {
		g := &simulate.Gateway{
			Protocols: []vpn.Protocol{vpn.PPTP}, Accounts: accounts, Methods: methods, MPPE: mppe,
		}
		return g, stand(t, g)
	}
	usual := []suite.PPPMethod{suite.MSCHAPv2, suite.CHAP}
	strong, strongLead := gate(usual, "128")
	weak, weakLead := gate(usual, "40")
	clear, clearLead := gate(usual)
	step, cause := rehearsal.StepName(""), ""
	if c, err := net.DialIP("ip4:47", nil, &net.IPAddr{IP: net.IPv4(127, 0, 0, 1)}); err != nil {
		step, cause = rehearsal.SignIn, rehearsal.NotPermitted
	} else {
		_ = c.Close()
	}
	list := []by{
		{"128 bits", strong, strongLead, func(*vpn.Connection) {}, step, cause},
		{"40 bits", weak, weakLead, func(*vpn.Connection) {}, step, cause},
		{"in clear", clear, clearLead, func(c *vpn.Connection) {
			c.PPTP.MPPE, c.PPTP.PPP = nil, []suite.PPPMethod{suite.CHAP}
		}, step, cause},
	}
	if cause == "" {
		list = append(list, by{"strength", weak, weakLead, func(c *vpn.Connection) {
			c.PPTP.MPPE = []suite.MPPE{"128"}
		}, rehearsal.Address, "encryption-differs"},
			by{"no encryption", clear, clearLead, func(*vpn.Connection) {}, rehearsal.Address,
				"encryption-differs"},
			by{"password", strong, strongLead, func(c *vpn.Connection) {
				c.Password = secret.New("another")
			}, rehearsal.SignIn, "password-wrong"})
	}
	all(t, list, func(g *simulate.Gateway) vpn.Connection {
		return vpn.Connection{
			Name: "North", Protocol: vpn.PPTP, Server: g.Name, Login: "a_fjell",
			Password: secret.New(good),
			PPTP: &vpn.PPTPSetting{
				PPP: []suite.PPPMethod{suite.MSCHAPv2}, MPPE: []suite.MPPE{"128", "56", "40"},
			},
		}
	})
}
