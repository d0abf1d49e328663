package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"wardicon/client"
	"wardicon/demo"
)

// value reads the field with a label.
func (b *tab) value(label string) string {
	b.t.Helper()
	b.until(labelled(label))
	return eval[string](b, labelled(label)+".value")
}

// tick turns a check box on or off.
func (b *tab) tick(label string) {
	b.t.Helper()
	eval[bool](
		b,
		fmt.Sprintf(
			`([...document.querySelectorAll('.form-check label')].find(l => l.textContent.trim() `+
				`=== %q).click(), true)`,
			label,
		),
	)
}

// console opens a signed-in console over the sample data.
func signedInTab(t *testing.T) (*fleet, *tab) {
	t.Parallel() // each has a service and a browser of its own
	t.Helper()
	f := start(t, true)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	return f, b
}

// TestGatewayForm fills every field of a gateway, saves, and reads all of it back from
// the API and after opening the page again.
func TestGatewayForm(t *testing.T) {
	f, b := signedInTab(t)
	fields := map[string]string{
		"Name":                                 "Westcliff",
		"Address":                              "westcliff.example",
		"Known IP addresses":                   "203.0.113.9\n2001:db8::9",
		"City":                                 "Westcliff",
		"Country":                              "IE",
		"Latitude":                             "53.5",
		"Longitude":                            "-10.1",
		"IKE proposals":                        "aes256-sha256-modp2048\naes256-sha1-modp2048",
		"ESP proposals":                        "aes256-sha256",
		"Form of the login":                    "login@realm",
		"Networks":                             "10.50.0.0/16",
		"Internal DNS servers":                 "10.50.0.53",
		"Internal domains":                     "inside.west.example",
		"Client address pool":                  "10.99.50.0/24",
		"Public addresses of clients (egress)": "203.0.113.9",
		"Internal hosts to test with":          "stores.west.example",
		"Note":                                 "cliff",
	}
	b.goTo("/gateways/new", "New gateway")
	for label, v := range fields {
		b.fill(label, v)
	}
	b.fill("Realm", "crew.west.example")
	fields["Realm"] = "crew.west.example"
	b.fill("Pre-shared key", "spindle-73-Basalt-clover")
	b.tick("It is behind NAT")
	b.tick("chap")
	b.press("Add the gateway")
	b.until(`document.title === 'Westcliff · Wardicon'`)
	b.part("Offers")
	b.see("A key is stored")
	page, err := f.client.Gateways.List(t.Context(), client.Query{Search: "Westcliff"})
	if err != nil || page.Total != 1 {
		t.Fatal(page.Total, err)
	}
	g := page.Items[0]
	if fmt.Sprint(
		g.Addresses,
		*g.Place.Latitude,
		*g.Place.Longitude,
		g.BehindNAT,
		g.Dynamic,
		g.SignIn,
		g.Offers.L2TP.PPP,
		g.Offers.L2TP.IKE,
		g.Offers.L2TP.PSKSet,
	) !=
		"[203.0.113.9 2001:db8::9] 53.5 -10.1 true false {login@realm crew.west.example} "+
			"[mschapv2 chap] [aes256-sha256-modp2048 aes256-sha1-modp2048] true" {
		t.Errorf("stored is %+v with %+v", g, g.Offers.L2TP)
	}
	b.goTo("/gateways/"+g.ID, "Westcliff")
	for label, want := range fields {
		if got := b.value(label); got != want {
			t.Errorf("%s reads %q, expected %q", label, got, want)
		}
	}
	if got := b.value("Pre-shared key"); got != "" {
		t.Error("the key came back to the page")
	}

	// Somebody else changes the gateway meanwhile: this save is refused and says so.
	if _, err := f.client.Gateways.Change(
		t.Context(),
		g.ID,
		0,
		client.Patch{"note": "theirs"},
	); err != nil {
		t.Fatal(err)
	}
	b.fill("Note", "mine")
	b.press("Save")
	b.see("Somebody else has changed this gateway meanwhile. Also changed by you: note.")
	b.press("Save")
	b.see("Saved.")
	if now, err := f.client.Gateways.Show(
		t.Context(),
		g.ID,
	); err != nil || now.Note != "mine" ||
		!now.Offers.L2TP.PSKSet {
		t.Errorf("stored is %+v (%v)", now, err)
	}

	// A key that was made here is shown, because somebody has to carry it to the gateway.
	b.part("Offers")
	b.press("Generate")
	b.until(
		labelled(
			"Pre-shared key",
		) + `.type === 'text' && /^([a-z2-9]{5}-){3}[a-z2-9]{5}$/.test(` + labelled(
			"Pre-shared key",
		) + `.value)`,
	)
	b.accessible("a key that was made")
	b.shot("form-made-key")
	b.press("Save")
	b.until(
		labelled(
			"Pre-shared key",
		) + `.type === 'password' && ` + labelled(
			"Pre-shared key",
		) + `.value === ''`,
	)

	// Without its offer the key goes too; then the gateway itself.
	b.tick("The gateway offers L2TP/IPsec")
	b.press("Save")
	b.until(
		`[...document.querySelectorAll('.finding')].some(e => e.textContent === 'Saved.') && ` +
			`!document.body.innerText.includes('IKE proposals')`,
	)
	if now, err := f.client.Gateways.Show(t.Context(), g.ID); err != nil || now.Offers.L2TP != nil {
		t.Errorf("stored is %+v (%v)", now.Offers, err)
	}
	b.press("Remove the gateway")
	b.see("Remove Westcliff?")
	b.accessible("the question before removing")
	b.press("Remove")
	b.until(`document.title === 'Gateways · Wardicon'`)
	b.see("5 gateways")
}

// TestRemoveRefused tries to remove what is in use: the reason stands in the question.
func TestRemoveRefused(t *testing.T) {
	f, b := signedInTab(t)
	people, err := f.client.People.List(t.Context(), query("Ada"))
	if err != nil {
		t.Fatal(err)
	}
	b.goTo("/people/"+people.Items[0].ID, "Ada Fjell")
	b.press("Remove the person")
	b.press("Remove")
	b.see("still used by 2 devices")
	b.press("Cancel")
	b.until(`!document.querySelector('.modal.show')`)
}

// TestPersonForms changes a person and an account, adds a second account and removes it.
func TestPersonForms(t *testing.T) {
	f, b := signedInTab(t)
	people, err := f.client.People.List(t.Context(), query("Bosse"))
	if err != nil {
		t.Fatal(err)
	}
	id := people.Items[0].ID
	b.goTo("/people/"+id, "Bosse Ravn")
	b.fill("Language", "not a language")
	b.press("Save")
	b.see("expected a language tag")
	b.fill("Language", "nb")
	b.fill("Groups", "pursers\nrelief")
	b.press("Save")
	b.see("Saved.")
	if p, err := f.client.People.Show(
		t.Context(),
		id,
	); err != nil || p.Language != "nb" ||
		len(p.Groups) != 2 {
		t.Errorf("stored is %+v (%v)", p, err)
	}
	b.part("Accounts")
	if got := b.value("Login"); got != "b_ravn " {
		t.Errorf("the login reads %q", got)
	}
	b.fill("Login", "b_ravn")
	b.press("Save the account")
	b.until(`document.querySelector('section[aria-label="Account b_ravn"]')`)
	accounts := func() string {
		page, err := f.client.Accounts.List(
			t.Context(),
			client.Query{Filter: map[string]string{"person_id": id}},
		)
		if err != nil {
			t.Fatal(err)
		}
		var logins []string
		for _, a := range page.Items {
			logins = append(logins, fmt.Sprint(a.Login, a.PasswordSet))
		}
		return strings.Join(logins, " ")
	}
	if got := accounts(); got != "b_ravntrue" {
		t.Errorf("accounts are %s", got)
	}
	// The second form of the page is the one for another account.
	eval[bool](
		b,
		`(() => { const f = [...document.querySelectorAll('#new-account ~ form input')]; `+
			`f[0].value = 'b_relief'; f[0].dispatchEvent(new Event('input')); return true `+
			`})()`,
	)
	b.press("Add the account")
	b.until(`document.querySelector('section[aria-label="Account b_relief"]')`)
	if got := accounts(); got != "b_ravntrue b_relieffalse" {
		t.Errorf("accounts are %s", got)
	}
	eval[bool](
		b,
		`([...document.querySelectorAll('section[aria-label="Account b_relief"] button')].find(e `+
			`=> e.textContent.trim() === 'Remove the account').click(), true)`,
	)
	b.see("Remove b_relief?")
	b.press("Remove")
	b.until(`!document.querySelector('section[aria-label="Account b_relief"]')`)
	if got := accounts(); got != "b_ravntrue" {
		t.Errorf("accounts are %s", got)
	}
}

// TestProfileForm settles things by hand and clears them: the plan follows, and the
// card for typing by hand is shown and built.
func TestProfileForm(t *testing.T) {
	f, b := signedInTab(t)
	id := f.profile("Planner Mac 1", "Norrvik")
	reason := func(text string) {
		b.until(fmt.Sprintf("document.querySelector('.plan').innerText.includes(%q)", text))
	}
	b.goTo("/profiles/"+id, "Planner Mac 1 → Norrvik")
	reason("macOS 14 does not support split tunnels")
	b.part("Settings")
	b.fill("Tunnel", "split")
	b.fill("Connection name", "Skerry/Norrvik")
	b.press("Save and plan again")
	reason("Device does not support split tunnels")
	reason("Connection name has a forbidden character")
	if !eval[bool](
		b,
		`[...document.querySelectorAll('button')].find(e => e.textContent.trim() === 'Build a `+
			`parcel').disabled`,
	) {
		t.Error("a parcel can be built in spite of an error")
	}
	b.part("Settings")
	b.fill("Tunnel", "")
	b.fill("Connection name", "")
	b.press("Save and plan again")
	reason("organisation and gateway")
	b.part("Files")
	b.see("No parcels yet")

	eval[bool](b, `(document.querySelector('.form-switch input').click(), true)`)
	b.until(
		`document.querySelector('iframe') && ` +
			`document.querySelector('iframe').srcdoc.includes('add a VPN configuration of type ` +
			`L2TP')`,
	)
	if eval[bool](b, `document.querySelector('iframe').srcdoc.includes('halyard')`) {
		t.Error("the card shows the key before anyone asked")
	}
	b.press("Build the card")
	b.see("current")
	parcels, err := f.client.Parcels(t.Context(), id)
	if err != nil || len(parcels.Items) != 1 || !parcels.Items[0].ByHand ||
		len(parcels.Items[0].Files) != 5 {
		t.Fatalf("%+v (%v)", parcels, err)
	}
	if got := eval[string](
		b,
		fmt.Sprintf(
			`fetch('/api/v1/parcels/%s/files/%s').then(r => r.headers.get('Content-Disposition') `+
				`+ r.headers.get('Content-Security-Policy'))`,
			parcels.Items[0].ID,
			parcels.Items[0].Files[0].Name,
		),
	); !strings.Contains(got, "attachment") ||
		!strings.Contains(got, "sandbox") {
		t.Errorf("a file is handed over as %s", got)
	}
}

// TestLists searches, filters, sorts and pages a long list, all done by the service.
func TestLists(t *testing.T) {
	f, b := signedInTab(t)
	people, err := f.client.People.List(t.Context(), query("Ada"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range 60 {
		if _, err := f.client.Devices.Add(
			t.Context(),
			client.Patch{
				"name":      fmt.Sprintf("Spare %02d", i),
				"person_id": people.Items[0].ID,
				"platform":  "windows",
				"release":   "10",
			},
		); err != nil {
			t.Fatal(err)
		}
	}
	first := func(want string) {
		b.t.Helper()
		b.until(fmt.Sprintf(`document.querySelector('tbody tr a')?.textContent === %q`, want))
	}
	b.goTo("/devices", "Devices")
	b.see("91 devices")
	first("Bridge tablet 1")
	b.press("Name ↑")
	first("Yard server")
	if got := eval[string](
		b,
		`document.querySelector('th[aria-sort]').getAttribute('aria-sort')`,
	); got != "descending" {
		t.Errorf("the order is told as %s", got)
	}
	b.fill("Search", "spare")
	b.see("60 devices")
	first("Spare 59")
	if n := eval[int](b, `document.querySelectorAll('tbody tr').length`); n != 25 {
		t.Errorf("%d rows on a page", n)
	}
	eval[bool](
		b,
		`([...document.querySelectorAll('.page-link')].find(e => e.textContent.trim() === `+
			`'3').click(), true)`,
	)
	first("Spare 09")
	b.accessible("a list with pages")
	b.fill("Search", "100%_")
	b.see("No matches.")
	b.press("Clear")
	b.see("91 devices")
	b.fill("Platform", "ios")
	b.see("2 devices")
	b.goTo("/profiles?severity=error", "Profiles")
	b.see("8 profiles")
	b.goTo("/profiles?rule=pfs-missing", "Profiles")
	b.see("8 profiles")
	b.press("Show all")
	b.see("37 profiles")
}

// TestManyPeople chooses the owner of a device among more people than a list shows.
func TestManyPeople(t *testing.T) {
	f, b := signedInTab(t)
	for i := range 60 {
		if _, err := f.client.People.Add(
			t.Context(),
			client.Patch{"name": fmt.Sprintf("Relief %02d", i)},
		); err != nil {
			t.Fatal(err)
		}
	}
	devices, err := f.client.Devices.List(t.Context(), query("Engine server"))
	if err != nil {
		t.Fatal(err)
	}
	id := devices.Items[0].ID
	chosen := labelled("Person") + ".selectedOptions[0].textContent.trim()"
	b.goTo("/devices/"+id, "Engine server")
	b.see("75 people; type part of a name")
	b.until(chosen + " === 'Ines Moreau (ines@skerryline.example)'")
	b.fill("Search people", "relief 5")
	b.until(labelled("Person") + ".options.length === 12") // ten, the one chosen, and the word
	b.until(chosen + " === 'Ines Moreau'")
	b.accessible("a search for a person")
	b.shot("form-person-search")
	person := eval[string](
		b,
		"[..."+labelled("Person")+".options].find(o => o.textContent.trim() === 'Relief 57').value",
	)
	b.fill("Person", person)
	b.press("Save")
	b.see("Saved.")
	if d, err := f.client.Devices.Show(t.Context(), id); err != nil || d.Person != "Relief 57" {
		t.Errorf("the owner is %s (%v)", d.Person, err)
	}
}

// TestSessionEnds ends the session elsewhere: the console asks to sign in and goes back
// to where it was.
func TestSessionEnds(t *testing.T) {
	_, b := signedInTab(t)
	b.goTo("/devices", "Devices")
	b.see("31 devices")
	eval[bool](b, `fetch('/api/v1/session', {method: 'DELETE'}).then(r => r.ok)`)
	b.fill("Search", "deck")
	b.until(`document.title === 'Sign in to Wardicon · Wardicon'`)
	b.fill("Name", demo.OwnerName)
	b.fill("Password", "wrong")
	b.press("Sign in")
	b.see("name, password or code is wrong")
	b.fill("Password", demo.OwnerPassword)
	b.press("Sign in")
	b.until(`document.title === 'Devices · Wardicon'`)
}

// TestRest looks at what remains: colours that are remembered, the menu on a phone, a
// record that is not there, the rules, the organisation.
func TestRest(t *testing.T) {
	f, b := signedInTab(t)
	theme := func() string {
		return eval[string](b,
			`document.documentElement.getAttribute('data-bs-theme')`)
	}
	before := theme()
	b.press(map[string]string{"light": "Dark colours", "dark": "Light colours"}[before])
	b.goTo("/rules", "Rules")
	if theme() == before {
		t.Error("the colours are not remembered")
	}
	b.fill("Search", "edge-space")
	b.see("1 rule")
	b.goTo("/devices/de-nowhere", "Device")
	b.see("there is no device de-nowhere")
	b.goTo("/organisation", "Organisation")
	b.fill("Domain", "skerry line")
	b.press("Save")
	b.see("without spaces")
	b.fill("Domain", "skerry.example")
	b.press("Save")
	b.see("Saved.")
	if o, err := f.client.Organisation(
		t.Context(),
	); err != nil || o.Domain != "skerry.example" ||
		o.Name != "Skerry Line" {
		t.Errorf("stored is %+v (%v)", o, err)
	}
	b.do(chromedp.EmulateViewport(360, 740))
	visible := `[...document.querySelectorAll('nav a')].find(a => ` +
		`a.textContent.trim() === 'People').getClientRects().length > 0`
	if eval[bool](b, visible) {
		t.Error("the menu is open before it is asked for")
	}
	b.press("Menu")
	b.until(visible)
	b.accessible("the open menu")
	b.press("People")
	b.until(`document.title === 'People · Wardicon' && !(` + visible + `)`)
}

// TestSearchBar goes through the console by the keyboard alone: to pages, to actions and to records
// of every noun.
func TestSearchBar(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	key := func(keys string, options ...chromedp.KeyOption) {
		t.Helper()
		b.do(chromedp.KeyEvent(keys, options...))
	}
	key("k", chromedp.KeyModifiers(2 /* Ctrl */))
	b.see("Plan a switchover")
	key("lyng")
	b.until(`[...document.querySelectorAll('[role=option]')].some(o => ` +
		`o.textContent.includes('Lyngholm') && o.textContent.includes('gateway'))`)
	b.accessible("the search")
	b.shot("search")
	key(kb.Enter)
	b.until(`document.title === 'Lyngholm · Wardicon'`)
	key("g")
	key("s")
	b.until(`document.title === 'Switchovers · Wardicon'`)
	key("?")
	b.see("Keyboard shortcuts")
	b.accessible("the list of keys")
	b.shot("keys")
	key(kb.Escape)
	b.until(`!document.querySelector('dialog[open]')`)
	eval[bool](b, "("+labelled("Search")+".focus(), true)")
	key("go/") // what is typed into a field is text
	b.until(labelled("Search") + `.value === 'go/'`)
	eval[bool](b, "("+labelled("Search")+".blur(), true)")
	key("/")
	b.until(`document.querySelector('dialog[open]')`)
	eval[bool](b, `(document.querySelector('dialog input').value = '', true)`)
	key("ada")
	b.until(`[...document.querySelectorAll('[role=option]')].some(o => ` +
		`o.textContent.includes('Ada Fjell'))`)
	for range 2 {
		key(kb.ArrowDown)
	}
	key(kb.ArrowUp)
	b.until(`document.querySelector('[aria-selected=true]').id === 'target-1'`)

	found, err := f.client.Search(t.Context(), "norrvik")
	nouns := map[string]bool{}
	for _, r := range found.Items {
		nouns[r.Noun] = true
		if r.ID == "" || r.Name == "" {
			t.Errorf("found is %+v", r)
		}
	}
	if err != nil || !nouns["gateway"] || !nouns["profile"] {
		t.Errorf("found are %v (%v)", nouns, err)
	}
	if none, err := f.client.Search(t.Context(), "n"); err != nil || len(none.Items) > 0 {
		t.Errorf("one letter finds %v (%v)", none.Items, err)
	}
}
