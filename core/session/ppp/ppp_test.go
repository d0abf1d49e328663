package ppp_test

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wardicon/core/session/eap"
	session "wardicon/core/session/ppp"
	"wardicon/core/suite"
)

type noise struct{ *rand.Rand }

func (n noise) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(n.Uint32())
	}
	return len(b), nil
}

// pair joins a client and a gateway by a line that may lose frames, until both are done.
func pair(t *testing.T, client, gateway session.Config, lose float64) (c, g *session.Link) {
	t.Helper()
	random := noise{rand.New(rand.NewPCG(1, 2))}
	client.Random, gateway.Random, gateway.Gateway = random, random, true
	gateway.Address, gateway.Peer, gateway.DNS = netip.MustParseAddr(
		"10.20.0.1",
	), netip.MustParseAddr(
		"10.20.0.9",
	), []netip.Addr{
		netip.MustParseAddr("10.20.0.53"), netip.MustParseAddr("10.20.0.54"),
	}
	c, err := session.New(client)
	if err != nil {
		t.Fatal(err)
	}
	if g, err = session.New(gateway); err != nil {
		t.Fatal(err)
	}
	for range 400 {
		for _, way := range [][2]*session.Link{{c, g}, {g, c}} {
			for _, frame := range way[0].Take() {
				if random.Float64() >= lose {
					way[1].Receive(frame)
				}
			}
		}
		if c.Phase == session.Open && g.Phase == session.Open || c.Phase == session.Ended ||
			g.Phase == session.Ended && lose == 0 {
			break
		}
		if lose > 0 {
			c.Again()
			g.Again()
		}
	}
	return c, g
}

// TestLink joins the two ends by every method, with right and wrong passwords.
func TestLink(t *testing.T) {
	lookup := func(login string) (string, bool) {
		return map[string]string{"a_fjell": "Wonder-Land 1"}[login], login == "a_fjell"
	}
	all := []suite.PPPMethod{suite.MSCHAPv2, suite.CHAP, suite.PAP}
	for _, test := range []struct {
		name            string
		client, gateway []suite.PPPMethod
		password        string
		lose            float64
		method          suite.PPPMethod
		reason          string
	}{
		{"the strongest", all, all, "Wonder-Land 1", 0, suite.MSCHAPv2, ""},
		{"CHAP alone here", []suite.PPPMethod{suite.CHAP}, all, "Wonder-Land 1", 0, suite.CHAP, ""},
		{"PAP alone there", all, []suite.PPPMethod{suite.PAP}, "Wonder-Land 1", 0, suite.PAP, ""},
		{"a line that loses", all, all, "Wonder-Land 1", 0.2, suite.MSCHAPv2, ""},
		{"wrong password", all, all, "Wonderland 1", 0, "", "E=691"},
		{"wrong password by CHAP", all, []suite.PPPMethod{suite.CHAP}, "x", 0, "", "refuses"},
		{"wrong password by PAP", all, []suite.PPPMethod{suite.PAP}, "x", 0, "", "by PAP"},
		{"EAP", []suite.PPPMethod{suite.EAP}, []suite.PPPMethod{suite.EAP}, "Wonder-Land 1", 0,
			suite.EAP, ""},
		{"EAP that loses", []suite.PPPMethod{suite.EAP}, []suite.PPPMethod{suite.EAP},
			"Wonder-Land 1", 0.1, suite.EAP, ""},
		{"wrong password by EAP", []suite.PPPMethod{suite.EAP}, []suite.PPPMethod{suite.EAP}, "x", 0,
			"", "E=691"},
		{"nothing in common", []suite.PPPMethod{suite.CHAP}, []suite.PPPMethod{suite.PAP},
			"Wonder-Land 1", 0, "", "hung up"},
	} {
		t.Run(test.name, func(t *testing.T) {
			c, g := pair(
				t,
				session.Config{
					Login: "a_fjell", Password: test.password, Methods: test.client,
					EAP: mschap("a_fjell", test.password, noise{rand.New(rand.NewPCG(5, 6))}),
				},
				session.Config{
					Lookup: lookup, Methods: test.gateway, Server: &eap.Server{
						Lookup: lookup, Random: noise{rand.New(rand.NewPCG(7, 8))},
					},
				},
				test.lose,
			)
			if test.reason != "" {
				if c.Phase != session.Ended || !strings.Contains(c.Reason, test.reason) {
					t.Errorf(
						"client is %s: %q, expected the end: %q",
						c.Phase,
						c.Reason,
						test.reason,
					)
				}
				return
			}
			if c.Phase != session.Open || g.Phase != session.Open || c.Method != test.method ||
				g.Method != test.method {
				t.Fatalf(
					"client %s by %s (%s), gateway %s by %s (%s)",
					c.Phase,
					c.Method,
					c.Reason,
					g.Phase,
					g.Method,
					g.Reason,
				)
			}
			if c.Local != g.Peer || c.Remote != g.Address || !slices.Equal(c.Servers, g.DNS) ||
				g.Login != "a_fjell" {
				t.Errorf("client %+v, gateway %+v", c, g)
			}
			if got := g.Receive(c.Packet([]byte{0x45, 1, 2})); len(got) != 3 {
				t.Errorf("a packet arrives as %x", got)
			}
		})
	}
}

func mschap(login, password string, random noise) *eap.Conversation {
	return &eap.Conversation{Name: login, Method: &eap.MSCHAP{
		Login: login, Password: password, Random: random,
	}}
}

// TestEncryption agrees on MPPE by the strengths of both ends, with keys of MS-CHAPv2 and of EAP,
// on lines that lose frames; packets go both ways, and none in clear. Where nothing is shared, or
// the sign-in makes no keys, the link ends.
func TestEncryption(t *testing.T) {
	lookup := func(login string) (string, bool) { return "Wonder-Land 1", login == "a_fjell" }
	type list = []suite.MPPE
	for _, test := range []struct {
		name            string
		client, gateway list
		stateful        [2]bool
		method          suite.PPPMethod
		lose            float64
		strength        string
	}{
		{"the strongest", list{"128", "56", "40"}, list{"128", "40"}, [2]bool{}, "mschapv2", 0, "128"},
		{"weaker here", list{"40"}, list{"128", "40"}, [2]bool{}, "mschapv2", 0, "40"},
		{"weaker there", list{"128", "56"}, list{"56"}, [2]bool{}, "mschapv2", 0, "56"},
		{"stateful", list{"128"}, list{"128"}, [2]bool{true, true}, "mschapv2", 0, "128"},
		{"stateful here", list{"128"}, list{"128"}, [2]bool{true, false}, "mschapv2", 0, "128"},
		{"stateful there", list{"128"}, list{"128"}, [2]bool{false, true}, "mschapv2", 0, "128"},
		{"losing", list{"128"}, list{"128"}, [2]bool{}, "mschapv2", 0.2, "128"},
		{"by EAP", list{"128"}, list{"128"}, [2]bool{}, "eap", 0, "128"},
		{"nothing shared", list{"128"}, list{"40"}, [2]bool{}, "mschapv2", 0, ""},
		{"none there", list{"128"}, nil, [2]bool{}, "mschapv2", 0, ""},
		{"no keys", list{"128"}, list{"128"}, [2]bool{}, "chap", 0, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			random := noise{rand.New(rand.NewPCG(3, 4))}
			methods := []suite.PPPMethod{test.method}
			c, g := pair(t, session.Config{
				Login: "a_fjell", Password: "Wonder-Land 1", Methods: methods, MPPE: test.client,
				Stateful: test.stateful[0], EAP: mschap("a_fjell", "Wonder-Land 1", random),
			}, session.Config{
				Lookup: lookup, Methods: methods, MPPE: test.gateway, Stateful: test.stateful[1],
				Server: &eap.Server{Lookup: lookup, Random: random},
			}, test.lose)
			if test.strength == "" {
				if c.Phase != session.Ended || !strings.Contains(c.Reason, "MPPE") {
					t.Errorf("client is %s: %q", c.Phase, c.Reason)
				}
				return
			}
			if c.Phase != session.Open || g.Phase != session.Open || c.Strength != g.Strength ||
				!strings.Contains(c.Strength, test.strength) {
				t.Fatalf("client %s %q (%s), gateway %s %q (%s)", c.Phase, c.Strength, c.Reason,
					g.Phase, g.Strength, g.Reason)
			}
			packet := []byte("E the timetable of the harbour")
			for range 600 {
				for _, way := range [][2]*session.Link{{c, g}, {g, c}} {
					frame := way[0].Packet(packet)
					if bytes.Contains(frame, packet[1:9]) {
						t.Fatal("a packet in clear")
					}
					if got := way[1].Receive(frame); !bytes.Equal(got, packet) {
						t.Fatalf("a packet arrives as %q", got)
					}
				}
			}
			if got := g.Receive(append([]byte{0xFF, 3, 0, 0x21}, packet...)); got != nil {
				t.Error("a packet in clear is taken")
			}
		})
	}
}

// TestIPv6 agrees on IPv6 beside IPv4 where both ends have it, encrypted or not, and on lines that
// lose; where one has none the link is open without.
func TestIPv6(t *testing.T) {
	lookup := func(login string) (string, bool) { return "Wonder-Land 1", login == "a_fjell" }
	methods := []suite.PPPMethod{suite.MSCHAPv2}
	for _, test := range []struct {
		name            string
		client, gateway bool
		mppe            []suite.MPPE
		lose            float64
	}{
		{"both", true, true, nil, 0},
		{"both, encrypted", true, true, []suite.MPPE{"128"}, 0},
		{"none there", true, false, nil, 0},
		{"none here", false, true, nil, 0},
		{"both, losing", true, true, nil, 0.2},
	} {
		c, g := pair(t, session.Config{
			Login: "a_fjell", Password: "Wonder-Land 1", Methods: methods, IPv6: test.client,
			MPPE: test.mppe,
		}, session.Config{
			Lookup: lookup, Methods: methods, IPv6: test.gateway, MPPE: test.mppe,
		}, test.lose)
		for range 3 { // what comes behind IPv4
			for _, way := range [][2]*session.Link{{c, g}, {g, c}} {
				for _, frame := range way[0].Take() {
					way[1].Receive(frame)
				}
			}
		}
		want := test.client && test.gateway
		a, b := c.Local6(), g.Local6()
		if c.Phase != session.Open || g.Phase != session.Open {
			t.Fatalf("%s: client %s, gateway %s", test.name, c.Phase, g.Phase)
		}
		if test.lose == 0 && (a.IsValid() != want || b.IsValid() != want || want && a == b) {
			t.Errorf("%s: client %s, gateway %s", test.name, a, b)
		}
		if want && (!a.IsLinkLocalUnicast() || c.Address6(netip.MustParsePrefix("fd00::/64")) ==
			netip.MustParseAddr("fd00::")) {
			t.Errorf("%s: client has %s", test.name, a)
		}
	}
}

// TestImpostor is a gateway that knows no password and says success all the same.
func TestImpostor(t *testing.T) {
	lookup := func(string) (string, bool) { return "anything", true }
	c, _ := pair(
		t,
		session.Config{
			Login:    "a_fjell",
			Password: "Wonder-Land 1",
			Methods:  []suite.PPPMethod{suite.MSCHAPv2},
		},
		session.Config{Lookup: lookup, Methods: []suite.PPPMethod{suite.MSCHAPv2}},
		0,
	)
	if c.Phase != session.Ended {
		t.Errorf("client is %s", c.Phase)
	}
	random := noise{rand.New(rand.NewPCG(1, 2))}
	c, err := session.New(
		session.Config{
			Login:    "a_fjell",
			Password: "Wonder-Land 1",
			Methods:  []suite.PPPMethod{suite.MSCHAPv2},
			Random:   random,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	g, err := session.New(
		session.Config{
			Gateway: true,
			Lookup:  lookup,
			Methods: []suite.PPPMethod{suite.MSCHAPv2},
			Random:  random,
			Address: netip.MustParseAddr("10.20.0.1"),
			Peer:    netip.MustParseAddr("10.20.0.9"),
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	for range 10 {
		for _, f := range g.Take() {
			c.Receive(f)
		}
		for _, f := range c.Take() {
			g.Receive(f)
		}
		if c.Phase == session.Authenticate {
			c.Receive(
				append(
					[]byte{0xFF, 0x03, 0xC2, 0x23, 3, 1, 0, 46},
					"S=0000000000000000000000000000000000000000"...),
			)
		}
	}
	if c.Phase != session.Ended || !strings.Contains(c.Reason, "proof is wrong") {
		t.Errorf("client is %s: %s", c.Phase, c.Reason)
	}
}

func FuzzReceive(f *testing.F) {
	f.Add([]byte{0xFF, 0x03, 0xC0, 0x21, 1, 1, 0, 9, 3, 5, 0xC2, 0x23, 0x81}, true)
	f.Fuzz(func(t *testing.T, b []byte, gateway bool) {
		l, err := session.New(session.Config{
			Gateway:  gateway,
			Login:    "a",
			Password: "b",
			Methods:  []suite.PPPMethod{suite.MSCHAPv2, suite.EAP, suite.PAP},
			Random:   noise{rand.New(rand.NewPCG(1, 2))},
			Lookup:   func(string) (string, bool) { return "b", true },
			MPPE:     []suite.MPPE{"128", "40"},
			IPv6:     true,
			EAP:      mschap("a", "b", noise{rand.New(rand.NewPCG(1, 2))}),
			Server: &eap.Server{
				Lookup: func(string) (string, bool) { return "b", true },
				Random: noise{rand.New(rand.NewPCG(1, 2))},
			},
			Address: netip.MustParseAddr("10.0.0.1"),
			Peer:    netip.MustParseAddr("10.0.0.2"),
		})
		if err != nil {
			t.Fatal(err)
		}
		for len(b) > 4 {
			n := min(len(b), 4+int(b[0])%64)
			l.Receive(b[:n])
			b = b[n:]
		}
		if len(l.Take()) > 600 {
			t.Fatal("it says more than it was told")
		}
	})
}
