package e2e

import (
	"database/sql"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/store"
)

// TestConfined signs in as an issuer who is confined to a group of people and to a gateway, and calls every
// operation of the API about what is outside: nothing but reading and one's own affairs is allowed there.
// Inside they do their work. Whoever widens the confinement in the database alone locks them out.
func TestConfined(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	f.client.Prove = func(bool) (secret.Text, error) { return secret.New(demo.OwnerPassword), nil }
	person := func(name string, groups ...string) api.Person {
		t.Helper()
		list, err := f.client.People.List(ctx, query(name))
		if err != nil || len(list.Items) != 1 {
			t.Fatal(name, len(list.Items), err)
		}
		p, err := f.client.People.Change(ctx, list.Items[0].ID, 0, client.Patch{"groups": groups})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	device := func(name string) api.Device {
		t.Helper()
		list, err := f.client.Devices.List(ctx, query(name))
		if err != nil || len(list.Items) != 1 {
			t.Fatal(name, len(list.Items), err)
		}
		return list.Items[0]
	}
	// Ines Moreau is inside with her devices, at Norrvik; Leif Sund and Tallholm are outside.
	ines, leif := person("Ines Moreau", "Engine"), person("Leif Sund", "purser")
	norrvik, tallholm := f.gateway("Norrvik"), f.gateway("Tallholm")
	hers, his := device("Engine laptop 1"), device("Purser laptop 3")
	inside := f.profile("Engine laptop 1", "Norrvik")
	elsewhere := f.profile("Engine laptop 1", "Tallholm") // her device, another gateway
	outside := f.profile("Purser laptop 3", "Norrvik")    // another person, the gateway
	if _, err := f.client.Build(ctx, elsewhere, false); err != nil {
		t.Fatal(err)
	}
	foreign, err := f.client.Build(ctx, outside, false)
	if err != nil {
		t.Fatal(err)
	}
	handed, err := f.client.MakeHandover(ctx, outside, api.HandoverRequest{})
	if err != nil {
		t.Fatal(err)
	}
	run := f.commands()
	run(1, "auditors change nothing", "operator", "add", "looker", "--role", "auditor", "--group", "engine")
	run(4, "", "operator", "add", "looker", "--gateway", "nowhere")
	made, err := f.client.AddOperator(ctx, "stoker", "issuer",
		&api.Confinement{Groups: []string{"engine"}, Gateways: []string{norrvik}})
	if err != nil {
		t.Fatal(err)
	}
	run(0, "groups engine and gateways "+norrvik, "operator", "list")
	// What is not given stays; a gateway that is gone, or another role, keeps nobody from changing it.
	run(0, "mate", "operator", "add", "mate", "--group", "engine")
	gone, err := f.client.Gateways.Add(ctx, client.Patch{"name": "Gone", "address": "gone.skerryline.example",
		"offers": map[string]any{"sstp": map[string]any{"ppp": []string{"mschapv2"}}}})
	if err != nil {
		t.Fatal(err)
	}
	run(0, "confined to groups engine and gateways "+gone.ID, "operator", "change", "mate", "--gateway", "Gone")
	if err := f.client.Gateways.Remove(ctx, gone.ID); err != nil {
		t.Fatal(err)
	}
	run(0, "gateways "+gone.ID+", disabled", "operator", "change", "mate", "--disabled")
	run(0, "mate: auditor, must change", "operator", "change", "mate", "--role", "auditor", "--disabled=false")
	c := client.New(f.url, "")
	if _, err := c.SignIn(ctx, "stoker", secret.New(made.Password)); err != nil {
		t.Fatal(err)
	}
	c.Prove = func(bool) (secret.Text, error) { return secret.New(ownerPassword), nil }
	if err := c.ChangePassword(ctx, secret.New(made.Password), secret.New(ownerPassword)); err != nil {
		t.Fatal(err)
	}
	session, err := c.SignIn(ctx, "stoker", secret.New(ownerPassword))
	if err != nil {
		t.Fatal(err)
	}
	bearer := "Bearer " + session.Token
	call := func(method, path, body string) (int, string) {
		t.Helper()
		kind := "application/json"
		if method == http.MethodPatch {
			kind = "application/merge-patch+json"
		}
		code, answer, _ := f.raw(method, path, body, "Authorization", bearer, "Content-Type", kind,
			"If-Match", "*")
		return code, answer
	}

	// Every operation, about what is outside.
	_, paths := described(t)
	ids := map[string]string{
		"people": leif.ID, "devices": his.ID, "gateways": tallholm, "profiles": outside,
		"parcels": foreign.ID, "handovers": handed.Handover.ID,
	}
	bodies := map[string]string{ // of those that are refused for what their body says
		"add-person":        `{"name":"Olu","groups":["purser"]}`,
		"add-device":        `{"name":"X","person_id":"` + leif.ID + `","platform":"windows","release":"11"}`,
		"add-account":       `{"person_id":"` + leif.ID + `","login":"x"}`,
		"add-profile":       `{"device_id":"` + hers.ID + `","gateway_id":"` + f.gateway("Brattvik") + `"}`,
		"add-gateway":       `{"name":"X","address":"x.skerryline.example"}`,
		"issue-certificate": `{"device_id":"` + his.ID + `","authority_id":"au-none"}`,
		"make-handover":     `{"profile_id":"` + outside + `"}`,
	}
	refused := 0
	for path, methods := range paths {
		for method, op := range methods {
			free := method == "get" && !slices.Contains(issuersToo, op.ID) && !slices.Contains(ownersAlone, op.ID)
			if free || slices.Contains(auditorsToo, op.ID) || slices.Contains(openToAll, op.ID) ||
				strings.HasSuffix(op.ID, "-account") && method != "post" {
				continue
			}
			to := strings.TrimPrefix(path, "/api/v1")
			noun, _, _ := strings.Cut(strings.Trim(to, "/"), "/")
			id := ids[noun]
			if id == "" {
				id = "xx-none"
			}
			to = strings.NewReplacer("{id}", id, "{rule}", "edge-space", "{name}", "none", "{half}", "link",
				"{item}", "0", "{probe}", "pb-none", "{profile}", outside).Replace(to)
			body := bodies[op.ID]
			if body == "" {
				body = "{}"
			}
			refused++
			if code, answer := call(strings.ToUpper(method), to, body); code != http.StatusForbidden {
				t.Errorf("%s outside: %d %.300s", op.ID, code, answer)
			}
		}
	}
	if refused < 90 {
		t.Errorf("%d operations were tried, expected more", refused)
	}

	accounts, err := f.client.Accounts.List(ctx, client.Query{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	account := func(person string) string {
		i := slices.IndexFunc(accounts.Items, func(a api.Account) bool { return a.PersonID == person })
		return accounts.Items[i].ID
	}
	for _, test := range []struct {
		name, method, path, body string
		code                     int
	}{
		{"a person inside", "PATCH", "/people/" + ines.ID, `{"mail":"ines.moreau@skerryline.example"}`, 200},
		{"a person out of the group", "PATCH", "/people/" + ines.ID, `{"groups":["purser"]}`, 403},
		{"a person into another group, too", "PATCH", "/people/" + ines.ID, `{"groups":["ENGINE","mess"]}`, 200},
		{"a new person", "POST", "/people", `{"name":"Olu Adeyemi","groups":["engine"]}`, 201},
		{"a device inside", "PATCH", "/devices/" + hers.ID, `{"encrypted":true}`, 200},
		{"a device to somebody outside", "PATCH", "/devices/" + hers.ID, `{"person_id":"` + leif.ID + `"}`, 403},
		{"a device from outside", "PATCH", "/devices/" + his.ID, `{"person_id":"` + ines.ID + `"}`, 403},
		{"an account inside", "PATCH", "/accounts/" + account(ines.ID), `{"password":"dune-45-Tangerine-flint"}`, 200},
		{"an account outside", "PATCH", "/accounts/" + account(leif.ID), `{"password":"dune-45-Tangerine-flint"}`, 403},
		{"removing an account outside", "DELETE", "/accounts/" + account(leif.ID), "", 403},
		{"her profile at another gateway", "PATCH", "/profiles/" + elsewhere, `{"note":"x"}`, 403},
		{"moving her profile away", "PATCH", "/profiles/" + inside, `{"gateway_id":"` + tallholm + `"}`, 403},
		{"the gateway", "PATCH", "/gateways/" + norrvik, `{"note":"in the engine room"}`, 200},
		{"building", "POST", "/profiles/" + inside + "/parcels", `{}`, 201},
		{"building elsewhere", "POST", "/profiles/" + elsewhere + "/parcels", `{}`, 403},
		{"handing over", "POST", "/handovers", `{"profile_id":"` + inside + `"}`, 201},
		{"handing over elsewhere", "POST", "/handovers", `{"profile_id":"` + elsewhere + `"}`, 403},
		{"reading outside", "GET", "/people/" + leif.ID, "", 200},
		{"planning outside", "GET", "/profiles/" + outside + "/plan", "", 200},
		{"many at once", "POST", "/record-changes", fmt.Sprintf(`{"changes":[{"noun":"person","id":%q}]}`, ines.ID), 403},
	} {
		if code, answer := call(test.method, test.path, test.body); code != test.code {
			t.Errorf("%s: %d, expected %d: %.300s", test.name, code, test.code, answer)
		}
	}
	// A token of theirs is confined as they are.
	token, err := c.AddToken(ctx, "script", "issuer", 1)
	if err != nil {
		t.Fatal(err)
	}
	if code, answer, _ := f.raw("POST", "/profiles/"+outside+"/parcels", "{}", "Authorization", "Bearer "+token.Bearer,
		"Content-Type", "application/json"); code != http.StatusForbidden ||
		!strings.Contains(answer, "Leif Sund is in none of these groups") {
		t.Errorf("by token: %d %s", code, answer)
	}

	// By groups alone no gateway, by gateways alone no person; what both are about is as far as either is given.
	free := func(c *api.Confinement) {
		t.Helper()
		if _, err := f.client.ChangeOperator(ctx, made.Operator.ID, "issuer", false, c); err != nil {
			t.Fatal(err)
		}
		signed, err := client.New(f.url, "").SignIn(ctx, "stoker", secret.New(ownerPassword))
		if err != nil {
			t.Fatal(err)
		}
		bearer = "Bearer " + signed.Token
	}
	for _, test := range []struct {
		confined                                  api.Confinement
		gateway, person, outside, elsewhere, here int
	}{
		{api.Confinement{Groups: []string{"engine"}}, 403, 200, 403, 200, 200},
		{api.Confinement{Gateways: []string{norrvik}}, 200, 403, 200, 403, 200},
		{api.Confinement{Groups: []string{}, Gateways: []string{}}, 200, 200, 200, 200, 200},
	} {
		free(&test.confined)
		for path, want := range map[string]int{
			"/gateways/" + norrvik: test.gateway, "/people/" + ines.ID: test.person,
			"/profiles/" + outside: test.outside, "/profiles/" + elsewhere: test.elsewhere,
			"/profiles/" + inside: test.here,
		} {
			noun, _, _ := strings.Cut(path[1:], "/")
			body := map[string]string{"people": `{"mail":"ines@skerryline.example"}`, "gateways": `{"note":"y"}`,
				"profiles": `{"preferences":{"name":"VPN"}}`}[noun]
			if code, answer := call("PATCH", path, body); code != want {
				t.Errorf("%v, %s: %d, expected %d: %.200s", test.confined, path, code, want, answer)
			}
		}
	}
	if _, err := f.client.ChangeOperator(ctx, made.Operator.ID, "owner", false,
		&api.Confinement{Groups: []string{"engine"}}); err == nil {
		t.Errorf("an owner is confined: %v", err)
	}

	// Whoever has the database alone widens nothing.
	db, err := sql.Open("sqlite", filepath.Join(f.dir, store.File)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	for _, change := range []string{
		`UPDATE confinements SET people = '["engine","purser"]'`, `DELETE FROM confinements`,
		`UPDATE operators SET factor = factor & 3 WHERE name = 'stoker'`,
	} {
		free(&api.Confinement{Groups: []string{"engine"}})
		if _, err := db.Exec(change); err != nil {
			t.Fatal(err)
		}
		if code, answer := call("PATCH", "/people/"+leif.ID, `{"mail":"leif@skerryline.example"}`); code != http.StatusUnauthorized &&
			code != http.StatusForbidden {
			t.Errorf("%s: %d %s", change, code, answer)
		}
		if code, _ := call("GET", "/people/"+leif.ID, ""); code != http.StatusUnauthorized {
			t.Errorf("%s: they still read (%d)", change, code)
		}
	}
}
