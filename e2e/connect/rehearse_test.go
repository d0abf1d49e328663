package connect

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"

	"wardicon/core/explain"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
)

// program is the command line as it is shipped, for boxes in which it has to run.
var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "wardicon-program")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "wardicon")
	out, err := exec.Command("go", "build", "-o", path, "../../cmd/wardicon").CombinedOutput()
	if err != nil {
		return string(out), err
	}
	return path, nil
})

const insideNames = "WARDICON_INSIDE_NAMES"

// serveNames is the resolver behind a gateway: it knows one name.
func serveNames(at string) {
	_ = (&dns.Server{Addr: at, Net: "udp", Handler: dns.HandlerFunc(
		func(w dns.ResponseWriter, q *dns.Msg) {
			m := new(dns.Msg).SetReply(q)
			if q.Question[0].Name == insideName+"." {
				m.Answer = []dns.RR{&dns.A{
					Hdr: dns.RR_Header{Name: insideName + ".", Rrtype: dns.TypeA,
						Class: dns.ClassINET, Ttl: 60},
					A: net.IPv4(10, 20, 0, 1),
				}}
			} else {
				m.Rcode = dns.RcodeNameError
			}
			_ = w.WriteMsg(m)
		})}).ListenAndServe()
}

const insideName = "timetable.inside.skerryline.example"

// serves puts a resolver and a service behind a gateway.
func (b *box) serves() {
	b.t.Helper()
	b.start("inside", "env", insideHost+"=10.20.0.1:8082", os.Args[0])
	b.start("names", "env", insideNames+"=10.20.0.53:53", os.Args[0])
	// As the kernel lists what listens: addresses from behind, in hexadecimal.
	if !until(20, func() bool {
		_, err := b.try(2, "sh", "-c", "grep -q 0100140A:1F92 /proc/net/tcp && grep -q 3500140A:0035 /proc/net/udp")
		return err == nil
	}) {
		b.t.Fatal("the internal host or its resolver does not listen")
	}
}

// rehearse signs in with the files of a parcel from a box.
func (b *box) rehearse(parcel string, more ...string) (rehearsal.Result, string) {
	b.t.Helper()
	path, err := program()
	if err != nil {
		b.t.Fatalf("%v %s", err, path)
	}
	out, _ := b.try(90, append([]string{
		path, "rehearse", parcel, "--output", "json", "--host", "10.20.0.1",
		"--host", "10.20.0.1:8082", "--lookup", insideName,
	}, more...)...)
	var list []rehearsal.Result
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) == 0 {
		b.t.Fatalf("a rehearsal of %s: %v\n%s", parcel, err, out)
	}
	return list[0], out
}

// rehearsed demands that a parcel signs in and reaches the internal host by its bytes alone, as the
// real client does; it says how long it took.
func (b *box) rehearsed(parcel string) (took time.Duration) {
	b.t.Helper()
	r, out := b.rehearse(parcel)
	took = time.Duration(r.Took * float64(time.Millisecond))
	if !r.Passed {
		b.t.Errorf("the rehearsal failed:\n%s", out)
		return took
	}
	for _, s := range r.Steps {
		if s.Name == rehearsal.Echo && !strings.HasSuffix(s.Found, ": 10.20.0.1") ||
			s.State != rehearsal.Passed {
			b.t.Errorf("%s: %s %s", s.Name, s.State, s.Found)
		}
	}
	return took
}

// spoilt is a copy of a parcel in which what fits a pattern is something else.
func spoilt(t testing.TB, parcel, pattern, to string) string {
	t.Helper()
	dir, changed := t.TempDir(), false
	files, err := os.ReadDir(parcel)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(parcel, f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		text := string(data)
		if pattern != "" {
			text = regexp.MustCompile(pattern).ReplaceAllString(text, to)
		}
		changed = changed || text != string(data)
		if err := os.WriteFile(filepath.Join(dir, f.Name()), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "login.txt"), []byte(login+"\n"+password+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if !changed && pattern != "" {
		t.Fatalf("nothing fits %q in %s", pattern, parcel)
	}
	return dir
}

// fails demands that a spoilt parcel fails in a step, with a likely cause; without a step it
// passes.
func (b *box) fails(t *testing.T, parcel string, step rehearsal.StepName, cause string) {
	t.Helper()
	r, out := b.rehearse(parcel)
	if r.Passed != (step == "") || r.FailedAt() != step || r.CauseID != cause {
		t.Errorf(
			"failed at %q by %q, expected %q by %q\n%s",
			r.FailedAt(),
			r.CauseID,
			step,
			cause,
			out,
		)
	}
	if strings.Contains(out, password) || strings.Contains(out, "kelp9") {
		t.Error("the result has a secret in it")
	}
}

// TestRehearsalFaultsTunnel spoils parcels for a real gateway of the TLS tunnel.
func TestRehearsalFaultsTunnel(t *testing.T) {
	t.Parallel()
	r, gw, cli := newTunnelWorld(t)
	r.do("authority", "make", "Harbour", "--issuing")
	r.do("authority", "make", "Other")
	for _, device := range []string{"Laptop", "Stranger"} {
		r.do("device", "add", device, "--person", "Ada Fjell", "--platform", "linux", "--release",
			"6", "--encrypted")
	}
	r.do("certificate", "issue", "Laptop", "--authority", "Harbour")
	r.do("certificate", "issue", "Stranger", "--authority", "Other")
	// The daemons take more ciphers than are on record.
	const wide = "data-ciphers AES-256-GCM:CHACHA20-POLY1305:AES-256-CBC"
	newTunnelGateway(t, r, gw, cli, "Udp", 150, "certificate-password", "crypt", "udp", "Harbour", wide)
	newTunnelGateway(t, r, gw, cli, "Tcp", 151, "password", "auth", "tcp", "Harbour", wide)
	r.do("profile", "add", "Laptop", "--gateway", "Udp")
	r.do("profile", "add", "Laptop", "--gateway", "Tcp")
	r.do("profile", "add", "Stranger", "--gateway", "Udp")
	udp, tcp := r.build("Laptop/Udp"), r.build("Laptop/Tcp")
	stranger := r.despite("Stranger/Udp", "stranger", "client-authority-other")
	cli.rehearsedAsOld(udp)
	other, err := os.ReadFile(r.authority("Other"))
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name, parcel, pattern, to string
		step                      rehearsal.StepName
		cause                     string
	}{
		{"password", udp, "Wonder-Land 1", "another one 1", rehearsal.SignIn, "password-wrong"},
		{"password by TCP", tcp, "Wonder-Land 1", "another one 1", rehearsal.SignIn,
			"password-wrong"},
		{"name of the gateway", udp, "remote udp.skerryline", "remote nowhere.skerryline",
			rehearsal.Resolve, "name-unresolved"},
		{"port", udp, "skerryline.example 1194", "skerryline.example 1195", rehearsal.Exchange,
			"gateway-no-response"},
		{"port by TCP", tcp, "skerryline.example 1194", "skerryline.example 1195",
			rehearsal.Exchange, "gateway-no-response"},
		{"control-channel key", udp, `V1-----\n[0-9a-f]{32}`,
			"V1-----\n" + strings.Repeat("0", 32),
			rehearsal.Exchange, "control-key"},
		{"direction of the control-channel key", tcp, "key-direction 1", "key-direction 0",
			rehearsal.Exchange, "control-key"},
		{"CA", udp, `(?s)<ca>.*</ca>`, "<ca>\n" + string(other) + "</ca>", rehearsal.Gateway, "authority-missing"},
		{"name in the certificate", udp, "verify-x509-name udp.", "verify-x509-name tcp.",
			rehearsal.Gateway, "certificate-name"},
		{"data cipher", udp, "data-ciphers AES-256-GCM", "data-ciphers AES-128-GCM",
			rehearsal.SignIn, "ciphers-differ"},
		{"device certificate of another CA", stranger, "", "", rehearsal.SignIn, "client-refused"},
		// Forms of the same connection that pass.
		{"another AEAD cipher", udp, "data-ciphers AES-256-GCM", "data-ciphers CHACHA20-POLY1305",
			"", ""},
		{"a cipher with a digest", udp, "data-ciphers AES-256-GCM", "data-ciphers AES-256-CBC",
			"", ""},
		{"a cipher with a digest by TCP", tcp, "data-ciphers AES-256-GCM",
			"data-ciphers AES-256-CBC", "", ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			documented(t, "TLS tunnel", test.name, test.step, test.cause)
			parcel := spoilt(t, test.parcel, test.pattern, test.to)
			cli.fails(t, parcel, test.step, test.cause)
			if test.step != "" {
				explained(t, cli.tunnelSays(t, parcel), vpn.TLS, test.cause)
			}
		})
	}
}

// documented demands that a fault stands in the table of docs/rehearsal.md.
func documented(t *testing.T, protocol, name string, step rehearsal.StepName, cause string) {
	t.Helper()
	if step == "" {
		return
	}
	text, err := os.ReadFile("../../docs/rehearsal.md")
	if err != nil {
		t.Fatal(err)
	}
	row := fmt.Sprintf("| %s | %s | %s | %s |", protocol, name, step, explain.Causes[cause].Title)
	if !strings.Contains(string(text), row) {
		t.Errorf("docs/rehearsal.md lacks the row\n%s", row)
	}
}

// rehearsedAsOld demands that a parcel passes with keys that are made as older clients make them.
func (b *box) rehearsedAsOld(parcel string) {
	b.t.Helper()
	r, out := b.rehearse(parcel, "--as", "linux 6")
	if !r.Passed || strings.Contains(r.Tunnel, "exported") {
		b.t.Errorf("as an older client:\n%s", out)
	}
	if r, _ := b.rehearse(parcel); !strings.Contains(r.Tunnel, "exported") {
		b.t.Errorf("as a newer client: %s", r.Tunnel)
	}
}

// TestRehearsalFaultsIKEv2 spoils parcels for a real IKE daemon.
func TestRehearsalFaultsIKEv2(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t)
	for _, a := range []string{"Harbour", "Other"} {
		w.r.do("authority", "make", a)
	}
	device := func(name, authority string) {
		w.r.do("device", "add", name, "--person", "Ada Fjell", "--platform", "linux", "--release",
			"6", "--encrypted")
		if authority != "" {
			w.r.do("certificate", "issue", name, "--authority", authority)
		}
	}
	device("Laptop", "Harbour")
	device("Stranger", "Other")
	gateway := func(name, auth string, flags ...string) *ikeGateway {
		g := w.gateway(name, append([]string{"--ikev2-auth", auth, "--ikev2-ike",
			"aes256-sha256-ecp256", "--ikev2-esp", "aes256-sha256"}, flags...)...)
		if auth != "psk" {
			w.bundle(t, &g, "Harbour")
		}
		return &g
	}
	ca := w.r.authority("Harbour")
	eap := gateway("Eap", "eap-mschapv2", "--ikev2-authority", ca)
	cert := gateway("Cert", "certificate", "--ikev2-authority", ca)
	tls := gateway("Method", "eap-mschapv2", "--ikev2-authority", ca)
	key := gateway("Key", "psk", "--ikev2-psk-file", w.r.file("psk", psk), "--ikev2-local-id",
		"crew@skerryline.example")
	for _, g := range []*ikeGateway{eap, cert, tls, key} {
		g.configure(t, w.gw)
		w.r.do("profile", "add", "Laptop", "--gateway", g.name)
	}
	tls.edit(w.gw, "s/auth = eap-mschapv2/auth = eap-tls/") // another method than on record
	w.gw.run("swanctl", "--load-all", "--noprompt")
	w.r.do("profile", "add", "Stranger", "--gateway", "Cert")
	parcel := map[string]string{}
	for _, name := range []string{"Eap", "Cert", "Method", "Key"} {
		parcel[name] = w.r.build("Laptop/" + name)
	}
	stranger := w.r.despite("Stranger/Cert", "stranger", "client-authority-other")
	other, err := os.ReadFile(w.r.authority("Other"))
	if err != nil {
		t.Fatal(err)
	}
	faults := []struct {
		name, parcel, pattern, to string
		step                      rehearsal.StepName
		cause                     string
	}{
		{"password", parcel["Eap"], `secret = \S+`, "secret = another", rehearsal.SignIn,
			"password-wrong"},
		{"pre-shared key", parcel["Key"], `secret = \S+`, "secret = another", rehearsal.SignIn,
			"key-wrong"},
		{"name of the gateway", parcel["Eap"], "remote_addrs = eap.", "remote_addrs = nowhere.",
			rehearsal.Resolve, "name-unresolved"},
		{"IKE proposal", parcel["Eap"], "aes256-sha256-ecp256", "aes128-sha384-ecp384",
			rehearsal.Exchange, "suites-differ"},
		{"child proposal", parcel["Eap"], "esp_proposals = aes256-sha256",
			"esp_proposals = aes128-sha512", rehearsal.Address, "child-suites-differ"},
		{"CA", parcel["Eap"], `(?s)-----BEGIN CERTIFICATE.*CERTIFICATE-----\n`, string(other),
			rehearsal.Gateway, "authority-missing"},
		{"identity of the gateway", parcel["Eap"], `id = "?eap\.skerryline\.example"?`,
			"id = ebb.skerryline.example", rehearsal.SignIn, "identity-unknown"},
		{"EAP method", parcel["Method"], "", "", rehearsal.SignIn, "methods-differ"},
		{"device certificate of another CA", stranger, "", "", rehearsal.SignIn, "client-refused"},
	}
	for _, test := range faults {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			documented(t, "IKEv2", test.name, test.step, test.cause)
			w.cli.fails(t, spoilt(t, test.parcel, test.pattern, test.to), test.step, test.cause)
		})
	}
	w.cli.startIKE()
	for _, test := range faults {
		t.Run("the client's log: "+test.name, func(t *testing.T) {
			parcel := spoilt(t, test.parcel, test.pattern, test.to)
			explained(t, w.cli.ikeSays(t, parcel), vpn.IKEv2, test.cause)
		})
	}
}
