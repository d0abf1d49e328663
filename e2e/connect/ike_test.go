package connect

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// userSpace lets the IKE daemon of a box do ESP in user space, because the kernel of a test
// machine has none, and end its tries soon.
const userSpace = `charon-systemd {
  threads = 16
  retransmit_timeout = 1.0
  retransmit_tries = 3
  journal { default = -1 }
  filelog { stdout { default = 1
      ike = 2
      cfg = 2
      flush_line = yes } } }
charon-nm { threads = 16
  retransmit_timeout = 1.0
  retransmit_tries = 3 }
`

// prepareIKE sets the IKE daemon's own settings in a box.
func (b *box) prepareIKE() {
	b.t.Helper()
	b.shell(`rm -rf /etc/swanctl && mkdir -p /etc/swanctl/conf.d /etc/swanctl/x509 /etc/swanctl/x509ca /etc/swanctl/private && printf 'include conf.d/*.conf\n' > /etc/swanctl/swanctl.conf
printf 'kernel-libipsec { load = 2\n allow_peer_ts = yes }\n' > /etc/strongswan.d/charon/kernel-libipsec.conf`)
	b.write("/etc/strongswan.d/zz-user-space.conf", 0o644, userSpace)
}

// startIKE starts it, as the system would have done before anything is installed.
func (b *box) startIKE() *daemon {
	b.t.Helper()
	d := b.start("ike-daemon", "/usr/sbin/charon-systemd")
	if !until(15, func() bool { _, err := b.try(5, "test", "-S", "/run/charon.vici"); return err == nil }) {
		b.t.Fatalf("the IKE daemon of %s did not start:\n%s", b.name, d.said())
	}
	return d
}

// ikeGateway is a gateway's side of IKEv2, as its administrator sets it up from the record
// and from the bundle that Wardicon made.
type ikeGateway struct {
	name, address string
	bundle        string // folder; empty with a pre-shared key
	remote        string // the daemon's words for how clients authenticate
	proposals     string
	secrets       string
}

func (g ikeGateway) file(ending string) string { return strings.ToLower(g.name) + ending }

// configure installs bundle and configuration on the gateway's daemon.
func (g ikeGateway) configure(t testing.TB, b *box) {
	t.Helper()
	local := "auth = psk"
	if g.bundle != "" {
		local = "auth = pubkey\n certs = " + g.file("-certificate.pem")
		files, err := os.ReadDir(g.bundle)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			folder := map[bool]string{strings.HasSuffix(f.Name(), "-certificate.pem"): "x509", strings.HasSuffix(f.Name(), "-key.pem"): "private", authorityFile.MatchString(f.Name()): "x509ca"}[true]
			if folder == "" {
				continue
			}
			content, err := os.ReadFile(filepath.Join(g.bundle, f.Name()))
			if err != nil {
				t.Fatal(err)
			}
			b.write("/etc/swanctl/"+folder+"/"+f.Name(), 0o600, string(content))
		}
	}
	proposals := g.proposals
	if proposals == "" {
		proposals = "aes256gcm16-prfsha384-ecp384,aes256-sha256-modp2048"
	}
	b.write("/etc/swanctl/conf.d/"+g.file(".conf"), 0o600, fmt.Sprintf(`connections { %[1]s { version = 2
 local_addrs = %[2]s
 pools = %[1]s
 proposals = %[3]s
 send_cert = always
 local { %[4]s
 id = %[1]s.skerryline.example }
 remote { %[5]s }
 children { net { local_ts = 10.20.0.0/16
  esp_proposals = aes256gcm16,aes256-sha256 } } } }
pools { %[1]s { addrs = 10.77.%[6]s.0/24
 dns = 10.20.0.53 } }
%[7]s`, strings.ToLower(g.name), g.address, proposals, local, g.remote, g.address[strings.LastIndex(g.address, ".")+1:], g.secrets))
}

// authorityFile are the files of a bundle that hold one certificate authority each.
var authorityFile = regexp.MustCompile(`-ca[0-9]+\.pem$`)

// comesUp initiates a connection as its card says, and looks at what it is worth: the
// inside host answers, and the resolver is the inside one.
func comesUp(t testing.TB, b *box, initiate ...string) {
	t.Helper()
	out, err := b.try(25, initiate...)
	if err != nil {
		t.Errorf("%s: %v\n%s", strings.Join(initiate, " "), err, out)
		return
	}
	inside(t, b)
}

func inside(t testing.TB, b *box) {
	t.Helper()
	if out, err := b.try(8, "ping", "-c", "2", "-i", "0.2", "-W", "2", "10.20.0.1"); err != nil {
		t.Errorf("the inside host does not answer: %v\n%s", err, out)
	}
	if text, _ := b.try(5, "cat", "/etc/resolv.conf"); !strings.Contains(text, "nameserver 10.20.0.53") {
		t.Errorf("the inside resolver is not in use: %q", text)
	}
}

// TestIKEv2 installs the parcels of headless Linux with their own scripts, connects, and
// removes them with their own scripts.
func TestIKEv2(t *testing.T) {
	need(t, "swanctl", "/usr/sbin/charon-systemd", "ip", "nsenter", "ping")
	r := newRecords(t)
	gw, cli := newBox(t, "gateway"), newBox(t, "client")
	join(gw, cli)
	gw.shell("ip addr add 10.20.0.1/32 dev lo && ip addr add 10.20.0.53/32 dev lo")
	gw.prepareIKE()
	cli.prepareIKE()
	for _, b := range []*box{gw, cli} {
		b.startIKE()
	}
	r.do("person", "add", "Ada Fjell", "--mail", "ada@skerryline.example")
	r.do("account", "add", "a_fjell", "--person", "Ada Fjell", "--password-file", r.file("ada", "Wonder-Land 1"))
	r.do("authority", "make", "Root")
	r.do("device", "add", "Laptop", "--person", "Ada Fjell", "--platform", "linux", "--release", "debian 12", "--encrypted")
	r.do("gateway", "add", "Eap", "--address", "eap.skerryline.example", "--route", "10.20.0.0/16", "--dns", "10.20.0.53", "--domain", "inside.skerryline.example", "--pool", "10.77.11.0/24",
		"--ikev2-auth", "eap-mschapv2", "--ikev2-ike", "aes256gcm16-prfsha384-ecp384", "--ikev2-esp", "aes256gcm16", "--ikev2-authority", r.authority("Root"))
	bundle := filepath.Join(r.dir, "bundle")
	r.do("certificate", "outfit", "Eap", "--authority", "Root", "--to", bundle)
	gw.run("ip", "addr", "add", "10.211.0.11/16", "dev", "br0")
	cli.shell("echo 10.211.0.11 eap.skerryline.example >> /etc/hosts")
	g := ikeGateway{name: "Eap", address: "10.211.0.11", bundle: bundle, remote: "auth = eap-mschapv2\n eap_id = %any", secrets: "secrets { eap-ada { id = a_fjell\n secret = \"Wonder-Land 1\" } }"}
	g.configure(t, gw)
	gw.run("swanctl", "--load-all", "--noprompt")
	r.do("profile", "add", "Laptop", "--gateway", "Eap")
	parcel := r.build("Laptop/Eap")
	cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
	comesUp(t, cli, "swanctl", "--initiate", "--child", "skerry-line-eap", "--timeout", "20")
	cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
}
