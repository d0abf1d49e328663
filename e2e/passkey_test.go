package e2e

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// ask runs a command of the browser.
func ask[P, R any](b *tab, c cdp.Command[P, R], p P) R {
	b.t.Helper()
	v, err := chromedp.Call(b.ctx, c, p)
	if err != nil {
		b.t.Fatalf("%s: %v", c.Method, err)
	}
	return v
}

// signedBy has the browser's authenticator answer, as the console does, and sends that so many times;
// it gives the statuses. What it asks for can be bent on the way.
const signedBy = `(async (bend, times) => {
	const post = (path, body) => fetch('/api/v1' + path, {method: 'POST', body: JSON.stringify(body),
		headers: {'Content-Type': 'application/json'}})
	const {options} = await (await post('/session/passkey', {})).json()
	bend(options)
	const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options)
	const passkey = (await navigator.credentials.get({publicKey})).toJSON()
	const all = []
	for (let i = 0; i < times; i++) {
		let status = 429 // too many tries: waits
		while (status === 429) {
			status = (await post('/session', {kind: 'token', passkey})).status
			if (status === 429) await new Promise((r) => setTimeout(r, 1000))
		}
		all.push(status)
	}
	return all.join(' ')
})(%s, %d)`

// TestPasskeys creates a passkey with Chromium's own authenticator, signs in and confirms with it, and
// tries what an attacker would.
func TestPasskeys(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx, run := t.Context(), f.commands()
	url := strings.Replace(f.url, "127.0.0.1", "localhost", 1) // a passkey is of a name
	b := open(t, url)
	b.do(chromedp.EmulateViewport(1280, 800))
	ask(b, webauthn.Enable, webauthn.EnableParams{})
	key := ask(b, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
		Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
			HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
			AutomaticPresenceSimulation: true,
		},
	}).AuthenticatorID
	b.signIn()
	b.goTo("/me", "Your sign-in")
	b.fill("Name of the device or key", "Bridge laptop")
	b.press("Create a passkey")
	b.confirm(demo.OwnerPassword)
	b.see("passkeys need a public address")
	run(0, "", "organisation", "change", "--links", url)
	b.press("Create a passkey")
	b.see("Added. Your other sessions were ended.")
	b.see("Bridge laptop")
	b.accessible("passkeys")
	b.fits()
	b.shot("passkeys")

	// The password alone is not enough any more, neither for a program nor to confirm.
	tries := 0
	alone := func() string {
		tries++
		_, _, err := f.svc.SignIn(ctx, service.Entry{
			Name: demo.OwnerName, Password: secret.New(demo.OwnerPassword),
			From: fmt.Sprint("192.0.2.", tries),
		})
		return fmt.Sprint(err)
	}
	if said := alone(); !strings.Contains(said, "signs in with a passkey") {
		t.Errorf("by the password alone: %s", said)
	}
	b.press("Sign out")
	b.titled("Sign in to Wardicon")
	b.see("Sign in with a passkey")
	b.fill("Name", demo.OwnerName)
	b.fill("Password", demo.OwnerPassword)
	b.press("Sign in")
	b.see("Your password alone is not enough: sign in with your passkey.")
	b.accessible("sign-in with a passkey")
	b.shot("passkey-sign-in")
	b.press("Sign in with a passkey")
	b.until(`document.querySelector('nav[aria-label=Main]')`)

	bits := func(p webauthn.SetResponseOverrideBitsParams) {
		p.AuthenticatorID = key
		ask(b, webauthn.SetResponseOverrideBits, p)
	}
	yes := true
	credential := ask(b, webauthn.GetCredentials, webauthn.GetCredentialsParams{AuthenticatorID: key}).
		Credentials[0]
	count := func(to float64) {
		ask(b, webauthn.SetCredentialProperties, webauthn.SetCredentialPropertiesParams{
			AuthenticatorID: key, CredentialID: credential.CredentialID, SignCount: &to,
		})
	}
	db, err := sql.Open("sqlite", filepath.Join(f.dir, store.File)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	exec := func(statement string) {
		t.Helper()
		if _, err := db.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	const plain = "() => {}"
	for _, test := range []struct {
		name, bend string
		before     func()
		times      int
		want       string
	}{
		{"as it is, and again", plain, func() {}, 2, "200 401"},
		{"a challenge of somebody else's", "(o) => o.challenge = 'AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA'",
			func() {}, 1, "401"},
		{"nobody was verified", "(o) => o.userVerification = 'discouraged'",
			func() { bits(webauthn.SetResponseOverrideBitsParams{IsBadUV: &yes}) }, 1, "401"},
		{"nobody was there", plain,
			func() { bits(webauthn.SetResponseOverrideBitsParams{IsBadUP: &yes}) }, 1, "401"},
		{"another signature", plain,
			func() { bits(webauthn.SetResponseOverrideBitsParams{IsBogusSignature: &yes}) }, 1, "401"},
		{"a copy with an older counter", plain, func() {
			bits(webauthn.SetResponseOverrideBitsParams{})
			count(1)
		}, 1, "401"},
		{"the right counter", plain, func() { count(100) }, 1, "200"},
		{"a key that was put into the database", plain,
			func() { exec(`UPDATE passkeys SET body = replace(body, '"userPresent"', '"x"')`) }, 1, "401"},
	} {
		test.before()
		if got := eval[string](b, fmt.Sprintf(signedBy, test.bend, test.times)); got != test.want {
			t.Errorf("%s: %s, expected %s", test.name, got, test.want)
		}
	}
	exec(`UPDATE passkeys SET body = replace(body, '"x"', '"userPresent"')`)
	if page, err := f.svc.Audit(ctx, store.Query{Search: "passkey, from", Limit: 20}); err != nil ||
		page.Total != 9 { // seven, and the password alone by API and console
		t.Errorf("%d refusals in the audit log (%v)", page.Total, err)
	}

	// What is sensitive is confirmed with it; the last one removed, the password is enough again.
	b.goTo("/me", "Your sign-in")
	b.press("Remove")
	b.see("A session alone is not enough for this.")
	b.accessible("confirming with a passkey")
	b.shot("passkey-confirm")
	b.press("Use a passkey")
	b.until(`!document.querySelector('dialog.confirm')`)
	b.see("Removed.")
	if said := alone(); said != "<nil>" {
		t.Errorf("without a passkey, by the password: %s", said)
	}

	// Whoever takes one out of the database takes no second factor away; an owner does.
	b.fill("Name of the device or key", "Bridge laptop")
	ask(b, webauthn.ClearCredentials, webauthn.ClearCredentialsParams{AuthenticatorID: key})
	b.press("Create a passkey")
	b.see("Added. Your other sessions were ended.")
	exec(`DELETE FROM passkeys`)
	if said := alone(); !strings.Contains(said, "signs in with a passkey") {
		t.Errorf("taken out of the database: %s", said)
	}
	if _, err := f.svc.RecoverOperator(ctx, demo.OwnerName); err != nil {
		t.Fatal(err)
	}
	if said := alone(); strings.Contains(said, "passkey") {
		t.Errorf("after a reset: %s", said)
	}
}
