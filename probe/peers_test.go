package probe_test

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/drift"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe"
)

// The real daemons that Debian has, each with what the network of the test must have of it.
var peerTools = []string{
	"unshare",
	"ip",
	"swanctl",
	"/usr/sbin/charon-systemd",
	"/usr/sbin/xl2tpd",
	"/usr/sbin/pptpd",
	"openvpn",
	"openssl",
	"/usr/sbin/nginx",
}

const (
	insidePeers = "WARDICON_PEERS_INSIDE" // folder with keys, set in the network of the daemons
	recordInto  = "WARDICON_RECORD"       // folder in which exchanges are recorded
)

// certificates writes what the daemons show, and gives the authority.
func certificates(t *testing.T, dir string) {
	t.Helper()
	write := func(name string, content []byte) {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	rootKey, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		t.Fatal(err)
	}
	from, to := time.Now().Add(-time.Hour), time.Now().AddDate(0, 1, 0)
	root, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Key: rootKey},
		rootKey.Public(),
		pki.Wanted{
			Name:    "Authority of the daemons",
			Usage:   pki.ForAuthority,
			From:    from,
			To:      to.AddDate(0, 1, 0),
			MaxPath: -1,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Certificate: root, Key: rootKey},
		key.Public(),
		pki.Wanted{
			Name:    "norrvik.example",
			Usage:   pki.ForServer,
			Names:   []string{"norrvik.example"},
			From:    from,
			To:      to,
			MaxPath: -1,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	private, err := pki.KeyPEM(key)
	if err != nil {
		t.Fatal(err)
	}
	write("ca.pem", []byte(pki.Bundle(root)))
	write("server.pem", []byte(pki.Bundle(leaf)))
	write("server.key", []byte(private.Reveal()))
	static := make([]byte, tlstunnel.KeySize)
	server := make([]byte, 128)
	_, _ = rand.Read(static)
	_, _ = rand.Read(server)
	write("static.raw", static)
	write(
		"static.key",
		[]byte(vpn.StaticKeyBegin+"\n"+hex.EncodeToString(static)+"\n"+vpn.StaticKeyEnd+"\n"),
	)
	write(
		"v2.key",
		pem.EncodeToMemory(&pem.Block{Type: "OpenVPN tls-crypt-v2 server key", Bytes: server}),
	)
	meta := append([]byte{0}, []byte("purser")...)
	write(
		"v2.client",
		[]byte(base64.StdEncoding.EncodeToString(tlstunnel.ClientKey(server, static, meta))),
	)
}

// daemons is the script that starts them all, in a network of their own.
const daemons = `set -e
mount -t tmpfs tmpfs /run
ip link set lo up
cd ROOT
cat > swanctl.conf <<'END'
connections {
  new { version = 2
    proposals = aes256-sha256-ecp256,aes256gcm16-prfsha384-ecp384,aes128-sha1-modp2048
    local { auth = psk
      id = norrvik.skerryline.example }
    remote { auth = psk
      id = %any } }
  old { version = 1
    aggressive = yes
    proposals = aes256-sha256-modp2048,aes128-sha1-modp2048
    local { auth = psk
      id = norrvik.skerryline.example }
    remote { auth = psk
      id = %any } } }
secrets { ike-sample { secret = "sample-only" } }
END
cat > strongswan.conf <<'END'
charon-systemd { block_threshold = 50
  cookie_threshold_ip = 50
  cookie_threshold = 60
  i_dont_care_about_security_and_use_aggressive_mode_psk = yes
  plugins { kernel-libipsec { load = no } vici { socket = unix:///run/charon.vici } } }
END
export STRONGSWAN_CONF=ROOT/strongswan.conf SWANCTL_DIR=ROOT
/usr/sbin/charon-systemd > charon.log 2>&1 & all=$!
printf '[global]\nlisten-addr = 127.0.0.1\nforce userspace = yes\n[lns default]\nip range = 10.9.0.2-10.9.0.9\nlocal ip = 10.9.0.1\nname = norrvik\n' > xl2tpd.conf
/usr/sbin/xl2tpd -D -c xl2tpd.conf -s /dev/null -p ROOT/x.pid -C ROOT/ctl > xl2tpd.log 2>&1 & all="$all $!"
printf 'ppp /bin/false\nlisten 127.0.0.1\nlocalip 10.9.1.1\nremoteip 10.9.1.2-9\n' > pptpd.conf
/usr/sbin/pptpd -f -c ROOT/pptpd.conf -p ROOT/p.pid > pptpd.log 2>&1 & all="$all $!"
tunnel() { openvpn --mode server --tls-server --dev tun --dh none --ca ca.pem --cert server.pem --key server.key --local 127.0.0.1 --port "$@" > openvpn-$1.log 2>&1 & all="$all $!"; }
tunnel 1201 --proto udp
tunnel 1202 --proto udp --tls-auth static.key 0 --auth SHA256
tunnel 1203 --proto udp --tls-crypt static.key
tunnel 1204 --proto udp --tls-crypt-v2 v2.key
tunnel 1205 --proto tcp-server --tls-crypt static.key
tunnel 1206 --proto udp --tls-auth static.key
printf 'daemon off; error_log ROOT/nginx.err; pid ROOT/nginx.pid; events {} http { access_log off; client_body_temp_path ROOT; proxy_temp_path ROOT; fastcgi_temp_path ROOT; uwsgi_temp_path ROOT; scgi_temp_path ROOT; server { listen 127.0.0.1:443 ssl; ssl_certificate ROOT/server.pem; ssl_certificate_key ROOT/server.key; ssl_protocols TLSv1.2; } }' > nginx.conf
/usr/sbin/nginx -e ROOT/nginx.err -c ROOT/nginx.conf > nginx.log 2>&1 & all="$all $!"
openssl s_server -accept 127.0.0.1:444 -cert server.pem -key server.key -tls1 -cipher 'ALL:@SECLEVEL=0' > openssl.log 2>&1 < /dev/zero & all="$all $!"
for i in $(seq 100); do [ -S /run/charon.vici ] && break; sleep 0.1; done
timeout 20 swanctl --load-all --noprompt > load.log 2>&1
sleep 1
status=0
` + insidePeers + `=ROOT timeout 90 SELF -test.parallel 20 -test.run '^TestPeers$' || status=$?
kill $all; wait || true
[ $status = 0 ] || tail -n 15 *.log *.err
exit $status`

// TestPeers asks the real daemons that Debian has, in a network of their own.
func TestPeers(t *testing.T) {
	if dir := os.Getenv(insidePeers); dir != "" {
		probePeers(t, dir)
		return
	}
	for _, tool := range peerTools {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("skipped: %s is not installed", tool)
		}
	}
	if os.Getuid() != 0 || exec.Command("unshare", "-n", "-m", "true").Run() != nil {
		t.Skip("skipped: the daemons need a network of their own, which only root can make")
	}
	root := t.TempDir()
	certificates(t, root)
	script := strings.NewReplacer("ROOT", root, "SELF", os.Args[0]).Replace(daemons)
	ctx, stop := context.WithTimeout(t.Context(), 3*time.Minute)
	defer stop()
	out, err := exec.CommandContext(ctx, "unshare", "-n", "-m", "--kill-child", "bash", "-c",
		script).
		CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// probePeers runs beside the daemons.
func probePeers(t *testing.T, dir string) {
	read := func(name string) []byte {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	w := func(w tlstunnel.Wrapping, err error) tlstunnel.Wrapping {
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	static := read("static.raw")
	client, err := base64.StdEncoding.DecodeString(string(read("v2.client")))
	if err != nil {
		t.Fatal(err)
	}
	takes, refuses := []string{
		"aes256-sha256-ecp256",
		"aes256gcm16-prfsha384-ecp384",
		"aes128-sha1-modp2048",
	}, []string{
		"aes256-sha256-modp3072",
		"aes256-sha1-modp1024",
	}
	old := probe.IKEv1Question{
		Suites: suites(t, "aes256-sha256-modp2048", "3des-sha1-modp1024"),
		Group:  "crew",
	}
	ask := func(port int, name string, question func(netip.AddrPort) drift.Answer, want string) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := question(recorded(t, port, name))
			if got := told(a); !strings.HasPrefix(got, want) {
				t.Errorf("%s\nexpected %s", got, want)
			}
			t.Logf("%s: %.1f ms, %d packets", name, a.Milliseconds, a.Packets)
		})
	}
	ctx := t.Context()
	ask(500, "ikev2", func(at netip.AddrPort) drift.Answer {
		a := probe.New().IKEv2(ctx, at, false, suites(t, slices.Concat(takes, refuses)...))
		if a.IKE == nil || !slices.Equal(a.IKE.Taken, takes) || !a.IKE.Fragmentation ||
			!a.IKE.NATKnown {
			t.Errorf("%+v", a.IKE)
		}
		return a
	}, "answers, refuses 2, takes 3, ")
	ask(
		4500,
		"ikev2-4500",
		func(at netip.AddrPort) drift.Answer {
			return probe.New().IKEv2(ctx,
				at, true, suites(t, takes[0]))
		},
		"answers, refuses 0, takes 1, ",
	)
	ask(500, "ikev2-by-ipv6", func(netip.AddrPort) drift.Answer {
		return probe.New().
			IKEv2(ctx, netip.MustParseAddrPort("[::1]:500"), false, suites(t, takes[0]))
	}, "answers, refuses 0, takes 1, ")
	ask(500, "ikev1-main", func(at netip.AddrPort) drift.Answer {
		a := probe.New().Main(ctx, at, old)
		if a.IKE == nil || !a.IKE.NATKnown {
			t.Errorf("%+v", a.IKE)
		}
		return a
	}, "answers, refuses 1, takes 1, ")
	ask(
		500,
		"ikev1-aggressive",
		func(at netip.AddrPort) drift.Answer { return probe.New().Aggressive(ctx, at, old) },
		"answers, as norrvik.skerryline.example, hash shown, refuses 0, takes 1, ",
	)
	ask(
		1701,
		"l2tp",
		func(at netip.AddrPort) drift.Answer { return probe.New().L2TP(ctx, at) },
		"answers, host ",
	)
	ask(
		1723,
		"pptp",
		func(at netip.AddrPort) drift.Answer { return probe.New().PPTP(ctx, at) },
		"answers, host local, ",
	)
	shown := "answers, CN=norrvik.example, TLS 1.3, "
	for _, tunnel := range []struct {
		port      int
		name      string
		transport vpn.Transport
		wrapping  tlstunnel.Wrapping
		want      string
	}{
		{1201, "tunnel", vpn.UDP, tlstunnel.Wrapping{}, shown},
		{1202, "tunnel-auth", vpn.UDP, w(tlstunnel.Auth(static, "1", "SHA256")), shown},
		{1203, "tunnel-crypt", vpn.UDP, w(tlstunnel.Crypt(static, false)), shown},
		{1204, "tunnel-crypt-v2", vpn.UDP, w(tlstunnel.CryptV2(client)), shown},
		{1205, "tunnel-tcp", vpn.TCP, w(tlstunnel.Crypt(static, false)), shown},
		{1206, "tunnel-auth-both", vpn.UDP, w(tlstunnel.Auth(static, "", "")), shown},
		{1203, "tunnel-no-key", vpn.UDP, tlstunnel.Wrapping{}, "no-response, no answer by UDP"},
		{1202,
			"tunnel-wrong-direction", vpn.UDP, w(tlstunnel.Auth(static, "0", "SHA256")),
			"no-response, no answer by UDP"},
	} {
		ask(tunnel.port, tunnel.name, func(at netip.AddrPort) drift.Answer {
			return probe.New().Tunnel(ctx, at, tunnel.transport, tunnel.wrapping, "norrvik.example")
		}, tunnel.want)
	}
	ask(
		443,
		"web-server",
		func(at netip.AddrPort) drift.Answer {
			return probe.New().SSTP(ctx,
				at, "norrvik.example")
		},
		"faulty, CN=norrvik.example, TLS 1.2, the web server there answers 4",
	)
	ask(
		444,
		"old-tls",
		func(at netip.AddrPort) drift.Answer {
			return probe.New().SSTP(ctx,
				at, "norrvik.example")
		},
		"faulty, CN=norrvik.example, TLS 1.0, ",
	)
}

// recorded is where a daemon is asked: at its own port, or past a relay that keeps what is said.
func recorded(t *testing.T, port int, name string) netip.AddrPort {
	at := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(port))
	dir := os.Getenv(recordInto)
	if dir == "" || !slices.Contains(replayed, name) && recordedKeys[name] == "" {
		return at
	}
	var log strings.Builder
	if file := recordedKeys[name]; file != "none" && file != "" {
		key, err := os.ReadFile(filepath.Join(os.Getenv(insidePeers), file))
		if err != nil {
			t.Fatal(err)
		}
		log.WriteString("k " + hex.EncodeToString(key) + "\n")
	}
	note := func(way string, b []byte) { log.WriteString(way + " " + hex.EncodeToString(b) + "\n") }
	t.Cleanup(func() {
		if err := os.WriteFile(
			filepath.Join(dir, name+".hex"),
			[]byte(log.String()),
			0o644,
		); err != nil {
			t.Error(err)
		}
	})
	if port == 1723 {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", at.String())
			if err != nil {
				return
			}
			for _, way := range []struct {
				mark     string
				from, to net.Conn
			}{{">", conn, there}, {"<", there, conn}} {
				go func() {
					b := make([]byte, 4096)
					for {
						n, err := way.from.Read(b)
						if err != nil {
							_ = way.to.Close()
							return
						}
						note(way.mark, b[:n])
						_, _ = way.to.Write(b[:n])
					}
				}()
			}
		}()
		return listener.Addr().(*net.TCPAddr).AddrPort()
	}
	front, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	back, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(at))
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		b, answer := make([]byte, 64<<10), make([]byte, 64<<10)
		for {
			n, from, err := front.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			note(">", b[:n])
			_, _ = back.Write(b[:n])
			_ = back.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
			for {
				n, err := back.Read(answer)
				if err != nil {
					break
				}
				note("<", answer[:n])
				_, _ = front.WriteToUDPAddrPort(answer[:n], from)
			}
		}
	}()
	return front.LocalAddr().(*net.UDPAddr).AddrPort()
}
