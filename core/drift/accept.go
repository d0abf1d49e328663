package drift

import (
	"fmt"
	"slices"

	"wardicon/core/vpn"
)

// Take lets a gateway's record take over what some differences of a probe saw. It says which of
// them it cannot.
func Take(g *vpn.Gateway, p Probe, which []int) error {
	for _, i := range which {
		if i < 0 || i >= len(p.Differences) {
			return fmt.Errorf("difference %d, the probe has %d", i, len(p.Differences))
		}
		d := p.Differences[i]
		if !d.Take {
			return fmt.Errorf(
				"difference %d (%s): this cannot be accepted into the record. %s",
				i,
				d.Code,
				d.Fix,
			)
		}
		take(g, p, d)
	}
	return nil
}

func take(g *vpn.Gateway, p Probe, d Difference) {
	if d.Code == NameElsewhere {
		for _, n := range p.Names {
			if n.Name == d.Address {
				g.Addresses = slices.Clone(n.Addresses)
			}
		}
		return
	}
	for _, a := range p.Answers {
		if a.Address != d.Address || a.Protocol != d.Protocol {
			continue
		}
		switch {
		case d.Code == CertificateOther && a.TLS != nil:
			g.Certificate = a.TLS.Certificate
		case a.IKE == nil:
		case d.Code == NATDiffers && a.IKE.NATKnown:
			g.BehindNAT = a.IKE.GatewayBehindNAT
		case d.Code == NoFragments && g.Offers.IKEv2 != nil:
			g.Offers.IKEv2.NoFragmentation = !a.IKE.Fragmentation
		case d.Code == SuiteNone, d.Code == SuiteRefused, d.Code == SuiteUnlisted:
			takeSuites(g, a, d.Code)
		}
	}
}

// takeSuites leaves out what is refused, or takes up what was not on record: what nobody should use
// only where there is nothing else.
func takeSuites(g *vpn.Gateway, a Answer, code string) {
	known := recorded(g, a.Protocol)
	kept := slices.DeleteFunc(
		known,
		func(s string) bool { return code != SuiteUnlisted && listed(a.IKE.Refused, s) },
	)
	for _, s := range a.IKE.Taken {
		if !listed(kept, s) && (code == SuiteNone || code == SuiteUnlisted && !weak(s)) {
			kept = append(kept, s)
		}
	}
	switch {
	case a.Protocol == vpn.IKEv2 && g.Offers.IKEv2 != nil:
		g.Offers.IKEv2.IKE = kept
	case a.Protocol == vpn.L2TP && g.Offers.L2TP != nil:
		g.Offers.L2TP.IKE = kept
	}
}
