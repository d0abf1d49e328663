package connect

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"wardicon/api"
)

// TestTwoAuthorities has one device sign in to two real gateways, each of which trusts a CA of its own
// and not the other's: with keys made here, and with keys that the device makes itself. Renewing,
// revoking and removing touch the certificate of the one CA alone.
func TestTwoAuthorities(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t, "curl", "openssl")
	w.cli.startIKE()
	socket, public := enrolling(t, w.r)
	home := curlHome(t, w.r, socket, public)
	places := map[string]string{"North": "Harbour", "South": "Lighthouse"}
	for gateway, authority := range places {
		w.r.do("authority", "make", authority)
		g := w.gateway(gateway, "--ikev2-auth", "certificate", "--ikev2-ike",
			"aes256gcm16-prfsha256-ecp256", "--ikev2-esp", "aes256gcm16", "--ikev2-authority",
			w.r.authority(authority))
		w.bundle(t, &g, authority)
		g.configure(t, w.gw)
	}
	w.gw.run("swanctl", "--load-all", "--noprompt")

	w.r.do("device", "add", "Two keys", "--person", "Ada Fjell", "--platform", "linux", "--release", "6",
		"--encrypted")
	for _, authority := range places {
		w.r.do("certificate", "issue", "Two keys", "--authority", authority)
	}
	w.r.do("device", "add", "Own keys", "--person", "Ada Fjell", "--platform", "linux", "--release", "6",
		"--encrypted", "--enrol", "Harbour", "--enrol-other", "Lighthouse")
	for gateway := range places {
		for _, device := range []string{"Two keys", "Own keys"} {
			w.r.do("profile", "add", device, "--gateway", gateway)
		}
	}
	goes := func(device, gateway string) {
		t.Helper()
		parcel := w.r.build(device + "/" + gateway)
		w.cli.shell(`cd "$1" && CURL_HOME=$2 sh ./*-install.sh`, parcel, home)
		comesUp(t, w.cli, "swanctl", "--initiate", "--child", "skerry-line-"+strings.ToLower(gateway),
			"--timeout", "20")
		w.cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
		if err := os.RemoveAll(parcel); err != nil {
			t.Fatal(err)
		}
	}
	serials := func(device string) (list []string) {
		var drawn api.Chain
		if err := json.Unmarshal([]byte(w.r.do("certificate", "chain", "--device", device, "--output",
			"json")), &drawn); err != nil {
			t.Fatal(err)
		}
		for _, links := range append(drawn.Others, drawn.Links) {
			list = append(list, links[0].Issuer+" "+links[0].Serial)
		}
		return list
	}
	for gateway := range places {
		goes("Two keys", gateway)
		goes("Own keys", gateway)
	}
	if list := serials("Own keys"); len(list) != 2 {
		t.Errorf("the device that makes its keys itself has %v", list)
	}

	before := serials("Two keys")
	w.r.do("authority", "renew", "Harbour", "--all")
	after := serials("Two keys")
	for _, s := range before {
		if kept, stays := strings.HasPrefix(s, "Lighthouse"), strings.Contains(strings.Join(after, "\n"),
			s); kept != stays {
			t.Errorf("Harbour is renewed: %v before, %v after", before, after)
		}
	}
	for gateway := range places {
		goes("Two keys", gateway)
	}

	// The certificate of Lighthouse is taken away: South can no longer be reached, North can.
	for _, s := range after {
		if serial, ok := strings.CutPrefix(s, "Lighthouse "); ok {
			w.r.do("certificate", "drop", "Two keys", serial, "--yes")
		}
	}
	goes("Two keys", "North")
	if code, out := w.r.try("", "build", "Two keys/South"); code != 1 ||
		!strings.Contains(out, "Harbour") {
		t.Errorf("without a certificate that South trusts: %d, %s", code, out)
	}
}
