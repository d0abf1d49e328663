package connect

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/core/filecheck"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
	"wardicon/rehearse"
)

const insideRehearsal = "WARDICON_REHEARSAL"

// linkHosts are what is reached behind a gateway whose PPP is slirp's: it answers echoes itself,
// and carries TCP on.
var linkHosts = []string{"10.0.2.2", "10.20.0.1:8080"}

// serveRehearsal rehearses a parcel in tunnel mode: the IKE daemon's own IPsec in user space has no
// other, and this kernel has none at all.
func serveRehearsal(parcel string) error {
	var files []filecheck.File
	list, err := os.ReadDir(parcel)
	if err != nil {
		return err
	}
	for _, f := range list {
		data, err := os.ReadFile(filepath.Join(parcel, f.Name()))
		if err != nil {
			return err
		}
		files = append(files, filecheck.File{Name: f.Name(), Data: data})
	}
	results := []rehearsal.Result{}
	for _, item := range filecheck.Check(files, filecheck.Options{Now: time.Now()}) {
		for _, l := range item.Connections {
			results = append(results, (&rehearse.Rehearser{TunnelMode: true}).Run(
				context.Background(), rehearse.Request{Connection: l.Connection, Hosts: linkHosts}))
		}
	}
	return json.NewEncoder(os.Stdout).Encode(results)
}

// rehearseLink rehearses a parcel that carries PPP: by the command line, or in tunnel mode.
func (b *box) rehearseLink(parcel string, tunnel bool) (rehearsal.Result, string) {
	b.t.Helper()
	path, err := program()
	if err != nil {
		b.t.Fatalf("%v %s", err, path)
	}
	command := []string{path, "rehearse", parcel, "--output", "json"}
	for _, h := range linkHosts {
		command = append(command, "--host", h)
	}
	if tunnel {
		command = []string{"env", insideRehearsal + "=" + parcel, os.Args[0]}
	}
	out, _ := b.try(90, command...)
	var list []rehearsal.Result
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) == 0 {
		b.t.Fatalf("a rehearsal of %s: %v\n%s", parcel, err, out)
	}
	return list[0], out
}

// linkFails demands that a parcel fails in a step, with a likely cause; without a step it passes.
func (b *box) linkFails(
	t *testing.T,
	parcel string,
	tunnel bool,
	step rehearsal.StepName,
	cause string,
) {
	t.Helper()
	r, out := b.rehearseLink(parcel, tunnel)
	if r.Passed != (step == "") || r.FailedAt() != step || r.CauseID != cause {
		t.Errorf("failed at %q by %q, expected %q by %q\n%s", r.FailedAt(), r.CauseID, step, cause,
			out)
	}
	for _, secret := range []string{simple, "kelp9", "kelp8"} {
		if strings.Contains(out, secret) {
			t.Error("the result has a secret in it")
		}
	}
}

// linkGateway is the IPsec half of a gateway for L2TP.
const linkGateway = "connections { %[1]s { version = 1\n local_addrs = %[2]s\n %[6]s\n proposals = " +
	"aes256-sha256-modp2048,aes256-sha256-ecp256\n local { %[3]s }\n remote { %[4]s }\n " +
	"children { l2tp { mode = %[7]s\n local_ts = dynamic[udp/1701]\n remote_ts = dynamic[udp]\n " +
	"esp_proposals = aes256-sha256 } } } }\n%[5]s"

// TestRehearsalL2TP rehearses parcels for real daemons of IKE, L2TP and PPP, well and spoilt: by
// pre-shared key in main and aggressive mode, and by certificate.
func TestRehearsalL2TP(t *testing.T) {
	t.Parallel()
	r, gw, cli := linkWorld(t, "swanctl", "/usr/sbin/charon-systemd", "/usr/sbin/xl2tpd",
		"/usr/bin/slirp-fullbolt")
	gw.prepareIKE()
	gw.startIKE()
	common := []string{"--route", "10.20.0.0/16", "--ppp", "chap", "--ike",
		"aes256-sha256-modp2048", "--esp", "aes256-sha256"}
	last := 80
	add := func(name, mode, more string, flags ...string) (host string) {
		host = strings.ToLower(name) + ".skerryline.example"
		address := fmt.Sprintf("10.211.0.%d", last)
		last++
		gw.run("ip", "addr", "add", address+"/16", "dev", "br0")
		cli.shell("echo " + address + " " + host + " >> /etc/hosts")
		r.do(append(append([]string{"gateway", "add", name, "--address", host, "--known-address",
			address}, common...), flags...)...)
		local, remote := "auth = psk", "auth = psk"
		secrets := "secrets { ike-" + name + " { id-1 = " + address + "\n secret = \"" +
			strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(psk) + "\" } }"
		if strings.Contains(more, "aggressive") {
			remote += "\n id = keyid:crew"
		}
		if strings.Contains(strings.Join(flags, " "), "certificate") {
			bundle := filepath.Join(r.dir, "bundles", name)
			r.do("certificate", "bundle", name, "--authority", "Harbour", "--out", bundle)
			g := ikeGateway{name: name, bundle: bundle}
			g.install(t, gw)
			local = "auth = pubkey\n certs = " + g.file("-certificate.pem")
			remote, secrets = "auth = pubkey\n "+g.trusting(t), ""
		}
		gw.write(
			"/etc/swanctl/conf.d/"+strings.ToLower(name)+".conf",
			0o600,
			fmt.Sprintf(linkGateway,
				name, address, local, remote, secrets, more, mode),
		)
		r.do("profile", "add", "Laptop", "--gateway", name, "--protocol", "l2tp")
		return host
	}
	file := r.file("psk", psk)
	r.do("authority", "make", "Other")
	add("Keyed", "tunnel", "", "--psk-file", file)
	add("Certified", "tunnel", "", "--l2tp-auth", "certificate", "--l2tp-authority",
		r.authority("Harbour"))
	add("Transport", "transport", "", "--psk-file", file)
	r.do("device", "add", "Stranger", "--person", "Ada Fjell", "--platform", "linux", "--release",
		"6", "--encrypted")
	r.do("certificate", "issue", "Stranger", "--authority", "Other")
	r.do("profile", "add", "Stranger", "--gateway", "Certified", "--protocol", "l2tp")
	gw.run("swanctl", "--load-all", "--noprompt")
	gw.write("/etc/xl2tpd/xl2tpd.conf", 0o600,
		"[global]\nforce userspace = yes\n[lns default]\nip range = 10.0.2.15-10.0.2.30\nlocal ip "+
			"= 10.0.2.2\npppoptfile = /run/none\nlength bit = yes\n")
	gw.shell(
		": > /etc/xl2tpd/l2tp-secrets; mount --bind /run/slirp-pppd /usr/sbin/pppd; mkdir -p " +
			"/run/xl2tpd",
	)
	gw.start("lns", "/usr/sbin/xl2tpd", "-D", "-p", "/run/xl2tpd.pid")
	parcel := map[string]string{}
	for _, name := range []string{"Keyed", "Certified", "Transport"} {
		parcel[name] = r.build("Laptop/" + name)
	}
	stranger := r.despite("Stranger/Certified", "stranger", "client-authority-other")
	other, err := os.ReadFile(r.authority("Other"))
	if err != nil {
		t.Fatal(err)
	}
	ca, err := os.ReadFile(r.authority("Harbour"))
	if err != nil {
		t.Fatal(err)
	}
	faults := []struct {
		name, parcel, pattern, to string
		step                      rehearsal.StepName
		cause                     string
	}{
		{"by key", parcel["Keyed"], "", "", "", ""},
		{"by certificate", parcel["Certified"], "", "", "", ""},
		{"another group", parcel["Keyed"], "aes256-sha256-modp2048", "aes256-sha256-ecp256", "", ""},
		{"password", parcel["Keyed"], simple, "another-one1", rehearsal.SignIn, "password-wrong"},
		{"pre-shared key", parcel["Keyed"], `secret = \S+`, "secret = another", rehearsal.Gateway,
			"key-wrong"},
		{"IKE proposal", parcel["Keyed"], "aes256-sha256-modp2048", "aes128-sha1-modp1024",
			rehearsal.Exchange, "suites-differ"},
		{"child proposal", parcel["Keyed"], "esp_proposals = aes256-sha256",
			"esp_proposals = aes128-sha512", rehearsal.Address, "child-suites-differ"},
		{"CA", parcel["Certified"], regexp.QuoteMeta(string(ca)), string(other), rehearsal.Gateway,
			"authority-missing"},
		{"device certificate of another CA", stranger, "", "", rehearsal.Gateway, "client-refused"},
		{"name of the gateway", parcel["Keyed"], `keyed\.skerryline`, "nowhere.skerryline",
			rehearsal.Resolve, "name-unresolved"},
	}
	for _, test := range faults {
		t.Run(test.name, func(t *testing.T) {
			documented(t, "L2TP/IPsec", test.name, test.step, test.cause)
			cli.linkFails(t, spoilt(t, test.parcel, test.pattern, test.to), true, test.step,
				test.cause)
		})
	}
	cli.prepareIKE()
	cli.startIKE()
	for _, test := range faults {
		if test.step == "" || test.step == rehearsal.SignIn {
			continue // PPP begins where this kernel ends
		}
		t.Run("the client's log: "+test.name, func(t *testing.T) {
			from := test.parcel
			if test.name == "child proposal" {
				from = parcel["Transport"] // the other gateway refuses what devices use before that
			}
			explained(t, cli.ikeSays(t, spoilt(t, from, test.pattern, test.to)), vpn.L2TP, test.cause)
		})
	}
	t.Run("transport mode", func(t *testing.T) {
		// As far as this kernel lets the daemon: it chooses in quick mode, and cannot install.
		got, out := cli.rehearseLink(parcel["Transport"], false)
		if got.FailedAt() != rehearsal.Address || got.Proof != "the pre-shared key" {
			t.Errorf("failed at %q, proof %q\n%s", got.FailedAt(), got.Proof, out)
		}
	})
}

// rehearsedPPTP rehearses the parcel that the real client connected with, well and spoilt.
func rehearsedPPTP(t *testing.T, cli *box, parcel, keep string, took time.Duration) {
	if keep != "saved" {
		return
	}
	r, out := cli.rehearseLink(parcel, false)
	if !r.Passed {
		t.Errorf("the rehearsal failed:\n%s", out)
	}
	t.Logf("rehearsed in %.0f ms, the client connects in %s", r.Took, took.Round(time.Millisecond))
	for _, test := range []struct {
		name, pattern, to string
		step              rehearsal.StepName
		cause             string
	}{
		{"password", simple, "another-one1", rehearsal.SignIn, "password-wrong"},
		{"name of the gateway", `pptp\.skerryline`, "nowhere.skerryline", rehearsal.Resolve,
			"name-unresolved"},
	} {
		documented(t, "PPTP", test.name, test.step, test.cause)
		cli.linkFails(t, spoilt(t, parcel, test.pattern, test.to), false, test.step, test.cause)
	}
	cli.shell("nft add table ip blocked && nft add chain ip blocked in '{ type filter hook input " +
		"priority 0; }' && nft add rule ip blocked in ip protocol gre drop")
	documented(t, "PPTP", "GRE that a firewall drops", rehearsal.SignIn, "gre-blocked")
	cli.linkFails(t, parcel, false, rehearsal.SignIn, "gre-blocked")
	cli.shell("nft delete table ip blocked")
}
