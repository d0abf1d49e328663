package connect

import (
	"crypto/tls"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/core/pki"
	"wardicon/httpapi"
)

// TestEnrolledIKE hands a parcel without a key to a headless Linux: its script makes the key, gets the
// certificate by EST and renews it, and the IKE daemon signs in to a real gateway with each of them. What
// is revoked no longer gets in.
func TestEnrolledIKE(t *testing.T) {
	t.Parallel()
	w := newIKEWorldOf(t, "curl", "openssl")
	w.cli.startIKE()
	const host = "enrol.skerryline.example"
	public := newChain(t, "Public", pki.P256)
	certificate, key := public.leaf(pki.ForServer, host)
	pair, err := tls.X509KeyPair([]byte(certificate+pki.Bundle(public.issuing)), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	// The client's box has no way to the service but this socket, which its curl is led to.
	socket := filepath.Join(t.TempDir(), "enrol")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(httpapi.Enrolling(w.r.svc, slog.New(slog.DiscardHandler),
		httpapi.Options{Secure: true}))
	_ = server.Listener.Close()
	server.Listener = listener
	server.TLS = &tls.Config{
		Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequestClientCert,
		MinVersion: tls.VersionTLS12,
	}
	server.StartTLS()
	t.Cleanup(server.Close)
	home := t.TempDir()
	curl := "unix-socket = \"" + socket + "\"\ncacert = \"" +
		w.r.file("public.pem", pki.Bundle(public.root)) + "\"\n"
	if err := os.WriteFile(filepath.Join(home, ".curlrc"), []byte(curl), 0o600); err != nil {
		t.Fatal(err)
	}

	w.r.do("organisation", "change", "--links", "https://connect.skerryline.example", "--enrol",
		"https://"+host+":7443")
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
