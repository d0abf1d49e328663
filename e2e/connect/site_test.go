package connect

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// behind gives a router a network of its own, with a host in it.
func behind(t *testing.T, router, host *box) {
	t.Helper()
	if out, err := exec.Command("nsenter", "-t", fmt.Sprint(router.pid), "-n", "ip", "link", "add",
		"lan0", "type", "veth", "peer", "name", "eth0", "netns", fmt.Sprint(host.pid)).
		CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	router.shell(
		"ip addr add 10.50.1.1/24 dev lan0; ip addr add 10.60.1.1/24 dev lan0; ip link set lan0 up",
	)
	host.shell(
		"ip addr add 10.50.1.10/24 dev eth0; ip addr add 10.60.1.10/24 dev eth0; ip link set " +
			"eth0 up; ip route add default via 10.50.1.1 src 10.50.1.10",
	)
}

// site is what is to be seen of a site behind a router.
type site struct {
	gw, cli, host *box
}

func (s site) answers(from *box, args ...string) bool {
	_, err := from.try(6, append([]string{"ping", "-c", "1", "-W", "1"}, args...)...)
	return err == nil
}

// source is the address under which the internal host sees the site's.
func (s site) source(t *testing.T) string {
	out, err := s.host.try(5, "bash", "-c", "exec 3<>/dev/tcp/10.20.0.1/8081 && tail -n 1 <&3")
	if err != nil {
		t.Errorf("the site's host cannot open a connection to the internal host: %v %s", err, out)
	}
	return strings.TrimSpace(out)
}

// holds looks at a site whose router is connected.
func (s site) holds(t *testing.T, masquerade bool) {
	t.Helper()
	if !until(
		5,
		func() bool { return s.answers(s.host, "10.20.0.1") },
	) { // the daemon's own script may be a moment later
		rules, _ := s.cli.try(
			5,
			"sh",
			"-c",
			"nft list ruleset; ip route; ip route show table 220; ip -o addr; swanctl --list-sas",
		)
		t.Fatalf("the internal host does not answer the site's host\n%s", rules)
	}
	if s.answers(s.host, "-I", "10.60.1.10", "10.20.0.1") {
		t.Error("a network that is not the site's gets through the router")
	}
	seen := s.source(t)
	if masquerade == strings.HasPrefix(seen, "10.50.1.") {
		t.Errorf("masquerade is %v, and the site is seen as %s", masquerade, seen)
	}
	if s.answers(s.gw, "-I", "10.20.0.1", "10.50.1.10") == masquerade {
		t.Errorf(
			"masquerade is %v, and the other way round the site answers: %v",
			masquerade,
			!masquerade,
		)
	}
}

// leaksNothing holds that what is meant for the networks behind the gateway does not leave in
// clear where the tunnel is down: the gateway would answer it.
func (s site) leaksNothing(t *testing.T) {
	t.Helper()
	if s.answers(s.host, "10.20.0.1") {
		t.Error("without a tunnel the site's traffic leaves in clear")
	}
}

// fw4 is the packet filter of OpenWrt as far as it matters here: it takes up what lies in
// its folders, masquerades what leaves, and forwards nothing from outside.
const fw4 = `d=/usr/share/nftables.d/chain-pre
{ echo "table inet fw4"; echo "delete table inet fw4"; echo "table inet fw4 {"; cat /etc/nftables.d/*.nft 2> /dev/null
echo "chain forward { type filter hook forward priority filter; policy drop;"; cat $d/forward/*.nft 2> /dev/null; echo; echo 'ct state established,related accept
iifname "lan0" accept
}
chain srcnat { type nat hook postrouting priority srcnat; policy accept;'; cat $d/srcnat/*.nft 2> /dev/null; echo; echo 'oifname "eth0" masquerade
}
}'; } > /run/fw4.nft
nft -f /run/fw4.nft
`

// TestSites connects whole sites by the parcels of their routers.
func TestSites(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t, "openvpn", "nft", "sysctl")
	w.r.do("authority", "make", "Harbour")
	s := site{w.gw, w.cli, newBox(t, "site")}
	behind(t, s.cli, s.host)
	w.gw.start("inside", "env", insideHost+"=10.20.0.1:8081", os.Args[0])
	w.cli.startIKE()
	router := func(t *testing.T, name, platform, release string, masquerade bool) {
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
			"--site",
			"10.50.1.0/24",
			fmt.Sprintf("--masquerade=%v", masquerade),
		)
		w.r.do("certificate", "issue", name, "--authority", "Harbour")
	}
	goes := func(t *testing.T, device, gateway string, masquerade bool,
		up func(parcel string) (down func())) {
		parcel := w.r.build(device + "/" + gateway)
		w.cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
		s.leaksNothing(t)
		down := up(parcel)
		s.holds(t, masquerade)
		down()
		s.leaksNothing(t)
		w.cli.shell(
			`cd "$1" && sh ./*-remove.sh; sysctl -q -w `+
				`net.ipv4.ip_forward=0`,
			parcel,
		)
		if left := w.cli.shell(
			"nft list tables | grep -v fw4 || true; find /etc/swanctl /etc/openvpn /etc/systemd " +
				"/etc/sysctl.d /etc/nftables.d /usr/share/nftables.d -name 'skerry*' 2> " +
				"/dev/null || true; ls /etc/vpn-parcels",
		); left != "" {
			t.Errorf("after removal there is %s", left)
		}
	}
	for _, c := range []struct {
		platform, release, auth string
		masquerade              bool
	}{
		{"linux", "6", "certificate", false},
		{"linux", "6", "eap-mschapv2", true},
		{"openwrt", "23.05", "certificate", false},
		{"openwrt", "23.05", "eap-tls", true},
	} {
		name := fmt.Sprintf("Site%s%s", c.platform, strings.ReplaceAll(c.auth, "-", ""))
		t.Run("ikev2/"+name, func(t *testing.T) {
			device := c.platform + " " + c.auth
			router(t, device, c.platform, c.release, c.masquerade)
			announced := []string{}
			if !c.masquerade {
				announced = []string{"--announced", "10.50.0.0/16"}
			}
			g := w.gateway(
				name,
				append(
					[]string{
						"--ikev2-auth",
						c.auth,
						"--ikev2-ike",
						"aes256gcm16-prfsha384-ecp384",
						"--ikev2-esp",
						"aes256gcm16",
						"--ikev2-authority",
						w.r.authority("Harbour"),
					},
					announced...)...)
			w.bundle(t, &g, "Harbour")
			w.r.do("profile", "add", device, "--gateway", name)
			g.configure(t, w.gw)
			w.gw.run("swanctl", "--load-all", "--noprompt")
			defer func() { _, _ = w.cli.try(5, "nft", "delete", "table", "inet", "fw4") }()
			goes(t, device, name, c.masquerade, func(string) func() {
				if c.platform == "openwrt" {
					w.cli.shell("sysctl -q -w net.ipv4.ip_forward=1\n" + fw4)
				}
				child := "skerry-line-" + strings.ToLower(name)
				if out, err := w.cli.try(
					25,
					"swanctl",
					"--initiate",
					"--child",
					child,
					"--timeout",
					"20",
				); err != nil {
					t.Fatalf("%v %s", err, out)
				}
				return func() { w.cli.run("swanctl", "--terminate", "--ike", child) }
			})
		})
	}
	for i, masquerade := range []bool{false, true} {
		t.Run(fmt.Sprintf("tls/masquerade=%v", masquerade), func(t *testing.T) {
			device, name := fmt.Sprintf("Tunnel router %d", i), fmt.Sprintf("Sited%d", i)
			router(t, device, "linux", "6", masquerade)
			server := newTunnelGateway(
				t,
				w.r,
				w.gw,
				w.cli,
				name,
				180+i,
				"certificate",
				"crypt",
				"udp",
				"Harbour",
			)
			server.stop() // it serves the site once a router for it is on record
			w.r.do("profile", "add", device, "--gateway", name)
			server = serveTunnel(t, w.r, w.gw, name, "udp", "Harbour")
			defer server.stop()
			goes(t, device, name, masquerade, func(string) func() {
				client := w.cli.start(
					"site"+name,
					"openvpn",
					"--config",
					"/etc/openvpn/client/skerry-line-"+strings.ToLower(name)+".conf",
				)
				if !until(
					15,
					func() bool {
						return strings.Contains(client.said(),
							"Initialization Sequence Completed")
					},
				) {
					t.Fatalf("%s\n%s", client.said(), server.said())
				}
				return client.stop
			})
		})
	}
}
