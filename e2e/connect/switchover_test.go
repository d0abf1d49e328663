package connect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// switched begins a switchover that the people of the group pilots get first, and hands their
// devices over.
func (r *records) switched(t *testing.T, name string, flags ...string) {
	t.Helper()
	r.do(append([]string{
		"switchover", "add", name, "--wave", "pilots", "--wave", "100",
	}, flags...)...)
	r.begun(t, name)
}

// begun begins a switchover that was added.
func (r *records) begun(t *testing.T, name string) {
	t.Helper()
	r.do("switchover", "preview", name)
	r.do("switchover", "start", name)
	if !until(20, func() bool {
		return strings.Contains(r.do("job", "list", "--filter", "kind=switch"), "done")
	}) {
		t.Fatalf("nothing is handed over:\n%s", r.do("job", "list"))
	}
}

// apart moves a parcel away, so that another one of the same profile can be built.
func apart(t *testing.T, parcel string) string {
	t.Helper()
	to := filepath.Join(t.TempDir(), "parcel")
	if err := os.Rename(parcel, to); err != nil {
		t.Fatal(err)
	}
	return to
}

// connects lets a device connect by a parcel's own script, and holds whether it does.
func (w *ikeWorld) connects(t *testing.T, parcel, name, when string, expected bool) {
	t.Helper()
	w.cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
	out, err := w.cli.try(25, "swanctl", "--initiate", "--child", "skerry-line-"+name,
		"--timeout", "8")
	if (err == nil) != expected {
		t.Errorf("%s, connected is %v, expected %v\n%s", when, err == nil, expected, out)
	} else if expected {
		inside(t, w.cli)
	}
	w.cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
}

// twoPeople have a device each: one gets a new value first.
func twoPeople(t *testing.T, r *records) {
	t.Helper()
	r.do("person", "add", "Leif Sund", "--mail", "leif@skerryline.example", "--group", "pilots")
	r.do("account", "add", "l_sund", "--person", "Leif Sund", "--password-file",
		r.file("leif", "Tide-Table 4 lanterns"))
	for device, person := range map[string]string{"Late": "Ada Fjell", "Early": "Leif Sund"} {
		r.do("device", "add", device, "--person", person, "--platform", "linux", "--release", "6",
			"--encrypted")
	}
}

// TestSwitchoverKey gives one of two devices another pre-shared key of IKEv2: a real daemon with the
// configuration of the time between takes both, each by its own client; after the cut-off only the
// new one.
func TestSwitchoverKey(t *testing.T) {
	t.Parallel()
	w := newIKEWorld(t)
	twoPeople(t, w.r)
	g := w.gateway("Norr", "--ikev2-auth", "psk", "--ikev2-psk-file", w.r.file("psk", psk),
		"--ikev2-ike", "aes256-sha256-ecp256", "--ikev2-esp", "aes256-sha256")
	for _, device := range []string{"Late", "Early"} {
		w.r.do("profile", "add", device, "--gateway", "Norr")
	}
	serve := func() {
		g.configure(t, w.gw)
		w.gw.run("swanctl", "--load-all", "--noprompt")
	}
	serve()
	late, before := apart(t, w.r.build("Late/Norr")), apart(t, w.r.build("Early/Norr"))
	w.connects(t, late, "norr", "before it", true)
	w.r.switched(t, "New key", "--kind", "psk", "--gateway", "Norr")
	w.connects(t, late, "norr", "with the old key at a gateway that is as it was", true)
	serve()
	early := w.r.build("Early/Norr")
	w.connects(t, early, "norr", "with the new key", true)
	w.connects(t, late, "norr", "with the old key beside it", true)
	w.connects(t, before, "norr", "with the old key by a device that has a new one", true)
	w.r.do("switchover", "cut-off", "New key", "--yes")
	serve()
	w.connects(t, early, "norr", "with the new key alone", true)
	w.connects(t, late, "norr", "with the old key after the cut-off", false)
	w.connects(t, w.r.build("Late/Norr"), "norr", "with a parcel built after the cut-off", true)
}

// TestSwitchoverTunnel changes passwords and then ports of the TLS tunnel: real daemons take both
// while two are valid, and the old ones no longer after the cut-off.
func TestSwitchoverTunnel(t *testing.T) {
	t.Parallel()
	r, gw, cli := newTunnelWorld(t)
	twoPeople(t, r)
	r.do("authority", "make", "Harbour")
	d := newTunnelGateway(t, r, gw, cli, "Sund", 20, "password", "crypt", "udp", "Harbour")
	signsIn := func(parcel, when string, expected bool) {
		t.Helper()
		if result, out := cli.rehearse(parcel); result.Passed != expected {
			t.Errorf("%s, signed in is %v, expected %v\n%s\nthe daemon says\n%s", when,
				result.Passed, expected, out, d.said())
		}
	}
	for _, device := range []string{"Late", "Early"} {
		r.do("profile", "add", device, "--gateway", "Sund", "--password", "saved")
	}
	late, before := apart(t, r.build("Late/Sund")), apart(t, r.build("Early/Sund"))
	signsIn(before, "before it", true)
	r.switched(t, "New passwords", "--kind", "passwords", "--gateway", "Sund")
	serve := func() {
		d.stop()
		time.Sleep(200 * time.Millisecond)
		d = serveTunnel(t, r, gw, "Sund", "udp", "Harbour")
	}
	serve()
	early := apart(t, r.build("Early/Sund"))
	signsIn(early, "with the new password", true)
	signsIn(before, "with the old password beside it", true)
	signsIn(late, "of somebody whose password has not changed", true)
	r.do("switchover", "cut-off", "New passwords", "--yes")
	serve()
	signsIn(early, "with the new password alone", true)
	signsIn(before, "with the old password after the cut-off", false)
	signsIn(late, "with another one's old password after the cut-off", false)

	late = apart(t, r.build("Late/Sund"))
	r.switched(t, "New ports", "--kind", "port", "--gateway", "Sund", "--remote", "tcp:1194")
	serve()
	tcp := serveTunnel(t, r, gw, "Sund", "tcp", "Harbour")
	early = apart(t, r.build("Early/Sund"))
	signsIn(early, "by both ways", true)
	signsIn(late, "by the old way beside the new one", true)
	tcp.stop()
	signsIn(early, "by the old way while the new one is down", true)
	r.do("switchover", "cut-off", "New ports", "--yes")
	d.stop()
	d = serveTunnel(t, r, gw, "Sund", "tcp", "Harbour")
	signsIn(early, "by the new way alone", true)
	signsIn(late, "by the old way after the cut-off", false)
	d.stop()
}

// TestSwitchoverAddress moves a gateway to another name and address while its old ones are valid:
// a real IKE daemon with the configuration of the time between proves itself to devices of both, and
// to those of the new one alone after the cut-off.
func TestSwitchoverAddress(t *testing.T) {
	t.Parallel()
	w := newIKEWorld(t)
	twoPeople(t, w.r)
	w.r.do("authority", "make", "Harbour")
	w.r.do("authority", "make", "Pier")
	g := w.gateway("Vest", "--ikev2-auth", "eap-mschapv2", "--ikev2-ike", "aes256-sha256-ecp256",
		"--ikev2-esp", "aes256-sha256", "--ikev2-authority", w.r.authority("Harbour"))
	w.gw.run("ip", "addr", "add", "10.211.9.9/16", "dev", "br0")
	w.cli.shell(`echo "10.211.9.9 nyvest.skerryline.example" >> /etc/hosts`)
	for _, device := range []string{"Late", "Early"} {
		w.r.do("profile", "add", device, "--gateway", "Vest")
	}
	serve := func() {
		w.gw.shell("rm -f /etc/swanctl/x509ca/*")
		g.configure(t, w.gw)
		w.gw.run("swanctl", "--load-all", "--noprompt", "--clear")
	}
	w.bundle(t, &g, "Harbour")
	serve()
	late := apart(t, w.r.build("Late/Vest"))
	w.connects(t, late, "vest", "before it", true)
	w.r.do("switchover", "add", "Moves", "--kind", "address", "--gateway", "Vest", "--address",
		"nyvest.skerryline.example", "--ip", "10.211.9.9", "--wave", "pilots", "--wave", "100")
	if err := os.RemoveAll(g.bundle); err != nil {
		t.Fatal(err)
	}
	w.bundle(t, &g, "Harbour") // by its old and its new name
	w.r.begun(t, "Moves")
	serve()
	early := apart(t, w.r.build("Early/Vest"))
	w.connects(t, early, "vest", "to the new address", true)
	w.connects(t, late, "vest", "to the old address beside it", true)
	w.r.do("switchover", "cut-off", "Moves", "--yes")
	serve()
	w.connects(t, early, "vest", "to the new address alone", true)
	w.connects(t, late, "vest", "to the old address after the cut-off", false)

	// Stronger proposals: both are taken in between.
	late = apart(t, w.r.build("Late/Vest"))
	w.r.switched(t, "Stronger", "--kind", "proposals", "--gateway", "Vest", "--ike",
		"aes256gcm16-prfsha384-ecp384", "--esp", "aes256gcm16-ecp384")
	serve()
	early = apart(t, w.r.build("Early/Vest"))
	w.connects(t, early, "vest", "by the new proposals", true)
	w.connects(t, late, "vest", "by the old proposals beside them", true)
	w.r.do("switchover", "cut-off", "Stronger", "--yes")
	serve()
	w.connects(t, early, "vest", "by the new proposals alone", true)
	w.connects(t, late, "vest", "by the old proposals after the cut-off", false)

	// Another CA of the gateway: a parcel of the time between trusts certificates of both.
	late = apart(t, w.r.build("Late/Vest"))
	w.r.switched(t, "Other CA", "--kind", "authority", "--gateway", "Vest", "--authority-file",
		w.r.authority("Pier"))
	early = apart(t, w.r.build("Early/Vest"))
	w.connects(t, early, "vest", "with both CAs to a certificate of the old one", true)
	w.bundle(t, &g, "Pier")
	serve()
	w.connects(t, early, "vest", "with both CAs to a certificate of the new one", true)
	w.connects(t, late, "vest", "with the old CA to a certificate of the new one", false)
}
