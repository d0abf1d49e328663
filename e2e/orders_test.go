package e2e

import (
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/simulate"
	"wardicon/store"
)

// TestOrders has a simulated ACME CA issue gateways' certificates for requests that openssl made: shown by
// HTTP and by DNS, bound to an account outside, renewed for the same key, and not issued where a name is
// not under control.
func TestOrders(t *testing.T) {
	t.Parallel()
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not installed")
	}
	ctx, here, dir := t.Context(), t.TempDir(), setUp(t)
	ca, err := simulate.NewACME()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = ca.Close() })
	ca.Bindings = map[string][]byte{"skerry-line": []byte("a MAC key of thirty-two octets..")}
	file := func(name, text string) string {
		t.Helper()
		path := filepath.Join(here, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	bound := file("binding", base64.RawURLEncoding.EncodeToString(ca.Bindings["skerry-line"])+"\n")
	settings := []string{
		"--acme-directory", ca.URL + "/directory", "--acme-terms-agreed", "--look-zone",
		"look.skerryline.example", "--look-listen", "127.0.0.1:0",
	}
	var p *process
	var c *client.Client
	bearer := ""
	begin := func(more ...string) {
		t.Helper()
		if p != nil {
			p.stop(os.Interrupt)
		}
		p = serve(t, dir, append(settings, more...)...)
		c = signedIn(t, p.url)
		c.Prove = func(bool) (secret.Text, error) { return secret.New(ownerPassword), nil }
		if bearer == "" {
			token, err := c.AddToken(ctx, "orders", "issuer", 1)
			if err != nil {
				t.Fatal(err)
			}
			bearer = token.Bearer
		}
	}
	// The gateway's host leads what the CA asks to the service; the name server has an alias into the zone.
	redirects := true
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if redirects {
			http.Redirect(w, r, p.url+r.URL.Path, http.StatusMovedPermanently)
		}
	}))
	defer web.Close()
	ca.Dial = func(string) string { return web.Listener.Addr().String() }
	aliases := map[string]string{}
	ca.Resolver = nameServer(t, aliases, func() string { return p.said("serving DNS").Address })

	begin()
	add := func(name, address string, more map[string]any) string {
		t.Helper()
		offer := map[string]any{"auth": []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2}, "ike": []string{"aes256-sha256-modp2048"},
			"esp": []string{"aes256-sha256-modp2048"}}
		for key, v := range more {
			offer[key] = v
		}
		g, err := c.Gateways.Add(ctx, client.Patch{"name": name, "address": address,
			"offers": map[string]any{"ikev2": offer}})
		if err != nil {
			t.Fatal(err)
		}
		return g.ID
	}
	norrvik := add("Norrvik", "norrvik.skerryline.example", nil)
	tallholm := add("Tallholm", "tallholm.skerryline.example", map[string]any{"remote_id": "vpn.tallholm.skerryline.example"})
	request := func(name string, more ...string) string {
		t.Helper()
		path := filepath.Join(here, name+".csr")
		cmd := exec.Command(openssl, append([]string{"req", "-new", "-newkey", "ec", "-pkeyopt",
			"ec_paramgen_curve:P-256", "-nodes", "-keyout", filepath.Join(here, name+".key"), "-out", path}, more...)...)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		return path
	}
	plain := request("norrvik", "-subj", "/", "-addext", "subjectAltName=DNS:norrvik.skerryline.example")
	both := request("tallholm", "-subj", "/", "-addext",
		"subjectAltName=DNS:tallholm.skerryline.example,DNS:vpn.tallholm.skerryline.example")
	order := func(code int, want string, args ...string) (o api.Order) {
		t.Helper()
		args = append([]string{"certificate", "order", "--output", "json", "--service", p.url}, args...)
		cmd := command(args...)
		cmd.Env = append(cmd.Env, "WARDICON_TOKEN="+bearer)
		out, _ := cmd.CombinedOutput()
		if got := cmd.ProcessState.ExitCode(); got != code || !strings.Contains(string(out), want) {
			t.Errorf("%v ended with %d, expected %d and %q: %s\n%v", args, got, code, want, out, ca.Problems)
		}
		_ = json.Unmarshal(out, &o)
		return o
	}
	root := file("root.pem", ca.Authority)
	// judge has openssl verify what the gateway's record has: by the CA, for a name and the gateway's key.
	judge := func(gateway, key string, names ...string) {
		t.Helper()
		g, err := c.Gateways.Show(ctx, gateway)
		if err != nil {
			t.Fatal(err)
		}
		chain := file(key+".pem", g.Certificate)
		for _, name := range names {
			out, err := exec.Command(openssl, "verify", "-CAfile", root, "-verify_hostname", name, chain).CombinedOutput()
			if err != nil {
				t.Errorf("%s: %s", name, out)
			}
		}
		shown, err := exec.Command(openssl, "x509", "-in", chain, "-noout", "-pubkey").Output()
		own, err2 := exec.Command(openssl, "pkey", "-in", filepath.Join(here, key+".key"), "-pubout").Output()
		if err != nil || err2 != nil || string(shown) != string(own) {
			t.Errorf("it is for another key: %s%s (%v, %v)", shown, own, err, err2)
		}
	}

	order(1, "no binding to an account outside", "Norrvik", "--request", plain)
	begin("--acme-binding", "skerry-line", "--acme-binding-file", bound)
	o := order(0, `"state": "issued"`, "Norrvik", "--request", plain)
	judge(norrvik, "norrvik", "norrvik.skerryline.example")
	if o.Expires == nil || o.Next.After(o.Expires.AddDate(0, 0, -29)) || o.Next.Before(time.Now().AddDate(0, 0, 50)) {
		t.Errorf("it is renewed at %v and ends at %v", o.Next, o.Expires)
	}
	order(1, "is not at", "Tallholm", "--request", both, "--challenge", "dns-01")
	for _, line := range order(1, "CNAME "+tallholm+".acme.look.skerryline.example.", "Tallholm", "--request",
		both, "--challenge", "dns-01").Setup {
		name, target, _ := strings.Cut(line, " CNAME ")
		aliases[name] = target
	}
	order(0, `"state": "issued"`, "Tallholm", "--request", both, "--challenge", "dns-01")
	judge(tallholm, "tallholm", "tallholm.skerryline.example", "vpn.tallholm.skerryline.example")
	redirects = false
	order(1, "answers the challenge with 200", "Norrvik", "--request", plain)
	redirects = true
	for _, wrong := range []struct{ request, want string }{
		{request("foreign", "-subj", "/", "-addext", "subjectAltName=DNS:elsewhere.example"), "elsewhere.example"},
		{request("unnamed", "-subj", "/CN=norrvik.skerryline.example"), "0 host names"},
		{request("mixed", "-subj", "/", "-addext",
			"subjectAltName=DNS:norrvik.skerryline.example,IP:192.0.2.7"), "1 other names"},
		{root, "signing request"},
	} {
		order(1, wrong.want, "Norrvik", "--request", wrong.request)
	}

	// What is due is ordered again, for the same key; the gateway gets it with its configuration.
	issued := ca.Issued
	p.stop(os.Interrupt)
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`UPDATE orders SET next = 1`); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	p = nil
	begin("--acme-binding", "skerry-line", "--acme-binding-file", bound)
	for end := time.Now().Add(20 * time.Second); ca.Issued < issued+2; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d were issued, expected 2 more than %d\n%s", ca.Issued, issued, p.logged())
		}
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		list, err := c.Orders(ctx)
		if err == nil && len(list.Items) == 2 && list.Items[0].State+list.Items[1].State == "issuedissued" {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("orders are %+v (%v)", list, err)
		}
	}
	judge(tallholm, "tallholm", "vpn.tallholm.skerryline.example")
	judge(norrvik, "norrvik", "norrvik.skerryline.example")
	made, err := c.GatewayConfiguration(ctx, norrvik)
	if err != nil {
		t.Fatal(err)
	}
	g, err := c.Gateways.Show(ctx, norrvik)
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]bool{}
	for _, f := range made.Files {
		found[f.Name] = f.Name != "norrvik-chain.pem" || string(f.Content) == g.Certificate
	}
	if !found["norrvik-certificate.pem"] || !found["norrvik-chain.pem"] {
		t.Errorf("the configuration has %v", found)
	}
	if err := c.EndOrder(ctx, norrvik); err != nil {
		t.Error(err)
	}
	if list, err := c.Orders(ctx); err != nil || len(list.Items) != 1 {
		t.Errorf("one was ended, and there are %d (%v)", len(list.Items), err)
	}
	p.stop(os.Interrupt)
	settings = nil
	p = nil
	begin()
	order(1, "start it with --acme-directory", "Norrvik", "--request", plain)
}

// nameServer answers aliases itself, and passes on what is asked about the service's zone.
func nameServer(t *testing.T, aliases map[string]string, zone func() string) string {
	t.Helper()
	started := make(chan string, 1)
	server := &dns.Server{Addr: "127.0.0.1:0", Net: "udp"}
	server.NotifyStartedFunc = func() { started <- server.PacketConn.LocalAddr().String() }
	server.Handler = dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		name := q.Question[0].Name
		a := new(dns.Msg)
		a.SetReply(q)
		if target, ok := aliases[name]; ok {
			a.Answer = append(a.Answer, &dns.CNAME{
				Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeCNAME, Class: dns.ClassINET}, Target: target,
			})
		} else if strings.HasSuffix(name, ".look.skerryline.example.") {
			if passed, err := dns.Exchange(q, zone()); err == nil {
				a = passed
			}
		}
		_ = w.WriteMsg(a)
	})
	go func() { _ = server.ListenAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
	return <-started
}
