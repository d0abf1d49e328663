package connect

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/core/pki"
	"wardicon/httpapi"
)

// enrolHost is where devices ask for their certificates.
const enrolHost = "enrol.skerryline.example"

// enrolling serves the address for enrolment on a socket, by TLS with a certificate of the chain.
func enrolling(t *testing.T, r *records) (socket string, public *chain) {
	t.Helper()
	public = newChain(t, "Public", pki.P256)
	certificate, key := public.leaf(pki.ForServer, enrolHost)
	pair, err := tls.X509KeyPair([]byte(certificate+pki.Bundle(public.issuing)), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	// Boxes have no way to the service but this socket, which what asks is led to.
	socket = filepath.Join(t.TempDir(), "enrol")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(httpapi.Enrolling(r.svc, slog.New(slog.DiscardHandler),
		httpapi.Options{Secure: true}))
	_ = server.Listener.Close()
	server.Listener = listener
	server.TLS = &tls.Config{
		Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequestClientCert,
		MinVersion: tls.VersionTLS12,
	}
	server.StartTLS()
	t.Cleanup(server.Close)
	r.do("organisation", "change", "--links", "https://connect.skerryline.example", "--enrol",
		"https://"+enrolHost+":7443")
	return socket, public
}

// curlHome has curl ask at a socket, and trust the address there.
func curlHome(t *testing.T, r *records, socket string, public *chain) string {
	t.Helper()
	home := t.TempDir()
	curl := "unix-socket = \"" + socket + "\"\ncacert = \"" +
		r.file("public.pem", pki.Bundle(public.root)) + "\"\n"
	if err := os.WriteFile(filepath.Join(home, ".curlrc"), []byte(curl), 0o600); err != nil {
		t.Fatal(err)
	}
	return home
}

// checked has the files of such a parcel checked: the secret in them is told of, nothing is missing, and
// what is not read is told once.
func checked(t *testing.T, r *records, parcel string) {
	t.Helper()
	code, out := r.try("", "check", parcel)
	if flat := strings.Join(strings.Fields(out), " "); code != 0 ||
		!strings.Contains(flat, "an enrolment secret, in") || strings.Contains(flat, "is missing") ||
		strings.Count(flat, "[part-not-checked]") != 1 {
		t.Errorf("its files are checked with %d as\n%s", code, out)
	}
}

// TestEnrolledIKE hands a parcel without a key to a headless Linux: its script makes the key, gets the
// certificate by EST and renews it, and the IKE daemon signs in to a real gateway with each of them. What
// is revoked no longer gets in.
func TestEnrolledIKE(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t, "curl", "openssl")
	w.cli.startIKE()
	socket, public := enrolling(t, w.r)
	home := curlHome(t, w.r, socket, public)

	w.r.do("authority", "make", "Harbour")
	w.r.do("device", "add", "Tide box", "--person", "Ada Fjell", "--platform", "linux", "--release", "6",
		"--encrypted", "--enrol", "Harbour")
	g := w.gateway("Keyhaven", "--ikev2-auth", "certificate", "--ikev2-ike",
		"aes256gcm16-prfsha256-ecp256", "--ikev2-esp", "aes256gcm16", "--ikev2-authority",
		w.r.authority("Harbour"))
	w.bundle(t, &g, "Harbour")
	g.configure(t, w.gw)
	w.gw.run("swanctl", "--load-all", "--noprompt")
	w.r.do("profile", "add", "Tide box", "--gateway", "Keyhaven")
	parcel := w.r.build("Tide box/Keyhaven")
	checked(t, w.r, parcel)
	files, err := filepath.Glob(filepath.Join(parcel, "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if data, err := os.ReadFile(f); err != nil || strings.Contains(string(data), "PRIVATE KEY") {
			t.Errorf("%s has a key in it (%v)", f, err)
		}
	}
	if r, out := w.cli.rehearse(parcel); r.Passed || !strings.Contains(out, "key") {
		t.Errorf("a parcel without a key is rehearsed with\n%s", out)
	}
	up := func() (string, error) {
		return w.cli.try(25, "swanctl", "--initiate", "--child", "skerry-line-keyhaven", "--timeout", "20")
	}
	const own = "/etc/swanctl/x509/skerry-line-keyhaven-cert1.pem"
	serial := func() string { return w.cli.run("openssl", "x509", "-in", own, "-noout", "-serial") }

	w.cli.shell(`cd "$1" && CURL_HOME=$2 sh ./*-install.sh`, parcel, home)
	first := serial()
	if out, err := up(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	inside(t, w.cli)
	w.cli.run("swanctl", "--terminate", "--ike", "skerry-line-keyhaven")

	// It renews ahead of the end, with another key, and signs in with that.
	const script = "/usr/local/sbin/skerry-line-keyhaven-certificate.sh"
	w.cli.shell(`sed 's/left 2592000/left 99999999/' "$1" > "$2/renew" && CURL_HOME=$2 sh "$2/renew"`, script, home)
	if serial() == first {
		t.Error("it is not renewed")
	}
	if out, err := up(); err != nil {
		t.Fatalf("with the renewed one: %v\n%s", err, out)
	}
	inside(t, w.cli)
	w.cli.run("swanctl", "--terminate", "--ike", "skerry-line-keyhaven")

	// Revoked, it is refused once the gateway has the list; removed, nothing of it is left.
	w.r.do("certificate", "revoke", "--device", "Tide box", "--reason", "superseded", "--yes")
	g.configure(t, w.gw)
	w.gw.run("swanctl", "--load-all", "--noprompt")
	w.gw.run("swanctl", "--flush-certs")
	if out, err := up(); err == nil {
		t.Errorf("a revoked certificate gets in\n%s", out)
	}
	w.cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
	if out := w.cli.shell("find /etc/swanctl -name '*keyhaven*'"); out != "" {
		t.Errorf("after removal there is\n%s", out)
	}
}

// TestEnrolledTunnel hands a parcel without a key to a headless Linux for the TLS tunnel: the client signs in
// to a real gateway with the enrolled key and with the renewed one, and no longer once it is revoked.
func TestEnrolledTunnel(t *testing.T) {
	t.Parallel()
	need(t, "curl", "openssl")
	r, gw, cli := newTunnelWorld(t)
	socket, public := enrolling(t, r)
	home := curlHome(t, r, socket, public)
	r.do("authority", "make", "Harbour", "--issuing")
	r.do("device", "add", "Tide box", "--person", "Ada Fjell", "--platform", "linux", "--release", "6",
		"--encrypted", "--enrol", "Harbour")
	server := newTunnelGateway(t, r, gw, cli, "Tidehaven", 190, "certificate", "crypt-v2", "udp", "Harbour")
	r.do("profile", "add", "Tide box", "--gateway", "Tidehaven")
	parcel := r.build("Tide box/Tidehaven")
	checked(t, r, parcel)
	if out := cli.shell(`grep -l "PRIVATE KEY" "$1"/* || true`, parcel); out != "" {
		t.Errorf("there is a key in %s", out)
	}
	before := cli.shell("find /etc/openvpn -type f | sort; ls /usr/local/sbin | grep tidehaven || true")
	cli.shell(`cd "$1" && CURL_HOME=$2 sh ./*-install.sh`, parcel, home)
	const own = "/etc/openvpn/client/skerry-line-tidehaven-cert.pem"
	serial := func() string { return cli.run("openssl", "x509", "-in", own, "-noout", "-serial") }
	connects := func(when string, expected bool) {
		t.Helper()
		client := cli.start("tunnel"+strings.ReplaceAll(when, " ", "-"), "openvpn", "--config",
			"/etc/openvpn/client/skerry-line-tidehaven.conf")
		defer client.stop()
		done := func() bool { return strings.Contains(client.said(), "Initialization Sequence Completed") }
		wait := map[bool]float64{true: 15, false: 6}[expected]
		if until(wait, done) != expected {
			t.Errorf("%s: %s\nthe gateway says\n%s", when, client.said(), server.said())
		} else if expected {
			inside(t, cli)
		}
	}
	connects("enrolled", true)
	first := serial()
	cli.shell(`sed 's/left 2592000/left 99999999/' "$1" > "$2/renew" && CURL_HOME=$2 sh "$2/renew"`,
		"/usr/local/sbin/skerry-line-tidehaven-certificate.sh", home)
	if serial() == first {
		t.Error("it is not renewed")
	}
	connects("renewed", true)
	r.do("certificate", "revoke", "--device", "Tide box", "--reason", "superseded", "--yes")
	gw.copies(r.configured("Tidehaven"), "/etc/openvpn/server-Tidehaven") // the list is read at each sign-in
	connects("revoked", false)
	cli.shell(`cd "$1" && sh ./*-remove.sh`, parcel)
	if after := cli.shell("find /etc/openvpn -type f | sort; ls /usr/local/sbin | grep tidehaven || true"); after != before {
		t.Errorf("after removal there is\n%s\nexpected\n%s", after, before)
	}
}

// TestEnrolledWindows hands a parcel without a key to a Windows: its script makes a key of the computer
// that cannot be exported, gets the certificate by EST and renews it by a task, and what Windows then has
// signs in to a real gateway.
func TestEnrolledWindows(t *testing.T) {
	t.Parallel()
	w := systemsWorld(t)
	socket, public := enrolling(t, w.r)
	w.r.do("device", "add", `Tide "50 %" desk`, "--person", "Ada Fjell", "--platform", "windows", "--release",
		"11", "--encrypted", "--enrol", "Harbour")
	w.r.do("profile", "add", `Tide "50 %" desk`, "--gateway", "Cert", "--protocol", "ikev2")
	parcel := w.r.build(`Tide "50 %" desk/Cert`)
	// Who checks the files is told of the secret in them, and of nothing that was changed.
	if _, out := w.r.try("", "check", parcel); !strings.Contains(out, "an enrolment secret") ||
		strings.Contains(out, "script-changed") {
		t.Errorf("its files are checked as\n%s", out)
	}
	m := newWindows(`PC\admin`, `PC\ada`)
	m.web = webOf(socket, public)
	mine := func() *windowsCertificate {
		t.Helper()
		if list := m.stores["LocalMachine/My"]; len(list) != 1 {
			t.Fatalf("there are %d certificates", len(list))
		}
		return m.stores["LocalMachine/My"][0]
	}
	if err := m.run(t, parcel, "-install.ps1"); err != nil {
		t.Fatal(err)
	}
	first := mine()
	if err := m.run(t, parcel, "-install.ps1"); err != nil || mine() != first {
		t.Errorf("a second run asks for another certificate (%v)", err)
	}
	w.signs(t, m.knows(t, "Skerry Line Cert"))
	proves(t, "signs in", "powershell", "ikev2 certificate of a key made there")

	// The task runs what lies on the computer, which holds no secret. Nothing is done while much time
	// is left; then the certificate is renewed, for another key, by the one that is there.
	var steps string
	for path, content := range m.files {
		if strings.HasSuffix(path, "certificate.ps1") {
			steps = w.r.file("certificate.ps1", string(content))
		}
	}
	task := m.tasks[strings.ToLower("Wardicon "+m.connectionID(t)+" renewal")]
	if task == nil || task.values["principal"].(*table).values["userid"] != "S-1-5-18" {
		t.Fatalf("the tasks are %v", m.tasks)
	}
	renew := func() error {
		return (&powershell{m: m}).run(&parsed(t, steps)[0],
			`HKLM:\SOFTWARE\Wardicon\Connections\`+m.connectionID(t))
	}
	if err := renew(); err != nil || mine() != first {
		t.Errorf("it is renewed at once (%v)", err)
	}
	m.ahead = time.Until(first.leaf.NotAfter) - 20*24*time.Hour
	if err := renew(); err != nil || mine() == first {
		t.Errorf("it is not renewed (%v)", err)
	}
	m.ahead = 0
	w.signs(t, m.knows(t, "Skerry Line Cert"))
	m.ahead = 10 * 365 * 24 * time.Hour
	if err := renew(); err == nil || !strings.Contains(err.Error(), "Ask for a new script") {
		t.Errorf("one that has expired is renewed (%v)", err)
	}
	m.ahead = 0

	// With a new parcel it asks again: what was revoked does not stay.
	w.r.do("certificate", "revoke", "--device", `Tide "50 %" desk`, "--reason", "superseded", "--yes")
	w.r.do("device", "change", `Tide "50 %" desk`, "--enrol-generation", "2")
	second, rebuilt := mine(), filepath.Join(w.r.dir, "rebuilt")
	w.r.do("build", `Tide "50 %" desk/Cert`, "--out", rebuilt)
	if err := m.run(t, rebuilt, "-install.ps1"); err != nil || mine() == second {
		t.Errorf("with another secret the revoked certificate stays (%v)", err)
	}
	// For another gateway it makes another key, and each goes with its own connection.
	w.r.do("profile", "add", `Tide "50 %" desk`, "--gateway", "Certified", "--protocol", "l2tp")
	other := w.r.build(`Tide "50 %" desk/Certified`)
	if err := m.run(t, other, "-install.ps1"); err != nil || len(m.stores["LocalMachine/My"]) != 2 {
		t.Fatalf("for a second gateway: %v, %v", err, m.stores["LocalMachine/My"])
	}
	for path, content := range m.files {
		for _, parcel := range []string{parcel, rebuilt, other} {
			if s := enrolSecret(t, parcel); strings.Contains(string(content), s) ||
				strings.Contains(fmt.Sprint(m.registry), s) {
				t.Errorf("the secret stays on the computer, such as in %s", path)
			}
		}
	}
	if err := m.run(t, parcel, "-remove.ps1"); err != nil {
		t.Fatal(err)
	}
	mine()
	w.signs(t, m.knows(t, "Skerry Line Certified"))
	proves(t, "signs in", "powershell", "l2tp certificate of a key made there")
	if err := m.run(t, other, "-remove.ps1"); err != nil {
		t.Fatal(err)
	}
	if len(m.stores["LocalMachine/My"])+len(m.tasks)+len(m.files)+len(m.connections) > 0 {
		t.Errorf("after removal there is %v %v %v", m.stores, m.tasks, m.files)
	}
}

// TestEnrolledPerson has a Windows make the key of the person who signs in: in the person's own store, by
// that person alone, renewed by a task of theirs, and a real gateway takes it by EAP-TLS.
func TestEnrolledPerson(t *testing.T) {
	t.Parallel()
	w := systemsWorld(t)
	socket, public := enrolling(t, w.r)
	w.r.do("device", "add", "Tide laptop", "--person", "Ada Fjell", "--platform", "windows", "--release", "11",
		"--encrypted", "--enrol", "Harbour")
	w.r.do("profile", "add", "Tide laptop", "--gateway", "Eaptls", "--protocol", "ikev2")
	parcel := w.r.build("Tide laptop/Eaptls")
	other := newWindows(`PC\admin`, `PC\ada`)
	if err := other.run(t, parcel, "-install.ps1"); err == nil || !strings.Contains(err.Error(), "own account") ||
		len(other.stores)+len(other.files)+len(other.connections)+len(other.tasks) > 0 {
		t.Errorf("by another account: %v, %v", err, other.stores)
	}
	// Who checks the files is told of the secret in them, and of nothing that was changed.
	if _, out := w.r.try("", "check", parcel); !strings.Contains(out, "an enrolment secret") ||
		strings.Contains(out, "script-changed") {
		t.Errorf("its files are checked as\n%s", out)
	}
	m := newWindows(`PC\ada`, `PC\ada`)
	m.web = webOf(socket, public)
	if err := m.run(t, parcel, "-install.ps1"); err != nil {
		t.Fatal(err)
	}
	const store = `CurrentUser/My/PC\ada`
	mine := func() *windowsCertificate {
		t.Helper()
		if list := m.stores[store]; len(list) != 1 || len(m.stores["LocalMachine/My"]) > 0 {
			t.Fatalf("there are %v", m.stores)
		}
		return m.stores[store][0]
	}
	first := mine()
	w.signs(t, m.knows(t, "Skerry Line Eaptls"))
	proves(t, "signs in", "powershell", "ikev2 eap-tls by a key made there")
	task := m.tasks[strings.ToLower("Wardicon "+m.connectionID(t)+" renewal")]
	if task == nil || task.values["principal"].(*table).values["userid"] != m.user {
		t.Fatalf("the tasks are %v", m.tasks)
	}
	var steps string
	for path, content := range m.files {
		if strings.HasSuffix(path, "certificate.ps1") && strings.Contains(path, `\appdata\local\`) {
			steps = w.r.file("certificate.ps1", string(content))
		}
	}
	m.ahead = time.Until(first.leaf.NotAfter) - 20*24*time.Hour
	if err := (&powershell{m: m}).run(&parsed(t, steps)[0],
		`HKCU:\SOFTWARE\Wardicon\Connections\`+m.connectionID(t)); err != nil || mine() == first {
		t.Errorf("it is not renewed (%v)", err)
	}
	m.ahead = 0
	w.signs(t, m.knows(t, "Skerry Line Eaptls"))
	if s := enrolSecret(t, parcel); strings.Contains(fmt.Sprint(m.registry, m.files), s) {
		t.Error("the secret stays on the computer")
	}
	// From another account the key stays, which is said; from the person's own nothing does.
	kept, connections := maps.Clone(m.registry), maps.Clone(m.connections)
	m.user, m.said = `PC\admin`, nil
	if err := m.run(t, parcel, "-remove.ps1"); err != nil ||
		!strings.Contains(strings.Join(m.said, "\n"), `belongs to PC\ada`) {
		t.Errorf("removed from another account: %v, %q", err, m.said)
	}
	m.user, m.registry, m.connections = `PC\ada`, kept, connections
	if err := m.run(t, parcel, "-remove.ps1"); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(fmt.Sprint(m.registry), "hkcu:") ||
		len(m.stores[store])+len(m.tasks)+len(m.files)+len(m.connections) > 0 {
		t.Errorf("after removal there is %v %v %v %v", m.stores, m.tasks, m.files, m.registry)
	}
}

// webOf has a Windows ask at a socket, and trust the address there.
func webOf(socket string, public *chain) func(*tls.Certificate) *http.Client {
	roots := x509.NewCertPool()
	roots.AddCert(public.root)
	return func(own *tls.Certificate) *http.Client {
		c := &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
		if own != nil {
			c.Certificates = []tls.Certificate{*own}
		}
		return &http.Client{Transport: &http.Transport{
			TLSClientConfig: c,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return new(net.Dialer).DialContext(ctx, "unix", socket)
			},
		}}
	}
}

// connectionID is under what the script keeps what it made.
func (w *windows) connectionID(t *testing.T) string {
	t.Helper()
	for path := range w.registry {
		if id, ok := strings.CutPrefix(path, `hklm:\software\wardicon\connections\`); ok {
			return strings.ToUpper(id)
		}
	}
	t.Fatalf("nothing is kept: %v", w.registry)
	return ""
}

// enrolSecret is what stands in an install script.
func enrolSecret(t *testing.T, parcel string) string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(parcel, "*-install.ps1"))
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	text, err := os.ReadFile(list[0])
	found := regexp.MustCompile(`EnrolSecret\s+= '([^']{20,})'`).FindSubmatch(text)
	if found == nil {
		t.Fatal("there is no secret in the script", err)
	}
	return string(found[1])
}
