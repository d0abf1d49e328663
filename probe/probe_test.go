package probe_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"wardicon/core/suite"
	"wardicon/core/view"
	"wardicon/probe"
	"wardicon/simulate"
)

func suites(t *testing.T, texts ...string) []suite.Proposal {
	t.Helper()
	list, err := suite.ParseAll(texts)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// TestFaultsOfIKEv2 asks stand-ins, sound ones and faulty ones: what they take, and what is said of each fault.
func TestFaultsOfIKEv2(t *testing.T) {
	ask := []string{"aes256-sha256-ecp256", "aes128gcm16-sha256-curve25519", "aes256-sha1-modp1024"}
	for _, test := range []struct {
		name            string
		gateway         *simulate.IKEGateway
		taken, refused  int
		fault, note     string
		cookie, nat, ok bool
	}{
		{name: "sound", gateway: &simulate.IKEGateway{Takes: suites(t, ask[:2]...)}, taken: 2, refused: 1, ok: true},
		{name: "old", gateway: &simulate.IKEGateway{Takes: suites(t, ask[2])}, taken: 1, refused: 2, ok: true},
		{name: "nothing in common", gateway: &simulate.IKEGateway{Takes: suites(t, "aes256-sha512-ecp521")}, refused: 3, ok: true},
		{name: "under load", gateway: &simulate.IKEGateway{Takes: suites(t, ask...), Cookies: true}, taken: 3, cookie: true, ok: true},
		{name: "behind NAT", gateway: &simulate.IKEGateway{Takes: suites(t, ask...), NAT: true}, taken: 3, nat: true, ok: true},
		{name: "noisy", gateway: &simulate.IKEGateway{Takes: suites(t, ask...), Garbage: true}, taken: 3, ok: true},
		{name: "losing packets", gateway: &simulate.IKEGateway{Takes: suites(t, ask...), Lose: 2}, taken: 3, ok: true},
		{name: "choosing what was not offered", gateway: &simulate.IKEGateway{Takes: suites(t, ask...), Wrong: true}, fault: "it chose what was not offered", ok: true},
		{name: "silent", gateway: &simulate.IKEGateway{Silent: true}, fault: "no answer by UDP to port"},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			g, err := simulate.NewIKEGateway(test.gateway)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = g.Close() })
			r := probe.IKEv2(t.Context(), g.At, suites(t, ask...))
			if len(r.Taken) != test.taken || len(r.Refused) != test.refused || r.Cookie != test.cookie || r.GatewayBehindNAT != test.nat || r.HereBehindNAT != test.nat || r.Answered != test.ok {
				t.Errorf("%+v", r)
			}
			if (r.Fault == "") != (test.fault == "") || !strings.Contains(r.Fault, test.fault) || r.Answered && r.Milliseconds <= 0 || r.Fragmentation != (test.taken > 0) {
				t.Errorf("%+v", r)
			}
		})
	}
}

// TestNobody asks where nobody listens: the system itself says so.
func TestNobody(t *testing.T) {
	g, err := simulate.NewIKEGateway(&simulate.IKEGateway{})
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	if r := probe.IKEv2(t.Context(), g.At, suites(t, "aes256-sha256-ecp256")); r.Answered || r.Fault == "" {
		t.Errorf("%+v", r)
	}
	var all view.ProbedIKE
	all.Note("once")
	all.Note("once")
	if len(all.Notes) != 1 {
		t.Error(fmt.Sprint(all.Notes))
	}
}

// TestRealDaemon asks the IKE daemon that Debian has, in a network of its own.
func TestRealDaemon(t *testing.T) {
	const inside = "WARDICON_PROBE_INSIDE"
	takes := []string{"aes256-sha256-ecp256", "aes256gcm16-sha384-ecp384", "aes128-sha1-modp2048"}
	refuses := []string{"aes256-sha256-modp3072", "aes256-sha1-modp1024"}
	if os.Getenv(inside) != "" {
		r := probe.IKEv2(t.Context(), netip.MustParseAddrPort("127.0.0.1:500"), suites(t, slices.Concat(takes, refuses)...))
		if !r.Answered || r.Fault != "" || !slices.Equal(r.Taken, takes) || !slices.Equal(r.Refused, refuses) || !r.Fragmentation || r.GatewayBehindNAT || r.HereBehindNAT {
			t.Errorf("%+v", r)
		}
		return
	}
	for _, tool := range []string{"swanctl", "unshare", "ip", "/usr/sbin/charon-systemd"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	if os.Getuid() != 0 || exec.Command("unshare", "-n", "-m", "true").Run() != nil {
		t.Skip("no namespaces can be made here")
	}
	script := `set -e
mount -t tmpfs tmpfs /run
ip link set lo up
cat > ROOT/swanctl.conf <<'END'
connections { sample { version = 2
  proposals = aes256-sha256-ecp256,aes256gcm16-prfsha384-ecp384,aes128-sha1-modp2048
  local { auth = psk
    id = norrvik.skerryline.example }
  remote { auth = psk
    id = %any } } }
secrets { ike-sample { secret = "sample-only" } }
END
printf 'charon-systemd { plugins { kernel-libipsec { load = no } vici { socket = unix:///run/charon.vici } } }\n' > ROOT/strongswan.conf
export STRONGSWAN_CONF=ROOT/strongswan.conf SWANCTL_DIR=ROOT
/usr/sbin/charon-systemd > ROOT/log 2>&1 & daemon=$!
for i in $(seq 100); do [ -S /run/charon.vici ] && break; sleep 0.1; done
timeout 20 swanctl --load-all --noprompt > ROOT/load 2>&1
status=0
` + inside + `=1 timeout 40 ` + os.Args[0] + ` -test.run '^TestRealDaemon$' || status=$?
kill $daemon; wait $daemon || true
[ $status = 0 ] || cat ROOT/load ROOT/log
exit $status`
	out, err := exec.CommandContext(t.Context(), "unshare", "-n", "-m", "sh", "-c", strings.ReplaceAll(script, "ROOT", t.TempDir())).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}
