package probe_test

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/core/drift"
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

// simulator starts a simulator that is ended with the test.
func simulator(t *testing.T, g *simulate.Gateway, faults ...simulate.Fault) *simulate.Gateway {
	t.Helper()
	if err := g.Start(faults...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = g.Close() })
	return g
}

var asked = []string{"aes256-sha256-ecp256", "aes128-sha256-modp2048", "aes256-sha1-modp1024"}

// answer is what a verdict comes to, in words that a table can hold.
func told(a drift.Answer) string {
	parts := []string{string(a.State)}
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if i := a.IKE; i != nil {
		add("takes %d", len(i.Taken))
		add("refuses %d", len(i.Refused))
		for name, set := range map[string]bool{
			"cookie":             i.Cookie,
			"gateway behind NAT": i.GatewayBehindNAT,
			"here behind NAT":    i.HereBehindNAT,
			"hash shown":         i.HashShown,
		} {
			if set {
				add("%s", name)
			}
		}
		for _, w := range i.Wanted {
			add("wants %s", w)
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

// TestFaults asks simulators, sound and faulty, in each protocol: what is said of each.
func TestFaults(t *testing.T) {
	t.Parallel()
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
	q := probe.IKEv1Question{
		Suites: suites(t, "aes256-sha256-modp2048", "aes256-sha1-modp1024"),
		Group:  "crew",
	}
	methods := map[string]func(*testing.T, *simulate.Gateway) drift.Answer{
		"ikev2": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().IKEv2(t.Context(), g.At(500), false, suites(t, asked...))
		},
		"4500": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().IKEv2(t.Context(), g.At(4500), true, suites(t, asked[0]))
		},
		"main": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().Main(t.Context(), g.At(500), q)
		},
		"aggressive": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().Aggressive(t.Context(), g.At(500), q)
		},
		"l2tp": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().L2TP(t.Context(), g.At(1701))
		},
		"pptp": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().PPTP(t.Context(), g.At(1723))
		},
		"sstp": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().SSTP(t.Context(), g.At(443), "norrvik.example")
		},
		"tunnel": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().Tunnel(t.Context(), g.At(1194), vpn.UDP, ours, "norrvik.example")
		},
		"tunnel by TCP": func(t *testing.T, g *simulate.Gateway) drift.Answer {
			return probe.New().Tunnel(t.Context(), g.At(443), vpn.TCP, ours, "norrvik.example")
		},
	}
	tests := []struct {
		method string
		fault  simulate.Fault
		want   string
	}{
		{"ikev2", "", "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultSilent, "no-response, refuses 0, takes 0, no answer by UDP"},
		{
			"ikev2",
			simulate.FaultGarbage,
			"faulty, refuses 0, takes 0, 3 packets came that are no answers by this protocol",
		},
		{"ikev2", simulate.FaultNoise, "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultLossy, "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultSlow, "answers, refuses 2, takes 1, "},
		{"ikev2", simulate.FaultSuite, "answers, refuses 3, takes 0, "},
		{
			"ikev2",
			simulate.FaultGroup,
			"answers, refuses 2, takes 1, wants group 19 in the place of 14, wants group 19 in " +
				"the place of 2, ",
		},
		{"ikev2", simulate.FaultCookies, "answers, cookie, refuses 2, takes 1, "},
		{
			"ikev2",
			simulate.FaultNAT,
			"answers, gateway behind NAT, here behind NAT, refuses 2, takes 1, ",
		},
		{
			"ikev2",
			simulate.FaultChoice,
			"faulty, refuses 0, takes 0, aes256-sha256-ecp256: it chose what was not offered",
		},
		{"ikev2", simulate.FaultRedirect, "answers, refuses 3, takes 0, to harbour.example, "},
		{"4500", "", "answers, refuses 0, takes 1, "},
		{"4500", simulate.FaultPort4500, "no-response, refuses 0, takes 0, no answer by UDP"},
		{"main", "", "answers, refuses 1, takes 1, "},
		{"main", simulate.FaultSilent, "no-response, refuses 0, takes 0, no answer by UDP"},
		{"main", simulate.FaultLossy, "answers, refuses 1, takes 1, "},
		{"main", simulate.FaultSlow, "answers, refuses 1, takes 1, "},
		{"main", simulate.FaultGarbage, "faulty, refuses 0, takes 0, 3 packets came"},
		{"main", simulate.FaultSuite, "answers, refuses 2, takes 0, "},
		{
			"main",
			simulate.FaultNAT,
			"answers, gateway behind NAT, here behind NAT, refuses 1, takes 1, ",
		},
		{
			"main",
			simulate.FaultChoice,
			"faulty, refuses 0, takes 0, aes256-sha256-modp2048: it chose what was not offered",
		},
		{
			"main",
			simulate.FaultMidway,
			"answers, refuses 1, takes 1, it accepted a suite and then stopped responding, ",
		},
		{"aggressive", "", "no-response, refuses 0, takes 0, no answer by UDP"},
		{
			"aggressive",
			simulate.FaultAggressive,
			"answers, as norrvik.example, hash shown, refuses 0, takes 1, ",
		},
		{"l2tp", "", "no-response, no answer by UDP"},
		{"l2tp", simulate.FaultBare, "answers, host norrvik.example, "},
		{"l2tp", simulate.FaultGarbage, "faulty, 3 packets came"},
		{"pptp", "", "answers, host norrvik.example, "},
		{"pptp", simulate.FaultSilent, "no-response, no answer by TCP"},
		{
			"pptp",
			simulate.FaultClosed,
			"closed, nothing listens there, or the connection was closed at once",
		},
		{
			"pptp",
			simulate.FaultMidway,
			"faulty, host norrvik.example, it ends the connection mid-way",
		},
		{"pptp", simulate.FaultGarbage, "faulty, malformed PPTP message"},
		{"pptp", simulate.FaultSlow, "answers, host norrvik.example, "},
		{"pptp", simulate.FaultRealm, "answers, host pilots.other.example, "},
		{"sstp", "", "answers, CN=norrvik.example, TLS 1.3, "},
		{"sstp", simulate.FaultSilent, "no-response, no answer by TCP"},
		{"sstp", simulate.FaultClosed, "closed, nothing listens there"},
		{
			"sstp",
			simulate.FaultMidway,
			"faulty, CN=norrvik.example, TLS 1.3, it ends the connection mid-way",
		},
		{"sstp", simulate.FaultGarbage, "faulty, what answers there is not TLS"},
		{"sstp", simulate.FaultSlow, "answers, CN=norrvik.example, TLS 1.3, "},
		{"sstp", simulate.FaultCertificate, "answers, CN=pilots.other.example, TLS 1.3, "},
		{"sstp", simulate.FaultExpired, "answers, CN=norrvik.example, TLS 1.3, "},
		{"sstp", simulate.FaultOldTLS, "answers, CN=norrvik.example, TLS 1.0, takes 1.0, "},
		{
			"sstp",
			simulate.FaultRealm,
			`faulty, CN=norrvik.example, TLS 1.3, the web server there answers 401 in the place ` +
				`of SSTP and wants a sign-in: "Basic realm=\"pilots.other.example\""`,
		},
		{"tunnel", "", "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultSilent, "no-response, no answer by UDP"},
		{"tunnel", simulate.FaultKey, "no-response, no answer by UDP"},
		{"tunnel", simulate.FaultMidway, "faulty, after the reset: no answer"},
		{
			"tunnel",
			simulate.FaultGarbage,
			"faulty, 3 packets came that are not of this protocol, or not wrapped with this key",
		},
		{"tunnel", simulate.FaultNoise, "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultLossy, "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultCertificate, "answers, CN=pilots.other.example, TLS 1.3, "},
		{"tunnel", simulate.FaultExpired, "answers, CN=norrvik.example, TLS 1.3, "},
		{"tunnel", simulate.FaultOldTLS, "answers, CN=norrvik.example, TLS 1.0, "},
		{"tunnel by TCP", "", "answers, CN=norrvik.example, TLS 1.3, "},
		{
			"tunnel by TCP",
			simulate.FaultKey,
			"closed, nothing listens there, or the connection was closed at once",
		},
		{"tunnel by TCP", simulate.FaultMidway, "faulty, it ends the connection mid-way"},
		{"tunnel by TCP", simulate.FaultClosed, "closed, nothing listens there"},
		{"tunnel by TCP", simulate.FaultSilent, "no-response, no answer by TCP"},
	}
	var all sync.WaitGroup // most of the time they wait
	answers := make([]drift.Answer, len(tests))
	for i, test := range tests {
		g := simulator(t, &simulate.Gateway{
			Name:     "norrvik.example",
			Suites:   suites(t, asked[0], "aes256-sha256-modp2048"),
			Wrapping: theirs,
			Tunnel: []vpn.Remote{
				{Port: 1194, Transport: vpn.UDP},
				{Port: 443, Transport: vpn.TCP},
			},
		}, test.fault)
		all.Go(func() { answers[i] = methods[test.method](t, g) })
	}
	all.Wait()
	for i, test := range tests {
		t.Run(strings.TrimSuffix(test.method+" "+string(test.fault), " "), func(t *testing.T) {
			a := answers[i]
			if got := told(
				a,
			); !strings.HasPrefix(got, test.want) ||
				test.fault == "" && a.State == drift.Answered && got != test.want {
				t.Errorf("%s\nexpected %s", got, test.want)
			}
			if a.State == drift.Answered && a.Milliseconds <= 0 ||
				test.fault == simulate.FaultSlow && a.Milliseconds < 900 ||
				a.Packets == 0 ||
				a.Packets > 60 {
				t.Errorf("%.1f ms, %d packets", a.Milliseconds, a.Packets)
			}
		})
	}
}

// TestAll asks a gateway of all protocols everything at once, by IPv6 and IPv4: its addresses
// together get four packets a second, and what there is no time for is unprobed, not silent.
func TestAll(t *testing.T) {
	t.Parallel()
	var list []drift.Question
	for _, bind := range []string{"::1", "127.0.0.6"} {
		at := netip.MustParseAddr(bind)
		stand := simulator(t, &simulate.Gateway{Name: "norrvik.example", Bind: at})
		ports := map[string]int{}
		for from, to := range stand.Ports() {
			ports[strconv.Itoa(from)] = to
		}
		list = append(
			list,
			drift.Questions(
				&vpn.Gateway{
					Address: "norrvik.example",
					ProbeAt: &vpn.ProbeAt{Ports: ports},
					Offers: vpn.Offers{
						IKEv2: &vpn.IKEv2Offer{
							IKE: asked[:1],
						},
						L2TP: &vpn.L2TPOffer{IKE: []string{"aes256-sha256-modp2048"}},
						PPTP: &vpn.PPTPOffer{},
						SSTP: &vpn.SSTPOffer{},
						TLS: &vpn.TLSOffer{
							Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
						},
					},
				},
				[]netip.Addr{at},
				nil,
			)...)
	}
	begin, packets := time.Now(), 0
	for _, a := range probe.New().All(t.Context(), list) {
		packets += a.Packets
		unwanted := a.Method == drift.MethodAggressive || a.Method == drift.MethodBareL2TP
		if a.State != drift.Answered && !unwanted || a.State != drift.Silent && unwanted {
			t.Errorf("%s at %s: %s", a.Method, a.Address, told(a))
		}
	}
	if took, least := time.Since(
		begin,
	), time.Duration(
		packets-1,
	)*time.Second/4; packets < 30 ||
		took < least {
		t.Errorf("%d packets in %v, expected no more than four a second", packets, took)
	}
	ctx, stop := context.WithTimeout(t.Context(), 600*time.Millisecond)
	defer stop()
	answers := probe.New().All(ctx, list)
	for _, a := range answers {
		if a.State == drift.Silent {
			t.Errorf(
				"%s at %s: %s, although there was no time to ask",
				a.Method,
				a.Address,
				told(a),
			)
		}
	}
	if last := answers[len(answers)-1]; last.State != drift.Unprobed || last.Fault == "" {
		t.Errorf("%s", told(last))
	}
}

// TestNobody asks where nobody listens: the system itself says so.
func TestNobody(t *testing.T) {
	t.Parallel()
	g := &simulate.Gateway{}
	if err := g.Start(); err != nil {
		t.Fatal(err)
	}
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	for _, a := range []drift.Answer{
		probe.New().IKEv2(t.Context(), g.At(500), false,
			suites(t, asked...)), probe.New().PPTP(t.Context(), g.At(1723)),
		probe.New().SSTP(t.Context(), g.At(443), ""),
		probe.New().Tunnel(t.Context(), g.At(1194), vpn.UDP, tlstunnel.Wrapping{}, ""),
	} {
		if a.State != drift.Closed || a.Fault == "" {
			t.Errorf("%s: %+v", a.Method, a)
		}
	}
}

// TestDocument holds that the document's table of verdicts has a row for each fault of a simulator.
func TestDocument(t *testing.T) {
	text, err := os.ReadFile("../docs/probing.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range simulate.Faults {
		if !strings.Contains(string(text), "\n| `"+string(f)+"` |") {
			t.Errorf("docs/probing.md has no verdict for the fault %s", f)
		}
	}
}
