package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/demo"
)

func (b *tab) signIn() {
	b.t.Helper()
	b.signInAs(demo.OwnerName, demo.OwnerPassword)
}

func (b *tab) signInAs(name, password string) {
	b.t.Helper()
	b.goTo("/", "Sign in to Wardicon")
	b.fill("Name", name)
	b.fill("Password", password)
	b.press("Sign in")
	b.until(`document.querySelector('nav[aria-label=Main]')`)
}

// TestPages opens every page in light and dark colours and on a narrow phone: each has
// a title, nothing runs out of the page sideways, and axe finds nothing.
func TestPages(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	gateways, err := f.client.Gateways.List(t.Context(), client.Query{Search: "Tallholm"})
	if err != nil {
		t.Fatal(err)
	}
	people, err := f.client.People.List(t.Context(), client.Query{Search: "Leif"})
	if err != nil {
		t.Fatal(err)
	}
	devices, err := f.client.Devices.List(t.Context(), client.Query{Search: "Engine laptop 1"})
	if err != nil {
		t.Fatal(err)
	}
	all, err := f.client.Gateways.List(t.Context(), client.Query{Search: "Brattvik"})
	if err != nil {
		t.Fatal(err)
	}
	patterns, err := f.client.Patterns.List(t.Context(), client.Query{})
	if err != nil {
		t.Fatal(err)
	}
	good, bad := f.profile("Engine laptop 1", "Norrvik"), f.profile("Deck phone 1", "Easthaven")
	if _, err := f.client.Build(t.Context(), good, false); err != nil {
		t.Fatal(err)
	}
	authorities, err := f.client.Authorities.List(t.Context(), client.Query{Search: "Skerry"})
	if err != nil {
		t.Fatal(err)
	}
	certificates, err := f.client.Certificates(t.Context(), client.Query{Search: "Yard laptop"})
	if err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.EmulateViewport(1280, 800))
	b.goTo("/", "Sign in to Wardicon")
	b.accessible("sign-in")
	b.shot("sign-in")
	pages := []struct{ name, path, title, text string }{
		{"overview", "/", "Skerry Line", "Needs attention"},
		{"gateways", "/gateways", "Gateways", "5 gateways"},
		{"gateway", "/gateways/" + gateways.Items[0].ID + "?tab=offers", "Tallholm", "A key is stored"},
		{"gateway-all", "/gateways/" + all.Items[0].ID + "?tab=offers", "Brattvik", "The gateway offers PPTP"},
		{"gateway-ask", "/gateways/ask", "Probe an address", "its owner agrees"},
		{"gateway-new", "/gateways/new", "New gateway", "Add the gateway"},
		{"people", "/people", "People", "15 people"},
		{"person", "/people/" + people.Items[0].ID + "?tab=accounts", "Leif Sund",
			"l_sund_relief"},
		{"devices", "/devices", "Devices", "31 devices"},
		{"device", "/devices/" + devices.Items[0].ID, "Engine laptop 1", "Tallholm"},
		{"profiles", "/profiles", "Profiles", "37 profiles"},
		{"profile", "/profiles/" + good, "Engine laptop 1 → Norrvik", "Authentication"},
		{
			"profile-files", "/profiles/" + good + "?tab=files", "Engine laptop 1 → Norrvik",
			"[connection]",
		},
		{"profile-settings", "/profiles/" + good + "?tab=settings", "Engine laptop 1 → Norrvik",
			"Set manually"},
		{"profile-history", "/profiles/" + good + "?tab=history", "Engine laptop 1 → Norrvik",
			"entries"},
		{"gateway-keys", "/gateways/" + all.Items[0].ID + "?tab=keys", "Brattvik",
			"Configuration of its daemons"},
		{"gateway-rehearsals", "/gateways/" + all.Items[0].ID + "?tab=rehearsals", "Brattvik",
			"Not rehearsed yet"},
		{
			"profile-findings",
			"/profiles/" + bad + "?tab=findings",
			"Deck phone 1 → Easthaven",
			"Password equals the login",
		},
		{"patterns", "/patterns", "Patterns", "Ticket halls"},
		{"pattern", "/patterns/" + patterns.Items[0].ID, "Masters", "Master tablet"},
		{"pattern-new", "/patterns/new", "New pattern", "31 devices"},
		{
			"profile-pattern",
			"/profiles/" + f.profile("Yard phone", "Brattvik"),
			"Yard phone → Brattvik",
			"Not chosen",
		},
		{"certificates", "/certificates", "Certificates", "yard-server.devices.skerryline.example"},
		{"certificate", "/certificates/" + certificates.Items[0].ID, "Yard laptop", "self-signed"},
		{"authorities", "/authorities", "Authorities", "Skerry Line network office"},
		{
			"authority",
			"/authorities/" + authorities.Items[0].ID,
			"Skerry Line Authority",
			"delta CRL of the last seven days",
		},
		{"operators", "/operators", "Operators", "harbourmaster"},
		{"me", "/me", "Your sign-in", "this session"},
		{"mail", "/mail", "Mail", "No emails yet"},
		{"directory", "/directory", "Directory", "SCIM 2.0"},
		{"handovers", "/handovers", "Handovers", "No handovers yet."},
		{"switchovers", "/switchovers", "Switchovers", "No switchover yet."},
		{"switchover-new", "/switchovers/new", "Plan a switchover", "What changes"},
		{"calendar", "/calendar", "Calendar", "Lyngholm"},
		{"rehearsals", "/rehearsals", "Rehearsals", "No rehearsals yet."},
		{"offboardings", "/offboardings", "Offboarding", "No offboardings yet."},
		{"platforms", "/platforms", "Platforms", "its PowerShell has no VPN cmdlets"},
		{"findings", "/findings", "Findings", "In the last 7 days"},
		{"check", "/check", "Check files", "Drop files here"},
		{"explain", "/explain", "Explain a failure", "Profile concerned"},
		{"rules", "/rules", "Rules", "Space before or after a value"},
		{"log", "/log", "Audit log", "harbourmaster"},
		{"organisation", "/organisation", "Organisation", "Domain"},
		{"missing", "/nowhere", "No such page", "overview"},
	}
	for _, look := range []struct {
		name          string
		width, height int64
		theme         string
	}{{"light", 1280, 800, "light"}, {"dark", 1280, 800, "dark"}, {"phone", 360, 740, "light"}} {
		t.Run(look.name, func(t *testing.T) {
			t.Parallel() // each in a browser of its own
			b := open(t, f.url)
			b.do(chromedp.EmulateViewport(look.width, look.height))
			b.goTo("/", "Sign in to Wardicon")
			eval[bool](b, `(localStorage.setItem('theme', '`+look.theme+`'), true)`)
			b.signIn()
			for _, p := range pages {
				t.Run(p.name, func(t *testing.T) {
					b.t = t
					if look.name == "light" {
						b.load(p.path, p.title)
					} else {
						b.goTo(p.path, p.title)
					}
					b.see(p.text)
					b.accessible(p.name)
					b.fits()
					b.shot(look.name + "-" + p.name)
					if p.name == "profile-findings" {
						b.until(
							`[...document.querySelectorAll('.plan > div')].some(row => ` +
								`row.querySelector('dt').textContent === 'Password' && ` +
								`row.innerText.includes('Password equals the login'))`,
						)
					}
					if p.name == "person" {
						b.until(labelled("Login") + "?.value === 'l_sund'")
					}
				})
			}
			b.t = t
		})
	}
}

// TestFirstProfile goes the way of a new administrator in the console: from an empty
// service to a parcel, with an error beside its field on the way.
func TestFirstProfile(t *testing.T) {
	t.Parallel()
	f := start(t, false)
	code := f.svc.SetUpCode()
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))

	b.goTo("/", "Set up Wardicon")
	b.fill("Set-up code", code)
	b.fill("Name", "owner")
	b.fill("Password", "short")
	b.fill("Repeat the password", "short")
	b.press("Create the owner and sign in")
	b.see("15 to 256 characters")
	b.fill("Repeat the password", "shorter")
	b.press("Create the owner and sign in")
	b.until(labelled("Repeat the password") + `.classList.contains('is-invalid')`)
	b.see("The two passwords differ.")
	b.accessible("setting up")
	b.shot("set-up")
	b.do(chromedp.EmulateViewport(360, 800))
	b.fits()
	b.shot("phone-set-up")
	b.do(chromedp.EmulateViewport(1280, 800))
	for _, label := range []string{"Password", "Repeat the password"} {
		b.fill(label, "anchor-velvet-52-pepper-rudder")
	}
	b.press("Create the owner and sign in")
	b.see("First steps")
	b.shot("first-overview")

	b.press("Add a gateway")
	b.fill("Name", "Norrvik")
	b.fill("Address", "https://norrvik.skerryline.example/")
	b.fill("Pre-shared key", "halyard-58-Cormorant-shingle-27")
	b.fill("Networks", "10.20.0.0/16\n10.21.0.0")
	b.press("Add the gateway")
	b.see(`Write only "norrvik.skerryline.example"`)
	b.see("expected a network in CIDR form")
	if described := eval[string](
		b,
		labelled(
			"Address",
		)+`.getAttribute('aria-describedby').split(' ').map(id => `+
			`document.getElementById(id).textContent).join(' ')`,
	); !strings.Contains(
		described,
		"without a scheme",
	) {
		t.Errorf("the error is not tied to its field: %s", described)
	}
	b.shot("first-errors")
	if page, err := f.svcGateways(); err != nil || page != 0 {
		t.Errorf("%d gateways were stored in spite of the errors (%v)", page, err)
	}
	b.fill("Address", "norrvik.skerryline.example")
	b.fill("Networks", "10.20.0.0/16")
	b.press("Add the gateway")
	b.until(`document.title === 'Norrvik · Wardicon'`)
	b.part("Offers")
	b.see("A key is stored")

	b.goTo("/people/new", "New person")
	b.fill("Name", "Ada Fjell")
	b.press("Add the person")
	b.part("Accounts")
	b.see("First account")
	b.fill("Login", "a_fjell")
	b.press("Add the account")
	b.see("Another account")

	b.part("Devices")
	b.press("Add a device")
	b.until(labelled("Release"))
	b.fill("Name", "Ada's laptop")
	b.fill("Platform", "linux-desktop")
	b.fill("Release", "1.42")
	b.press("Add the device")
	b.see("No profile yet")
	b.press("Add a profile")
	b.see("the disk of Ada's laptop is not encrypted")
	b.part("Files")
	b.see("[hidden]")
	if strings.Contains(eval[string](b, "document.body.innerHTML"), "halyard") {
		t.Error("the key is on the page before anyone asked")
	}
	b.press("Show secrets (recorded in the audit log)")
	b.see("0saGFseWFyZC01OC1Db3Jtb3JhbnQtc2hpbmdsZS0yNw==") // the key as the keyfile carries it
	b.press("Build a parcel")
	b.see("current")
	b.goTo("/log", "Audit log")
	b.see("reveal")
	b.press("Sign out")
	b.until(`document.title === 'Sign in to Wardicon · Wardicon'`)
}

// TestKeyboard signs in and reaches a list with the keyboard alone.
func TestKeyboard(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.goTo("/", "Sign in to Wardicon")
	b.do(
		chromedp.KeyEvent("\t"),
		chromedp.KeyEvent(demo.OwnerName),
		chromedp.KeyEvent("\t"),
		chromedp.KeyEvent(demo.OwnerPassword),
		chromedp.KeyEvent("\r"),
	)
	b.until(`document.title === 'Skerry Line · Wardicon'`)
	reached := false
	for range 80 {
		b.do(chromedp.KeyEvent("\t"))
		if outline := eval[string](
			b,
			`getComputedStyle(document.activeElement).outlineStyle`,
		); outline == "none" &&
			!eval[bool](b, `document.activeElement === document.body`) {
			t.Errorf(
				"no focus is seen on %s",
				eval[string](b, `document.activeElement.outerHTML.slice(0, 120)`),
			)
		}
		if eval[string](b, `document.activeElement.textContent.trim()`) == "Devices" {
			reached = true
			b.do(chromedp.KeyEvent("\r"))
			break
		}
	}
	if !reached {
		t.Fatal("the link to the devices was not reached")
	}
	b.until(`document.title === 'Devices · Wardicon' && document.activeElement.tagName === 'H1'`)
}

// TestCard looks at the card as its person does: no violation, nothing runs out of the
// page, and no script in it.
func TestCard(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	files, err := f.client.Preview(t.Context(), f.profile("Deck phone 3", "Easthaven"), false, true)
	if err != nil {
		t.Fatal(err)
	}
	card := files.Items[0].Text
	if strings.Contains(card, "<script") || strings.Contains(card, "http") {
		t.Error("the card has a script or reaches out")
	}
	page := httptest.NewServer(
		http.HandlerFunc(
			func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(card)) },
		),
	)
	defer page.Close()
	for _, width := range []int64{1280, 360} {
		b.do(chromedp.EmulateViewport(width, 800), chromedp.Navigate(page.URL))
		b.see("press the space bar")
		b.accessible("card")
		b.fits()
		b.shot(fmt.Sprintf("card-%d", width))
	}
	if got := eval[string](
		b,
		`[...document.querySelectorAll('.value')].map(e => e.textContent).join('\n')`,
	); !strings.Contains(
		got,
		"breaker-91-Gannet-lantern-46-mizzen",
	) {
		t.Errorf("the key is not on the card as it is: %s", got)
	}
}
