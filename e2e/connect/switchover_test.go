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
	connects := func(parcel, when string, expected bool) {
		t.Helper()
		w.cli.shell(`cd "$1" && sh ./*-install.sh`, parcel)
		out, err := w.cli.try(25, "swanctl", "--initiate", "--child", "skerry-line-norr",
			"--timeout", "8")
		if (err == nil) != expected {
			t.Errorf("%s, connected is %v, expected %v\n%s", when, err == nil, expected, out)
		} else if expected {
			inside(t, w.cli)
		}
		w.cli.shell(`cd "$1" && sh ./*-remove.sh && swanctl --load-all --noprompt`, parcel)
	}
	serve()
	late, before := apart(t, w.r.build("Late/Norr")), apart(t, w.r.build("Early/Norr"))
	connects(late, "before it", true)
	w.r.switched(t, "New key", "--kind", "psk", "--gateway", "Norr")
	connects(late, "with the old key at a gateway that is as it was", true)
	serve()
	early := w.r.build("Early/Norr")
	connects(early, "with the new key", true)
	connects(late, "with the old key beside it", true)
	connects(before, "with the old key by a device that has a new one", true)
	w.r.do("switchover", "cut-off", "New key", "--yes")
	serve()
	connects(early, "with the new key alone", true)
	connects(late, "with the old key after the cut-off", false)
	connects(w.r.build("Late/Norr"), "with a parcel built after the cut-off", true)
}

// TestSwitchoverTunnel changes passwords of the TLS tunnel: a real daemon takes both while two are
// valid, and the old ones no longer after the cut-off.
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
	early := r.build("Early/Sund")
	signsIn(early, "with the new password", true)
	signsIn(before, "with the old password beside it", true)
	signsIn(late, "of somebody whose password has not changed", true)
	r.do("switchover", "cut-off", "New passwords", "--yes")
	serve()
	signsIn(early, "with the new password alone", true)
	signsIn(before, "with the old password after the cut-off", false)
	signsIn(late, "with another one's old password after the cut-off", false)
	d.stop()
}
