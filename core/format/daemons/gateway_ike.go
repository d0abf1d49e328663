package daemons

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// ipsec writes the connections of the IKE daemon: one for each way in which clients authenticate.
func (g *gatewaySide) ipsec() {
	s := &section{}
	s.WriteString("# " + g.Gateway.Name + "\n")
	s.open("connections")
	pools := ""
	if o := g.Gateway.Offers.IKEv2; o != nil {
		if p, ok := g.part(); ok {
			pools = p.String()
		}
		// The strongest first: the daemon takes the first that fits.
		for _, auth := range vpn.IKEv2Auths {
			if slices.Contains(o.Auth, auth) {
				g.ikev2(s, o, string(auth), auth, pools != "")
			}
			if n := g.second(auth); n != nil {
				g.ikev2(s, n, string(auth)+"-next", auth, pools != "")
			}
		}
	}
	if o := g.Gateway.Offers.L2TP; o != nil {
		for _, auth := range vpn.MachineAuths {
			if slices.Contains(o.Auth, auth) {
				g.transport(s, o, auth)
			}
		}
	}
	s.close()
	if pools != "" {
		s.open("pools")
		s.open(g.name)
		s.set("addrs", pools)
		if len(g.Gateway.DNS) > 0 {
			s.set("dns", strings.Join(g.Gateway.DNS, ", "))
		}
		s.close()
		s.close()
	}
	g.file(g.name+".conf", "Connections of the IKE daemon; goes to /etc/swanctl/conf.d", s.String(),
		false)
}

// head begins a connection.
func (g *gatewaySide) head(s *section, name, version string) {
	s.open(g.name + "-" + name)
	s.set("version", version)
	if list := g.addresses(); len(list) > 0 {
		s.set("local_addrs", strings.Join(list, ", "))
	}
}

// own is the gateway's side of a connection.
func (g *gatewaySide) own(s *section, psk bool, id string) {
	s.open("local")
	if psk {
		s.set("auth", "psk")
	} else {
		s.set("auth", "pubkey")
		s.set("certs", g.name+"-certificate.pem")
	}
	if id != "" {
		s.text("id", id)
	}
	s.close()
}

// second is the offer of IKEv2 for devices that have moved, where the daemon tells them from
// others: by another identity of the gateway, or by their own with another pre-shared key. nil
// where there is none.
func (g *gatewaySide) second(auth vpn.IKEv2Auth) *vpn.IKEv2Offer {
	if g.Next == nil || g.Next.Offers.IKEv2 == nil ||
		!slices.Contains(g.Next.Offers.IKEv2.Auth, auth) {
		return nil
	}
	old, n := g.Gateway.Offers.IKEv2, *g.Next.Offers.IKEv2
	n.RemoteID = ikeIdentity(*g.Next)
	if n.RemoteID == ikeIdentity(g.Gateway) &&
		(auth != vpn.IKEv2PSK || n.LocalID == "" || n.LocalID == old.LocalID) {
		return nil
	}
	return &n
}

// ikeIdentity is what a gateway calls itself by IKEv2.
func ikeIdentity(g vpn.Gateway) string { return cmp.Or(g.Offers.IKEv2.RemoteID, g.Address) }

// forIKE writes proposals with a pseudo-random function, which AEAD ciphers need beside them.
func forIKE(list []string) string {
	out := make([]string, len(list))
	for i, v := range list {
		p, _ := suite.Parse(v) // looked at before
		out[i] = p.ForIKE().String()
	}
	return strings.Join(out, ", ")
}

func (g *gatewaySide) ikev2(
	s *section,
	o *vpn.IKEv2Offer,
	name string,
	auth vpn.IKEv2Auth,
	pool bool,
) {
	g.head(s, name, "2")
	if pool {
		s.set("pools", g.name)
	}
	if len(o.IKE) > 0 {
		s.set("proposals", forIKE(o.IKE))
	}
	if auth != vpn.IKEv2PSK {
		s.set("send_cert", "always")
	}
	if o.NoMOBIKE {
		s.set("mobike", "no")
	}
	if o.NoFragmentation {
		s.set("fragmentation", "no")
	}
	if o.IKELifetime > 0 {
		s.set("rekey_time", fmt.Sprintf("%dm", o.IKELifetime))
	}
	s.set("dpd_delay", fmt.Sprintf("%ds", cmp.Or(o.DPD, keepalive)))
	g.own(s, auth == vpn.IKEv2PSK, cmp.Or(o.RemoteID, g.Gateway.Address))
	s.open("remote")
	switch auth {
	case vpn.IKEv2MSCHAPv2, vpn.IKEv2EAPTLS:
		s.set("auth", string(auth))
		s.set("eap_id", "%any")
	case vpn.IKEv2Certificate:
		s.set("auth", "pubkey")
	case vpn.IKEv2PSK:
		s.set("auth", "psk")
		if o.LocalID != "" {
			s.text("id", o.LocalID)
		}
	}
	if auth.NeedsIdentity() {
		if list := g.clientCAs(vpn.IKEv2); len(list) > 0 {
			s.set("cacerts", strings.Join(list, ", "))
		}
	}
	s.close()
	s.open("children")
	s.open("net")
	s.set("local_ts", strings.Join(g.behind(), ", "))
	remote := append([]string{"dynamic"}, g.Gateway.Announced...)
	for _, site := range g.Sites {
		remote = append(remote, site.Networks...)
	}
	s.set("remote_ts", strings.Join(remote, ", "))
	if len(o.ESP) > 0 {
		s.set("esp_proposals", strings.Join(o.ESP, ", "))
	}
	if o.ChildLifetime > 0 {
		s.set("rekey_time", fmt.Sprintf("%dm", o.ChildLifetime))
	}
	s.close()
	s.close()
	s.close()
}

// behind are the networks that clients reach: all, where none is on record.
func (g *gatewaySide) behind() []string {
	if len(g.Gateway.Routes) > 0 {
		return g.Gateway.Routes
	}
	return []string{"0.0.0.0/0", "::/0"}
}

// transport writes the IPsec below L2TP (RFC 3193 §4.1: UDP port 1701 of the gateway).
func (g *gatewaySide) transport(s *section, o *vpn.L2TPOffer, auth vpn.MachineAuth) {
	g.head(s, "l2tp-"+string(auth), "1")
	if len(o.IKE) > 0 {
		s.set("proposals", strings.Join(o.IKE, ", "))
	}
	if o.Aggressive {
		s.set("aggressive", "yes")
	}
	g.own(s, auth == vpn.MachinePSK, o.RemoteID)
	s.open("remote")
	if auth == vpn.MachinePSK {
		s.set("auth", "psk")
		if o.Group != "" {
			s.text("id", "keyid:"+o.Group)
		}
	} else {
		s.set("auth", "pubkey")
		if list := g.clientCAs(vpn.L2TP); len(list) > 0 {
			s.set("cacerts", strings.Join(list, ", "))
		}
	}
	s.close()
	s.open("children")
	s.open("l2tp")
	s.set("mode", "transport")
	s.set("local_ts", "dynamic[udp/1701]")
	s.set("remote_ts", "dynamic[udp]")
	if len(o.ESP) > 0 {
		s.set("esp_proposals", strings.Join(o.ESP, ", "))
	}
	s.close()
	s.close()
	s.close()
}
