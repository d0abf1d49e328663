package connect

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wardicon/core/rehearsal"
)

// plutoConfig is a gateway of the other IKE daemon for IKEv2 and, at another address, below L2TP.
const plutoConfig = `config setup
	ikev1-policy=accept
conn keyed
	ikev2=insist
	left=10.211.0.90
	leftid=@keyed.skerryline.example
	leftsubnet=0.0.0.0/0
	right=%%any
	rightid=crew@skerryline.example
	rightaddresspool=10.77.0.10-10.77.0.50
	modecfgdns=10.20.0.53
	authby=secret
	ike=aes256-sha2_256;dh19
	esp=aes256-sha2_256
	auto=add
conn certified
	ikev2=insist
	left=10.211.0.91
	leftid=@certified.skerryline.example
	leftcert=%s
	leftsendcert=always
	leftsubnet=0.0.0.0/0
	right=%%any
	rightca=%%same
	rightid=%%fromcert
	rightaddresspool=10.78.0.10-10.78.0.50
	authby=%s
	ike=aes256-sha2_256;dh19
	esp=aes256-sha2_256
	auto=add
conn link
	ikev2=no
	left=10.211.0.92
	right=%%any
	type=transport
	pfs=no
	leftprotoport=17/1701
	rightprotoport=17/%%any
	authby=secret
	ike=aes256-sha2_256;dh14
	esp=aes256-sha2_256
	auto=add
`

// TestOtherWords has the other IKE daemon's own parser read the file of which the cases in its words are
// made: it takes all of it, says the same of what is translated, and no word that it does not have.
func TestOtherWords(t *testing.T) {
	t.Parallel()
	parser, err := filepath.Abs("../../bin/peers/libreswan/usr/libexec/ipsec/readwriteconf")
	if err != nil {
		t.Fatal(err)
	}
	need(t, parser)
	cases, err := os.ReadFile("../../core/corpus/testdata/cases/ipsec-conf-database.txt")
	if err != nil {
		t.Fatal(err)
	}
	_, sound, _ := strings.Cut(string(cases), "\n\n")
	sound, _, _ = strings.Cut(sound, "-----")
	parse := func(text string) (string, error) {
		path := filepath.Join(t.TempDir(), "ipsec.conf")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command(parser, "--config", path, "--rootdir", "/").CombinedOutput()
		return string(out), err
	}
	out, err := parse(sound)
	for _, want := range []string{
		"conn norrvik.skerryline.example", "ikev2=yes", "ike=aes256-sha2_256;modp2048",
		"esp=aes256-sha2_256", "leftmodecfgclient=yes", "leftcert=ada-laptop",
	} {
		if err != nil || !strings.Contains(out, want) {
			t.Errorf("%q is not in what it read (%v):\n%s", want, err, out)
		}
	}
	if out, _ := parse(strings.Replace(sound, "\tauto=", "\tcolour=red\n\tauto=", 1)); !strings.Contains(
		out, "colour") {
		t.Errorf("an unknown key is taken without a word:\n%s", out)
	}
}

// TestRehearsalPluto rehearses parcels for another IKE daemon than that of the other tests, whose
// makers have nothing in common with that one's. It has no IPsec in user space: everything is proven
// up to the choice of a tunnel, which this kernel cannot install.
func TestRehearsalPluto(t *testing.T) {
	t.Parallel()
	programs, err := filepath.Abs("../../bin/peers/libreswan/usr/libexec/ipsec")
	if err != nil {
		t.Fatal(err)
	}
	need(t, "certutil", "pk12util", "openssl", programs+"/pluto")
	r := newRecords(t)
	gw, cli := newBox(t, "gateway"), newBox(t, "client")
	join(gw, cli)
	r.do("person", "add", "Ada Fjell", "--mail", "ada@skerryline.example")
	r.do("account", "add", login, "--person", "Ada Fjell", "--password-file", r.file("ada", simple))
	for _, a := range []string{"Harbour", "Other"} {
		r.do("authority", "make", a)
	}
	for device, authority := range map[string]string{"Laptop": "Harbour", "Stranger": "Other"} {
		r.do("device", "add", device, "--person", "Ada Fjell", "--platform", "linux", "--release",
			"6", "--encrypted")
		r.do("certificate", "issue", device, "--authority", authority)
	}
	for i, name := range []string{"keyed", "certified", "link"} {
		address := fmt.Sprintf("10.211.0.%d", 90+i)
		gw.run("ip", "addr", "add", address+"/16", "dev", "br0")
		cli.shell("echo " + address + " " + name + ".skerryline.example >> /etc/hosts")
	}
	key := r.file("psk", psk)
	ike := []string{"--ikev2-ike", "aes256-sha256-ecp256", "--ikev2-esp", "aes256-sha256"}
	add := func(name string, flags ...string) {
		r.do(append([]string{"gateway", "add", name, "--address",
			strings.ToLower(name) + ".skerryline.example"}, flags...)...)
	}
	add("Keyed", append(ike, "--ikev2-auth", "psk", "--ikev2-psk-file", key, "--ikev2-local-id",
		"crew@skerryline.example")...)
	add("Certified", append(ike, "--ikev2-auth", "certificate", "--ikev2-authority",
		r.authority("Harbour"))...)
	add("Link", "--psk-file", key, "--ike", "aes256-sha256-modp2048", "--esp", "aes256-sha256",
		"--ppp", "mschapv2", "--known-address", "10.211.0.92")
	bundle := filepath.Join(r.dir, "bundle")
	r.do("certificate", "bundle", "Certified", "--authority", "Harbour", "--out", bundle)
	startPluto(gw, programs, bundle)
	parcel := map[string]string{}
	for _, name := range []string{"Keyed", "Certified", "Link"} {
		r.do("profile", "add", "Laptop", "--gateway", name)
		parcel[name] = r.build("Laptop/" + name)
	}
	r.do("profile", "add", "Stranger", "--gateway", "Certified")
	stranger := r.despite("Stranger/Certified", "stranger", "client-authority-other")
	other, err := os.ReadFile(r.authority("Other"))
	if err != nil {
		t.Fatal(err)
	}
	ca, err := os.ReadFile(r.authority("Harbour"))
	if err != nil {
		t.Fatal(err)
	}
	const proven = "" // both ends are, and the kernel ends it
	for _, test := range []struct {
		name, parcel, pattern, to string
		step                      rehearsal.StepName
		cause                     string
	}{
		{"by key", parcel["Keyed"], "", "", rehearsal.Address, proven},
		{"by certificate", parcel["Certified"], "", "", rehearsal.Address, proven},
		{"below L2TP", parcel["Link"], "", "", rehearsal.Address, proven},
		{"pre-shared key", parcel["Keyed"], `secret = \S+`, "secret = another", rehearsal.SignIn,
			"key-wrong"},
		{"pre-shared key below L2TP", parcel["Link"], `secret = \S+`, "secret = another",
			rehearsal.Gateway, "key-wrong"},
		{"IKE proposal", parcel["Keyed"], "aes256-sha256-ecp256", "aes128-sha384-ecp384",
			rehearsal.Exchange, "suites-differ"},
		{"child proposal", parcel["Keyed"], "esp_proposals = aes256-sha256",
			"esp_proposals = aes128-sha512", rehearsal.Address, "child-suites-differ"},
		{"CA", parcel["Certified"], regexp.QuoteMeta(string(ca)), string(other),
			rehearsal.Gateway, "authority-missing"},
		{"device certificate of another CA", stranger, "", "", rehearsal.SignIn, "client-refused"},
	} {
		t.Run(test.name, func(t *testing.T) {
			got, out := cli.rehearse(spoilt(t, test.parcel, test.pattern, test.to))
			if got.FailedAt() != test.step || test.cause != proven && got.CauseID != test.cause ||
				test.cause == proven && got.Proof == "" {
				t.Errorf("failed at %q by %q, proof %q; expected %q by %q\n%s", got.FailedAt(),
					got.CauseID, got.Proof, test.step, test.cause, out)
			}
		})
	}
}

// startPluto starts the daemon with the certificate of a bundle.
func startPluto(b *box, programs, bundle string) {
	b.t.Helper()
	// It looks for its other programs where the package has them.
	b.shell(`mount -t tmpfs none /usr/libexec && mkdir /usr/libexec/ipsec &&
mount --bind "$1" /usr/libexec/ipsec
mkdir -p /run/pluto /etc/ipsec.d && certutil -N -d sql:/etc/ipsec.d --empty-password
cd "$2"
openssl pkcs12 -export -in *-chain.pem -inkey *-key.pem -name gateway -passout pass: -out /run/gw.p12
pk12util -i /run/gw.p12 -d sql:/etc/ipsec.d -W ""
for ca in *-ca*.pem; do certutil -A -d sql:/etc/ipsec.d -n "$ca" -t CT,, -a -i "$ca"; done`, programs, bundle)
	quoted := fmt.Sprintf("0x%x", psk) // which may have any characters
	b.write("/etc/ipsec.secrets", 0o600, "@keyed.skerryline.example crew@skerryline.example : PSK "+
		quoted+"\n10.211.0.92 %any : PSK "+quoted+"\n")
	b.write("/etc/ipsec.conf", 0o600, fmt.Sprintf(plutoConfig, "gateway", "ecdsa"))
	d := b.start("pluto", programs+"/pluto", "--nofork", "--stderrlog", "--config",
		"/etc/ipsec.conf", "--secretsfile", "/etc/ipsec.secrets", "--nssdir", "/etc/ipsec.d",
		"--ipsecdir", "/etc/ipsec.d", "--rundir", "/run/pluto", "--dumpdir", "/run/pluto")
	if !until(20, func() bool { return strings.Contains(d.said(), "loading secrets") }) {
		b.t.Fatalf("the daemon did not start:\n%s", d.said())
	}
	b.t.Cleanup(func() {
		if b.t.Failed() {
			b.t.Log(d.said())
		}
	})
}
