package daemons

import (
	"maps"
	"slices"
	"strings"
)

// otherWords are keys of ipsec.conf that only the other IKE daemon that reads such files has, by
// the keys that say the same here; those by an empty one are not carried.
var otherWords = map[string]string{
	"ikev2": "keyexchange", "phase2alg": "esp", "salifetime": "keylife",
	"encapsulation": "forceencaps", "leftmodecfgclient": "", "rightmodecfgserver": "",
	"modecfgpull": "", "narrowing": "", "phase2": "", "nat-keepalive": "",
	"retransmit-timeout": "", "retransmit-interval": "", "initial-contact": "",
	"ms-dh-downgrade": "", "rekeywindow": "", "esn": "", "decap-dscp": "", "nat-ikev1-method": "",
	"sha2-truncbug": "", "dns-match-id": "", "require-id-on-certificate": "", "cisco-unity": "",
	"remote-peer-type": "",
}

// otherAssumed are values that change nothing, or that every device needs.
var otherAssumed = map[string]string{
	"leftmodecfgclient": "yes", "phase2": "esp", "narrowing": "yes", "modecfgpull": "yes",
	"leftid": "%fromcert",
}

// translated puts a section that is written for the other daemon into the words that are read here;
// another stays as it is.
func (r *reader) translated(c conn) conn {
	other := false
	for key := range c {
		_, known := otherWords[key]
		other = other || known
	}
	if !other {
		return c
	}
	c, r.inDatabase = maps.Clone(c), true
	if v, ok := c["ikev2"]; ok { // its default since release 4.0 is IKEv2
		word := "ikev2"
		if v.text == "no" || v.text == "never" {
			word = "ikev1"
		}
		c["keyexchange"] = setting{word, v.at}
	}
	if v := c["leftmodecfgclient"]; v.text == "yes" && c["leftsourceip"].text == "" {
		c["leftsourceip"] = setting{"%config", v.at}
	}
	for _, key := range slices.Sorted(maps.Keys(c)) {
		here, ok := otherWords[key]
		// Certificates are named as they are in the daemon's own database, which is on the device.
		if !ok && key != "leftcert" && (key != "leftid" || c[key].text != otherAssumed[key]) {
			continue
		}
		v := c[key]
		delete(c, key)
		_, own := c[here]
		switch {
		case here != "" && !own:
			c[here] = v
		case here == "" && v.text != otherAssumed[key]:
			r.Left(key+" "+v.text, v.at)
		}
	}
	for _, key := range []string{"ike", "esp"} { // a group stands behind another sign there
		if v, ok := c[key]; ok {
			c[key] = setting{strings.NewReplacer(";", "-", "+", "-").Replace(v.text), v.at}
		}
	}
	return c
}
