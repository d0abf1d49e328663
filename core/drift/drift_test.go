package drift_test

import (
	"crypto/rand"
	"crypto/x509"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/drift"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

var now = time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC)

// shown issues a certificate under an authority, which is given too, both in PEM.
func shown(t *testing.T, name string, end time.Time) (leaf, authority string) {
	t.Helper()
	issue := func(by pki.Issuer, key pki.KeyChoice, w pki.Wanted) (*x509.Certificate, pki.Issuer) {
		made, err := pki.NewKey(rand.Reader, key)
		if err != nil {
			t.Fatal(err)
		}
		if by.Key == nil {
			by.Key = made
		}
		c, err := pki.Issue(rand.Reader, by, made.Public(), w)
		if err != nil {
			t.Fatal(err)
		}
		return c, pki.Issuer{Certificate: c, Key: made}
	}
	root, issuer := issue(
		pki.Issuer{},
		pki.P256,
		pki.Wanted{
			Name:    "Skerry Line Authority",
			Usage:   pki.ForAuthority,
			From:    now.AddDate(-2, 0, 0),
			To:      now.AddDate(5, 0, 0),
			MaxPath: -1,
		},
	)
	c, _ := issue(
		issuer,
		pki.P256,
		pki.Wanted{
			Name:    name,
			Usage:   pki.ForServer,
			Names:   []string{name},
			From:    end.AddDate(-1, 0, 0),
			To:      end,
			MaxPath: -1,
		},
	)
	return pki.Bundle(c), pki.Bundle(root)
}

func gateway(authority string) *vpn.Gateway {
	return &vpn.Gateway{
		Name:      "Norrvik",
		Address:   "norrvik.example",
		Addresses: []string{"198.51.100.7"},
		Offers: vpn.Offers{
			IKEv2: &vpn.IKEv2Offer{
				IKE: []string{"aes256-sha256-ecp256", "aes256-sha256-modp2048"},
			},
			L2TP: &vpn.L2TPOffer{IKE: []string{"aes256-sha1-modp2048"}},
			SSTP: &vpn.SSTPOffer{
				Authority: authority,
			},
			TLS: &vpn.TLSOffer{
				Authority:  authority,
				TLSOptions: vpn.TLSOptions{ServerName: "norrvik.example"},
				Remotes:    []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
			},
			PPTP: &vpn.PPTPOffer{},
		},
	}
}

func ike(method string, taken, refused []string) drift.Answer {
	p := map[string]vpn.Protocol{drift.MethodIKEv2: vpn.IKEv2}[method]
	if p == "" {
		p = vpn.L2TP
	}
	return drift.Answer{
		Protocol:     p,
		Method:       method,
		Transport:    vpn.UDP,
		Address:      "198.51.100.7:500",
		Port:         500,
		State:        drift.Answered,
		Milliseconds: 3,
		IKE:          &drift.IKE{Taken: taken, Refused: refused, Fragmentation: true},
	}
}

// pool has the certificates of a text.
func pool(t *testing.T, text string) *x509.CertPool {
	t.Helper()
	p := x509.NewCertPool()
	if !p.AppendCertsFromPEM([]byte(text)) {
		t.Fatal("no certificate")
	}
	return p
}

// TestCompare holds each difference to what leads to it, and what the record becomes when it takes
// it over.
func TestCompare(t *testing.T) {
	leaf, authority := shown(t, "norrvik.example", now.AddDate(1, 0, 0))
	ended, endedBy := shown(t, "norrvik.example", now.AddDate(0, 0, -1))
	ends, expiresBy := shown(t, "norrvik.example", now.AddDate(0, 0, 5))
	_, other := shown(t, "norrvik.example", now.AddDate(1, 0, 0))
	named, namedBy := shown(t, "pilots.example", now.AddDate(1, 0, 0))
	sstp := func(certificate, version, old string) drift.Answer {
		return drift.Answer{
			Protocol:     vpn.SSTP,
			Method:       drift.MethodSSTP,
			Transport:    vpn.TCP,
			Address:      "198.51.100.7:443",
			Port:         443,
			State:        drift.Answered,
			Milliseconds: 9,
			TLS:          &drift.TLS{Version: version, Old: old, Certificate: certificate},
		}
	}
	good := []string{"aes256-sha256-ecp256", "aes256-sha256-modp2048"}
	state := func(method string, p vpn.Protocol, s drift.AnswerState, ms float64) drift.Answer {
		return drift.Answer{
			Protocol:     p,
			Method:       method,
			Transport:    vpn.TCP,
			Address:      "198.51.100.7:1723",
			Port:         1723,
			State:        s,
			Milliseconds: ms,
			Fault:        "as it was",
		}
	}
	aggressive := ike(drift.MethodAggressive, nil, nil)
	aggressive.IKE.HashShown, aggressive.IKE.Identity = true, "pilots.example"
	nat := ike(drift.MethodIKEv2, good, nil)
	nat.IKE.NATKnown, nat.IKE.GatewayBehindNAT = true, true
	whole := ike(drift.MethodIKEv2, good, nil)
	whole.IKE.Fragmentation = false
	redirect := ike(drift.MethodIKEv2, nil, nil)
	redirect.IKE.Redirect = "harbour.example"
	for name, test := range map[string]struct {
		authority string
		change    func(*vpn.Gateway)
		names     []drift.Resolved
		public    *x509.CertPool
		answer    drift.Answer
		want      string // codes
		taken     func(*vpn.Gateway) bool
	}{
		"as on record": {answer: ike(drift.MethodIKEv2, good, nil)},
		"one refused": {
			answer: ike(drift.MethodIKEv2, good[:1], good[1:]),
			want:   "suite-refused",
			taken: func(g *vpn.Gateway) bool {
				return slices.Equal(g.Offers.IKEv2.IKE, good[:1])
			},
		},
		"all refused": {answer: ike(drift.MethodIKEv2, nil, good), want: "suite-none"},
		"only another": {
			answer: ike(drift.MethodIKEv2, []string{"aes256-sha384-ecp384"},
				good),
			want: "suite-none",
			taken: func(g *vpn.Gateway) bool {
				return slices.Equal(g.Offers.IKEv2.IKE, []string{"aes256-sha384-ecp384"})
			},
		},
		"more and weak": {
			answer: ike(drift.MethodIKEv2,
				append(slices.Clone(good), "3des-sha1-modp1024",
					"aes256-sha384-ecp384"), nil),
			want:  "suite-weak suite-unlisted",
			taken: func(g *vpn.Gateway) bool { return len(g.Offers.IKEv2.IKE) == 3 },
		},
		"not asked": {answer: ike(drift.MethodIKEv2, nil, nil)},
		"main mode": {
			answer: ike(drift.MethodMain, []string{"aes256-sha256-modp2048"},
				[]string{"aes256-sha1-modp2048"}),
			want: "suite-none",
			taken: func(g *vpn.Gateway) bool {
				return slices.Equal(g.Offers.L2TP.IKE,
					[]string{"aes256-sha256-modp2048"})
			},
		},
		"behind NAT": {
			answer: nat,
			want:   "nat-differs",
			taken:  func(g *vpn.Gateway) bool { return g.BehindNAT },
		},
		"no fragments": {
			answer: whole,
			want:   "fragmentation-differs",
			taken:  func(g *vpn.Gateway) bool { return g.Offers.IKEv2.NoFragmentation },
		},
		"redirect":           {answer: redirect, want: "redirected"},
		"aggressive":         {answer: aggressive, want: "aggressive-answered identity-other"},
		"aggressive, silent": {answer: state(drift.MethodAggressive, vpn.L2TP, drift.Silent, 0)},
		"bare": {
			answer: state(drift.MethodBareL2TP, vpn.L2TP, drift.Answered, 2),
			want:   "l2tp-bare",
		},
		"bare, silent": {answer: state(drift.MethodBareL2TP, vpn.L2TP, drift.Silent, 0)},
		"silent": {
			answer: state(drift.MethodPPTP, vpn.PPTP, drift.Silent, 0),
			want:   "no-answer",
		},
		"closed": {
			answer: state(drift.MethodPPTP, vpn.PPTP, drift.Closed, 0),
			want:   "no-answer",
		},
		"something else": {
			answer: state(drift.MethodPPTP, vpn.PPTP, drift.Faulty, 2),
			want:   "not-the-protocol",
		},
		"no way there": {answer: state(drift.MethodPPTP, vpn.PPTP, drift.Unprobed, 0)},
		"slow": {
			answer: state(drift.MethodPPTP, vpn.PPTP, drift.Answered, 1500),
			want:   "slow",
		},
		"by a private one": {
			public: pool(t, other),
			answer: sstp(leaf, "1.3", ""),
			want:   "chain-private",
		},
		"by a public one": {public: pool(t, authority), answer: sstp(leaf, "1.3", "")},
		"ended, public": {
			public: pool(t, endedBy),
			answer: sstp(ended, "1.3", ""),
			want:   "certificate-expired",
		},
		"certificate": {authority: authority, answer: sstp(leaf, "1.3", "")},
		"another authority": {
			authority: other,
			answer:    sstp(leaf, "1.3", ""),
			want:      "chain-broken",
		},
		"another name": {
			authority: namedBy,
			answer:    sstp(named, "1.3", ""),
			want:      "certificate-name",
		},
		"ended": {
			authority: endedBy,
			answer:    sstp(ended, "1.3", ""),
			want:      "certificate-expired",
		},
		"ends soon": {
			authority: expiresBy,
			answer:    sstp(ends, "1.2", ""),
			want:      "certificate-expiring",
		},
		"old TLS": {
			authority: authority,
			answer:    sstp(leaf, "1.0", "1.0"),
			want:      "tls-old",
		},
		"takes old TLS": {
			authority: authority,
			answer:    sstp(leaf, "1.3", "1.1"),
			want:      "tls-old-too",
		},
		"another certificate": {
			authority: authority,
			change:    func(g *vpn.Gateway) { g.Certificate = ends },
			answer: sstp(leaf, "1.3",
				""),
			want: "certificate-other",
			taken: func(g *vpn.Gateway) bool {
				return g.Certificate == leaf
			},
		},
		"another, of nobody": {
			authority: other,
			change:    func(g *vpn.Gateway) { g.Certificate = ends },
			answer: sstp(leaf, "1.3",
				""),
			want: "chain-broken certificate-other",
		},
		"name missing": {
			names: []drift.Resolved{{Name: "norrvik.example", Missing: true}},
			want:  "name-missing",
		},
		"name server down": {
			names: []drift.Resolved{{Name: "norrvik.example", Fault: "no answer"}},
			want:  "name-missing",
		},
		"name elsewhere": {
			names: []drift.Resolved{{
				Name:      "norrvik.example",
				Addresses: []string{"198.51.100.8"},
			}},
			want: "name-elsewhere",
			taken: func(g *vpn.Gateway) bool {
				return slices.Equal(g.Addresses,
					[]string{"198.51.100.8"})
			},
		},
		"name, dynamic": {
			change: func(g *vpn.Gateway) { g.Dynamic = true },
			names: []drift.Resolved{{
				Name:      "norrvik.example",
				Addresses: []string{"198.51.100.8"},
			}},
		},
	} {
		g := gateway(test.authority)
		if test.change != nil {
			test.change(g)
		}
		p := drift.Probe{Names: test.names}
		if test.answer.Method != "" {
			p.Answers = []drift.Answer{test.answer}
		}
		p.Differences = drift.Compare(g, p, now, test.public)
		var codes []string
		var which []int
		for i, d := range p.Differences {
			if codes = append(codes, d.Code); d.Take {
				which = append(which, i)
			}
			if d.Text == "" || d.Fix == "" || d.Severity == "" {
				t.Errorf("%s: %+v", name, d)
			}
		}
		if strings.Join(codes, " ") != test.want || (len(which) > 0) != (test.taken != nil) {
			t.Errorf("%s: %v, %d to take over; expected %s", name, codes, len(which), test.want)
			continue
		}
		if err := drift.Take(g, p, which); err != nil || test.taken != nil && !test.taken(g) {
			t.Errorf("%s: taken over as %+v (%v)", name, g, err)
		}
		if err := drift.Take(g, p, []int{len(p.Differences)}); err == nil {
			t.Errorf("%s: a difference that is not there was taken over", name)
		}
	}
}

// TestQuestions holds what a gateway is asked for: everything on record, where the service asks it,
// and nothing else.
func TestQuestions(t *testing.T) {
	g := gateway("")
	key := secret.New("no key")
	g.Offers.TLS.ControlKey = &vpn.ControlKey{Kind: vpn.ControlCrypt, Key: &key}
	g.Offers.TLS.Remotes = append(
		g.Offers.TLS.Remotes,
		vpn.Remote{Address: "spare.example", Port: 443, Transport: vpn.TCP},
	)
	spare := map[string][]netip.Addr{"spare.example": {netip.MustParseAddr("198.51.100.9")}}
	told := func(list []drift.Question) (out []string) {
		for _, q := range list {
			out = append(out, q.Method+" "+q.At.String()+" "+string(q.Transport))
		}
		return out
	}
	addresses := drift.Addresses(
		g,
		[]netip.Addr{
			netip.MustParseAddr("2001:db8::7"),
			netip.MustParseAddr("::ffff:198.51.100.7"),
		},
	)
	if got := len(addresses); got != 2 {
		t.Fatalf("%v", addresses)
	}
	list := drift.Questions(g, addresses[1:], spare)
	want := []string{
		"IKEv2 198.51.100.7:500 udp",
		"IKEv2 198.51.100.7:4500 udp",
		"IKEv1 main mode 198.51.100.7:500 udp",
		"IKEv1 aggressive mode 198.51.100.7:500 udp",
		"L2TP without IPsec 198.51.100.7:1701 udp",
		"PPTP control channel 198.51.100.7:1723 tcp",
		"SSTP 198.51.100.7:443 tcp",
		"TLS tunnel 198.51.100.7:1194 udp",
		"TLS tunnel 198.51.100.9:443 tcp",
	}
	if got := told(list); !slices.Equal(got, want) {
		t.Errorf("%q\nexpected %q", got, want)
	}
	if last := list[len(list)-1]; last.Untold == "" || last.Protocol() != vpn.TLS {
		t.Errorf("a key that is none is used: %+v", last)
	}
	g.ProbeAt = &vpn.ProbeAt{Address: "127.0.0.1", Ports: map[string]int{"500": 20500}}
	g.Offers = vpn.Offers{L2TP: g.Offers.L2TP}
	for _, q := range drift.Questions(g, drift.Addresses(g, addresses), nil) {
		if q.At.Addr().String() != "127.0.0.1" || q.Port == 500 && q.At.Port() != 20500 ||
			q.Port == 4500 && q.At.Port() != 4500 {
			t.Errorf("%+v", q)
		}
		if slices.ContainsFunc(q.More, func(s suite.Proposal) bool { return s.Integrity == "" }) {
			t.Errorf("IKEv1 is asked for what it cannot say: %v", q.More)
		}
	}
}
