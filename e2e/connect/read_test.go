package connect

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// grown are the files of a gateway as its administrators have written them over the years: with
// templates, remarks, orders and words of their own.
const grownIKE = `# IKE daemon of the old harbour
base {
    send_cert = always
    dpd_delay = 45
    proposals = aes256-sha256-ecp256, aes256gcm16-prfsha384-ecp384
}
connections {
    people : base {
        version = 2
        pools = staff
        local-1 { auth = pubkey
            certs = old-certificate.pem
            id = old.skerryline.example }
        remote-1 { auth = eap-mschapv2
            eap_id = %%any }
        children { inside {
            local_ts = 10.20.0.0/16   # the timetable network
            esp_proposals = aes256gcm16-ecp256, aes256-sha256
            rekey_time = 1h
        } }
    }
    machines : base {
        version = 2
        pools = staff
        local { auth = pubkey
            certs = old-certificate.pem
            id = old.skerryline.example }
        remote { auth = pubkey
            cacerts = old-ca1.pem }
        children { inside { local_ts = 10.20.0.0/16 } }
    }
    branch { # a tunnel of its own: nobody's device
        remote_addrs = 192.0.2.9
        local { auth = psk }
        remote { auth = psk }
        children { site { remote_ts = 10.99.0.0/24 } }
    }
}
pools { staff { addrs = 10.77.90.0/24
    dns = 10.20.0.53 } }
secrets { eap-1 { id = "%s"
    secret = "%s" } }
`

const grownTunnel = `; TLS tunnel of the old harbour
port 1194
proto udp
dev tun7
local 10.211.0.%d
ca old-authority.pem
cert old-chain.pem
key old-key.pem
dh none
topology subnet
server 10.78.90.0 255.255.255.0
push "route 10.20.0.0 255.255.0.0"
push "dhcp-option DNS 10.20.0.53"
push "dhcp-option DOMAIN inside.skerryline.example"
keepalive 20 120
cipher AES-256-GCM
data-ciphers AES-256-GCM:CHACHA20-POLY1305
tls-version-min 1.2
tls-crypt old-control.key
duplicate-cn
verb 3
`

// TestRead fills the record of a gateway from what its administrators have written, writes its
// configuration again from the record, and lets the daemons run that: the same clients connect.
func TestRead(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t, "openvpn")
	w.cli.startIKE()
	w.r.do("authority", "make", "Harbour", "--issuing")
	w.r.do("device", "add", "Laptop", "--person", "Ada Fjell", "--platform", "linux", "--release",
		"6", "--encrypted")
	w.device("Guest", "linux", "6", "")
	w.r.do("certificate", "issue", "Laptop", "--authority", "Harbour")
	// A certificate for it comes from a record that goes again: the files are all that is left.
	g := w.gateway("Old", "--ikev2-auth", "eap-mschapv2", "--ikev2-authority", w.r.authority("Harbour"))
	w.bundle(t, &g, "Harbour")
	w.r.do("gateway", "remove", "Old", "--yes")
	etc := filepath.Join(t.TempDir(), "etc")
	if err := os.CopyFS(etc, os.DirFS(g.bundle)); err != nil {
		t.Fatal(err)
	}
	control, err := os.ReadFile(controlKey(t, w.r, "Old", "crypt"))
	if err != nil {
		t.Fatal(err)
	}
	quoted := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(password)
	for name, text := range map[string]string{
		"swanctl.conf":    fmt.Sprintf(grownIKE, login, quoted),
		"old-server.conf": fmt.Sprintf(grownTunnel, w.last),
		"old-control.key": string(control),
	} {
		if err := os.WriteFile(filepath.Join(etc, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}

	users := filepath.Join(t.TempDir(), "users.csv")
	out := w.r.do("gateway", "read", "Old", etc, "--address", "old.skerryline.example", "--users", users)
	if strings.Contains(out, "10.99.0.0") || strings.Contains(out, "Wonder-Land") {
		t.Errorf("a tunnel of its own, or a password, is shown:\n%s", out)
	}
	if text, err := os.ReadFile(users); err != nil || !strings.Contains(string(text), login+",") {
		t.Errorf("the users are %s, %v", text, err)
	}
	record := w.r.do("gateway", "show", "Old")
	for _, want := range []string{
		"10.77.90.0/24", "10.78.90.0/24", "aes256-sha256-ecp256", "eap-mschapv2", "certificate",
		"AES-256-GCM", "CHACHA20-POLY1305", "inside.skerryline.example", "10.20.0.53", "10.20.0.0/16",
	} {
		if !strings.Contains(record, want) {
			t.Errorf("the record has no %s:\n%s", want, record)
		}
	}
	w.r.do("gateway", "change", "Old", "--known-address", g.address)
	g.configureAs(t, w.gw, "")
	w.gw.run("swanctl", "--load-all", "--noprompt")
	w.goes(t, "Guest", "Old") // by login and password
	server := serveTunnel(t, w.r, w.gw, "Old", "udp", "Harbour")
	defer server.stop()
	w.r.do("profile", "add", "Laptop", "--gateway", "Old", "--protocol", "tls")
	parcel := w.r.build("Laptop/Old")
	w.cli.rehearsed(parcel)
	w.cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
	client := w.cli.start("old", "openvpn", "--config", "/etc/openvpn/client/skerry-line-old.conf")
	defer client.stop()
	if !until(15, func() bool {
		return strings.Contains(client.said(), "Initialization Sequence Completed")
	}) {
		t.Errorf("%s\nthe gateway says\n%s", client.said(), server.said())
		return
	}
	inside(t, w.cli)
	// A certificate that was revoked is refused once the gateway has the list.
	client.stop()
	server.stop()
	w.r.do("certificate", "revoke", "--device", "Laptop", "--reason", "key-compromise", "--yes")
	server = serveTunnel(t, w.r, w.gw, "Old", "udp", "Harbour")
	defer server.stop()
	refused := w.cli.start("refused", "openvpn", "--config",
		"/etc/openvpn/client/skerry-line-old.conf", "--connect-retry-max", "1")
	defer refused.stop()
	if !until(15, func() bool { return strings.Contains(server.said(), "certificate revoked") }) {
		t.Errorf("a revoked certificate is taken:\n%s\n%s", refused.said(), server.said())
	}
}
