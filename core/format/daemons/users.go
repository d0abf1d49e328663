package daemons

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// User is who signs in at a gateway: the login as devices send it.
type User struct {
	Login    string
	Password secret.Text
}

// usersFile ends the name of what the IKE daemon includes from its folder conf.d.
const usersFile = "-users.conf"

// UserLists makes what the daemons of a gateway look its users up in: chap-secrets and pap-secrets
// for pppd, as far as the gateway offers such methods (pppd(8), AUTHENTICATION), and secrets for
// the IKE daemon with its pre-shared keys (swanctl.conf(5), secrets). Users tells who signs in by a
// protocol.
func UserLists(g vpn.Gateway, users func(vpn.Protocol) []User) []format.File {
	return userLists(g, nil, users)
}

func userLists(
	g vpn.Gateway,
	next *vpn.Gateway,
	users func(vpn.Protocol) []User,
) []format.File {
	var files []format.File
	add := func(name, purpose, content string) {
		files = append(files, format.File{
			Name: name, MediaType: "text/plain; charset=utf-8", Purpose: purpose, Private: true,
			Content: []byte(content),
		})
	}
	ppp := map[vpn.Protocol][]suite.PPPMethod{}
	if o := g.Offers.L2TP; o != nil {
		ppp[vpn.L2TP] = o.PPP
	}
	if o := g.Offers.PPTP; o != nil {
		ppp[vpn.PPTP] = o.PPP
	}
	if o := g.Offers.SSTP; o != nil {
		ppp[vpn.SSTP] = o.PPP
	}
	for _, list := range []struct {
		name, purpose string
		methods       []suite.PPPMethod
	}{
		{chapSecrets, "Users of pppd by challenge; goes to /etc/ppp",
			[]suite.PPPMethod{suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.EAP}},
		{papSecrets, "Users of pppd by password; goes to /etc/ppp", []suite.PPPMethod{suite.PAP}},
	} {
		var lines []string
		for _, p := range vpn.Protocols {
			if !slices.ContainsFunc(ppp[p], func(m suite.PPPMethod) bool {
				return slices.Contains(list.methods, m)
			}) {
				continue
			}
			for _, u := range users(p) {
				line := fmt.Sprintf("%s * %s *", word(u.Login), word(u.Password.Reveal()))
				if !slices.Contains(lines, line) {
					lines = append(lines, line)
				}
			}
		}
		if lines != nil {
			add(list.name, list.purpose, "# client  server  secret  addresses\n"+
				strings.Join(lines, "\n")+"\n")
		}
	}
	if text := daemonUsers(g, next, users); text != "" {
		add(
			format.FileName(g.Name, usersFile),
			"Users and keys of the IKE daemon; goes to /etc/swanctl/conf.d",
			text,
		)
	}
	return files
}

func daemonUsers(g vpn.Gateway, next *vpn.Gateway, users func(vpn.Protocol) []User) string {
	s, name := &section{}, format.FileName(g.Name, "")
	s.open("secrets")
	empty := s.Len()
	if o := g.Offers.IKEv2; o != nil && slices.Contains(o.Auth, vpn.IKEv2MSCHAPv2) {
		for i, u := range users(vpn.IKEv2) {
			s.open(fmt.Sprintf("eap-%s-%d", name, i+1))
			s.text("id", u.Login)
			s.sealed(u.Password.Reveal())
			s.close()
		}
	}
	// Of any peer, because devices have no addresses of their own, but of this gateway where one
	// daemon is several.
	key := func(kind string, psk *secret.Text, own ...string) {
		if psk == nil || psk.IsZero() {
			return
		}
		s.open("ike-" + name + "-" + kind)
		for i, id := range own {
			s.text(fmt.Sprintf("id-%d", i+1), id)
		}
		s.sealed(psk.Reveal())
		s.close()
	}
	if o := g.Offers.IKEv2; o != nil && slices.Contains(o.Auth, vpn.IKEv2PSK) {
		own := []string{ikeIdentity(g)}
		n := (&gatewaySide{Side: Side{Gateway: g, Next: next}}).second(vpn.IKEv2PSK)
		switch {
		case n == nil:
			key("ikev2", o.PSK, own...)
		case n.PSK == nil || o.PSK == nil || n.PSK.Equal(*o.PSK): // only the gateway's identity is another
			key("ikev2", o.PSK, append(own, n.RemoteID)...)
		default:
			// Each is of other devices: the one that names the device itself goes first.
			key("ikev2", o.PSK, append(own, "%any")...)
			key("ikev2-next", n.PSK, n.RemoteID, n.LocalID)
		}
	}
	if o := g.Offers.L2TP; o != nil {
		key("l2tp", o.PSK, listens(g)...) // main mode finds the key by addresses (RFC 2409 §5.4)
	}
	if s.Len() == empty {
		return ""
	}
	s.close()
	return s.String()
}

// listens are the addresses at which the daemons of a gateway listen; none where that is not known.
func listens(g vpn.Gateway) []string {
	if ip, err := netip.ParseAddr(g.Address); err == nil {
		return []string{ip.String()}
	}
	if g.BehindNAT {
		return nil // those on record are not its own
	}
	return g.Addresses
}

// bareWord is one that pppd, and others that read its files, take without quotes.
var bareWord = regexp.MustCompile(`^[A-Za-z0-9._@+-]+$`)

// word writes a login or a secret for pppd, in quotes where it needs them. What looks like a file
// (@/path) or is empty does.
func word(v string) string {
	if bareWord.MatchString(v) && v[0] != '@' {
		return v
	}
	return quote(v)
}
