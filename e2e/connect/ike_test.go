package connect

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
	"wardicon/core/pki"
)

// userSpace lets the IKE daemon of a box do ESP in user space, because the kernel of a test
// machine has none, and end its tries soon.
const userSpace = `charon-systemd {
  threads = 16
  retransmit_timeout = 1.0
  retransmit_tries = 3
  journal { default = -1 }
  plugins { socket-default { fwmark = 0x42 }
    kernel-netlink { fwmark = !0x42 } }
  filelog { stdout { default = 1
      ike = 2
      cfg = 2
      flush_line = yes } } }
charon-nm { threads = 16
  load = random nonce aes sha2 sha1 md5 mgf1 x509 revocation constraints pubkey pkcs1 pkcs7 pkcs8 sshkey pem openssl fips-prf gmp curve25519 chapoly xcbc cmac hmac kdf ctr ccm gcm drbg kernel-libipsec kernel-netlink socket-default eap-identity eap-mschapv2 eap-tls
  retransmit_timeout = 1.0
  retransmit_tries = 3
  plugins { socket-default { fwmark = 0x42 }
    kernel-netlink { fwmark = !0x42 } }
  filelog { nm { path = /run/charon-nm.log
      default = 1
      ike = 2
      cfg = 2
      flush_line = yes } } }
`

// prepareIKE sets the IKE daemon's own settings in a box.
func (b *box) prepareIKE() {
	b.t.Helper()
	b.shell(
		`rm -rf /etc/swanctl && mkdir -p /etc/swanctl/conf.d /etc/swanctl/x509 /etc/swanctl/x509ca /etc/swanctl/private && printf 'include conf.d/*.conf\n' > /etc/swanctl/swanctl.conf
printf 'kernel-libipsec { load = 2\n allow_peer_ts = yes }\n' > /etc/strongswan.d/charon/kernel-libipsec.conf`,
	)
	b.write("/etc/strongswan.d/zz-user-space.conf", 0o644, userSpace)
}

// startIKE starts it, as the system would have done before anything is installed.
func (b *box) startIKE() *daemon {
	b.t.Helper()
	d := b.start("ike-daemon", "/usr/sbin/charon-systemd")
	if !until(
		15,
		func() bool { _, err := b.try(5, "test", "-S", "/run/charon.vici"); return err == nil },
	) {
		b.t.Fatalf("the IKE daemon of %s did not start:\n%s", b.name, d.said())
	}
	return d
}

// ikeGateway is a gateway's side of IKEv2, as its administrator sets it up from the record
// and from the bundle that Wardicon made.
type ikeGateway struct {
	r             *records
	name, address string
	bundle        string // folder; empty with a pre-shared key
}

func (g ikeGateway) file(ending string) string { return strings.ToLower(g.name) + ending }

// install puts the files of the bundle where the daemon looks for them.
func (g ikeGateway) install(t testing.TB, b *box) {
	t.Helper()
	if g.bundle != "" {
		files, err := os.ReadDir(g.bundle)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			folder := map[bool]string{
				strings.HasSuffix(f.Name(), "-certificate.pem"): "x509",
				strings.HasSuffix(f.Name(),
					"-key.pem"): "private",
				authorityFile.MatchString(f.Name()): "x509ca",
			}[true]
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
}

// configure installs the bundle and the configuration that the service makes of the record.
func (g ikeGateway) configure(t testing.TB, b *box) {
	t.Helper()
	g.configureAs(t, b, fmt.Sprintf("10.77.%s.0/24", g.address[strings.LastIndex(g.address, ".")+1:]))
}

// configureAs does so with an address pool; empty leaves that of the record.
func (g ikeGateway) configureAs(t testing.TB, b *box, pool string) {
	t.Helper()
	g.install(t, b)
	if pool != "" {
		g.r.do("gateway", "change", g.name, "--pool", pool)
	}
	folder := g.r.configured(g.name)
	files, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		to := ""
		switch {
		case f.Name() == g.file(".conf"), f.Name() == g.file("-users.conf"):
			to = "conf.d"
		case strings.HasSuffix(f.Name(), ".crl"):
			to = "x509crl"
		case strings.HasSuffix(f.Name(), ".pem") && !strings.HasSuffix(f.Name(), "-crl.pem"):
			to = "x509ca"
		default:
			continue
		}
		content, err := os.ReadFile(filepath.Join(folder, f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		b.write("/etc/swanctl/"+to+"/"+f.Name(), 0o600, string(content))
	}
}

// edit changes what the service made, as sed does, for a daemon that is otherwise than its record.
func (g ikeGateway) edit(b *box, script string) {
	b.t.Helper()
	b.shell(`sed -i "$1" "$2"`, script, "/etc/swanctl/conf.d/"+g.file(".conf"))
}

// authorityFile are the files of a bundle that hold one certificate authority each.
var authorityFile = regexp.MustCompile(`-ca[0-9]+\.pem$`)

// comesUp initiates a connection as its card says, and looks at what it is worth: the
// internal host answers, and the resolver is the inside one.
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
		t.Errorf("the internal host does not answer: %v\n%s", err, out)
	}
	if text, _ := b.try(
		5,
		"cat",
		"/etc/resolv.conf",
	); !strings.Contains(
		text,
		"nameserver 10.20.0.53",
	) {
		t.Errorf("the inside resolver is not in use: %q", text)
	}
}

// trusting is the daemon's list of the authorities of a bundle that clients are held against.
func (g ikeGateway) trusting(t testing.TB) string {
	t.Helper()
	files, err := os.ReadDir(g.bundle)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range files {
		if authorityFile.MatchString(f.Name()) {
			names = append(names, f.Name())
		}
	}
	return "cacerts = " + strings.Join(names, ", ")
}

const (
	login    = "a_fjell"
	password = `Wonder-Land 1 \"quoted\"`
	psk      = `kelp9 "harbour"\lantern4`
)

// ikeWorld is the records, the gateway's daemon and the ways in which gateways and devices
// come to their certificates.
type ikeWorld struct {
	r       *records
	gw, cli *box
	last    int // part of the last gateway's address
}

func newIKEWorld(t *testing.T) *ikeWorld {
	w := newIKEWorldOf(t)
	w.cli.startIKE()
	return w
}

// newIKEWorldOf leaves out the client's own daemon.
func newIKEWorldOf(t *testing.T, programs ...string) *ikeWorld {
	t.Helper()
	need(
		t,
		append(
			[]string{"swanctl", "/usr/sbin/charon-systemd", "ip", "nsenter", "ping"},
			programs...)...)
	w := &ikeWorld{r: newRecords(t), gw: newBox(t, "gateway"), cli: newBox(t, "client"), last: 10}
	join(w.gw, w.cli)
	w.gw.shell("ip addr add 10.20.0.1/32 dev lo && ip addr add 10.20.0.53/32 dev lo")
	w.gw.serves()
	w.gw.prepareIKE()
	w.cli.prepareIKE()
	w.gw.startIKE()
	w.r.do("person", "add", "Ada Fjell", "--mail", "ada@skerryline.example")
	w.r.do(
		"account",
		"add",
		login,
		"--person",
		"Ada Fjell",
		"--password-file",
		w.r.file("ada", password),
	)
	return w
}

// gateway notes a gateway that offers IKEv2 and gives it an address of its own.
func (w *ikeWorld) gateway(name string, flags ...string) ikeGateway {
	w.last++
	g := ikeGateway{r: w.r, name: name, address: fmt.Sprintf("10.211.0.%d", w.last)}
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
				g.address,
				"--route",
				"10.20.0.0/16",
				"--dns",
				"10.20.0.53",
				"--domain",
				"inside.skerryline.example",
			},
			flags...)...)
	w.gw.run("ip", "addr", "add", g.address+"/16", "dev", "br0")
	w.cli.shell(`echo "$1 $2" >> /etc/hosts`, g.address, host)
	return g
}

// goes installs the parcel of a profile with its own script, connects, and removes it; what
// was there before is there again.
func (w *ikeWorld) goes(t *testing.T, device, gateway string) {
	t.Helper()
	w.r.do("profile", "add", device, "--gateway", gateway)
	parcel := w.r.build(device + "/" + gateway)
	rehearsed := w.cli.rehearsed(parcel)
	before := w.cli.shell(
		"find /etc/swanctl /etc/strongswan.d /etc/vpn-parcels -type f 2> /dev/null | sort",
	)
	w.cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
	begin := time.Now()
	comesUp(
		t,
		w.cli,
		"swanctl",
		"--initiate",
		"--child",
		"skerry-line-"+strings.ToLower(gateway),
		"--timeout",
		"20",
	)
	t.Logf("rehearsed in %s, the client connects and pings in %s",
		rehearsed.Round(time.Millisecond), time.Since(begin).Round(time.Millisecond))
	w.cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
	if after := w.cli.shell(
		"find /etc/swanctl /etc/strongswan.d /etc/vpn-parcels -type f 2> /dev/null | sort",
	); after != before {
		t.Errorf("after removal there is\n%s\nexpected\n%s", after, before)
	}
	if out := w.cli.run("swanctl", "--list-sas") + w.cli.run("swanctl", "--list-conns"); out != "" {
		t.Errorf("after removal the daemon still has: %s", out)
	}
}

// bundle has Wardicon make a gateway's certificate, and lets its daemon have it.
func (w *ikeWorld) bundle(t *testing.T, g *ikeGateway, authority string, flags ...string) {
	t.Helper()
	g.bundle = filepath.Join(w.r.dir, "bundles", g.name+authority)
	w.r.do(
		append(
			[]string{"certificate", "bundle", g.name, "--authority", authority, "--out", g.bundle},
			flags...)...)
}

// TestIKEv2 connects headless Linux by IKEv2 in each authentication method, with each way in
// which the gateway's certificate comes to be trusted.
func TestIKEv2(t *testing.T) {
	t.Parallel()
	w := newIKEWorld(t)
	for _, a := range [][]string{{"Alone"}, {"Chain", "--issuing"}, {"Old"}, {"New"}} {
		w.r.do(append([]string{"authority", "make"}, a...)...)
	}
	public, crew := newChain(t, "Public", pki.P256), newChain(t, "RSA crew", pki.RSA3072)
	ways := []struct{ name, auth, proposal string }{
		{"eap", "eap-mschapv2", "aes256gcm16-prfsha256-ecp256"},
		{"eaptls", "eap-tls", "aes256gcm16-prfsha384-ecp384"},
		{"p256", "certificate", "aes256-sha256-modp2048"},
		{"rsa", "certificate", "aes128gcm16-prfsha512-curve25519"},
	}
	issuers := map[string]string{
		"Alone":   "Alone",
		"Chain":   "Chain",
		"Rolling": "Old",
		"Public":  "Alone",
	}
	gateways := map[string]*ikeGateway{}
	for trust, issuer := range issuers {
		for _, m := range ways {
			device, name := trust+" "+m.name, trust+m.name
			w.r.do(
				"device",
				"add",
				device,
				"--person",
				"Ada Fjell",
				"--platform",
				"linux",
				"--release",
				"6",
				"--encrypted",
			)
			switch {
			case m.name == "rsa":
				certificate, key := crew.leaf(
					pki.ForClient,
					strings.ToLower(name)+".devices.skerryline.example",
				)
				w.r.do(
					"device",
					"change",
					device,
					"--certificate",
					w.r.file("d.pem", certificate+pki.Bundle(crew.issuing)),
					"--key-file",
					w.r.file("d.key", key),
				)
			case m.auth != "eap-mschapv2":
				w.r.do("certificate", "issue", device, "--authority", issuer)
			}
			file := w.r.authority(issuer)
			var more []string
			// devices bring what another authority issued; the record says that the gateway trusts
			// it
			if m.name == "rsa" {
				more = []string{"--client-authority", w.r.file("crew.pem", pki.Bundle(crew.root))}
			}
			if trust == "Public" {
				file = w.r.file("public.pem", pki.Bundle(public.root))
			}
			g := w.gateway(
				name,
				append(
					[]string{
						"--ikev2-auth",
						m.auth,
						"--ikev2-ike",
						m.proposal,
						"--ikev2-esp",
						"aes256gcm16,aes256-sha256",
						"--ikev2-authority",
						file,
					},
					more...)...)
			w.bundle(t, &g, issuer)
			gateways[name] = &g
		}
	}
	w.r.do("authority", "roll-over", "Old", "--successor", "New")
	w.r.do("certificate", "issue", "Rolling eaptls", "--authority", "New")
	for _, m := range ways[:3] { // the last one still shows what the old authority issued
		w.bundle(t, gateways["Rolling"+m.name], "New")
	}
	for trust := range issuers {
		for _, m := range ways {
			g := gateways[trust+m.name]
			if trust == "Public" {
				public.show(
					g.bundle,
					strings.ToLower(g.name),
					strings.ToLower(g.name)+".skerryline.example",
				)
				w.r.do(
					"certificate",
					"import",
					filepath.Join(g.bundle, g.file("-chain.pem")),
					"--gateway",
					g.name,
				)
			}
			g.configure(t, w.gw)
		}
	}
	p := w.gateway(
		"Psk",
		"--ikev2-auth",
		"psk",
		"--ikev2-psk-file",
		w.r.file("psk", psk),
		"--ikev2-local-id",
		"crew@skerryline.example",
		"--ikev2-ike",
		"aes256-sha384-ecp384",
	)
	w.r.do(
		"device",
		"add",
		"Plain",
		"--person",
		"Ada Fjell",
		"--platform",
		"linux",
		"--release",
		"6",
		"--encrypted",
	)
	p.configure(t, w.gw)
	// Known by a number alone: its certificate has it as an address, as the plan says.
	number := w.gateway(
		"Number",
		"--ikev2-auth",
		"eap-mschapv2",
		"--ikev2-ike",
		"aes256gcm16-prfsha256-ecp256",
		"--ikev2-esp",
		"aes256gcm16",
		"--ikev2-authority",
		w.r.authority("Alone"),
	)
	w.r.do("gateway", "change", "Number", "--address", number.address)
	w.bundle(t, &number, "Alone")
	number.configure(t, w.gw)
	w.device("By number", "linux", "6", "")
	w.gw.run("swanctl", "--load-all", "--noprompt")
	t.Run("a gateway known by its address alone", func(t *testing.T) {
		w.goes(t, "By number", "Number")
		if _, plan := w.r.try(
			"",
			"plan",
			"By number",
			"Number",
		); !strings.Contains(
			plan,
			"IP:"+number.address,
		) {
			t.Errorf("the plan does not say what the certificate must contain:\n%s", plan)
		}
	})
	t.Run("psk", func(t *testing.T) {
		w.goes(t, "Plain", "Psk")
		proves(t, "connects", "daemons", "ikev2 psk")
	})
	for trust := range issuers {
		for _, m := range ways {
			t.Run(trust+"/"+m.name, func(t *testing.T) {
				w.goes(t, trust+" "+m.name, trust+m.name)
				proves(t, "connects", "daemons", "ikev2 "+m.auth)
			})
		}
	}
	files := func() string {
		return w.cli.shell("find /etc/swanctl /etc/strongswan.d /etc/vpn-parcels -type f | sort")
	}
	before := files()
	t.Run("a password that is prompted for at install", func(t *testing.T) {
		w.r.do("profile", "change", "Alone eap/Aloneeap", "--password", "asked")
		parcel := filepath.Join(w.r.dir, "asked")
		w.r.do("build", "Alone eap/Aloneeap", "--out", parcel)
		if out, err := w.cli.try(
			10,
			"sh",
			"-c",
			`cd "$0" && sh ./*-install.sh < /dev/null`,
			parcel,
		); err == nil || !strings.Contains(out, "A password is needed") ||
			files() != before {
			t.Errorf("a silent install without a password: %v %s", err, out)
		}
		w.cli.shell(
			`cd "$1" && PASSWORD_FILE="$2" sh ./*-install.sh`,
			parcel,
			w.r.file("typed", password+"\n"),
		)
		comesUp(
			t,
			w.cli,
			"swanctl",
			"--initiate",
			"--child",
			"skerry-line-aloneeap",
			"--timeout",
			"20",
		)
	})
	t.Run("a renamed connection leaves nothing", func(t *testing.T) {
		w.r.do(
			"profile",
			"change",
			"Alone eap/Aloneeap",
			"--connection",
			"Harbour link",
			"--password",
			"saved",
		)
		parcel := filepath.Join(w.r.dir, "renamed")
		w.r.do("build", "Alone eap/Aloneeap", "--out", parcel)
		w.cli.shell(
			`cd "$1" && sh ./*-install.sh; swanctl --terminate --ike skerry-line-aloneeap > `+
				`/dev/null 2>&1 || true`,
			parcel,
		)
		if left := w.cli.shell("grep -rl 'skerry-line-aloneeap' /etc/swanctl || true"); left != "" {
			t.Errorf("of the old name there is %s", left)
		}
		comesUp(t, w.cli, "swanctl", "--initiate", "--child", "harbour-link", "--timeout", "20")
		w.cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
		if after := files(); after != before {
			t.Errorf("after removal there is %s", after)
		}
	})
	t.Run("always is always", func(t *testing.T) {
		w.r.do("profile", "change", "Alone p256/Alonep256", "--connect", "always")
		parcel := filepath.Join(w.r.dir, "always")
		w.r.do("build", "Alone p256/Alonep256", "--out", parcel)
		w.cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
		up := func() bool {
			_, err := w.cli.try(3,
				"ping", "-c", "1", "-W", "1", "10.20.0.1")
			return err == nil
		}
		if !until(15, up) {
			t.Error("it does not come up by itself")
		}
		w.gw.run("swanctl", "--terminate", "--ike", "alonep256-certificate")
		if !until(20, up) {
			t.Error("it does not come back after the gateway ended it")
		}
		text := w.cli.shell(
			"cat /etc/swanctl/conf.d/skerry-line-alonep256.conf " +
				"/etc/strongswan.d/skerry-line-alonep256-retry.conf",
		)
		for _, want := range []string{"keyingtries = 0", "dpd_delay = 30s", "dpd_action = restart",
			"close_action = start", "retry_initiate_interval"} {
			if !strings.Contains(text, want) {
				t.Errorf("%q is missing in\n%s", want, text)
			}
		}
		w.cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
	})
}
