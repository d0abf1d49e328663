package connect

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/core/pki"
)

// system is what an operating system that does not run here would know after it took a
// parcel: read out of it by a reader of the test's own, and nothing else.
type system struct {
	protocol, server, remoteID, localID string
	auth                                string // eap-mschapv2, eap-tls, certificate or psk
	login, password, psk                string
	cas                                 []*x509.Certificate
	issuer                              string // common name that the gateway's issuer must have
	leaf                                *x509.Certificate
	chain                               []*x509.Certificate
	key                                 crypto.Signer
	ike, esp                            string // in the IKE daemon's words; empty means its own
	routes                              []string
}

func escaped(v string) string { return strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) }

// signs lets the real daemon's client sign in with these values alone.
func (w *ikeWorld) signs(t *testing.T, s system) {
	t.Helper()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("connections { system { remote_addrs = %s", s.server)
	if s.ike != "" {
		line("proposals = %s", s.ike)
	}
	auth := map[string]string{
		"eap-mschapv2": "eap-mschapv2",
		"eap-tls":      "eap-tls",
		"certificate":  "pubkey",
		"psk":          "psk",
	}[s.auth]
	if s.protocol == "l2tp" {
		line("version = 1")
	} else {
		line("version = 2\nvips = 0.0.0.0")
	}
	line("local { auth = %s", auth)
	if s.localID != "" {
		line(`id = "%s"`, s.localID)
	}
	if s.auth == "eap-mschapv2" {
		line(`eap_id = "%s"`, escaped(s.login))
	}
	if s.leaf != nil {
		line("certs = system.pem")
		w.cli.write("/etc/swanctl/x509/system.pem", 0o600, pki.Bundle(s.leaf))
		key, err := pki.KeyPEM(s.key)
		if err != nil {
			t.Fatal(err)
		}
		w.cli.write("/etc/swanctl/private/system.pem", 0o600, key.Reveal())
	}
	remote := map[bool]string{true: "psk", false: "pubkey"}[s.auth == "psk"]
	line("}\nremote { auth = %s", remote)
	if s.remoteID != "" && s.protocol != "l2tp" {
		line(`id = "%s"`, s.remoteID)
	}
	var cas []string
	for i, c := range append(s.cas, s.chain...) {
		name := fmt.Sprintf("system%d.pem", i)
		w.cli.write("/etc/swanctl/x509ca/"+name, 0o600, pki.Bundle(c))
		if i < len(s.cas) {
			cas = append(cas, name)
		}
	}
	if len(cas) > 0 && s.auth != "psk" {
		line("cacerts = %s", strings.Join(cas, ", "))
	}
	mode := ""
	if s.protocol == "l2tp" {
		mode = "mode = transport\nlocal_ts = dynamic[udp/1701]\nremote_ts = dynamic[udp/1701]"
	} else {
		mode = "remote_ts = " + strings.Join(s.routes, ", ")
		if len(s.routes) == 0 {
			mode = "remote_ts = 0.0.0.0/0"
		}
	}
	line("}\nchildren { system { %s", mode)
	if s.esp != "" {
		line("esp_proposals = %s", s.esp)
	}
	line(
		"} } } }\nsecrets { eap-system { id = \"%s\"\nsecret = \"%s\" }",
		escaped(s.login),
		escaped(s.password),
	)
	if s.psk != "" {
		line("ike-system { secret = \"%s\" }", escaped(s.psk))
	}
	line("}")
	w.cli.write("/etc/swanctl/conf.d/system.conf", 0o600, b.String())
	defer w.cli.shell(
		"rm -f /etc/swanctl/conf.d/system.conf /etc/swanctl/*/system*.pem; swanctl --load-all " +
			"--noprompt; swanctl --terminate --ike system > /dev/null 2>&1 || true",
	)
	w.cli.run("swanctl", "--load-all", "--noprompt")
	out, err := w.cli.try(25, "swanctl", "--initiate", "--child", "system", "--timeout", "10")
	if s.protocol == "l2tp" {
		if !strings.Contains(out, "established between") ||
			!strings.Contains(out, "selected proposal: ESP:") {
			t.Errorf("expected main mode up and quick mode chosen:\n%s\nwith\n%s", out, b.String())
		}
		return
	}
	if err != nil {
		t.Errorf("%v\n%s\nwith\n%s", err, out, b.String())
		return
	}
	if ping, err := w.cli.try(8, "ping", "-c", "1", "-W", "2", "10.20.0.1"); err != nil {
		t.Errorf("the internal host does not answer: %s\n%s", ping, b.String())
	}
}

// daemonsWords are the constants of systems in the IKE daemon's words.
var daemonsWords = map[string]string{
	"AES128":           "aes128",
	"AES192":           "aes192",
	"AES256":           "aes256",
	"GCMAES128":        "aes128gcm16",
	"GCMAES256":        "aes256gcm16",
	"AES_GCM_128":      "aes128gcm16",
	"AES_GCM_256":      "aes256gcm16",
	"DES3":             "3des",
	"SHA256128":        "sha256",
	"SHA196":           "sha1",
	"SHA1":             "sha1",
	"SHA256":           "sha256",
	"SHA384":           "sha384",
	"Group2":           "modp1024",
	"Group14":          "modp2048",
	"ECP256":           "ecp256",
	"ECP384":           "ecp384",
	"PFS2048":          "modp2048",
	"PFS2":             "modp1024",
	"None":             "",
	"AES-128":          "aes128",
	"AES-256":          "aes256",
	"AES-128-GCM":      "aes128gcm16",
	"AES-256-GCM":      "aes256gcm16",
	"ChaCha20Poly1305": "chacha20poly1305",
	"SHA1-96":          "sha1",
	"SHA2-256":         "sha256",
	"SHA2-384":         "sha384",
	"SHA2-512":         "sha512",
	"2":                "modp1024",
	"14":               "modp2048",
	"15":               "modp3072",
	"16":               "modp4096",
	"19":               "ecp256",
	"20":               "ecp384",
	"21":               "ecp521",
	"31":               "curve25519",
}

// words joins constants to a proposal: with an AEAD cipher the digest of IKE is the
// pseudo-random function's, and that of a child means nothing.
func words(t *testing.T, ike bool, cipher, digest, group string) string {
	t.Helper()
	for _, v := range []string{cipher, digest, group} {
		if _, known := daemonsWords[v]; !known && v != "" {
			t.Errorf("%q is no constant of that system", v)
		}
	}
	c, d, g := daemonsWords[cipher], daemonsWords[digest], daemonsWords[group]
	aead := strings.Contains(c, "gcm") || strings.Contains(c, "chacha")
	parts := []string{c}
	if d != "" && !aead {
		parts = append(parts, d)
	} else if ike && aead {
		parts = append(parts, "prf"+d)
	}
	if g != "" {
		parts = append(parts, g)
	}
	return strings.Join(parts, "-")
}

// systemsWorld is gateways in every authentication method, for parcels of systems that do not
// run here.
func systemsWorld(t *testing.T) *ikeWorld {
	t.Helper()
	w := newIKEWorld(t)
	w.r.do("authority", "make", "Harbour", "--issuing")
	w.r.do("authority", "make", "Phones", "--kind", "rsa3072")
	for _, m := range []struct{ name, auth, ike, esp, authority string }{
		{"Eap", "eap-mschapv2", "aes256gcm16-prfsha256-ecp256", "aes256gcm16-ecp256", "Harbour"},
		{"Eaptls", "eap-tls", "aes256-sha384-ecp384",
			"aes256-sha256", "Harbour"},
		{"Cert", "certificate", "aes256gcm16-prfsha384-ecp384", "aes256gcm16",
			"Harbour"},
		{"Plain", "eap-mschapv2", "aes256-sha256-modp2048",
			"aes256-sha256", "Phones"},
		{"Open", "eap-mschapv2", "aes256-sha256-modp2048",
			"aes128-sha256", "Harbour"},
	} {
		g := w.gateway(
			m.name,
			"--ikev2-auth",
			m.auth,
			"--ikev2-ike",
			m.ike,
			"--ikev2-esp",
			m.esp,
			"--ikev2-authority",
			w.r.authority(m.authority),
		)
		w.bundle(t, &g, m.authority)
		g.configure(t, w.gw)
	}
	for name, proposals := range map[string][2]string{
		"Psk":     {"aes256-sha384-ecp384", "aes256-sha256"},
		"Openkey": {"aes256-sha256-modp2048", "aes128-sha256"},
	} {
		p := w.gateway(
			name,
			"--ikev2-auth",
			"psk",
			"--ikev2-psk-file",
			w.r.file("psk", psk),
			"--ikev2-local-id",
			"crew@skerryline.example",
			"--ikev2-ike",
			proposals[0],
			"--ikev2-esp",
			proposals[1],
		)
		p.configure(t, w.gw)
	}
	for name, address := range map[string]string{
		"Named":     "10.211.0.60",
		"Certified": "10.211.0.61",
	} {
		flags := []string{"--psk-file", w.r.file("psk", psk), "--behind-nat"}
		local, remote, secrets := "auth = psk", "auth = psk", "secrets { ike-"+name+" { id-1 = "+
			address+"\n secret = \""+escaped(
			psk,
		)+"\" } }"
		if name == "Certified" {
			flags = []string{
				"--l2tp-auth",
				"certificate",
				"--l2tp-authority",
				w.r.authority("Harbour"),
			}
		}
		host := strings.ToLower(name) + ".skerryline.example"
		w.r.do(
			append(
				[]string{
					"gateway",
					"add",
					name,
					"--address",
					host,
					"--known-address",
					address,
					"--route",
					"10.20.0.0/16",
					"--dns",
					"10.20.0.53",
					"--domain",
					"skerryline.example",
					"--ppp",
					"mschapv2",
					"--ike",
					"aes256-sha256-modp2048,aes128-sha1-modp2048",
					"--esp",
					"aes256-sha256,aes128-sha1",
				},
				flags...)...)
		if name == "Certified" {
			g := ikeGateway{name: name, bundle: filepath.Join(w.r.dir, "bundles", name)}
			w.r.do("certificate", "bundle", name, "--authority", "Harbour", "--out", g.bundle)
			g.install(t, w.gw)
			local, remote, secrets = "auth = pubkey\n certs = "+g.file(
				"-certificate.pem",
			), "auth = pubkey\n "+g.trusting(
				t,
			), ""
		}
		w.gw.run("ip", "addr", "add", address+"/16", "dev", "br0")
		w.cli.shell(`echo "$1 $2" >> /etc/hosts`, address, host)
		w.gw.write(
			"/etc/swanctl/conf.d/"+name+".conf",
			0o600,
			fmt.Sprintf(l2tpGateway, name, address, local, remote, secrets),
		)
	}
	w.gw.run("swanctl", "--load-all", "--noprompt")
	return w
}

// device notes a device of a platform, with a certificate where one is wanted.
func (w *ikeWorld) device(name, platform, release, authority string) {
	w.r.do(
		"device",
		"add",
		name,
		"--person",
		"Ada Fjell",
		"--platform",
		platform,
		"--release",
		release,
		"--encrypted",
	)
	if authority != "" {
		w.r.do("certificate", "issue", name, "--authority", authority)
	}
}
