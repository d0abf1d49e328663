package daemons

import (
	"maps"
	"strings"
)

// otherWords are keys of ipsec.conf that only the other IKE daemon that reads such files has, by
// the keys that say the same here; an empty one says nothing of the connection.
var otherWords = map[string]string{
	"ikev2": "keyexchange", "phase2alg": "esp", "salifetime": "keylife",
	"encapsulation": "forceencaps", "leftmodecfgclient": "", "rightmodecfgserver": "",
	"modecfgpull": "", "narrowing": "", "phase2": "",
	"nat-keepalive": "", "retransmit-timeout": "", "retransmit-interval": "", "initial-contact": "",
	"ms-dh-downgrade": "", "rekeywindow": "", "esn": "", "decap-dscp": "", "nat-ikev1-method": "",
	"sha2-truncbug": "", "dns-match-id": "", "require-id-on-certificate": "", "cisco-unity": "",
	"remote-peer-type": "", "keyexchange": "keyexchange",
}

// translated puts a section that is written for the other daemon into the words that are read here;
// another stays as it is.
func (r *reader) translated(c conn) conn {
	other := false
	for key := range c {
		_, known := otherWords[key]
		other = other || known && key != "keyexchange"
	}
	if !other {
		return c
	}
	c, r.inDatabase = maps.Clone(c), true
	if v, ok := c["ikev2"]; ok { // its default since release 4.0 is IKEv2
		v.text = map[string]string{"no": "ikev1", "never": "ikev1"}[v.text]
		if v.text == "" {
			v.text = "ikev2"
		}
		c["keyexchange"] = v
	}
	if v, ok := c["leftmodecfgclient"]; ok && v.text == "yes" && c["leftsourceip"].text == "" {
		v.text = "%config"
		c["leftsourceip"] = v
	}
	for key, here := range otherWords {
		v, ok := c[key]
		if !ok || key == here {
			continue
		}
		delete(c, key)
		if _, own := c[here]; here != "" && !own {
			c[here] = v
		}
	}
	// Certificates are named as they are in the daemon's own database, which is on the device.
	for key, own := range map[string]string{"leftcert": "", "leftid": "%fromcert"} {
		if v := c[key]; own == "" || v.text == own {
			delete(c, key)
		}
	}
	for _, key := range []string{"ike", "esp"} {
		if v, ok := c[key]; ok { // a group stands behind a semicolon or a plus sign there
			v.text = strings.NewReplacer(";", "-", "+", "-").Replace(v.text)
			c[key] = v
		}
	}
	return c
}
