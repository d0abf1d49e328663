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
		fields = append(
			fields,
			field{
				flag: string(p) + "-login-form",
				path: at + ".form",
				help: p.Title() + `: form of the login, if it differs there: login, login@realm ` +
					`or realm\login`,
			},
			field{
				flag: string(p) + "-realm",
				path: at + ".realm",
				help: p.Title() + ": realm, if it differs there",
			},
		)
	}
	return append(
		fields,
		field{
			flag: "sign-in-as-elsewhere",
			path: "sign_ins",
			kind: removeField,
			help: "protocol that uses the gateway's form of login again",
		},
	)
}

func gatewayNoun() noun[api.Gateway] {
	return noun[api.Gateway]{
		name:   "gateway",
		plural: "gateways",
		title:  "name",
		about: "A gateway is a VPN server: its address, what it offers and the networks behind " +
			"it.",
		example: `Norrvik --address norrvik.skerryline.example --city Norrvik --country NO \
      --login-form login@realm --realm crew.skerryline.example \
      --psk-file norrvik.psk --ppp mschapv2 --ike aes256-sha256-modp2048 --esp aes256-sha256 \
      --route 10.20.0.0/16 --dns 10.20.0.53 --domain inside.skerryline.example`,
		fields: append([]field{
			{flag: "address", path: "address"},
			{flag: "name", path: "name"},
			{flag: "known-address", path: "addresses"},
			{flag: "dynamic", path: "dynamic"},
			{flag: "behind-nat", path: "behind_nat"},
			{flag: "city", path: "place.city"},
			{flag: "country", path: "place.country"},
			{flag: "latitude", path: "place.latitude"},
			{flag: "longitude", path: "place.longitude"},
			{flag: "login-form", path: "sign_in.form"},
			{flag: "realm", path: "sign_in.realm"},
			{flag: "domain", path: "domains"},
			{flag: "dns", path: "dns"},
			{flag: "route", path: "routes"},
			{flag: "pool", path: "pool"},
			{flag: "announced", path: "announced"},
			{flag: "egress", path: "egress"},
			{flag: "host", path: "hosts"},
			{flag: "load-share", path: "load_share"},
			{flag: "probe-at", path: "probe_at.address"},
			{flag: "probe-port", path: "probe_at.ports"},
			{flag: "rehearse-account", path: "rehearsal.account_id", refers: toAccount},
			{flag: "rehearse-every", path: "rehearsal.every"},
			{flag: "client-authority", path: "client_authority", kind: fileField},
			{flag: "note", path: "note"},
			{
				flag: "remove-offer",
				path: "offers",
				kind: removeField,
				help: "protocol to remove: ikev2, tls, sstp, l2tp, pptp",
			},

			{flag: "psk-file", path: "offers.l2tp.psk"},
			{flag: "ppp", path: "offers.l2tp.ppp"},
			{flag: "ike", path: "offers.l2tp.ike"},
			{flag: "esp", path: "offers.l2tp.esp"},
			{flag: "l2tp-auth", path: "offers.l2tp.auth"},
			{flag: "l2tp-authority", path: "offers.l2tp.authority", kind: fileField},
			{flag: "l2tp-remote-id", path: "offers.l2tp.remote_id"},
			{flag: "aggressive", path: "offers.l2tp.aggressive"},
			{flag: "group-name", path: "offers.l2tp.group"},

			{flag: "ikev2-auth", path: "offers.ikev2.auth"},
			{flag: "ikev2-psk-file", path: "offers.ikev2.psk"},
			{flag: "ikev2-remote-id", path: "offers.ikev2.remote_id"},
			{flag: "ikev2-local-id", path: "offers.ikev2.local_id"},
			{flag: "ikev2-authority", path: "offers.ikev2.authority", kind: fileField},
			{flag: "ikev2-ike", path: "offers.ikev2.ike"},
			{flag: "ikev2-esp", path: "offers.ikev2.esp"},
			{flag: "ikev2-lifetime", path: "offers.ikev2.ike_lifetime"},
			{flag: "ikev2-child-lifetime", path: "offers.ikev2.child_lifetime"},
			{flag: "ikev2-dpd", path: "offers.ikev2.dpd"},
			{flag: "ikev2-no-mobike", path: "offers.ikev2.no_mobike"},
			{flag: "ikev2-no-fragments", path: "offers.ikev2.no_fragmentation"},

			{flag: "pptp-ppp", path: "offers.pptp.ppp"},
			{flag: "pptp-mppe", path: "offers.pptp.mppe"},

			{flag: "sstp-port", path: "offers.sstp.port"},
			{flag: "sstp-ppp", path: "offers.sstp.ppp"},
			{flag: "sstp-authority", path: "offers.sstp.authority", kind: fileField},
			{flag: "sstp-name", path: "offers.sstp.server_name"},

			{flag: "tls-remote", path: "offers.tls.remotes"},
			{flag: "tls-auth", path: "offers.tls.auth"},
			{flag: "tls-authority", path: "offers.tls.authority", kind: fileField},
			{flag: "tls-control-kind", path: "offers.tls.control_key.kind"},
			{flag: "tls-control-key", path: "offers.tls.control_key.key", kind: fileField},
			{flag: "tls-control-direction", path: "offers.tls.control_key.direction"},
			{flag: "tls-cipher", path: "offers.tls.ciphers"},
			{flag: "tls-digest", path: "offers.tls.digest"},
			{flag: "tls-min", path: "offers.tls.min_tls"},
			{flag: "tls-name", path: "offers.tls.server_name"},
			{flag: "tls-keepalive", path: "offers.tls.keepalive"},
		}, signIns()...),
		records: func(c *client.Client) client.Noun[api.Gateway] { return c.Gateways },
		find:    findGateway,
		meta:    func(g api.Gateway) vpn.Meta { return g.Meta },
		ref:     func(g api.Gateway) string { return g.Name },
		columns: []string{
			"name",
			"address",
			"place",
			"offers",
			"answers",
			"profiles",
			"findings",
		},
		filters: []string{"name", "city", "answers", "at"},
		row: func(g api.Gateway) table.Row {
			var offers []string
			for _, p := range g.Offers.Protocols() {
				offers = append(offers, p.Title())
			}
			if len(offers) == 0 {
				offers = []string{"none"}
			}
			return table.Row{
				g.Name,
				g.Address,
				strings.Trim(g.Place.City+", "+g.Place.Country, ", "),
				strings.Join(offers, ", "),
				cmp.Or(g.Answers, "not probed"),
				g.Profiles,
				tally(g.Tally),
			}
		},
	}
}
