package cli

import (
	"cmp"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

// signIns are the fields of offers at which people sign in otherwise.
func signIns() (fields []field) {
	for _, p := range vpn.Protocols {
		at := "sign_ins." + string(p)
		fields = append(fields,
			field{flag: string(p) + "-login-form", path: at + ".form", help: p.Title() + `: how login and realm are joined there, where not as elsewhere: login, login@realm or realm\login`},
			field{flag: string(p) + "-realm", path: at + ".realm", help: p.Title() + ": realm that is required there"},
		)
	}
	return append(fields, field{flag: "sign-in-as-elsewhere", path: "sign_ins", kind: removeField, help: "protocol that uses the gateway's form of login again"})
}

func gatewayNoun() noun[api.Gateway] {
	return noun[api.Gateway]{
		name: "gateway", plural: "gateways", title: "name",
		about: "A gateway is a VPN server: its address, what it offers and the networks behind it.",
		example: `Norrvik --address norrvik.skerryline.example --city Norrvik --country NO \
      --login-form login@realm --realm crew.skerryline.example \
      --psk-file norrvik.psk --ppp mschapv2 --ike aes256-sha256-modp2048 --esp aes256-sha256 \
      --route 10.20.0.0/16 --dns 10.20.0.53 --domain inside.skerryline.example`,
		fields: append([]field{
			{flag: "address", path: "address", help: "host name or IP address that clients connect to"},
			{flag: "name", path: "name", help: "new name"},
			{flag: "known-address", path: "addresses", kind: listField, help: "IP address that the name should resolve to"},
			{flag: "dynamic", path: "dynamic", kind: boolField, help: "the IP address is dynamic"},
			{flag: "behind-nat", path: "behind_nat", kind: boolField, help: "the gateway is behind NAT"},
			{flag: "city", path: "place.city", help: "city"},
			{flag: "country", path: "place.country", help: "country, two letters (ISO 3166-1)"},
			{flag: "latitude", path: "place.latitude", kind: numberField, help: "latitude in degrees"},
			{flag: "longitude", path: "place.longitude", kind: numberField, help: "longitude in degrees"},
			{flag: "login-form", path: "sign_in.form", help: `form of the login: login, login@realm or realm\login`},
			{flag: "realm", path: "sign_in.realm", help: "realm that the gateway requires"},
			{flag: "domain", path: "domains", kind: listField, help: "internal domain"},
			{flag: "dns", path: "dns", kind: listField, help: "internal DNS server"},
			{flag: "route", path: "routes", kind: listField, help: "network behind the gateway, CIDR"},
			{flag: "pool", path: "pool", kind: listField, help: "address pool of the clients, CIDR"},
			{flag: "announced", path: "announced", kind: listField, help: "network of a site behind a router, CIDR; other devices get a route to it"},
			{flag: "egress", path: "egress", kind: listField, help: "public address of its clients (egress)"},
			{flag: "host", path: "hosts", kind: listField, help: "internal host to test with"},
			{flag: "load-share", path: "load_share", kind: numberField, help: "share of devices that are equally near to several gateways, in percent"},
			{flag: "probe-at", path: "probe_at.address", help: "IP address that is probed instead of those on record, such as an internal one"},
			{flag: "probe-port", path: "probe_at.ports", kind: portsField, help: "port that is probed instead of another, such as 500=20500"},
			{flag: "client-authority", path: "client_authority", kind: fileField, help: "file with the CAs that it trusts for device certificates, PEM; set automatically when Wardicon creates its certificate"},
			{flag: "note", path: "note", help: "note for operators"},
			{flag: "remove-offer", path: "offers", kind: removeField, help: "protocol to remove: ikev2, tls, sstp, l2tp, pptp"},

			{flag: "psk-file", path: "offers.l2tp.psk", kind: secretField, help: "L2TP/IPsec: file with the pre-shared key, - for standard input"},
			{flag: "ppp", path: "offers.l2tp.ppp", kind: listField, help: "L2TP/IPsec: PPP method eap, mschapv2, mschap, chap or pap"},
			{flag: "ike", path: "offers.l2tp.ike", kind: listField, help: "L2TP/IPsec: IKE proposal such as aes256-sha256-modp2048"},
			{flag: "esp", path: "offers.l2tp.esp", kind: listField, help: "L2TP/IPsec: ESP proposal such as aes256-sha256"},
			{flag: "l2tp-auth", path: "offers.l2tp.auth", kind: listField, help: "L2TP/IPsec: machine authentication, psk or certificate"},
			{flag: "l2tp-authority", path: "offers.l2tp.authority", kind: fileField, help: "L2TP/IPsec: file with the CAs of its certificate, PEM"},
			{flag: "l2tp-remote-id", path: "offers.l2tp.remote_id", help: "L2TP/IPsec by certificate: its identity; empty means the subject of its certificate"},
			{flag: "aggressive", path: "offers.l2tp.aggressive", kind: boolField, help: "L2TP/IPsec: IKEv1 aggressive mode"},
			{flag: "group-name", path: "offers.l2tp.group", help: "L2TP/IPsec: group name that clients send"},

			{flag: "ikev2-auth", path: "offers.ikev2.auth", kind: listField, help: "IKEv2: client authentication: eap-tls, certificate, eap-mschapv2 or psk"},
			{flag: "ikev2-psk-file", path: "offers.ikev2.psk", kind: secretField, help: "IKEv2: file with the pre-shared key"},
			{flag: "ikev2-remote-id", path: "offers.ikev2.remote_id", help: "IKEv2: its identity; empty means its address"},
			{flag: "ikev2-local-id", path: "offers.ikev2.local_id", help: "IKEv2: identity of clients with a pre-shared key"},
			{flag: "ikev2-authority", path: "offers.ikev2.authority", kind: fileField, help: "IKEv2: file with the CAs of its certificate, PEM"},
			{flag: "ikev2-ike", path: "offers.ikev2.ike", kind: listField, help: "IKEv2: IKE proposal such as aes256-sha256-ecp256"},
			{flag: "ikev2-esp", path: "offers.ikev2.esp", kind: listField, help: "IKEv2: child proposal such as aes256gcm16-ecp256; with a group there is PFS"},
			{flag: "ikev2-lifetime", path: "offers.ikev2.ike_lifetime", kind: numberField, help: "IKEv2: lifetime in minutes"},
			{flag: "ikev2-child-lifetime", path: "offers.ikev2.child_lifetime", kind: numberField, help: "IKEv2: lifetime of children in minutes"},
			{flag: "ikev2-dpd", path: "offers.ikev2.dpd", kind: numberField, help: "IKEv2: seconds between dead peer detection messages"},
			{flag: "ikev2-no-mobike", path: "offers.ikev2.no_mobike", kind: boolField, help: "IKEv2: no MOBIKE"},
			{flag: "ikev2-no-fragments", path: "offers.ikev2.no_fragmentation", kind: boolField, help: "IKEv2: no IKE fragmentation"},

			{flag: "pptp-ppp", path: "offers.pptp.ppp", kind: listField, help: "PPTP: PPP method"},
			{flag: "pptp-mppe", path: "offers.pptp.mppe", kind: listField, help: "PPTP: MPPE strength, 128, 56 or 40"},

			{flag: "sstp-port", path: "offers.sstp.port", kind: numberField, help: "SSTP: port; 0 means 443"},
			{flag: "sstp-ppp", path: "offers.sstp.ppp", kind: listField, help: "SSTP: PPP method"},
			{flag: "sstp-authority", path: "offers.sstp.authority", kind: fileField, help: "SSTP: file with the CAs of its certificate, PEM"},
			{flag: "sstp-name", path: "offers.sstp.server_name", help: "SSTP: name in its certificate; empty means its address"},

			{flag: "tls-remote", path: "offers.tls.remotes", kind: remotesField, help: "TLS tunnel: remote, udp:1194 or tcp:other.example:443, in order of preference"},
			{flag: "tls-auth", path: "offers.tls.auth", kind: listField, help: "TLS tunnel: certificate-password, certificate or password"},
			{flag: "tls-authority", path: "offers.tls.authority", kind: fileField, help: "TLS tunnel: file with the CAs of its certificate, PEM"},
			{flag: "tls-control-kind", path: "offers.tls.control_key.kind", help: "TLS tunnel: type of its control-channel key, crypt-v2, crypt or auth"},
			{flag: "tls-control-key", path: "offers.tls.control_key.key", kind: fileField, help: "TLS tunnel: file with the control-channel key"},
			{flag: "tls-control-direction", path: "offers.tls.control_key.direction", help: "TLS tunnel: direction of an auth key on clients, 0 or 1"},
			{flag: "tls-cipher", path: "offers.tls.ciphers", kind: listField, help: "TLS tunnel: data cipher such as AES-256-GCM, in order of preference"},
			{flag: "tls-digest", path: "offers.tls.digest", help: "TLS tunnel: digest such as SHA256"},
			{flag: "tls-min", path: "offers.tls.min_tls", help: "TLS tunnel: minimum TLS version, 1.2 or 1.3"},
			{flag: "tls-name", path: "offers.tls.server_name", help: "TLS tunnel: name in its certificate"},
			{flag: "tls-keepalive", path: "offers.tls.keepalive", kind: numberField, help: "TLS tunnel: seconds between keepalives"},
		}, signIns()...),
		records: func(c *client.Client) client.Noun[api.Gateway] { return c.Gateways }, find: findGateway,
		meta:    func(g api.Gateway) vpn.Meta { return g.Meta },
		ref:     func(g api.Gateway) string { return g.Name },
		columns: []string{"name", "address", "place", "offers", "answers", "profiles", "findings"}, filters: []string{"name", "city", "answers", "at"},
		row: func(g api.Gateway) table.Row {
			var offers []string
			for _, p := range g.Offers.Protocols() {
				offers = append(offers, p.Title())
			}
			if len(offers) == 0 {
				offers = []string{"none"}
			}
			return table.Row{g.Name, g.Address, strings.Trim(g.Place.City+", "+g.Place.Country, ", "), strings.Join(offers, ", "), cmp.Or(g.Answers, "not probed"), g.Profiles, tally(g.Tally)}
		},
	}
}
