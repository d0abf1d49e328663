package drift

import (
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"wardicon/core/pki"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Codes of differences.
const (
	NameMissing         = "name-missing"
	NameElsewhere       = "name-elsewhere"
	NoAnswer            = "no-answer"
	NotTheProtocol      = "not-the-protocol"
	Slow                = "slow"
	SuiteRefused        = "suite-refused"
	SuiteNone           = "suite-none"
	SuiteUnlisted       = "suite-unlisted"
	SuiteWeak           = "suite-weak"
	NATDiffers          = "nat-differs"
	NoFragments         = "fragmentation-differs"
	Redirected          = "redirected"
	AggressiveAnswered  = "aggressive-answered"
	IdentityOther       = "identity-other"
	BareL2TP            = "l2tp-bare"
	ChainBroken         = "chain-broken"
	ChainPrivate        = "chain-private"
	CertificateName     = "certificate-name"
	CertificateExpired  = "certificate-expired"
	CertificateExpiring = "certificate-expiring"
	CertificateOther    = "certificate-other"
	TLSOld              = "tls-old"
	TLSOldToo           = "tls-old-too"
)

const (
	slowAnswer  = 1000 // milliseconds
	expiresSoon = 21 * 24 * time.Hour
)

// comparison collects differences.
type comparison struct {
	g      *vpn.Gateway
	now    time.Time
	public *x509.CertPool
	out    []Difference
}

// Compare says where a probe is not as the gateway's record says, and what should not be. Public
// are the authorities that devices know by themselves; nil where that is not known.
func Compare(g *vpn.Gateway, p Probe, now time.Time, public *x509.CertPool) []Difference {
	c := &comparison{g: g, now: now, public: public, out: []Difference{}}
	for _, n := range p.Names {
		c.name(n)
	}
	for _, a := range p.Answers {
		c.answer(a)
	}
	return c.out
}

func (c *comparison) say(d Difference) { c.out = append(c.out, d) }

func (c *comparison) name(n Resolved) {
	record := strings.Join(c.g.Addresses, ", ")
	switch {
	case n.Missing:
		c.say(
			Difference{
				Code:     NameMissing,
				Severity: vpn.Error,
				Address:  n.Name,
				Record:   record,
				Seen:     "no address",
				Text:     fmt.Sprintf("the name %s does not resolve", n.Name),
				Fix:      "Add the name to DNS, or correct it in the record.",
			},
		)
	case n.Fault != "":
		c.say(
			Difference{
				Code:     NameMissing,
				Severity: vpn.Warning,
				Address:  n.Name,
				Record:   record,
				Seen:     n.Fault,
				Text:     fmt.Sprintf("the query for %s was not answered: %s", n.Name, n.Fault),
				Fix:      "Check the name server.",
			},
		)
	case n.Name != c.g.Address || c.g.Dynamic || len(c.g.Addresses) == 0:
	default:
		seen := slices.Sorted(slices.Values(n.Addresses))
		if !slices.Equal(seen, slices.Sorted(slices.Values(c.g.Addresses))) {
			d := Difference{
				Code:     NameElsewhere,
				Severity: vpn.Warning,
				Address:  n.Name,
				Record:   record,
				Seen:     strings.Join(seen, ", "),
				Take:     true,
				Fix:      "Correct DNS, or accept the addresses into the record.",
			}
			d.Text = fmt.Sprintf(
				"the name %s resolves to %s, the record has %s",
				n.Name,
				d.Seen,
				record,
			)
			c.say(d)
		}
	}
}

// about begins a difference about an answer.
func about(a Answer, code string, severity vpn.Severity, format string, args ...any) Difference {
	return Difference{
		Code:     code,
		Severity: severity,
		Protocol: a.Protocol,
		Address:  a.Address,
		Text:     a.Address + ": " + fmt.Sprintf(format, args...),
	}
}

func (c *comparison) answer(a Answer) {
	unwanted := a.Method == MethodBareL2TP ||
		a.Method == MethodAggressive && !c.g.Offers.L2TP.Aggressive
	switch {
	case a.State == Unprobed:
		return
	case unwanted && a.State != Answered:
		return
	case a.State == Silent || a.State == Closed:
		d := about(a, NoAnswer, vpn.Warning, "%s", a.Fault)
		d.Record, d.Seen, d.Fix = a.Method, a.Fault, wayTo(a)
		c.say(d)
		return
	case a.State == Faulty:
		d := about(a, NotTheProtocol, vpn.Warning, "%s", a.Fault)
		d.Record, d.Seen, d.Fix = a.Method, a.Fault, "Check what listens on that port, and what "+
			"is in front of it."
		c.say(d)
	case a.Milliseconds > slowAnswer:
		d := about(a, Slow, vpn.Note, "%s takes %.0f ms to respond", a.Method, a.Milliseconds)
		d.Record, d.Seen, d.Fix = "", fmt.Sprintf(
			"%.0f ms",
			a.Milliseconds,
		), "Check the load of the gateway and the path to it."
		c.say(d)
	}
	switch a.Method {
	case MethodBareL2TP:
		d := about(
			a,
			BareL2TP,
			vpn.Warning,
			"accepts L2TP without IPsec: people can sign in unprotected",
		)
		d.Record, d.Seen, d.Fix =
			"L2TP over IPsec", "L2TP without IPsec", "Accept UDP 1701 only inside IPsec in the "+
				"gateway's packet filter."
		c.say(d)
	case MethodAggressive:
		c.aggressive(a)
	}
	if a.IKE != nil && a.Method != MethodAggressive {
		c.ike(a)
	}
	if a.TLS != nil {
		c.tls(a)
	}
}

// wayTo says what to look at where nothing answers.
func wayTo(a Answer) string {
	way := fmt.Sprintf(
		"Check that the gateway runs and that firewalls allow %s %d.",
		strings.ToUpper(string(a.Transport)),
		a.Port,
	)
	if a.Method == MethodTunnel && a.Transport == vpn.UDP {
		way += " A wrong control-channel key looks the same: compare it."
	}
	return way
}

func (c *comparison) aggressive(a Answer) {
	if a.IKE.HashShown {
		d := about(
			a,
			AggressiveAnswered,
			vpn.Warning,
			"accepts aggressive mode, with a hash that allows offline guessing of the pre-shared "+
				"key",
		)
		d.Record, d.Seen, d.Fix = "main mode", "aggressive mode", "Disable aggressive mode at the "+
			"gateway."
		if c.g.Offers.L2TP.Aggressive {
			d.Record, d.Fix = "aggressive mode", "Move to main mode, certificates or IKEv2; until "+
				"then use a key of at least 128 random bits."
		}
		c.say(d)
	}
	if id := a.IKE.Identity; id != "" && id != c.g.Address && !slices.Contains(c.g.Addresses, id) {
		d := about(a, IdentityOther, vpn.Warning, "identifies as %q", id)
		d.Record, d.Seen, d.Fix = c.g.Address, id, "Check that this is the right gateway, and "+
			"correct its identity."
		c.say(d)
	}
}

// recorded are the suites of a protocol on record, in one spelling.
func recorded(g *vpn.Gateway, p vpn.Protocol) (list []string) {
	for _, text := range suitesOf(g, p) {
		if s, err := suite.Parse(text); err == nil {
			list = append(list, s.String())
		}
	}
	return list
}

func suitesOf(g *vpn.Gateway, p vpn.Protocol) []string {
	switch {
	case p == vpn.IKEv2 && g.Offers.IKEv2 != nil:
		return g.Offers.IKEv2.IKE
	case p == vpn.L2TP && g.Offers.L2TP != nil:
		return g.Offers.L2TP.IKE
	}
	return nil
}

// weak tells whether a suite has a part that should not be used any more.
func weak(text string) bool {
	s, err := suite.Parse(text)
	return err == nil && s.Worst().Worth < suite.LastResort
}

func (c *comparison) ike(a Answer) {
	r := a.IKE
	if r.Redirect != "" {
		d := about(a, Redirected, vpn.Warning, "redirects clients to %q", r.Redirect)
		d.Record, d.Seen, d.Fix = c.g.Address, r.Redirect, "Add the gateway that clients are "+
			"redirected to."
		c.say(d)
		return
	}
	if a.Port != PortNATT { // where only the port is of interest
		c.suites(a)
	}
	if r.NATKnown && r.GatewayBehindNAT != c.g.BehindNAT {
		d := about(
			a,
			NATDiffers,
			vpn.Warning,
			"the record has %s, the gateway %s",
			natWords(c.g.BehindNAT),
			natWords(r.GatewayBehindNAT),
		)
		if c.g.ProbeAt != nil {
			d.Severity = vpn.Note // asked elsewhere than devices do, it sees other addresses
		}
		d.Record, d.Seen, d.Take, d.Fix = natWords(
			c.g.BehindNAT,
		), natWords(
			r.GatewayBehindNAT,
		), c.g.ProbeAt == nil, "Accept the probe result into the record: Windows clients need a "+
			"registry value for a gateway behind NAT."
		c.say(d)
	}
	if o := c.g.Offers.IKEv2; a.Method == MethodIKEv2 && o != nil && len(r.Taken) > 0 &&
		r.Fragmentation == o.NoFragmentation {
		d := about(
			a,
			NoFragments,
			vpn.Note,
			"the record has IKE fragmentation %t, the gateway %t",
			!o.NoFragmentation,
			r.Fragmentation,
		)
		d.Record, d.Seen, d.Take, d.Fix = fmt.Sprint(
			!o.NoFragmentation,
		), fmt.Sprint(
			r.Fragmentation,
		), true, "Accept the probe result into the record."
		c.say(d)
	}
}

func natWords(behind bool) string {
	if behind {
		return "behind NAT"
	}
	return "not behind NAT"
}

// listed tells whether a list has a suite, as both sides of IKE compare them.
func listed(list []string, s string) bool {
	p, err := suite.Parse(s)
	return slices.ContainsFunc(list, func(v string) bool {
		q, wrong := suite.Parse(v)
		return v == s || err == nil && wrong == nil && p.Same(q)
	})
}

func (c *comparison) suites(a Answer) {
	r, known := a.IKE, recorded(c.g, a.Protocol)
	kept := slices.DeleteFunc(
		slices.Clone(known),
		func(s string) bool { return listed(r.Refused, s) },
	)
	refused := slices.DeleteFunc(
		slices.Clone(known),
		func(s string) bool { return !listed(r.Refused, s) },
	)
	extra := slices.DeleteFunc(
		slices.Clone(r.Taken),
		func(s string) bool { return listed(known, s) },
	)
	bad := slices.DeleteFunc(slices.Clone(extra), func(s string) bool { return !weak(s) })
	good := slices.DeleteFunc(slices.Clone(extra), weak)
	if len(refused) > 0 && len(kept) == 0 {
		d := about(
			a,
			SuiteNone,
			vpn.Error,
			"the record has %s, the gateway accepts none of it",
			strings.Join(known, ", "),
		)
		d.Record, d.Seen, d.Fix = strings.Join(
			known,
			", ",
		), "none of it", "Correct the gateway, or the record and then the parcels."
		if len(extra) > 0 {
			d.Text = fmt.Sprintf(
				"%s: the record has %s, the gateway accepts only %s",
				a.Address,
				strings.Join(known, ", "),
				strings.Join(extra, ", "),
			)
			d.Seen, d.Take = strings.Join(extra, ", "), true
		}
		c.say(d)
	} else if len(refused) > 0 {
		d := about(
			a,
			SuiteRefused,
			vpn.Warning,
			"the record has %s, the gateway rejects it",
			strings.Join(refused, ", "),
		)
		d.Record, d.Seen, d.Take, d.Fix = strings.Join(
			refused,
			", ",
		), "refused", true, "Remove it from the record, or correct the gateway."
		c.say(d)
	}
	if len(bad) > 0 && len(kept) > 0 {
		d := about(
			a,
			SuiteWeak,
			vpn.Note,
			"still accepts %s, which is obsolete",
			strings.Join(bad, ", "),
		)
		d.Record, d.Seen, d.Fix = strings.Join(
			known,
			", ",
		), strings.Join(
			bad,
			", ",
		), "Disable it at the gateway."
		c.say(d)
	}
	if len(good) > 0 && len(kept) > 0 {
		d := about(
			a,
			SuiteUnlisted,
			vpn.Note,
			"accepts %s, which is not on record",
			strings.Join(good, ", "),
		)
		d.Record, d.Seen, d.Take, d.Fix = strings.Join(
			known,
			", ",
		), strings.Join(
			good,
			", ",
		), true, "Accept it into the record: devices get more options."
		c.say(d)
	}
}

// anchors are the authorities that devices are given for a protocol.
func (c *comparison) anchors(p vpn.Protocol) []*x509.Certificate {
	list, err := pki.Certificates(c.g.Offers.Authority(p))
	if err != nil {
		return nil
	}
	return list
}

func (c *comparison) tls(a Answer) {
	t := a.TLS
	list, err := pki.Certificates(t.Certificate)
	if err != nil || len(list) == 0 {
		return
	}
	leaf := list[0]
	whole := true
	anchors := c.anchors(a.Protocol)
	if len(anchors) == 0 && c.public != nil && !c.vouched(list) {
		whole = false
		d := about(
			a,
			ChainPrivate,
			vpn.Warning,
			"presents a certificate issued by %q, a private CA that is not in the parcels",
			leaf.Issuer.CommonName,
		)
		d.Record, d.Seen, d.Fix =
			"no private CA", leaf.Issuer.CommonName, "Add the CA to the offer, so that the "+
				"parcels include it."
		c.say(d)
	}
	if len(anchors) > 0 {
		if links, broken := pki.Path(leaf, list[1:], anchors); broken != pki.Whole {
			whole = false
			last := links[len(links)-1]
			d := about(
				a,
				ChainBroken,
				vpn.Error,
				"presents a certificate for %q whose issuer %q is not trusted by the CAs in the "+
					"parcels",
				nameOf(leaf),
				last.Issuer.CommonName,
			)
			d.Record, d.Seen, d.Fix =
				anchors[0].Subject.CommonName, last.Issuer.CommonName, "Install a certificate of "+
					"the CA on record at the gateway, or add the right CA to the offer. A CA that "+
					"was only seen on the network is not accepted into the record."
			c.say(d)
		}
	}
	if want := c.wantedName(a.Protocol); want != "" && !pki.Covers(leaf, want) {
		d := about(
			a,
			CertificateName,
			vpn.Error,
			"its certificate is for %s, devices expect %s",
			strings.Join(pki.Names(leaf), ", "),
			want,
		)
		d.Record, d.Seen, d.Fix = want, strings.Join(
			pki.Names(leaf),
			", ",
		), "Install a certificate with that name at the gateway, or correct the name in the record."
		c.say(d)
	}
	switch left := leaf.NotAfter.Sub(c.now); {
	case left <= 0:
		d := about(
			a,
			CertificateExpired,
			vpn.Error,
			"its certificate expired on %s",
			leaf.NotAfter.UTC().Format(time.DateOnly),
		)
		d.Record, d.Seen, d.Fix = "", leaf.NotAfter.UTC().
			Format(time.DateOnly),
			"Install a new certificate at the gateway."
		c.say(d)
	case left < expiresSoon:
		d := about(
			a,
			CertificateExpiring,
			vpn.Warning,
			"its certificate expires on %s",
			leaf.NotAfter.UTC().Format(time.DateOnly),
		)
		d.Record, d.Seen, d.Fix = "", leaf.NotAfter.UTC().
			Format(time.DateOnly),
			"Install a new certificate at the gateway before that date."
		c.say(d)
	}
	if known, err := pki.Certificates(
		c.g.Certificate,
	); err == nil && len(known) > 0 &&
		!known[0].Equal(leaf) {
		d := about(
			a,
			CertificateOther,
			vpn.Note,
			"presents a different certificate from the one on record: serial number %x of %q",
			leaf.SerialNumber,
			leaf.Issuer.CommonName,
		)
		d.Record, d.Seen, d.Take, d.Fix = fmt.Sprintf(
			"%x",
			known[0].SerialNumber,
		), fmt.Sprintf(
			"%x",
			leaf.SerialNumber,
		), whole &&
			len(
				c.anchors(a.Protocol),
			) > 0, "Accept the new certificate into the record once it is clear why it changed."
		c.say(d)
	}
	c.version(a)
}

// vouched tells whether a public authority stands above a chain, while its certificate is good: its
// end is a matter of its own.
func (c *comparison) vouched(list []*x509.Certificate) bool {
	between := x509.NewCertPool()
	for _, one := range list[1:] {
		between.AddCert(one)
	}
	at := c.now
	if end := list[0].NotAfter; at.After(end) {
		at = end.Add(-time.Minute)
	}
	_, err := list[0].Verify(
		x509.VerifyOptions{
			Roots:         c.public,
			Intermediates: between,
			CurrentTime:   at,
			KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		},
	)
	return err == nil
}

func (c *comparison) version(a Answer) {
	t, least := a.TLS, "1.2"
	if o := c.g.Offers.TLS; a.Protocol == vpn.TLS && o != nil && o.MinTLS != "" {
		least = o.MinTLS
	}
	switch {
	case t.Version < least:
		d := about(
			a,
			TLSOld,
			vpn.Error,
			"supports TLS up to %s, devices require %s",
			t.Version,
			least,
		)
		d.Record, d.Seen, d.Fix = least, t.Version, "Update the gateway."
		c.say(d)
	case t.Old != "":
		d := about(a, TLSOldToo, vpn.Warning, "still accepts TLS %s", t.Old)
		d.Record, d.Seen, d.Fix = least, t.Old, "Disable versions before 1.2 at the gateway (RFC "+
			"8996)."
		c.say(d)
	}
}

// wantedName is what devices look for in a certificate by a protocol.
func (c *comparison) wantedName(p vpn.Protocol) string {
	switch {
	case p == vpn.SSTP && c.g.Offers.SSTP != nil:
		return first(c.g.Offers.SSTP.ServerName, c.g.Address)
	case p == vpn.TLS && c.g.Offers.TLS != nil:
		return c.g.Offers.TLS.ServerName
	}
	return ""
}

func nameOf(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return c.Subject.CommonName
	}
	return strings.Join(pki.Names(c), ", ")
}

// Addresses are those of a gateway to ask at: what its name leads to, then those on record, at most
// four.
func Addresses(g *vpn.Gateway, seen []netip.Addr) (list []netip.Addr) {
	if g.ProbeAt != nil && g.ProbeAt.Address != "" {
		if a, err := netip.ParseAddr(g.ProbeAt.Address); err == nil {
			return []netip.Addr{a}
		}
	}
	for _, text := range append([]string{g.Address}, g.Addresses...) {
		if a, err := netip.ParseAddr(text); err == nil {
			seen = append(seen, a)
		}
	}
	for _, a := range seen {
		if a = a.Unmap(); !slices.Contains(list, a) && len(list) < mostAddresses {
			list = append(list, a)
		}
	}
	return list
}

const mostAddresses = 4
