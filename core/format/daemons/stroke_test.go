package daemons

import (
	"fmt"
	"strings"
	"testing"

	"wardicon/core/format"
)

// TestStroke reads the older form of the daemon's configuration in the forms of ipsec.conf(5):
// defaults, also=, sides the other way round, and the secrets beside it.
func TestStroke(t *testing.T) {
	const text = `config setup
	charondebug="ike 1"

conn %default
	keyexchange=ikev2
	ike=aes256-sha256-modp2048!
	esp=aes256-sha256-modp2048!
	dpddelay=30s

conn shared
	left=%defaultroute
	leftsourceip=%config
	leftauth=eap-mschapv2
	eap_identity=a_fjell
	rightauth=pubkey

conn tallholm
	also=shared
	right=tallholm.example
	rightid=@tallholm.example
	rightsubnet=10.30.0.0/16,10.31.0.0/16
	rightca="CN=Skerry Line Root"
	auto=start

conn turned
	left=brattvik.example
	leftauth=psk
	rightauth=psk
	right=%any
	leftsubnet=0.0.0.0/0

conn norrvik
	keyexchange=ikev1
	authby=secret
	type=transport
	leftprotoport=17/1701
	right=norrvik.example # the harbour

conn old
	keyexchange=ikev1
	authby=xauthpsk
	right=old.example

conn gateway
	left=%any
	right=%any
`
	const secrets = "include more/*.secrets\nbrattvik.example : PSK \"kelp 4497\"\n: PSK other\n" +
		"a_fjell : EAP \"gannet\" # hers\n: RSA clientKey.pem\n"
	r := Read("ipsec.conf", []byte(text), func(name string) ([]byte, bool) {
		return []byte(secrets), name == "ipsec.secrets"
	})
	var got []string
	for _, one := range r.Connections {
		c := one.Connection
		line := fmt.Sprintf("%s %s %s %v", c.Name, c.Protocol, c.Server, c.Routes)
		if c.IKEv2 != nil {
			line += fmt.Sprintf(" %s %s %d %v", c.IKEv2.Auth, c.IKEv2.RemoteID, c.IKEv2.DPD,
				c.IKEv2.IKE)
		}
		got = append(got, line+" "+c.PSK().Reveal()+c.Password.Reveal())
	}
	want := []string{
		"tallholm ikev2 tallholm.example [10.30.0.0/16 10.31.0.0/16] eap-mschapv2 " +
			"tallholm.example 30 " +
			"[aes256-sha256-modp2048] gannet",
		"turned ikev2 brattvik.example [] psk  30 [aes256-sha256-modp2048] kelp 4497",
		"norrvik l2tp norrvik.example [] other",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("read\n%s\nexpected\n%s\n%+v", strings.Join(got, "\n"), strings.Join(want, "\n"),
			r.Notes)
	}
	var left []string
	for _, u := range r.NotCarried {
		left = append(left, u.What)
	}
	if said := strings.Join(left, "; "); said != "include more/*.secrets; RSA clientKey.pem; "+
		"rightca CN=Skerry Line Root; a connection by IKEv1, old; dpd_delay = 30s" {
		t.Errorf("not carried: %s", said)
	}
	for _, n := range r.Notes {
		switch {
		case n.Kind == format.AddressLacking && n.At.Line == 26: // conn turned
		case n.Kind == format.SecretClear && n.At.File == "ipsec.secrets":
		case n.Kind == format.NotYetRead && n.At.Line == 37: // conn norrvik, without its PPP
		case n.Kind == format.NotYetRead && n.At.Line == 42: // conn old
		default:
			t.Errorf("%+v", n)
		}
	}
	alone := Read("ipsec.secrets", []byte(secrets), nil)
	if len(alone.Connections) > 0 || len(alone.Notes) != 2 ||
		alone.Notes[1].Kind != format.NotYetRead {
		t.Errorf("secrets alone: %+v", alone.Notes)
	}
}
