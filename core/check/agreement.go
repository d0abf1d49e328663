package check

import (
	"fmt"
	"slices"
	"strings"

	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Agreement is what device and gateway will negotiate for one part of a connection. Chosen
// is empty where they share nothing; Change is then the smallest change on either side
// that would give a match.
type Agreement struct {
	Field vpn.Field `json:"field"`
	Title string    `json:"title"`
	// What the device sends, in its order.
	Device string `json:"device"`
	// What the gateway takes.
	Gateway string `json:"gateway"`
	Chosen  string `json:"chosen,omitempty"`
	Change  string `json:"change,omitempty"`
}

// Agreements works out what both sides will negotiate: for IKE and child proposals as a
// responder chooses (RFC 2409 §5, RFC 7296 §2.7), for PPP the strongest method that both
// have (RFC 1661 §6.2), for MPPE the longest key, for the TLS tunnel the first cipher of
// the gateway that the client has. Parts of which one side is not known are left out.
func (s *Subject) Agreements() []Agreement {
	list := []Agreement{}
	for _, p := range s.parts() {
		if len(p.client) == 0 || len(p.server) == 0 {
			continue
		}
		a := Agreement{
			Field: p.field,
			Title: map[vpn.Field]string{
				vpn.FieldIKE: "IKE proposal",
				vpn.FieldESP: "child proposal",
			}[p.field],
			Device:  names(p.client),
			Gateway: names(p.server),
		}
		if used := p.used(); len(used) > 0 {
			a.Chosen = used[0].String()
		} else if mine, its, ok := p.later(); ok {
			a.Change = fmt.Sprintf("Set %s on the device, or let the gateway take %s.", its, mine)
			mine.Group = ""
			a.Chosen = mine.String() + " until the keys are renewed"
		} else {
			a.Change = s.change(p)
		}
		list = append(list, a)
	}
	g := s.record()
	if g == nil {
		return list
	}
	c, o := s.Connection, g.Offers
	switch {
	case c.L2TP != nil && o.L2TP != nil:
		list = common(list, vpn.FieldPPP, "PPP method", s.methods(c.L2TP.PPP), o.L2TP.PPP, false)
	case c.PPTP != nil && o.PPTP != nil:
		list = common(list, vpn.FieldPPP, "PPP method", s.methods(c.PPTP.PPP), o.PPTP.PPP, false)
		list = common(list, vpn.FieldMPPE, "MPPE key", c.PPTP.MPPE, o.PPTP.MPPE, false)
	case c.SSTP != nil && o.SSTP != nil:
		list = common(list, vpn.FieldPPP, "PPP method", s.methods(c.SSTP.PPP), o.SSTP.PPP, false)
	case c.TLS != nil && o.TLS != nil:
		ciphers := c.TLS.Ciphers
		if len(ciphers) == 0 {
			ciphers = clientCiphers
		}
		list = common(list, vpn.FieldCiphers, "data cipher", ciphers, o.TLS.Ciphers, true)
	}
	return list
}

// clientCiphers are what a client of the TLS tunnel offers by itself (openvpn(8), option
// data-ciphers).
var clientCiphers = []string{"AES-256-GCM", "AES-128-GCM", "CHACHA20-POLY1305"}

// methods are the PPP methods that the file names, else those of the release.
func (s *Subject) methods(named []suite.PPPMethod) []suite.PPPMethod {
	if len(named) == 0 && s.Ability != nil {
		return s.Ability.PPP
	}
	return named
}

// common adds what two lists share: the first of the device's, or of the gateway's where
// that side chooses.
func common[T ~string](
	to []Agreement,
	field vpn.Field,
	title string,
	device, gateway []T,
	gatewayChooses bool,
) []Agreement {
	if len(device) == 0 || len(gateway) == 0 {
		return to
	}
	a := Agreement{Field: field, Title: title, Device: join(device), Gateway: join(gateway)}
	first, second := device, gateway
	if gatewayChooses {
		first, second = gateway, device
	}
	if i := slices.IndexFunc(first, func(v T) bool { return slices.Contains(second, v) }); i >= 0 {
		a.Chosen = string(first[i])
	} else {
		a.Change = fmt.Sprintf("Let the device take %s, or the gateway %s.", gateway[0], device[0])
	}
	return append(to, a)
}

func join[T ~string](list []T) string {
	var names []string
	for _, v := range list {
		names = append(names, string(v))
	}
	return strings.Join(names, ", ")
}

// change words the smallest change on either side that would give a match: the pair that
// differs in the fewest algorithms, and of those the one of most worth.
func (s *Subject) change(p part) string {
	mine, theirs, _ := suite.Nearest(p.client, p.server)
	set := s.Ability == nil || s.Ability.SetProposals
	words := fmt.Sprintf(
		"Nearest are %s (device) and %s (gateway), which differ in %s.",
		mine,
		theirs,
		strings.Join(mine.Differs(theirs), " and "),
	)
	if set && theirs.Worst().Worth >= mine.Worst().Worth {
		return words + fmt.Sprintf(
			" Set %s on the device, or let the gateway take %s.",
			theirs,
			mine,
		)
	}
	return words + fmt.Sprintf(" Let the gateway take %s.", mine)
}
