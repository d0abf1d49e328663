package rehearse_test

import (
	"context"
	"crypto"
	"crypto/rand"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/rehearse"
	"wardicon/simulate"
)

const good = "tern-11-Oakum-reef-fathom"

// stand starts a simulated gateway, and says how to be led there.
func stand(t *testing.T, g *simulate.Gateway, faults ...simulate.Fault) *vpn.ProbeAt {
	t.Helper()
	g.Name = "north.skerryline.example"
	if err := g.Start(faults...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = g.Close() })
	lead := &vpn.ProbeAt{Address: g.Bind.String(), Ports: map[string]int{}}
	for from, to := range g.Ports() {
		lead.Ports[strconv.Itoa(from)] = to
	}
	return lead
}

// ikev2 is a connection to it.
func ikev2(g *simulate.Gateway, auth vpn.IKEv2Auth) vpn.Connection {
	return vpn.Connection{
		Name: "North", Protocol: vpn.IKEv2, Server: g.Name, Login: "a_fjell",
		Password: secret.New(good), Authority: g.Authority, Tunnel: vpn.TunnelSplit,
		Domains: []string{"inside.skerryline.example"},
		IKEv2: &vpn.IKEv2Setting{
			Auth: auth, RemoteID: g.Name, PSK: secret.New("halyard-58-Cormorant-shingle"),
			IKE: []string{"aes256-sha256-ecp256"}, ESP: []string{"aes256-sha256"},
		},
	}
}

// TestIKEv2 signs in to a simulated gateway by each suite, well and with what may be wrong.
func TestIKEv2(t *testing.T) {
	t.Parallel()
	g := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.IKEv2},
		Accounts:  map[string]string{"a_fjell": good}, PSK: "",
	}
	lead := stand(t, g)
	keyed := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.IKEv2}, PSK: "halyard-58-Cormorant-shingle",
	}
	keyedLead := stand(t, keyed)
	identity := deviceIdentity(t)
	certified := &simulate.Gateway{Protocols: []vpn.Protocol{vpn.IKEv2}, Certificates: true}
	certifiedLead := stand(t, certified)
	byTLS := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.IKEv2}, Certificates: true, EAPTLS: true,
	}
	byTLSLead := stand(t, byTLS)
	either := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.IKEv2}, Certificates: true, EAPTLS: true, EAPBoth: true,
		Accounts: map[string]string{"a_fjell": good},
	}
	eitherLead := stand(t, either)
	only := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.IKEv2}, Certificates: true, EAPTLS: true, EAPOnly: true,
	}
	onlyLead := stand(t, only)
	for _, test := range []struct {
		name   string
		gate   *simulate.Gateway
		lead   *vpn.ProbeAt
		auth   vpn.IKEv2Auth
		change func(*vpn.Connection)
		step   rehearsal.StepName
		cause  string
	}{
		{"EAP", g, lead, vpn.IKEv2MSCHAPv2, func(*vpn.Connection) {}, "", ""},
		{"AEAD", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.IKEv2.IKE = []string{"aes256gcm16-prfsha384-ecp384"}
			c.IKEv2.ESP = []string{"aes256gcm16"}
		}, "", ""},
		{"modp", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.IKEv2.IKE = []string{"aes256-sha256-modp2048"}
		}, "", ""},
		{"pre-shared key", keyed, keyedLead, vpn.IKEv2PSK, func(*vpn.Connection) {}, "", ""},
		{"certificate", certified, certifiedLead, vpn.IKEv2Certificate, func(c *vpn.Connection) {
			c.Identity = identity
		}, "", ""},
		{"EAP-TLS", byTLS, byTLSLead, vpn.IKEv2EAPTLS, func(c *vpn.Connection) {
			c.Identity = identity
		}, "", ""},
		{"password, by a gateway that asks for EAP-TLS first", either, eitherLead,
			vpn.IKEv2MSCHAPv2, func(*vpn.Connection) {}, "", ""},
		{"EAP alone", only, onlyLead, vpn.IKEv2EAPTLS, func(c *vpn.Connection) {
			c.Identity, c.IKEv2.EAPOnly = identity, true
		}, "", ""},
		{"EAP alone, by a gateway of another CA", only, onlyLead, vpn.IKEv2EAPTLS,
			func(c *vpn.Connection) {
				c.Identity, c.IKEv2.EAPOnly, c.Authority = identity, true, identity.Certificate
			}, rehearsal.Gateway, "authority-missing"},
		{"EAP alone, not demanded", only, onlyLead, vpn.IKEv2EAPTLS, func(c *vpn.Connection) {
			c.Identity = identity
		}, "", ""},
		{"no certificate", certified, certifiedLead, vpn.IKEv2Certificate, func(*vpn.Connection) {},
			rehearsal.Exchange, "device-certificate-missing"},
		{"another method", byTLS, byTLSLead, vpn.IKEv2MSCHAPv2, func(*vpn.Connection) {},
			rehearsal.SignIn, "methods-differ"},
		{"password", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.Password = secret.New("another")
		}, rehearsal.SignIn, "password-wrong"},
		{"no password", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.Password = secret.Text{}
		}, rehearsal.Exchange, "secret-missing"},
		{"another key", keyed, keyedLead, vpn.IKEv2PSK, func(c *vpn.Connection) {
			c.IKEv2.PSK = secret.New("another")
		}, rehearsal.SignIn, "key-wrong"},
		{"identity", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.IKEv2.RemoteID = "south.skerryline.example"
		}, rehearsal.Gateway, "identity-differs"},
		{"suite", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.IKEv2.IKE = []string{"aes128-sha1-modp3072"}
		}, rehearsal.Exchange, "suites-differ"},
		{"child suite", g, lead, vpn.IKEv2MSCHAPv2, func(c *vpn.Connection) {
			c.IKEv2.ESP = []string{"3des-md5"}
		}, rehearsal.Address, "child-suites-differ"},
	} {
		t.Run(test.name, func(t *testing.T) {
			c := ikev2(test.gate, test.auth)
			test.change(&c)
			expect(t, rehearse.Request{
				Connection: c, Lead: test.lead, Hosts: []string{"10.20.0.1", "10.20.0.1:443"},
				Names: []string{"timetable.inside.skerryline.example"},
			}, test.step, test.cause)
		})
	}
}

// TestCarried tells which default routes go through the tunnel, and warns of a family that bypasses
// it although the file sends everything through.
func TestCarried(t *testing.T) {
	t.Parallel()
	g := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.IKEv2, vpn.TLS}, Accounts: map[string]string{"a_fjell": good},
	}
	lead := stand(t, g)
	for _, test := range []struct {
		name    string
		c       vpn.Connection
		tunnel  vpn.Tunnel
		ipv6    vpn.IPv6
		through string
		warned  bool
	}{
		{"everything by IKEv2", ikev2(g, vpn.IKEv2MSCHAPv2), vpn.TunnelFull, "", "IPv4", true},
		{"without IPv6", ikev2(g, vpn.IKEv2MSCHAPv2), vpn.TunnelFull, vpn.IPv6Refused, "IPv4", false},
		{"networks by IKEv2", ikev2(g, vpn.IKEv2MSCHAPv2), vpn.TunnelSplit, "", "", false},
		{"everything by the TLS tunnel", tunnel(g), vpn.TunnelFull, "", "IPv4", true},
		{"networks by the TLS tunnel", tunnel(g), vpn.TunnelSplit, "", "", false},
	} {
		c := test.c
		c.Tunnel, c.IPv6, c.Domains = test.tunnel, test.ipv6, nil
		r := (&rehearse.Rehearser{}).Run(t.Context(), rehearse.Request{Connection: c, Lead: lead})
		warned := strings.Contains(strings.Join(r.Differences, "; "), "IPv6: ")
		if !r.Passed || strings.Join(r.Default, " ") != test.through || warned != test.warned {
			t.Errorf("%s: passed %t, default %v, differences %q", test.name, r.Passed, r.Default,
				r.Differences)
		}
	}
}

// TestSSTP signs in to a simulated gateway by SSTP, which holds the sign-in to be bound to TLS.
func TestSSTP(t *testing.T) {
	t.Parallel()
	g := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.SSTP}, Accounts: map[string]string{"a_fjell": good},
		Methods: []suite.PPPMethod{suite.MSCHAPv2, suite.CHAP},
	}
	lead := stand(t, g)
	for _, test := range []struct {
		name   string
		change func(*vpn.Connection)
		step   rehearsal.StepName
		cause  string
	}{
		{"well", func(*vpn.Connection) {}, "", ""},
		{"without keys of the sign-in", func(c *vpn.Connection) {
			c.SSTP.PPP = []suite.PPPMethod{suite.CHAP}
		}, "", ""},
		{"password", func(c *vpn.Connection) { c.Password = secret.New("another") },
			rehearsal.SignIn, "password-wrong"},
		{"method", func(c *vpn.Connection) { c.SSTP.PPP = []suite.PPPMethod{suite.PAP} },
			rehearsal.SignIn, "methods-differ"},
		{"name", func(c *vpn.Connection) { c.SSTP.ServerName = "south.skerryline.example" },
			rehearsal.Gateway, "certificate-name"},
		{"CA", func(c *vpn.Connection) { c.Authority = "" }, rehearsal.Gateway,
			"authority-missing"},
	} {
		c := vpn.Connection{
			Name: "North", Protocol: vpn.SSTP, Server: g.Name, Login: "a_fjell",
			Password: secret.New(good), Authority: g.Authority, SSTP: &vpn.SSTPSetting{Port: 443},
		}
		test.change(&c)
		t.Run(test.name, func(t *testing.T) {
			expect(t, rehearse.Request{
				Connection: c, Lead: lead, Hosts: []string{"10.20.0.1", "10.20.0.1:443"},
				Names: []string{"timetable.inside.skerryline.example"},
			}, test.step, test.cause)
		})
	}
	old := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.SSTP}, Accounts: map[string]string{"a_fjell": good},
	}
	oldLead := stand(t, old, simulate.FaultOldTLS)
	for release, cause := range map[string]string{"10": "", "11": "tls-versions"} {
		as, _ := platform.Find(vpn.Windows, release)
		t.Run("old TLS, Windows "+release, func(t *testing.T) {
			step := rehearsal.StepName("")
			if cause != "" {
				step = rehearsal.Exchange
			}
			expect(t, rehearse.Request{
				Connection: vpn.Connection{
					Name: "North", Protocol: vpn.SSTP, Server: old.Name, Login: "a_fjell",
					Password: secret.New(good), Authority: old.Authority,
					SSTP: &vpn.SSTPSetting{Port: 443},
				}, As: &as, Lead: oldLead, Hosts: []string{"10.20.0.1", "10.20.0.1:443"},
				Names: []string{"timetable.inside.skerryline.example"},
			}, step, cause)
		})
	}
	for end := time.Now().Add(5 * time.Second); len(g.Links()) < 4 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	if links := g.Links(); len(links) < 2 || !links[0].Bound || !links[1].Bound {
		t.Errorf("not bound to TLS: %+v", links)
	}
}

// tunnel is a connection to it by the TLS tunnel.
func tunnel(g *simulate.Gateway) vpn.Connection {
	return vpn.Connection{
		Name: "North", Protocol: vpn.TLS, Server: g.Name, Login: "a_fjell",
		Password: secret.New(good), Authority: g.Authority,
		TLS: &vpn.TLSSetting{
			Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}}, Auth: vpn.TLSPassword,
			TLSOptions: vpn.TLSOptions{ServerName: g.Name},
		},
	}
}

// TestInside demands every host and every name that is asked for, and goes on to the next remote
// where one does not respond.
func TestInside(t *testing.T) {
	t.Parallel()
	const name = "timetable.inside.skerryline.example"
	g := &simulate.Gateway{
		Protocols: []vpn.Protocol{vpn.TLS}, Accounts: map[string]string{"a_fjell": good},
	}
	lead := stand(t, g)
	for _, test := range []struct {
		name         string
		hosts, names []string
		change       func(*vpn.Connection)
		step         rehearsal.StepName
		cause        string
	}{
		{"hosts", []string{"10.20.0.1", "10.20.0.9"}, nil, nil, "", ""},
		{"one host of two", []string{"10.20.0.1", "192.0.2.1"}, nil, nil, rehearsal.Echo,
			"host-silent"},
		{"a host by name", []string{name}, nil, nil, "", ""},
		{"a host by a name that is not known", []string{"nowhere.example"}, nil, nil,
			rehearsal.Lookup, "inside-names"},
		{"one name of two", nil, []string{name, "nowhere.example"}, nil, rehearsal.Lookup,
			"inside-names"},
		{"a service that refuses", []string{"10.20.0.1:443", "10.20.0.1:25"}, nil, nil,
			rehearsal.Connect, "host-silent"},
		{"a host of another family", []string{"fd00::1"}, nil, nil, rehearsal.Echo, "host-silent"},
		{"a second remote", []string{"10.20.0.1"}, nil, func(c *vpn.Connection) {
			c.TLS.Remotes = append([]vpn.Remote{{Port: 1, Transport: vpn.UDP}}, c.TLS.Remotes...)
		}, "", ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			c := tunnel(g)
			if test.change != nil {
				test.change(&c)
			}
			reached := 0
			expect(t, rehearse.Request{
				Connection: c, Lead: lead, Hosts: test.hosts, Names: test.names,
				Reached: func(rehearsal.Step) { reached++ },
			}, test.step, test.cause)
			if reached != len(rehearsal.Steps) {
				t.Errorf("%d steps were told, expected %d", reached, len(rehearsal.Steps))
			}
		})
	}
}

// deviceIdentity is the certificate of a device, by an authority of its own.
func deviceIdentity(t *testing.T) *vpn.Identity {
	t.Helper()
	var keys [2]crypto.Signer
	for i := range keys {
		key, err := pki.NewKey(rand.Reader, pki.P256)
		if err != nil {
			t.Fatal(err)
		}
		keys[i] = key
	}
	from, to := time.Now().Add(-time.Hour), time.Now().AddDate(0, 1, 0)
	root, err := pki.Issue(rand.Reader, pki.Issuer{Key: keys[0]}, keys[0].Public(), pki.Wanted{
		Name: "Crew", Usage: pki.ForAuthority, From: from, To: to.AddDate(1, 0, 0), MaxPath: -1,
	})
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := pki.Issue(rand.Reader, pki.Issuer{Certificate: root, Key: keys[0]},
		keys[1].Public(), pki.Wanted{
			Name: "ada-laptop", Names: []string{"ada-laptop.skerryline.example"},
			Usage: pki.ForClient, From: from, To: to, MaxPath: -1,
		})
	if err != nil {
		t.Fatal(err)
	}
	text, err := pki.KeyPEM(keys[1])
	if err != nil {
		t.Fatal(err)
	}
	return &vpn.Identity{Certificate: pki.Bundle(leaf), Key: text}
}

// expect rehearses, and holds the result to a step and a cause; without a step it has to pass.
func expect(t *testing.T, q rehearse.Request, step rehearsal.StepName, cause string) rehearsal.Result {
	t.Helper()
	r := (&rehearse.Rehearser{}).Run(t.Context(), q)
	if r.Passed != (step == "") || r.FailedAt() != step || r.CauseID != cause {
		t.Errorf("failed at %q by %q, expected %q by %q: %+v", r.FailedAt(), r.CauseID, step, cause,
			r.Steps)
	}
	if len(r.Steps) != len(rehearsal.Steps) {
		t.Errorf("%d steps, expected %d", len(r.Steps), len(rehearsal.Steps))
	}
	return r
}

// TestHostile rehearses at gateways that mean harm or are out of order: each ends in time, with a
// step that failed, and nothing is left running.
func TestHostile(t *testing.T) {
	t.Parallel()
	var all sync.WaitGroup
	for fault, passes := range map[simulate.Fault]struct{ ike, tls bool }{
		simulate.FaultSilent: {}, simulate.FaultMidway: {}, simulate.FaultGarbage: {},
		simulate.FaultExpired: {}, simulate.FaultCertificate: {},
		simulate.FaultChoice: {tls: true}, simulate.FaultRedirect: {tls: true},
		simulate.FaultSuite: {tls: true}, simulate.FaultNoise: {ike: true, tls: true},
		simulate.FaultCookies: {ike: true, tls: true}, simulate.FaultGroup: {ike: true, tls: true},
		simulate.FaultLossy: {ike: true, tls: true},
	} {
		g := &simulate.Gateway{
			Protocols: []vpn.Protocol{vpn.IKEv2, vpn.TLS},
			Accounts:  map[string]string{"a_fjell": good},
		}
		lead := stand(t, g, fault)
		c := ikev2(g, vpn.IKEv2MSCHAPv2)
		tunnel := tunnel(g)
		for _, c := range []vpn.Connection{c, tunnel} {
			all.Go(func() {
				begin := time.Now()
				r := (&rehearse.Rehearser{}).Run(t.Context(), rehearse.Request{
					Connection: c, Lead: lead,
				})
				expected := passes.ike
				if c.TLS != nil {
					expected = passes.tls
				}
				if r.Passed != expected {
					t.Errorf("%s, %s: passed is %t: %+v", fault, c.Protocol, r.Passed, r.Steps)
				}
				if took := time.Since(begin); took > 30*time.Second {
					t.Errorf("%s, %s: took %s", fault, c.Protocol, took)
				}
			})
		}
	}
	all.Wait()
}

// TestCancel ends a rehearsal at once, and leaves nothing behind.
func TestCancel(t *testing.T) {
	g := &simulate.Gateway{Protocols: []vpn.Protocol{vpn.IKEv2}}
	lead := stand(t, g, simulate.FaultSilent)
	before := runtime.NumGoroutine()
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(100*time.Millisecond, stop)
	begin := time.Now()
	r := (&rehearse.Rehearser{}).Run(ctx, rehearse.Request{
		Connection: ikev2(g, vpn.IKEv2PSK), Lead: lead,
	})
	if r.Passed || time.Since(begin) > time.Second {
		t.Errorf("it goes on for %s after it was cancelled: %+v", time.Since(begin), r.Steps)
	}
	for end := time.Now().Add(2 * time.Second); runtime.NumGoroutine() > before; {
		if time.Now().After(end) {
			t.Fatalf("%d goroutines more than before", runtime.NumGoroutine()-before)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
