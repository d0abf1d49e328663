package keyfile

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
)

// Kind is what a plugin of NetworkManager takes as the value of a property.
type Kind string

// The kinds: "yes" or "no", digits (a number between two bounds, as in 1-65535, too), or anything.
const (
	Flag   Kind = "flag"
	Number Kind = "number"
	Text   Kind = ""
)

// plugins are the properties that each plugin takes in [vpn], by the end of its service's name. A
// plugin refuses a connection with any other, and one with a value of another kind:
// NetworkManager's plugins for openvpn 1.10, l2tp 1.20, pptp 1.2 and sstp 1.3 (TestPlugins asks
// them). That for IKEv2 is not here: it passes over what it does not know.
var plugins = map[string]map[string]Kind{
	"openvpn": properties(`
		auth ca cert cert-pass-flags cipher comp-lzo compress connect-timeout connection-type
		crl-verify-dir crl-verify-file data-ciphers dev dev-type float=flag fragment-size
		http-proxy-password-flags http-proxy-username key keysize=1-65535 local-ip
		max-routes=number mssfix no-secret password-flags ping=number ping-exit=number
		ping-restart=number port=1-65535 proto-tcp=flag proxy-port=1-65535 proxy-server proxy-type
		push-peer-info=flag remote remote-cert-tls remote-ip remote-random=flag reneg-seconds
		static-key static-key-direction ta ta-dir tap-dev=flag tls-crypt tls-crypt-v2 tls-remote
		tls-version-min tls-version-min-or-highest=flag tunnel-mtu username verify-x509-name`),
	"l2tp": properties(`
		cert-ca cert-key cert-pub domain ephemeral-port=flag gateway ipsec-enabled=flag ipsec-esp
		ipsec-forceencaps=flag ipsec-gateway-id ipsec-ike ipsec-ikelifetime=number
		ipsec-ikev2=flag ipsec-ipcomp=flag ipsec-pfs=flag ipsec-psk ipsec-psk-flags=number
		ipsec-remote-id ipsec-salifetime=number lcp-echo-failure=number lcp-echo-interval=number
		machine-auth-type machine-ca machine-cert machine-certpass-flags=number machine-key
		mppe-stateful=flag mrru=number mru=number mtu=number no-vj-comp=flag noaccomp=flag
		nobsdcomp=flag nodeflate=flag nopcomp=flag password-flags=number refuse-chap=flag
		refuse-eap=flag refuse-mschap=flag refuse-mschapv2=flag refuse-pap=flag require-mppe=flag
		require-mppe-128=flag require-mppe-40=flag unit=number use-cert=number user
		user-auth-type user-ca user-cert user-certpass-flags=number user-key`),
	"pptp": properties(`
		domain gateway lcp-echo-failure lcp-echo-interval mppe-stateful=flag no-vj-comp=flag
		nobsdcomp=flag nodeflate=flag password-flags refuse-chap=flag refuse-eap=flag
		refuse-mschap=flag refuse-mschapv2=flag refuse-pap=flag require-mppe=flag
		require-mppe-128=flag require-mppe-40=flag unit user`),
	"sstp": properties(`
		ca-cert connection-type crl-file domain gateway ignore-cert-warn=flag lcp-echo-failure
		lcp-echo-interval mppe-stateful=flag no-secret no-vj-comp=flag nobsdcomp=flag
		nodeflate=flag password-flags proxy-password-flags proxy-port proxy-server proxy-user
		refuse-chap=flag refuse-eap=flag refuse-mschap=flag refuse-mschapv2=flag refuse-pap=flag
		require-mppe=flag require-mppe-128=flag require-mppe-40=flag tls-ca-cert tls-ext=flag
		tls-identity tls-max-version tls-remotename tls-subject-name tls-user-cert tls-user-key
		tls-user-key-secret-flags tls-verify-key-usage=flag tls-verify-method unit user uuid`),
}

// newer are properties that only later releases of a plugin take.
var newer = map[string]map[string]bool{
	"openvpn": {
		"data-ciphers-fallback": true, "challenge-response-flags": true, "allow-compression": true,
		"allow-pull-fqdn": true, "extra-certs": true, "mtu-disc": true,
		"remote-random-hostname": true, "tls-cipher": true, "tls-version-max": true,
		"tun-ipv6":    true,
		"verify-hash": true,
	},
}

// secrets are the properties in [vpn-secrets].
var secrets = map[string]string{
	"openvpn": "password cert-pass http-proxy-password challenge-response",
	"l2tp":    "password ipsec-psk user-certpass machine-certpass",
	"pptp":    "password",
	"sstp":    "password proxy-password tls-user-key-secret",
}

// choices are the words that a plugin takes for a property.
var choices = map[string][]string{
	"openvpn connection-type":      {"tls", "password", "password-tls", "static-key"},
	"openvpn remote-cert-tls":      {"server", "client"},
	"openvpn dev-type":             {"tun", "tap"},
	"openvpn proxy-type":           {"http", "socks"},
	"openvpn comp-lzo":             {"yes", "no", "adaptive", "no-by-default"},
	"openvpn static-key-direction": {"0", "1"},
	"openvpn ta-dir":               {"0", "1"},
	"openvpn tls-version-min":      {"1.0", "1.1", "1.2", "1.3"},
	"l2tp machine-auth-type":       {"psk", "tls"},
	"l2tp user-auth-type":          {"password", "tls"},
	"sstp connection-type":         {"password", "tls"},
}

// ofManager are keys of [vpn] that NetworkManager keeps to itself (nm-settings-keyfile(5), vpn).
var ofManager = []string{"service-type", "user-name", "persistent", "timeout"}

func properties(text string) map[string]Kind {
	list := map[string]Kind{}
	for word := range strings.FieldsSeq(text) {
		name, kind, _ := strings.Cut(word, "=")
		list[name] = Kind(kind)
	}
	return list
}

// Properties are those that the plugin of a service takes; nil for one that takes any.
func Properties(service string) map[string]Kind { return plugins[service] }

var digits = regexp.MustCompile(`^\d+$`)

// strange remarks a key that nobody knows.
func (r *reader) strange(key, group string, list []string, at format.Position) {
	switch right := format.Meant(key, list); {
	case slices.Contains(list, key):
	case right != "":
		r.Note(format.KeyMisspelt, at, "%s in [%s], expected %s", key, group, right)
	default:
		r.Note(format.KeyUnknown, at, "%s in [%s]", key, group)
	}
}

// holds tells whether a value is a number within the bounds.
func (k Kind) holds(raw string) bool {
	n, err := strconv.Atoi(raw)
	low, high, bounded := strings.Cut(string(k), "-")
	least, _ := strconv.Atoi(low)
	most, _ := strconv.Atoi(high)
	return digits.MatchString(raw) && err == nil && (!bounded || n >= least && n <= most)
}

// plugin holds [vpn] and [vpn-secrets] to what the plugin of the service takes.
func (r *reader) plugin(service string) {
	list := plugins[service]
	if r.held = list != nil; !r.held {
		for _, group := range []string{"vpn", "vpn-secrets"} {
			for _, key := range slices.Sorted(maps.Keys(r.groups[group])) {
				r.strange(key, group, known[group], r.groups[group][key].at)
			}
		}
		return
	}
	for _, key := range slices.Sorted(maps.Keys(r.groups["vpn"])) {
		v := r.groups["vpn"][key]
		raw := strings.TrimSpace(v.raw)
		kind, takes := list[key]
		switch allowed := choices[service+" "+key]; {
		case slices.Contains(ofManager, key):
		case !takes && newer[service][key]:
			r.Note(format.OptionOlder, v.at, "%s, which older plugins refuse", key)
		case !takes:
			r.Note(format.OptionUnknown, v.at, "%s, a property that the plugin does not take", key)
		case kind == Flag && raw != "yes" && raw != "no":
			r.Note(format.OptionValue, v.at, "%s=%s, expected yes or no", key, raw)
		case kind != Text && kind != Flag && !kind.holds(raw):
			r.Note(format.OptionValue, v.at, "%s=%s, expected a %s", key, raw, kind)
		case allowed != nil && !slices.Contains(allowed, raw):
			r.Note(format.OptionValue, v.at, "%s=%s, expected %s", key, raw,
				format.Choice(allowed))
		}
	}
	for _, key := range slices.Sorted(maps.Keys(r.groups["vpn-secrets"])) {
		v := r.groups["vpn-secrets"][key]
		if !slices.Contains(strings.Fields(secrets[service]), key) {
			r.Note(format.OptionUnknown, v.at, "%s, a secret that the plugin does not take", key)
		}
	}
}
