package daemons

import (
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"wardicon/core/format"
)

// known are the keys of each kind of section (swanctl.conf(5) of 5.9), with the values at which
// they change nothing: "*" is any, "-" none, several stand with a bar between. The daemon discards
// a connection with any other key.
var known = map[string]map[string]string{
	"connection": table(`version=- local_addrs=%any remote_addrs=- local_port=0|500
		remote_port=0|500 proposals=default vips=- aggressive=no pull=yes dscp=0|000000 encap=no
		mobike=yes dpd_delay=0s|0 dpd_timeout=* fragmentation=yes|force|accept childless=allow
		send_certreq=yes send_cert=ifasked|always ocsp=reply ppk_id=- ppk_required=no keyingtries=*
		unique=* reauth_time=0s|0 rekey_time=- over_time=* rand_time=* pools=- if_id_in=0
		if_id_out=0 mediation=no mediated_by=- mediation_peer=-`),
	"local": table(`round=0 certs=- pubkeys=- auth=pubkey id=- eap_id=- aaa_id=%any xauth_id=-
		cert_policy=-`),
	"remote": table(`round=0 id=- eap_id=%any groups=- cert_policy=- certs=- cacerts=- ca_id=-
		pubkeys=- revocation=relaxed|ifuri auth=pubkey|rsa|ecdsa|psk`),
	"child": table(`ah_proposals=- esp_proposals=default sha256_96=no local_ts=dynamic remote_ts=-
		rekey_time=- life_time=* rand_time=* rekey_bytes=0 life_bytes=0 rand_bytes=* rekey_packets=0
		life_packets=0 rand_packets=* updown=- hostaccess=no mode=tunnel policies=yes
		policies_fwd_out=no dpd_action=none|clear|restart|trap ipcomp=no inactivity=0s|0 reqid=*
		priority=* interface=- mark_in=0 mark_in_sa=no mark_out=0 set_mark_in=0 set_mark_out=0
		if_id_in=0 if_id_out=0 label=- label_mode=- tfc_padding=0 replay_window=* hw_offload=*
		copy_df=yes copy_ecn=yes copy_dscp=out|yes start_action=- close_action=none`),
}

// values are the words that the daemon takes where it takes a few alone; bool is a switch.
var values = map[string]map[string]string{
	"connection": table(`aggressive=bool mobike=bool encap=bool pull=bool send_certreq=bool
		fragmentation=yes/accept/force/no send_cert=always/never/ifasked
		childless=allow/prefer/force/never unique=never/no/keep/replace ppk_required=bool
		mediation=bool version=0/1/2/3`),
	"remote": table("revocation=strict/ifuri/relaxed"),
	"child": table(`mode=tunnel/transport/transport_proxy/beet/pass/drop policies=bool
		policies_fwd_out=bool hostaccess=bool ipcomp=bool sha256_96=bool mark_in_sa=bool
		dpd_action=none/clear/trap/start/restart close_action=none/trap/start/trap|start
		start_action=none/trap/start/trap|start hw_offload=yes/no/auto/crypto/packet copy_df=bool
		copy_ecn=bool copy_dscp=out/in/yes/no`),
}

// switches are the words for yes and no (libstrongswan, settings).
var switches = strings.Fields("yes no true false 1 0 enabled disabled")

// secretKinds begin the names of sections below secrets.
var secretKinds = strings.Fields("eap xauth ntlm ike ppk private rsa ecdsa pkcs8 pkcs12 token")

// worded remarks a value that the daemon discards the connection for.
func (r *reader) worded(kind, key string, s setting) {
	list := values[kind][key]
	words := strings.Split(list, "/")
	if list == "bool" {
		words = switches
	}
	if list != "" && !slices.Contains(words, s.text) {
		r.Note(format.OptionValue, s.at, "%s = %s, expected %s", key, s.text, format.Choice(words))
	}
	if kind == "connection" && key == "vips" {
		for one := range strings.SplitSeq(s.text, ",") {
			one = strings.TrimSpace(one)
			if _, err := netip.ParseAddr(one); err != nil && !strings.HasPrefix(one, "%any") {
				r.Note(
					format.OptionValue,
					s.at,
					"vips = %s, expected an address such as 0.0.0.0",
					one,
				)
			}
		}
	}
}

func table(words string) map[string]string {
	list := map[string]string{}
	for word := range strings.FieldsSeq(words) {
		key, idle, _ := strings.Cut(word, "=")
		list[key] = idle
	}
	return list
}

// credential is a section below local or remote, which names a file or a key of a token.
var credential = regexp.MustCompile(`^(cert|cacert)[^.]*\.(file|handle|slot|module)$`)

// kindOf tells the kind of section that a value below a connection stands in.
func kindOf(rest string) (kind, key string) {
	section, key, nested := strings.Cut(rest, ".")
	switch {
	case !nested:
		return "connection", rest
	case strings.HasPrefix(section, "local"):
		return "local", key
	case strings.HasPrefix(section, "remote"):
		return "remote", key
	case section == "children":
		_, key, _ = strings.Cut(key, ".")
		return "child", key
	}
	return "", rest
}

// account tells of all that nobody asked for below the connections, and of other sections.
func (r *reader) account() {
	told := map[string]bool{}
	for _, path := range slices.Sorted(maps.Keys(r.set)) {
		s := r.set[path]
		top, rest, _ := strings.Cut(path, ".")
		name, rest, _ := strings.Cut(rest, ".")
		section := top + "." + name
		switch {
		case top == "secrets":
			if !told[section] && !slices.ContainsFunc(secretKinds,
				func(kind string) bool { return strings.HasPrefix(name, kind) }) {
				r.Note(
					format.OptionUnknown,
					s.at,
					"secrets.%s, expected a name that begins with eap, "+
						"ike, private or another kind",
					name,
				)
			}
			if !r.read[path] && !told[section] && !r.inSection(section) {
				r.Left(section+", a secret that no connection here needs", s.at)
			}
			told[section] = true
		case top == "connections" && r.template(section):
		case top == "connections":
			r.accountFor(path, rest, s)
		case (top == "pools" || top == "authorities") && !told[section]:
			r.Left(section, s.at)
			told[section] = true
		}
	}
}

// inSection tells whether a secret of a section was taken.
func (r *reader) inSection(section string) bool {
	return r.read[section+".secret"]
}

func (r *reader) accountFor(path, rest string, s setting) {
	kind, key := kindOf(rest)
	idle, here := known[kind][key]
	r.worded(kind, key, s)
	switch {
	case !here && !(credential.MatchString(key) && (kind == "local" || kind == "remote")):
		r.Note(format.OptionUnknown, s.at, "%s", rest)
		r.Left(rest, s.at)
	case r.read[path] || idle == "*" || slices.Contains(strings.Split(idle, "|"), s.text):
	default:
		r.Left(rest+" = "+s.text, s.at)
	}
}
