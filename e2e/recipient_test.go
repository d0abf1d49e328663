package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/miekg/dns"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/httpapi"
	"wardicon/metrics"
	"wardicon/nameserver"
	"wardicon/service"
	"wardicon/simulate"
	"wardicon/store"
)

// trusting believes loopback as a proxy, for simulators of tunnels.
func trusting(o *httpapi.Options) {
	o.Forwarding.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
}

// handed builds a parcel and hands it over.
func (f *fleet) handed(device string, byHand bool) (made api.NewHandover) {
	f.t.Helper()
	id := f.profile(device, "Norrvik")
	if _, err := f.client.Build(f.t.Context(), id, byHand); err != nil {
		f.t.Fatal(err)
	}
	made, err := f.client.MakeHandover(f.t.Context(), id, api.HandoverRequest{})
	if err != nil {
		f.t.Fatal(err)
	}
	return made
}

// openLink opens a link in the browser.
func (b *tab) openLink(link, passcode, label, button string) {
	b.t.Helper()
	b.do(chromedp.Navigate(link))
	b.fill(label, passcode)
	b.press(button)
	b.until(`document.getElementById('proof')`)
}

// TestRecipientTypes is a person who types: the page in their language, what they typed compared
// with what is right, copying, and the proof that they are connected; from 360 pixels, in light and
// dark.
func TestRecipientTypes(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	f := start(t, true, trusting)
	made := f.handed("Bridge tablet 2", true) // of Edda Voss, who reads German
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(360, 740), chromedp.Navigate(made.Link+"?lang=de"))
	b.see("Den Zugangscode haben Sie auf anderem Weg bekommen")
	b.accessible("the question for the passcode")
	b.shot("phone-handover-ask")
	b.fill("Zugangscode", "wrong")
	b.press("Öffnen")
	b.see("Das ist nicht der Zugangscode")
	b.accessible("a wrong passcode")
	b.openLink(made.Link, made.Passcode, "Passcode", "Open")
	b.see("Was zu tun ist")
	b.see("Sie sind nicht verbunden.")
	b.accessible("the opened page")
	b.fits()
	b.shot("phone-handover")
	if size := eval[int](b, `document.documentElement.outerHTML.length`); size > 60<<10 {
		t.Errorf("the page has %d bytes", size)
	}
	value := func(label string) string {
		return fmt.Sprintf(
			`[...document.querySelectorAll('.value')].find(v => v.querySelector('h3').textContent `+
				`=== %q)`,
			label,
		)
	}
	login := eval[string](b, value("Anmeldename")+".dataset.value")
	if login != "e_voss@crew.skerryline.example" {
		t.Fatalf("the login is %q", login)
	}
	try := func(label, typed string) string {
		t.Helper()
		return eval[string](
			b,
			fmt.Sprintf(
				`(() => { const v = %s, i = v.querySelector('input'); i.value = %q; `+
					`i.dispatchEvent(new Event('input')); return `+
					`v.querySelector('.said').textContent })()`,
				value(label),
				typed,
			),
		)
	}
	const rest = "voss@crew.skerryline.example"
	for _, test := range []struct{ typed, want string }{
		{"", ""},
		{login, "Das ist richtig."},
		{"e " + rest, "Das 2. Zeichen ist ein Leerzeichen, richtig wäre ein Unterstrich."},
		{" " + login, "Am Anfang steht ein Leerzeichen, das nicht dahin gehört."},
		{login + " ", "Am Ende steht ein Leerzeichen, das nicht dahin gehört."},
		{"E_" + rest, "Das 1. Zeichen ist ein großes E, richtig wäre ein kleines e."},
		{"e" + rest, "Das 2. Zeichen fehlt: es ist ein Unterstrich."},
		{"e__" + rest, "Das 3. Zeichen ist zu viel: es ist ein Unterstrich."},
		{"e_v", "Es hört zu früh auf: das 4. Zeichen fehlt, es ist ein kleines o."},
		{login + "x", "Das 31. Zeichen ist zu viel: es ist ein kleines x."},
		{"e\u00a0" + rest,
			"Das 2. Zeichen ist ein Leerzeichen anderer Art, richtig wäre ein Unterstrich."},
		{"e\u200b" + rest, "Das 2. Zeichen ist ein unsichtbares Zeichen (U+200B), richtig wäre " +
			"ein Unterstrich."},
		{"e4" +
			rest, "Das 2. Zeichen ist die Ziffer 4, richtig wäre ein " +
			"Unterstrich."},
	} {
		if got := try("Anmeldename", test.typed); got != test.want {
			t.Errorf("%q: %q, expected %q", test.typed, got, test.want)
		}
	}
	b.accessible("with something tried")
	copied := eval[string](
		b,
		`(async () => { let got = 'nothing'; Object.defineProperty(navigator, 'clipboard', `+
			`{value: {writeText: async t => { got = t }}}); `+value(
			"Anmeldename",
		)+`.querySelector('.copy').click(); await new Promise(r => setTimeout(r, 100)); return `+
			`got })()`,
	)
	if copied != login {
		t.Errorf("copied %q", copied)
	}
	b.see("Kopiert, ohne Leerzeichen.")
	for _, test := range []struct{ lang, label, want string }{
		{"en", "Login", "The 2nd character is a space, it should be an underscore."},
		{"es",
			"Nombre de usuario", "El 2.º carácter es un espacio, debería ser un guion bajo."},
		{"fr", "Identifiant", "Le 2e caractère est un espace, ce devrait être un tiret bas."},
	} {
		b.do(chromedp.Navigate(made.Link + "?lang=" + test.lang))
		b.until(
			`document.documentElement.lang === '` + test.lang +
				`' && !document.querySelector('.try').hidden`,
		)
		if got := try(test.label, "e "+rest); got != test.want {
			t.Errorf("%s: %q, expected %q", test.lang, got, test.want)
		}
		b.accessible("in " + test.lang)
	}

	// Through the gateway: it is seen, said and noted.
	tunnel, err := simulate.NewTunnel(f.url, demo.Egress)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = tunnel.Close() })
	b.do(
		chromedp.EmulateViewport(1280, 800),
		chromedp.Navigate(tunnel.Address+made.Path+"?lang=en"),
	)
	b.see("You come through Norrvik, over the tunnel. It works.")
	b.see("Before: your public address was 127.0.0.1.")
	eval[bool](
		b,
		`(() => { const v = [...document.querySelectorAll('.value')].find(v => `+
			`v.querySelector('h3').textContent === 'Login'); `+
			`v.querySelectorAll('details').forEach(d => { d.open = true }); `+
			`v.scrollIntoView({behavior: 'instant'}); return true })()`,
	)
	if got := try("Login", "e "+rest); !strings.HasPrefix(got, "The 2nd character is a space") {
		t.Error(got)
	}
	b.shot("handover")
	dark := emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "dark"}},
	}
	if _, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, dark); err != nil {
		t.Fatal(err)
	}
	b.accessible("connected, in dark colours")
	if page, err := f.client.Handovers(
		t.Context(),
		query(""),
	); err != nil || page.Items[0].State != api.HandoverConnected ||
		page.Items[0].Connected == nil {
		t.Errorf("%+v (%v)", page.Items, err)
	}
	if seen, err := f.client.SeenConnections(
		t.Context(),
		made.Handover.ProfileID,
	); err != nil || len(seen.Items) != 1 || seen.Items[0].Gateway != "Norrvik" ||
		seen.Items[0].Address != demo.Egress {
		t.Errorf("%+v (%v)", seen, err)
	}

	// Without scripts the essentials are there.
	if _, err := chromedp.Call(
		b.ctx,
		emulation.SetScriptExecutionDisabled,
		emulation.SetScriptExecutionDisabledParams{Value: true},
	); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.Navigate(tunnel.Address + made.Path + "?lang=en"))
	b.see("It works.")
	if shown := eval[bool](
		b,
		`[...document.querySelectorAll('.tools, .try, .scripted')].some(e => `+
			`e.getClientRects().length > 0)`,
	); shown {
		t.Error("what needs scripts is shown without them")
	}
	if steps := eval[int](b, `document.querySelectorAll('ol li').length`); steps < 5 {
		t.Errorf("%d steps", steps)
	}
}

// TestWhereami asks where a caller comes from: past proxies that are trusted, and past those that
// are not.
func TestWhereami(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	header := func(name string) func(*httpapi.Options) {
		return func(o *httpapi.Options) {
			trusting(o)
			o.Forwarding.Proxies = append(
				o.Forwarding.Proxies,
				netip.MustParsePrefix("192.0.2.0/24"),
			)
			o.Forwarding.Header = name
		}
	}
	services := map[string]*fleet{
		"nobody":          start(t, true),
		"x-forwarded-for": start(t, true, header("")),
		"forwarded":       start(t, true, header("Forwarded")),
	}
	for _, test := range []struct {
		trusts, name, value string
		want, gateway       string
	}{
		{"nobody", "X-Forwarded-For", "198.51.100.7", "127.0.0.1", ""},
		{"x-forwarded-for", "X-Forwarded-For", "", "127.0.0.1", ""},
		{"x-forwarded-for", "X-Forwarded-For", "198.51.100.7", "198.51.100.7", "Norrvik"},
		// the first was said by nobody who is trusted
		{"x-forwarded-for", "X-Forwarded-For", "198.51.100.7, 203.0.113.200", "203.0.113.200", ""},
		{"x-forwarded-for", "X-Forwarded-For", "203.0.113.200, 198.51.100.7, 192.0.2.9",
			"198.51.100.7", "Norrvik"},
		{"x-forwarded-for", "X-Forwarded-For", "198.51.100.7, nonsense", "127.0.0.1", ""},
		{"x-forwarded-for", "Forwarded", "for=198.51.100.7", "127.0.0.1", ""},
		{"forwarded", "Forwarded", `for="198.51.100.7:4711";proto=https`, "198.51.100.7",
			"Norrvik"},
		{"forwarded", "Forwarded", `for=203.0.113.200, for="[2001:db8::9]:80"`, "2001:db8::9", ""},
		{"forwarded", "Forwarded", `for=unknown`, "127.0.0.1", ""},
		{"forwarded", "X-Forwarded-For", "198.51.100.7", "127.0.0.1", ""},
	} {
		for _, path := range []string{"/api/v1/caller", "/whereami"} {
			req, err := http.NewRequestWithContext(
				t.Context(),
				http.MethodGet,
				services[test.trusts].url+path,
				nil,
			)
			if err != nil {
				t.Fatal(err)
			}
			if test.value != "" {
				req.Header.Set(test.name, test.value)
			}
			text := body(t, req)
			if path == "/whereami" {
				connected := strings.Contains(
					text,
					"You come through "+test.gateway+", over the tunnel.",
				)
				if !strings.Contains(text, "is "+test.want+".") ||
					connected != (test.gateway != "") {
					t.Errorf("%+v: %s", test, text)
				}
				continue
			}
			var w api.Whereabouts
			if err := json.Unmarshal(
				[]byte(text),
				&w,
			); err != nil || w.Address != test.want || (w.Match == nil) != (test.gateway == "") ||
				w.Match != nil && w.Match.Gateway != test.gateway {
				t.Errorf("%+v: %s", test, text)
			}
		}
	}
}

func body(t *testing.T, req *http.Request) string {
	t.Helper()
	answer, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestPastTheTunnel has a browser seen by each family and by its resolver: what goes past the
// tunnel is said.
func TestPastTheTunnel(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	const zone = "look.skerryline.example"
	f := start(t, true, trusting, func(o *httpapi.Options) { o.Zone = zone })
	names, err := nameserver.New(
		zone,
		"127.0.0.1:0",
		func(ctx context.Context, probe, from string) error {
			_, err := f.svc.SeenBy(ctx, probe, store.SeenResolver, from)
			return err
		},
		slog.New(slog.DiscardHandler),
	)
	if err != nil {
		t.Fatal(err)
	}
	answering, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { names.Run(answering) })
	t.Cleanup(func() { stop(); running.Wait() })
	o, err := f.client.Organisation(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	o.LinksV4, o.LinksV6 = "http://127.0.0.1:1", "https://v6.skerryline.example"
	if _, err := f.client.SetOrganisation(t.Context(), o); err != nil {
		t.Fatal(err)
	}
	made := f.handed("Bridge tablet 2", true)
	tunnel, err := simulate.NewTunnel(f.url, demo.Egress)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = tunnel.Close() })
	b := open(t, f.url)
	b.openLink(tunnel.Address+made.Path+"?lang=en", made.Passcode, "Passcode", "Open")
	b.do(chromedp.Navigate(tunnel.Address + made.Path + "?lang=en"))
	b.see("It works.")
	asked := eval[[]string](b, `JSON.parse(document.getElementById('words').textContent).ask`)
	if len(asked) != 3 || !strings.HasPrefix(asked[0], o.LinksV4+"/seen/") ||
		!strings.HasPrefix(asked[1], o.LinksV6+"/seen/") ||
		!strings.HasSuffix(asked[2], "."+zone+"/") {
		t.Fatalf("%q", asked)
	}
	probe := strings.TrimPrefix(asked[0], o.LinksV4+"/seen/")
	// The device asks by IPv6 past the tunnel, and its resolver is the one of the house it is in.
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, f.url+"/seen/"+probe, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("X-Forwarded-For", "2001:db8:ffff::9")
	if text := body(t, req); text != "" {
		t.Errorf("%q", text)
	}
	question := new(dns.Msg)
	question.SetQuestion(dns.Fqdn(strings.ToUpper(probe)+"."+zone), dns.TypeA)
	if answer, err := dns.Exchange(
		question,
		names.Address(),
	); err != nil || answer.Rcode != dns.RcodeSuccess || len(answer.Answer) != 0 ||
		len(answer.Ns) != 1 {
		t.Fatalf("%v (%v)", answer, err)
	}
	b.see(
		"Part of your traffic bypasses the tunnel: over IPv6 your public address is " +
			"2001:db8:ffff::9.",
	)
	b.see("Names are looked up by 127.0.0.1, which is not the gateway's.")
	b.accessible("traffic past the tunnel")
}

// TestNothingLeaks sends a link by mail and opens it: neither secrets of the parcel nor the
// passcode get into the email, the log, metrics, the browser's history or what other sites learn;
// the link is in the email alone.
func TestNothingLeaks(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	f := start(t, true)
	emails, err := simulate.NewMailServer("", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = emails.Close() })
	if err := demo.Post(
		t.Context(),
		f.svc,
		vpn.Mail{Server: emails.Host, Port: emails.Port, Authority: emails.Authority},
	); err != nil {
		t.Fatal(err)
	}
	if err := demo.Reach(t.Context(), f.svc, f.url); err != nil {
		t.Fatal(err)
	}
	run := f.commands()
	run(0, "", "build", "Bridge tablet 2/Norrvik", "--by-hand", "--out", t.TempDir()+"/x")
	run(
		1,
		"Passcode is sent the same way as the link",
		"handover",
		"make",
		"Bridge tablet 2/Norrvik",
		"--by-mail",
		"--passcode-by-mail",
	)
	run(
		1,
		"Secret in an email",
		"handover",
		"make",
		"Bridge tablet 2/Norrvik",
		"--by-mail",
		"--attach",
	)
	run(1, "Link does not expire", "handover", "make", "Bridge tablet 2/Norrvik", "--days", "0")
	out := run(
		0,
		"is sent to edda@skerryline.example",
		"handover",
		"make",
		"Bridge tablet 2/Norrvik",
		"--by-mail",
	)
	_, passcode, _ := strings.Cut(out, "passcode  ")
	passcode, _, _ = strings.Cut(passcode, "\n")
	var email simulate.Received
	for end := time.Now().Add(20 * time.Second); email.To == "" &&
		time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if list := emails.Emails(); len(list) > 0 {
			email = list[0]
		}
	}
	link := email.Link()
	if email.To != "edda@skerryline.example" || email.Subject != "Ihre Verbindung zu Skerry Line" ||
		!strings.HasPrefix(link, f.url+service.LinkPath) {
		t.Fatalf("%s, %s, %s", email.To, email.Subject, link)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if page, err := f.client.Handovers(
			t.Context(),
			query(""),
		); err == nil &&
			page.Items[0].State == api.HandoverSent {
			break
		} else if time.Now().
			After(end) {
			t.Fatalf("it is not sent: %+v (%v)", page.Items, err)
		}
	}
	b := open(t, f.url)
	b.openLink(link, passcode, "Passcode", "Open")
	b.see("Was zu tun ist")
	if at := eval[string](
		b,
		`location.href + ' ' + document.referrer + ' ' + JSON.stringify(localStorage) + `+
			`JSON.stringify(sessionStorage) + document.cookie`,
	); at != link+" "+f.url+"/ {}{}" && at != link+"  {}{}" &&
		at != link+" "+link+" {}{}" {
		t.Errorf("the browser keeps %s", at)
	}
	scrape, err := http.NewRequestWithContext(t.Context(), http.MethodGet, f.url, nil)
	if err != nil {
		t.Fatal(err)
	}
	scraped := httptest.NewRecorder()
	metrics.Handler(f.svc, metrics.NewRequests(), metrics.Build{}, nil, slog.New(slog.DiscardHandler), time.Now).ServeHTTP(scraped, scrape)
	hidden := []string{
		passcode,
		strings.ReplaceAll(passcode, "-", ""),
		"reef-57-Lavender-cobalt-fern",
		"e_voss",
	}
	kept := map[string]string{
		"the email": string(email.Raw),
		"the log":   f.log.String(),
		"metrics":   scraped.Body.String(),
	}
	for where, text := range kept {
		for _, h := range hidden {
			if strings.Contains(text, h) {
				t.Errorf("%s has %q", where, h)
			}
		}
		if where != "the email" &&
			strings.Contains(text, strings.TrimPrefix(link, f.url+service.LinkPath)) {
			t.Errorf("%s has the link", where)
		}
	}
	if !strings.Contains(kept["the log"], "/h/{token}") || len(kept["metrics"]) < 500 {
		t.Errorf("the log has no uses, or there are no metrics: %.300s", kept["metrics"])
	}

	// The device fetches by itself: link and passcode come from standard input, not from the
	// command line.
	again, err := f.client.MakeHandover(
		t.Context(),
		f.profile("Bridge tablet 2", "Norrvik"),
		api.HandoverRequest{},
	)
	if err != nil {
		t.Fatal(err)
	}
	to := t.TempDir() + "/fetched"
	fetch := func(code int, want, stdin string) {
		t.Helper()
		got, out, errs := f.run(stdin, "handover", "fetch", "-", "--out", to)
		if got != code || !strings.Contains(out+errs, want) ||
			strings.Contains(errs, strings.TrimPrefix(again.Path, service.LinkPath)) {
			t.Errorf("ended with %d, expected %d and %q: %s%s", got, code, want, out, errs)
		}
	}
	fetch(2, "this is no link", "ftp://x/h/y\n\n")
	fetch(3, "no service answers", "http://127.0.0.1:1/h/y\nx\n")
	fetch(1, "this is not the passcode", again.Link+"\nabcde-fghij-kmnpq\n")
	fetch(0, "Bridge tablet 2", again.Link+"\n"+again.Passcode+"\n")
	fetch(1, "remove it or choose another folder", again.Link+"\n"+again.Passcode+"\n")
	if _, err := f.client.RecallHandover(t.Context(), again.Handover.ID); err != nil {
		t.Fatal(err)
	}
	fetch(1, "this link cannot be opened", again.Link+"\n"+again.Passcode+"\n")
}

// TestAnswerTimes lets the page of a recipient measure how fast gateways answer, and holds
// that the page asks nobody else.
func TestAnswerTimes(t *testing.T) {
	t.Parallel()
	f := start(t, true, trusting)
	ctx := t.Context()
	var gateways []string
	for name, delay := range map[string]time.Duration{"Quick": 0, "Far": time.Second} {
		server := httptest.NewUnstartedServer(http.NotFoundHandler())
		server.Config.ErrorLog = log.New(io.Discard, "", 0)
		server.Listener = slowly{server.Listener, delay}
		server.StartTLS()
		t.Cleanup(server.Close)
		g, err := f.client.Gateways.Add(
			ctx,
			map[string]any{
				"name":    name,
				"address": "127.0.0.1",
				"offers": map[string]any{
					"sstp": map[string]any{
						"port": server.Listener.Addr().(*net.TCPAddr).Port,
						"ppp":  []string{"mschapv2"},
					},
				},
			},
		)
		if err != nil {
			t.Fatal(err)
		}
		gateways = append(gateways, g.ID)
	}
	p, err := f.client.Patterns.Add(
		ctx,
		map[string]any{
			"name":        "Soonest",
			"groups":      []string{"nobody"},
			"gateways":    vpn.ChooseFastest,
			"gateway_ids": gateways,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	id := f.profile("Bridge tablet 2", "Norrvik")
	if _, err := f.client.Profiles.Change(
		ctx,
		id,
		0,
		map[string]any{"pattern_id": p.ID},
	); err != nil {
		t.Fatal(err)
	}
	made := f.handed("Bridge tablet 2", true)
	b := open(t, f.url)
	b.do(chromedp.Navigate(made.Link))
	b.openLink(made.Link, made.Passcode, "Passcode", "Open")
	median := func(i int) float64 {
		list, err := f.client.AnswerTimes(ctx, gateways[i])
		if err != nil || len(list) != 1 || list[0].Source != api.TimedByPage ||
			list[0].Place != "" {
			return 0
		}
		return list[0].Milliseconds
	}
	names := map[string]float64{}
	for end := time.Now().Add(30 * time.Second); (names["Quick"] == 0 || names["Far"] == 0) &&
		time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		for i, id := range gateways {
			g, err := f.client.Gateways.Show(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			names[g.Name] = median(i)
		}
	}
	if names["Quick"] == 0 || names["Far"] < names["Quick"]+300 {
		t.Errorf("the page measured %v", names)
	}
	// Who has not opened the link brings no times.
	answer, err := http.Post(
		made.Link+"/times",
		"application/json",
		strings.NewReader(`{"`+gateways[0]+`": 1}`),
	)
	if err != nil {
		t.Fatal(err)
	}
	_ = answer.Body.Close()
	if answer.StatusCode != http.StatusForbidden {
		t.Errorf("without a visit times are answered with %d", answer.StatusCode)
	}
}

// slowly is a listener whose connections come late.
type slowly struct {
	net.Listener
	delay time.Duration
}

func (l slowly) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	time.Sleep(l.delay)
	return c, err
}
