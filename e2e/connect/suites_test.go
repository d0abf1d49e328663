package connect

import (
	"strings"
	"testing"
)

// suites are such that each encryption, integrity algorithm, pseudo-random function and group of
// the table is in one at least that the real daemon has too: its IKE and its child proposal.
var suites = []struct{ ike, child string }{
	{"camellia256-sha256-prfaesxcbc-curve448", "camellia256-sha256"},
	{"aes256-sha512-prfaescmac-modp3072", "null-sha256"},
	{"aes192-sha384-modp1024s160", "aes192-sha384"},
	{"3des-md5-modp768", "3des-md5"},
	{"aes128gcm16-prfsha512-ecp521", "aes128gcm16"},
	{"chacha20poly1305-prfsha384-modp6144", "chacha20poly1305"},
	{"aes128-sha1-modp1536", "aes128-sha1"},
	{"aes256gcm16-prfsha256-curve25519", "aes256-sha512"},
	{"aes256gcm16-prfsha384-ecp384", "aes256gcm16"},
	{"aes256-sha256-prfmd5-modp4096", "aes128-sha256"},
	{"aes256-sha256-prfsha1-modp8192", "aes128-sha256"},
	{"aes256-sha256-modp1024", "aes128-sha256"},
	{"aes256-sha256-modp2048", "aes128-sha256"},
	{"aes128-sha256-ecp256", "aes192-sha512"},
}

// TestRehearsalSuites signs in to a real IKE daemon by every suite that it has, and reaches the
// inside.
func TestRehearsalSuites(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t)
	w.r.do("device", "add", "Laptop", "--person", "Ada Fjell", "--platform", "linux", "--release",
		"6", "--encrypted")
	g := w.gateway("Key", "--ikev2-auth", "psk", "--ikev2-ike", "aes256-sha256-ecp256",
		"--ikev2-esp", "aes256-sha256", "--ikev2-psk-file", w.r.file("psk", psk),
		"--ikev2-local-id", "crew@skerryline.example")
	var ike, child []string
	for _, s := range suites {
		ike, child = append(ike, s.ike), append(child, s.child)
	}
	g.configure(t, w.gw)
	// The daemon takes more than is on record.
	g.edit(w.gw, "s/^\\(\\s*proposals = \\).*/\\1"+strings.Join(ike, ",")+"/; s/^\\(\\s*esp_proposals = \\).*/\\1"+
		strings.Join(child, ",")+"/")
	w.gw.run("swanctl", "--load-all", "--noprompt")
	w.r.do("profile", "add", "Laptop", "--gateway", "Key")
	parcel := w.r.build("Laptop/Key")
	for _, s := range suites {
		t.Run(s.ike, func(t *testing.T) {
			changed := spoilt(t, spoilt(t, parcel, `(?m)^(\s*)proposals = \S+$`, "${1}proposals = "+
				s.ike), `esp_proposals = \S+`, "esp_proposals = "+s.child)
			r, out := w.cli.rehearse(changed)
			if !r.Passed {
				t.Fatalf("%s", out)
			}
			for _, part := range strings.Split(s.ike, "-") {
				if !strings.Contains(r.Suite, part) {
					t.Errorf("the suite is %s, expected %s", r.Suite, s.ike)
				}
			}
			if !strings.HasPrefix(r.Tunnel, s.child) {
				t.Errorf("the tunnel is by %s, expected %s", r.Tunnel, s.child)
			}
		})
	}
}

// TestRehearsalEAPOnly signs in to a real IKE daemon that proves itself by EAP-TLS alone (RFC
// 5998), with a file that allows it, and with one that does not.
func TestRehearsalEAPOnly(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t)
	w.r.do("authority", "make", "Harbour")
	w.r.do("device", "add", "Laptop", "--person", "Ada Fjell", "--platform", "linux", "--release",
		"6", "--encrypted")
	w.r.do("certificate", "issue", "Laptop", "--authority", "Harbour")
	g := w.gateway("Only", "--ikev2-auth", "eap-tls", "--ikev2-ike", "aes256-sha256-ecp256",
		"--ikev2-esp", "aes256-sha256", "--ikev2-authority", w.r.authority("Harbour"))
	w.bundle(t, &g, "Harbour")
	g.configure(t, w.gw)
	g.edit(w.gw, "/local {/,/}/s/auth = pubkey/auth = eap-tls/")
	w.gw.run("swanctl", "--load-all", "--noprompt")
	w.r.do("profile", "add", "Laptop", "--gateway", "Only")
	parcel := w.r.build("Laptop/Only")
	only := spoilt(t, parcel, `(remote \{\s*auth = )pubkey`, "${1}eap-tls")
	if r, out := w.cli.rehearse(only); !r.Passed || !strings.Contains(r.Proof, "EAP-TLS") {
		t.Errorf("by EAP alone: %s", out)
	}
	if r, out := w.cli.rehearse(parcel); r.Passed {
		t.Errorf("a gateway that does not prove itself was taken: %s", out)
	}
}
