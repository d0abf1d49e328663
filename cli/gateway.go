package cli

import (
	"cmp"
	"reflect"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/shape"
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

// offerFlags are the names of flags that are not made of protocol and field.
var offerFlags = map[string]string{
	"l2tp.psk":                  "psk-file",
	"l2tp.ppp":                  "ppp",
	"l2tp.ike":                  "ike",
	"l2tp.esp":                  "esp",
	"ikev2.psk":                 "ikev2-psk-file",
	"tls.remotes":               "tls-remote",
	"tls.ciphers":               "tls-cipher",
	"tls.control_key.kind":      "tls-control-kind",
	"tls.control_key.key":       "tls-control-key",
	"tls.control_key.direction": "tls-control-direction",
}

// offerFields are the flags of everything that a gateway can offer.
func offerFields() (fields []field) {
	var walk func(t reflect.Type, path string)
	walk = func(t reflect.Type, path string) {
		for _, f := range shape.Fields(t) {
			if f.JSON == "" || f.Tag.Get("readOnly") != "" {
				continue
			}
			at := path + "." + f.JSON
			if f.Type.Kind() == reflect.Pointer && f.Type.Elem() != reflect.TypeFor[secret.Text]() {
				walk(f.Type.Elem(), at)
				continue
			}
			made := field{path: "offers" + at, flag: offerFlags[at[1:]]}
			if made.flag == "" {
				made.flag = strings.NewReplacer(".", "-", "_", "-").Replace(at[1:])
			}
			if f.JSON == "authority" || at == ".tls.control_key.key" {
				made.kind = fileField // of several lines
			}
			fields = append(fields, made)
		}
	}
	walk(reflect.TypeFor[vpn.Offers](), "")
	return fields
}

func gatewayNoun() noun[api.Gateway] {
	return noun[api.Gateway]{
		name:  "gateway",
		title: "name",
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
		}, append(offerFields(), signIns()...)...),
		find: findGateway,
		meta: func(g api.Gateway) vpn.Meta { return g.Meta },
		ref:  func(g api.Gateway) string { return g.Name },
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
