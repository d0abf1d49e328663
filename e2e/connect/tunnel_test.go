package connect

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// newTunnelGateway notes a gateway that offers the TLS tunnel, and starts its daemon with nothing but
// the configuration and the certificate bundle that the service makes of the record; more are lines
// of a daemon that is otherwise than its record.
func newTunnelGateway(
	t *testing.T,
	r *records,
	gw, cli *box,
	name string,
	n int,
	auth, kind, proto, authority string,
	more ...string,
) *daemon {
	t.Helper()
	host, address := strings.ToLower(name)+".skerryline.example", fmt.Sprintf("10.211.0.%d", n)
	gw.run("ip", "addr", "add", address+"/16", "dev", "br0")
	cli.shell(`echo "$1 $2" >> /etc/hosts`, address, host)
	flags := []string{
		"gateway",
		"add",
		name,
		"--address",
		host,
		"--known-address",
		address,
		"--pool",
		fmt.Sprintf("10.78.%d.0/24", n),
		"--tls-remote",
		proto + ":1194",
		"--tls-auth",
		auth,
		"--tls-cipher",
		"AES-256-GCM",
		"--tls-server-name",
		host,
		"--tls-authority",
		r.authority(authority),
		"--route",
		"10.20.0.0/16",
		"--dns",
		"10.20.0.53",
		"--domain",
		"inside.skerryline.example",
	}
	if kind != "none" {
		flags = append(flags, "--tls-control-kind", kind, "--tls-control-key",
			controlKey(t, r, name, kind))
	}
	if kind == "auth" {
		flags = append(flags, "--tls-control-direction", "1")
	}
	r.do(flags...)
	return serveTunnel(t, r, gw, name, proto, authority, more...)
}

// serveTunnel has the daemon serve what is on record of a gateway.
func serveTunnel(
	t *testing.T,
	r *records,
	gw *box,
	name, proto, authority string,
	more ...string,
) *daemon {
	t.Helper()
	bundle := filepath.Join(t.TempDir(), name)
	r.do("certificate", "bundle", name, "--authority", authority, "--out", bundle)
	folder := "/etc/openvpn/server-" + name
	gw.copies(r.configured(name), folder)
	gw.copies(bundle, folder)
	file := fmt.Sprintf("%s-%s-1194.conf", strings.ToLower(name), proto)
	gw.shell(`cd "$1" && for f in ./*-check ./*-route; do [ ! -e "$f" ] || chmod +x "$f"; done
		printf '%s\n' "$3" >> "$2"`, folder, file, strings.Join(more, "\n"))
	d := gw.start(name, "openvpn", "--cd", folder, "--config", file)
	if !until(
		10,
		func() bool { return strings.Contains(d.said(), "Initialization Sequence Completed") },
	) {
		t.Fatal(d.said())
	}
	return d
}

// tunnelWays are the rows of the matrix that a tunnel proves.
func tunnelWays(auth, kind string) []string {
	ways := []string{"tls " + auth}
	if kind == "crypt" || kind == "crypt-v2" {
		ways = append(ways, "tls, control "+kind)
	}
	return ways
}

// newTunnelWorld is the records, the gateway's box with the network behind it, and the client's,
// with an account at hand.
func newTunnelWorld(t *testing.T) (r *records, gw, cli *box) {
	t.Helper()
	need(t, "openvpn", "ip", "nsenter", "ping")
	r = newRecords(t)
	gw, cli = newBox(t, "gateway"), newBox(t, "client")
	join(gw, cli)
	gw.shell("ip addr add 10.20.0.1/32 dev lo && ip addr add 10.20.0.53/32 dev lo")
	gw.serves()
	r.do("person", "add", "Ada Fjell", "--mail", "ada@skerryline.example")
	r.do(
		"account",
		"add",
		login,
		"--person",
		"Ada Fjell",
		"--password-file",
		r.file("ada", password),
	)
	return r, gw, cli
}

// TestTunnel connects headless Linux by the TLS tunnel in each authentication method, with
// each kind of control-channel key, by UDP and TCP.
func TestTunnel(t *testing.T) {
	t.Parallel()
	r, gw, cli := newTunnelWorld(t)
	r.do("authority", "make", "Harbour", "--issuing")
	for _, device := range []string{"Laptop", "Guest"} {
		r.do(
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
	}
	r.do("certificate", "issue", "Laptop", "--authority", "Harbour")
	n := 100
	for _, auth := range []string{"certificate", "certificate-password", "password"} {
		for _, kind := range []string{"none", "auth", "crypt", "crypt-v2"} {
			for _, proto := range []string{"udp", "tcp"} {
				n++
				name := fmt.Sprintf("Tunnel%d", n)
				t.Run(auth+"/"+kind+"/"+proto, func(t *testing.T) {
					server := newTunnelGateway(t, r, gw, cli, name, n, auth, kind, proto, "Harbour")
					defer server.stop()
					device := map[bool]string{true: "Guest", false: "Laptop"}[auth == "password"]
					r.do("profile", "add", device, "--gateway", name)
					parcel := r.build(device + "/" + name)
					rehearsed := cli.rehearsed(parcel)
					before := cli.shell(
						"cat /etc/resolv.conf; find /etc/openvpn /etc/vpn-parcels -type f 2> " +
							"/dev/null | sort",
					)
					cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
					begin := time.Now()
					client := cli.start(
						"tunnel"+name,
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
						t.Errorf("%s\nthe gateway says\n%s", client.said(), server.said())
					} else {
						t.Logf("rehearsed in %s, the client connects in %s",
							rehearsed.Round(time.Millisecond),
							time.Since(begin).Round(time.Millisecond))
						inside(t, cli)
					}
					client.stop()
					cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
					proves(t, "connects", "daemons", tunnelWays(auth, kind)...)
					if after := cli.shell(
						"cat /etc/resolv.conf; find /etc/openvpn /etc/vpn-parcels -type f 2> " +
							"/dev/null | sort",
					); after != before {
						t.Errorf("after removal there is\n%s\nexpected\n%s", after, before)
					}
				})
			}
		}
	}
}

// TestSecondGateway lets a pattern lead to the gateway that answers soonest with another one
// behind it, and ends the first: the same file connects to the second.
func TestSecondGateway(t *testing.T) {
	t.Parallel()
	need(t, "openvpn", "ip", "nsenter", "ping")
	r := newRecords(t)
	gw, cli := newBox(t, "gateway"), newBox(t, "client")
	join(gw, cli)
	gw.shell("ip addr add 10.20.0.1/32 dev lo && ip addr add 10.20.0.53/32 dev lo")
	r.do(
		"person",
		"add",
		"Ada Fjell",
		"--mail",
		"ada@skerryline.example",
		"--group",
		"crew",
		"--latitude",
		"59.9",
		"--longitude",
		"10.7",
	)
	r.do(
		"account",
		"add",
		login,
		"--person",
		"Ada Fjell",
		"--password-file",
		r.file("ada", password),
	)
	r.do("authority", "make", "Harbour")
	r.do(
		"device",
		"add",
		"Laptop",
		"--person",
		"Ada Fjell",
		"--platform",
		"linux",
		"--release",
		"6",
		"--encrypted",
	)
	slow := newTunnelGateway(t, r, gw, cli, "Slow", 170, "password", "none", "udp", "Harbour")
	fast := newTunnelGateway(t, r, gw, cli, "Fast", 171, "password", "none", "tcp", "Harbour")
	for name, ms := range map[string]string{"Slow": "80", "Fast": "9"} {
		r.do("gateway", "change", name, "--tls-server-name", "")
		r.do(
			"probe",
			name,
			"--from",
			"Oslo",
			"--latitude",
			"59.91",
			"--longitude",
			"10.75",
			"--took",
			ms,
		)
	}
	r.do("pattern", "add", "Crew", "--group", "crew", "--gateways", "fastest", "--fallback")
	if out := r.do("pattern", "roll-out", "Crew"); !strings.Contains(out, "1") {
		t.Error(out)
	}
	if out := r.do(
		"profile",
		"list",
		"--output",
		"json",
	); strings.Count(out, `"gateway": "Fast"`) != 1 ||
		strings.Contains(out, `"gateway": "Slow"`) {
		t.Fatalf("expected one profile, to the gateway that answers soonest: %s", out)
	}
	parcel := r.build("Laptop/Fast")
	cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
	for _, end := range []*daemon{nil, fast} {
		if end != nil {
			end.stop()
		}
		client := cli.start(
			"second",
			"openvpn",
			"--config",
			"/etc/openvpn/client/skerry-line-fast.conf",
		)
		if !until(
			25,
			func() bool {
				return strings.Contains(client.said(), "Initialization Sequence "+
					"Completed")
			},
		) {
			t.Fatalf("%s\n%s\n%s", client.said(), fast.said(), slow.said())
		}
		inside(t, cli)
		if over := strings.Contains(client.said(), "10.211.0.170:1194"); over != (end != nil) {
			t.Errorf(
				"with the first gateway ended: %v, and it connects to the second: %v",
				end != nil,
				over,
			)
		}
		client.stop()
	}
}

// controlKey lets the real daemon make a key of a kind: with crypt-v2 its own, from which the service
// makes those of devices.
func controlKey(t *testing.T, r *records, name, kind string) string {
	t.Helper()
	file := r.file("keys/"+name+".key", "")
	made := map[string]string{
		"auth": "secret", "crypt": "secret", "crypt-v2": "tls-crypt-v2-server",
	}[kind]
	if out, err := exec.Command("openvpn", "--genkey", made, file).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return file
}
