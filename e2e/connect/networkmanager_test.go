package connect

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/core/pki"
)

// startNetworkManager lets a box have a running NetworkManager, with its interface under it.
func (b *box) startNetworkManager() *daemon {
	b.t.Helper()
	b.shell(
		"mkdir -p /run/dbus /run/NetworkManager /var/lib/NetworkManager && rm -f " +
			"/etc/NetworkManager/system-connections/* && rm -f /etc/resolv.conf && : > " +
			"/etc/resolv.conf",
	)
	b.write(
		"/etc/NetworkManager/NetworkManager.conf",
		0o644,
		"[main]\nplugins=keyfile\ndns=default\nrc-manager=file\nauth-polkit=false\n[device-eth0]\n"+
			"match-device=interface-name:eth0\nmanaged=1\n[connectivity]\nenabled=false\n"+
			"[logging]\nlevel=INFO\ndomains=ALL,VPN:DEBUG\n",
	)
	b.write(
		"/etc/NetworkManager/system-connections/base.nmconnection",
		0o600,
		"[connection]\nid=base\nuuid=11111111-2222-4333-8444-555555555555\ntype=ethernet\n"+
			"interface-name=eth0\nautoconnect=true\n[ipv4]\nmethod=manual\n"+
			"address1=10.211.1.1/16,10.211.0.1\ndns=10.255.255.53\n[ipv6]\nmethod=disabled\n",
	)
	b.start("dbus", "dbus-daemon", "--system", "--nofork", "--nopidfile")
	until(
		5,
		func() bool {
			_, err := b.try(2, "test", "-S",
				"/run/dbus/system_bus_socket")
			return err == nil
		},
	)
	d := b.start("network-manager", "NetworkManager", "--debug")
	until(5, func() bool { _, err := b.try(2, "nmcli", "general"); return err == nil })
	_, _ = b.try(5, "nmcli", "device", "set", "eth0", "managed", "yes")
	_, _ = b.try(5, "nmcli", "connection", "up", "base")
	if !until(15, func() bool {
		out, _ := b.try(3, "nmcli", "-g", "STATE", "general")
		return strings.HasPrefix(out, "connected")
	}) {
		out, _ := b.try(
			5,
			"sh",
			"-c",
			"nmcli general; nmcli device; nmcli connection; ls -la /run/dbus",
		)
		b.t.Fatalf("NetworkManager does not come up: %s\n%s", out, d.said())
	}
	return d
}

// TestNetworkManager loads keyfiles into a running NetworkManager and brings them up.
func TestNetworkManager(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(
		t,
		"NetworkManager",
		"dbus-daemon",
		"openvpn",
		"/usr/lib/ipsec/charon-nm",
		"/usr/lib/NetworkManager/nm-openvpn-service",
		"/usr/lib/NetworkManager/nm-l2tp-service",
		"/usr/lib/NetworkManager/nm-pptp-service",
		"/usr/lib/NetworkManager/nm-sstp-service",
	)
	r, gw, cli := w.r, w.gw, w.cli
	cli.write("/run/pppd", 0o755, "#!/bin/sh\necho \"$@\" >> /run/pppd.args\nexit 1\n")
	cli.run("mount", "--bind", "/run/pppd", "/usr/sbin/pppd")
	manager := cli.startNetworkManager()
	for _, a := range [][]string{{"Alone"}, {"Chain", "--issuing"}, {"Old"}, {"New"}} {
		r.do(append([]string{"authority", "make"}, a...)...)
	}
	public := newChain(t, "Public", pki.P256)
	device := func(name, authority string) {
		r.do(
			"device",
			"add",
			name,
			"--person",
			"Ada Fjell",
			"--platform",
			"linux-desktop",
			"--release",
			"1.42",
			"--encrypted",
		)
		if authority != "" {
			r.do("certificate", "issue", name, "--authority", authority)
		}
	}
	device("Desk alone", "Alone")
	device("Desk chain", "Chain")
	device("Desk old", "Old")
	device("Guest", "")

	up := func(t *testing.T, device, gateway string) {
		t.Helper()
		r.do("profile", "add", device, "--gateway", gateway)
		parcel := r.build(device + "/" + gateway)
		cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
		before := len(manager.said())
		out, err := cli.try(
			40,
			"nmcli",
			"--wait",
			"30",
			"connection",
			"up",
			"id",
			"Skerry Line "+gateway,
		)
		if err != nil {
			log, _ := cli.try(5, "tail", "-n", "30", "/run/charon-nm.log")
			t.Errorf("%v %s\n%s\n%s", err, out, manager.said()[before:], log)
		} else {
			inside(t, cli)
			cli.run("nmcli", "connection", "down", "id", "Skerry Line "+gateway)
		}
		cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
		if left := cli.shell(
			"nmcli -g NAME,TYPE connection show | grep vpn || true; find /etc/NetworkManager " +
				"-name '*skerry*'; ls /etc/vpn-parcels",
		); left != "" {
			t.Errorf("after removal there is %s", left)
		}
	}
	type ike struct{ trust, auth, device, issuer string }
	cases := []ike{
		{
			"Alone",
			"eap-mschapv2",
			"Guest",
			"Alone",
		},
		{"Chain", "eap-mschapv2", "Guest", "Chain"},
		{
			"Rolling",
			"eap-mschapv2",
			"Guest",
			"Old",
		},
		{"Public", "eap-mschapv2", "Guest", "Alone"},
		{
			"Alone",
			"certificate",
			"Desk alone",
			"Alone",
		},
		{"Chain", "certificate", "Desk chain", "Chain"},
		{"Rolling", "certificate", "Desk old", "Old"},
		{"Chain", "eap-tls", "Desk chain", "Chain"},
	}
	var gateways []*ikeGateway
	for i, c := range cases {
		file := r.authority(c.issuer)
		if c.trust == "Public" {
			file = r.file("public.pem", pki.Bundle(public.root))
		}
		proposal := []string{"aes256gcm16-prfsha256-ecp256", "aes256-sha256-modp2048"}[i%2]
		g := w.gateway(
			fmt.Sprintf("Desk%d", i+1),
			"--ikev2-auth",
			c.auth,
			"--ikev2-ike",
			proposal,
			"--ikev2-esp",
			"aes256gcm16,aes256-sha256",
			"--ikev2-authority",
			file,
		)
		w.bundle(t, &g, c.issuer)
		gateways = append(gateways, &g)
	}
	r.do("authority", "roll-over", "Old", "--successor", "New")
	w.bundle(t, gateways[2], "New") // one shows the new certificate, the other the old one
	for i, c := range cases {
		g := gateways[i]
		if c.trust == "Public" {
			public.show(
				g.bundle,
				strings.ToLower(g.name),
				strings.ToLower(g.name)+".skerryline.example",
			)
			r.do(
				"certificate",
				"import",
				filepath.Join(g.bundle, g.file("-chain.pem")),
				"--gateway",
				g.name,
			)
		}
		g.configure(t, gw)
	}
	long := psk + " and long enough"
	p := w.gateway(
		"Deskpsk",
		"--ikev2-auth",
		"psk",
		"--ikev2-psk-file",
		r.file("psk", long),
		"--ikev2-local-id",
		"crew@skerryline.example",
		"--ikev2-ike",
		"aes256-sha384-ecp384",
	)
	p.configure(t, gw)
	gw.run("swanctl", "--load-all", "--noprompt")
	for i, c := range cases {
		t.Run("ikev2/"+c.auth+"/"+c.trust, func(t *testing.T) {
			up(t, c.device, gateways[i].name)
			proves(t, "connects", "keyfile", "ikev2 "+c.auth)
		})
	}
	t.Run("ikev2/psk", func(t *testing.T) {
		up(t, "Guest", "Deskpsk")
		proves(t, "connects", "keyfile", "ikev2 psk")
	})

	tunnels := 0
	for _, auth := range []string{"certificate", "certificate-password", "password"} {
		for _, kind := range []string{"none", "auth", "crypt", "crypt-v2"} {
			tunnels++
			proto := []string{"udp", "tcp"}[tunnels%2]
			name := fmt.Sprintf("Desktun%d", tunnels)
			t.Run("tls/"+auth+"/"+kind+"/"+proto, func(t *testing.T) {
				g := newTunnelGateway(t, r, gw, cli, name, 150+tunnels, auth, kind, proto, "Chain")
				defer g.stop()
				up(
					t,
					map[string]string{"password": "Guest"}[auth]+map[bool]string{true: "Desk chain"}[auth != "password"],
					name,
				)
				proves(t, "connects", "keyfile", tunnelWays(auth, kind)...)
			})
		}
	}
	// What is made of PPP goes as far as pppd, which this kernel cannot run: what the plugins
	// hand to it is what the keyfile says.
	cli.shell("echo 10.211.0.1 deskppp.skerryline.example >> /etc/hosts")
	r.do(
		"gateway",
		"add",
		"Deskppp",
		"--address",
		"deskppp.skerryline.example",
		"--route",
		"10.20.0.0/16",
		"--pptp-ppp",
		"mschapv2",
		"--pptp-mppe",
		"128",
		"--sstp-ppp",
		"mschapv2",
		"--sstp-authority",
		r.authority("Alone"),
		"--psk-file",
		r.file("psk", long),
		"--ppp",
		"mschapv2",
		"--ike",
		"aes256-sha256-modp2048",
		"--esp",
		"aes256-sha256",
		"--known-address",
		"10.211.0.1",
	)
	for _, c := range []struct {
		protocol string
		want     []string
	}{
		{"pptp", []string{"/pptp 10.211.0.1 --nolaunchpppd", "refuse-pap", "refuse-chap",
			"refuse-mschap", "require-mppe-128", "user " + login, "nm-pptp-pppd-plugin.so"}},
		{"sstp", []string{"deskppp.skerryline.example:443", "--ca-cert /etc/NetworkManager/vpn/",
			"refuse-pap", "refuse-chap", "refuse-mschap", "nm-sstp-pppd-plugin.so"}},
	} {
		t.Run(c.protocol, func(t *testing.T) {
			r.do("profile", "add", "Guest", "--gateway", "Deskppp", "--protocol", c.protocol)
			parcel := r.despite("Guest/Deskppp", c.protocol)
			cli.shell(`cd "$1" && sh ./*-install.sh && rm -f /run/pppd.args`, parcel)
			out, _ := cli.try(
				20,
				"nmcli",
				"--wait",
				"10",
				"connection",
				"up",
				"id",
				"Skerry Line Deskppp",
			)
			args, _ := cli.try(5, "cat", "/run/pppd.args")
			for _, want := range c.want {
				if !strings.Contains(args, want) {
					t.Errorf("pppd was not told %q: %s\n%s", want, args, out)
				}
			}
			cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
			r.do("profile", "remove", "Guest/Deskppp")
			proves(t, "accepted", "keyfile", c.protocol+" password")
		})
	}
	t.Run("l2tp", func(t *testing.T) {
		file := r.file("psk", long)
		for name, address := range map[string]string{
			"Deskpsk2": "10.211.0.180",
			"Deskcert": "10.211.0.181",
		} {
			gw.run("ip", "addr", "add", address+"/16", "dev", "br0")
			cli.shell(
				`echo "$1 $2.skerryline.example" >> /etc/hosts`,
				address,
				strings.ToLower(name),
			)
			local, remote, secrets := "auth = psk", "auth = psk", "secrets { ike-"+name+
				" { id-1 = "+address+"\n secret = \""+strings.NewReplacer(`\`, `\\`, `"`, `\"`).
				Replace(long)+
				"\" } }"
			flags := []string{"--psk-file", file}
			if name == "Deskcert" {
				flags = []string{
					"--l2tp-auth",
					"certificate",
					"--l2tp-authority",
					r.authority("Alone"),
				}
			}
			r.do(
				append(
					[]string{
						"gateway",
						"add",
						name,
						"--address",
						strings.ToLower(name) + ".skerryline.example",
						"--known-address",
						address,
						"--route",
						"10.20.0.0/16",
						"--ppp",
						"mschapv2",
						"--ike",
						"aes256-sha256-modp2048",
						"--esp",
						"aes256-sha256",
					},
					flags...)...)
			device := "Guest"
			if name == "Deskcert" {
				g := ikeGateway{name: name, bundle: filepath.Join(r.dir, "bundles", name)}
				r.do("certificate", "bundle", name, "--authority", "Alone", "--out", g.bundle)
				g.install(t, gw)
				device, local, remote, secrets = "Desk alone", "auth = pubkey\n certs = "+g.file(
					"-certificate.pem",
				), "auth = pubkey\n "+g.trusting(
					t,
				), ""
			}
			gw.write(
				"/etc/swanctl/conf.d/"+name+".conf",
				0o600,
				fmt.Sprintf(l2tpGateway, name, address, local, remote, secrets),
			)
			gw.run("swanctl", "--load-all", "--noprompt")
			r.do("profile", "add", device, "--gateway", name, "--protocol", "l2tp")
			parcel := r.build(device + "/" + name)
			cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
			before := len(manager.said())
			out, _ := cli.try(
				30,
				"nmcli",
				"--wait",
				"20",
				"connection",
				"up",
				"id",
				"Skerry Line "+name,
			)
			said := manager.said()[before:] // the IKE daemon that the plugin starts
			if !strings.Contains(said, "established between") ||
				!strings.Contains(said, "selected proposal: ESP:AES_CBC_256/HMAC_SHA2_256_128") {
				t.Errorf("%s: expected main mode up and quick mode chosen: %s\n%s", name, out, said)
			}
			proves(
				t,
				"signs in",
				"keyfile",
				"l2tp "+map[string]string{"Deskcert": "certificate", "Deskpsk2": "psk"}[name],
			)
			cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
		}
	})
}
