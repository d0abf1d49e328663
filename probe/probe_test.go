package probe_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"wardicon/core/observed"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe"
	"wardicon/simulate"
)

func suites(t testing.TB, texts ...string) []suite.Proposal {
	t.Helper()
	list, err := suite.ParseAll(texts)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// standIn starts a stand-in that is ended with the test.
func standIn(t *testing.T, g *simulate.Gateway, faults ...simulate.Fault) *simulate.Gateway {
	t.Helper()
	if err := g.Start(faults...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = g.Close() })
	return g
}

var asked = []string{"aes256-sha256-ecp256", "aes128-sha256-modp2048", "aes256-sha1-modp1024"}

// answer is what a verdict comes to, in words that a table can hold.
func told(a observed.Answer) string {
	parts := []string{string(a.State)}
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if i := a.IKE; i != nil {
		add("takes %d", len(i.Taken))
		add("refuses %d", len(i.Refused))
		for name, set := range map[string]bool{"cookie": i.Cookie, "gateway behind NAT": i.GatewayBehindNAT, "here behind NAT": i.HereBehindNAT, "hash shown": i.HashShown} {
			if set {
				add("%s", name)
			}
		}
		if i.Redirect != "" {
			add("to %s", i.Redirect)
		}
		if i.Identity != "" {
			add("as %s", i.Identity)
		}
	}
	if s := a.TLS; s != nil {
		add("TLS %s", s.Version)
		if s.Old != "" {
			add("takes %s", s.Old)
		}
		add("%s", s.Subject)
	}
	if a.Peer != nil {
		add("host %s", a.Peer.Host)
	}
	slices.Sort(parts[1:])
	return strings.Join(append(append(parts, a.Notes...), a.Fault), ", ")
}

// TestFaults asks stand-ins, sound and faulty, in each protocol: what is said of each.
func TestFaults(t *testing.T) {
	static := make([]byte, tlstunnel.KeySize)
	for i := range static {
		static[i] = byte(i * 7)
	}
	ours, err := tlstunnel.Crypt(static, false)
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := tlstunnel.Crypt(static, true)
	if err != nil {
		t.Fatal(err)
	}
	q := probe.IKEv1Question{Suites: suites(t, "aes256-sha256-modp2048", "aes256-sha1-modp1024"), Group: "crew"}
	methods := map[string]func(*testing.T, *simulate.Gateway) observed.Answer{
		"ikev2": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().IKEv2(t.Context(), g.At(500), false, suites(t, asked...))
		},
		"4500": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().IKEv2(t.Context(), g.At(4500), true, suites(t, asked[0]))
		},
		"main": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().Main(t.Context(), g.At(500), q)
		},
		"aggressive": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().Aggressive(t.Context(), g.At(500), q)
		},
		"l2tp": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().L2TP(t.Context(), g.At(1701))
		},
		"pptp": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().PPTP(t.Context(), g.At(1723))
		},
		"sstp": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().SSTP(t.Context(), g.At(443), "norrvik.example")
		},
		"tunnel": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().Tunnel(t.Context(), g.At(1194), vpn.UDP, ours, "norrvik.example")
		},
		"tunnel by TCP": func(t *testing.T, g *simulate.Gateway) observed.Answer {
			return probe.New().Tunnel(t.Context(), g.At(443), vpn.TCP, ours, "norrvik.example")
		},
	}
	tests := []struct {
		method string
		fault  simulate.Fault
		want   string
	}{
		{"ikev2", "", "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultSilent, "silent, refuses 0, takes 0, no answer by UDP to port"},
		{"ikev2", simulate.FaultGarbage, "faulty, refuses 0, takes 0, 3 packets came that are no answers by this protocol"},
		{"ikev2", simulate.FaultNoise, "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultLossy, "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultSlow, "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultSuite, "answers, refuses 3, takes 0, "},
		{"ikev2", simulate.FaultCookies, "answers, cookie, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultNAT, "answers, gateway behind NAT, here behind NAT, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultChoice, "faulty, refuses 0, takes 0, aes256-sha256-ecp256: it chose what was not offered"},
		{"ikev2", simulate.FaultRedirect, "answers, refuses 3, takes 0, to harbour.example, "},
		{"4500", "", "answers, refuses 0, takes 1, "},
		{"4500", simulate.FaultPort4500, "silent, refuses 0, takes 0, no answer by UDP to port"},
		{"main", "", "answers, refuses 1, takes 1, "},
		{"main", simulate.FaultSilent, "silent, refuses 0, takes 0, no answer by UDP to port"},
		{"main", simulate.FaultLossy, "answers, refuses 1, takes 1, "},
		{"main", simulate.FaultSlow, "answers, refuses 1, takes 1, "},
		{"main", simulate.FaultGarbage, "faulty, refuses 0, takes 0, 3 packets came"},
		{"main", simulate.FaultSuite, "answers, refuses 2, takes 0, "},
		{"main", simulate.FaultNAT, "answers, gateway behind NAT, here behind NAT, refuses 1, takes 1, "},
		{"main", simulate.FaultChoice, "faulty, refuses 0, takes 0, aes256-sha256-modp2048: it chose what was not offered"},
		{"aggressive", "", "silent, refuses 0, takes 0, no answer by UDP to port"},
		{"aggressive", simulate.FaultAggressive, "answers, as norrvik.example, hash shown, refuses 0, takes 1, "},
		{"l2tp", "", "silent, no answer by UDP to port"},
		{"l2tp", simulate.FaultBare, "answers, host norrvik.example, "},
		{"l2tp", simulate.FaultGarbage, "faulty, 3 packets came"},
		{"pptp", "", "answers, host norrvik.example, "},
		{"pptp", simulate.FaultSilent, "silent, no answer by TCP to port"},
		{"pptp", simulate.FaultClosed, "closed, nothing listens there, or the connection was closed at once"},
		{"pptp", simulate.FaultGarbage, "faulty, malformed PPTP message"},
		{"pptp", simulate.FaultSlow, "answers, host norrvik.example, "},
		{"pptp", simulate.FaultRealm, "answers, host pilots.other.example, "},
		{"sstp", "", "answers, CN=norrvik.example, TLS 1.3, "},
		{"sstp", simulate.FaultSilent, "silent, no answer by TCP to port"},
		{"sstp", simulate.FaultClosed, "closed, nothing listens there"},
		{"sstp", simulate.FaultGarbage, "faulty, what answers there is not TLS"},
		{"sstp", simulate.FaultSlow, "answers, CN=norrvik.example, TLS 1.3, "},
		{"sstp", simulate.FaultCertificate, "answers, CN=pilots.other.example, TLS 1.3, "},
		{"sstp", simulate.FaultEnded, "answers, CN=norrvik.example, TLS 1.3, "},
		{"sstp", simulate.FaultOldTLS, "answers, CN=norrvik.example, TLS 1.0, takes 1.0, "},
		{"sstp", simulate.FaultRealm, `faulty, CN=norrvik.example, TLS 1.3, the web server there answers 401 in the place of SSTP and wants a sign-in: "Basic realm=\"pilots.other.example\""`},
		{"tunnel", "", "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultSilent, "silent, no answer by UDP to port"},
		{"tunnel", simulate.FaultKey, "silent, no answer by UDP to port"},
		{"tunnel", simulate.FaultGarbage, "faulty, 3 packets came that are not of this protocol, or not wrapped with this key"},
		{"tunnel", simulate.FaultNoise, "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultLossy, "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultCertificate, "answers, CN=pilots.other.example, TLS 1.3, "},
		{"tunnel", simulate.FaultEnded, "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultOldTLS, "answers, CN=norrvik.example, TLS 1.0, "},
		{"tunnel by TCP", "", "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel by TCP", simulate.FaultKey, "closed, nothing listens there, or the connection was closed at once"},
		{"tunnel by TCP", simulate.FaultClosed, "closed, nothing listens there"},
		{"tunnel by TCP", simulate.FaultSilent, "silent, no answer by TCP to port"},
	}
	var all sync.WaitGroup // most of the time they wait
	answers := make([]observed.Answer, len(tests))
	for i, test := range tests {
		g := standIn(t, &simulate.Gateway{
			Name: "norrvik.example", Suites: suites(t, asked[0], "aes256-sha256-modp2048"), Wrapping: theirs, Tunnel: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}, {Port: 443, Transport: vpn.TCP}},
		}, test.fault)
		all.Go(func() { answers[i] = methods[test.method](t, g) })
	}
	all.Wait()
	for i, test := range tests {
		t.Run(strings.TrimSuffix(test.method+" "+string(test.fault), " "), func(t *testing.T) {
			a := answers[i]
			if got := told(a); !strings.HasPrefix(got, test.want) || test.fault == "" && a.State == observed.Answered && got != test.want {
				t.Errorf("%s\nexpected %s", got, test.want)
			}
			if a.State == observed.Answered && a.Milliseconds <= 0 || test.fault == simulate.FaultSlow && a.Milliseconds < 900 || a.Packets == 0 || a.Packets > 60 {
				t.Errorf("%.1f ms, %d packets", a.Milliseconds, a.Packets)
			}
		})
	}
}

// TestNobody asks where nobody listens: the system itself says so.
func TestNobody(t *testing.T) {
	g := &simulate.Gateway{}
	if err := g.Start(); err != nil {
		t.Fatal(err)
	}
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	for _, a := range []observed.Answer{
		probe.New().IKEv2(t.Context(), g.At(500), false, suites(t, asked...)), probe.New().PPTP(t.Context(), g.At(1723)), probe.New().SSTP(t.Context(), g.At(443), ""),
		probe.New().Tunnel(t.Context(), g.At(1194), vpn.UDP, tlstunnel.Wrapping{}, ""),
	} {
		if a.State != observed.Closed || a.Fault == "" {
			t.Errorf("%s: %+v", a.Method, a)
		}
	}
}
