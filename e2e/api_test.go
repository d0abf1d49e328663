package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/simulate"
	"wardicon/store"
)

// send makes a bare request; header holds pairs.
func (f *fleet) send(method, path, body string, header ...string) (*http.Response, api.Problem) {
	f.t.Helper()
	req, err := http.NewRequestWithContext(
		f.t.Context(),
		method,
		f.url+path,
		strings.NewReader(body),
	)
	if err != nil {
		f.t.Fatal(err)
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	data, err := io.ReadAll(res.Body)
	if err != nil {
		f.t.Fatal(err)
	}
	_ = res.Body.Close()
	var p api.Problem
	if res.StatusCode >= 400 && strings.HasPrefix(path, "/api/") {
		if got := res.Header.Get("Content-Type"); got != "application/problem+json" {
			f.t.Errorf("%s %s: %d as %s: %s", method, path, res.StatusCode, got, data)
		}
		if err := json.Unmarshal(
			data,
			&p,
		); err != nil || p.Status != res.StatusCode || p.Detail == "" ||
			!strings.HasPrefix(p.Type, "urn:wardicon:problem:") ||
			p.Instance != "urn:wardicon:request:"+res.Header.Get("X-Request-Id") {
			f.t.Errorf("%s %s: not a whole problem: %s", method, path, data)
		}
	}
	return res, p
}

func (f *fleet) token() string {
	f.t.Helper()
	c := client.New(f.url, "")
	s, err := c.SignIn(f.t.Context(), demo.OwnerName, secret.New(demo.OwnerPassword))
	if err != nil {
		f.t.Fatal(err)
	}
	return "Bearer " + s.Token
}

// TestBadInput sends wrong values of every kind: each gives one problem at its field,
// nothing is stored, and no secret comes back.
// TestMethods holds that a path tells its methods, a body has a type that is read, a new record says
// where it is, and files of many megabytes get through.
func TestMethods(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	auth := f.token()
	for _, test := range []struct {
		method, path, media, body string
		status                    int
		header, want              string
	}{
		{"DELETE", "/people", "", "", 405, "Allow", "GET, POST"},
		{"PUT", "/people/pe-x", "application/json", "{}", 405, "Allow", "GET, PATCH, DELETE"},
		{"DELETE", "/nowhere", "", "", 404, "Allow", ""},
		{"POST", "/people", "text/plain", "name", 415, "Accept",
			"application/json, application/merge-patch+json, multipart/form-data"},
		{"POST", "/people", "application/xml", "<name/>", 415, "Accept",
			"application/json, application/merge-patch+json, multipart/form-data"},
		{"POST", "/people", "application/json", `{"name":"Zoe"}`, 201, "Location", "/api/v1/people/pe-"},
	} {
		res, p := f.send(test.method, "/api/v1"+test.path, test.body, "Authorization", auth,
			"Content-Type", test.media)
		if got := res.Header.Get(test.header); res.StatusCode != test.status ||
			!strings.HasPrefix(got, test.want) || test.want == "" && got != "" {
			t.Errorf("%s %s: %d %s: %q, expected %d and %q (%s)", test.method, test.path,
				res.StatusCode, test.header, got, test.status, test.want, p.Detail)
		}
	}
	table := "Name,Remark\n"
	for i := range 600 {
		table += fmt.Sprintf("Somebody %03d,%s\n", i, strings.Repeat("long ", 2000))
	}
	made, err := f.client.ShowImport(t.Context(), "people.csv", []byte(table), "people", nil, "")
	if err != nil || made.Rows[api.RowAdd] != 600 {
		t.Errorf("%d MB: %v %v", len(table)>>20, made.Rows, err)
	}
}

func TestBadInput(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	auth := f.token()
	before, err := f.client.Overview(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	gateways, err := f.client.Gateways.List(t.Context(), client.Query{})
	if err != nil {
		t.Fatal(err)
	}
	one := gateways.Items[0]
	const key = "hidden-breaker-77"
	offer := `"offers":{"l2tp":{"psk":"` + key + `","ppp":["mschapv2"]}}`
	for _, test := range []struct {
		name, method, path, body string
		status                   int
		pointer                  string
	}{
		{"missing fields", "POST", "/gateways", `{"address":"x.example"}`, 422, "/name"},
		{"unknown field", "POST", "/gateways", `{"name":"x","address":"x.example","adress":"y"}`,
			422, "/adress"},
		{"wrong type", "POST", "/gateways", `{"name":7,"address":"x.example"}`, 422, "/name"},
		{"wrong type inside", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"l2tp":{"psk":["` + key +
				`"],"ppp":["mschapv2"]}}}`, 422, "/offers/l2tp/psk"},
		{"secret in the place of the offer", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"l2tp":"` + key +
				`"}}`, 422, "/offers/l2tp"},
		{"list for text", "POST", "/gateways",
			`{"name":"x","address":"x.example","routes":"10.0.0.0/8"}`, 422, "/routes"},
		{"number out of range", "POST", "/gateways",
			`{"name":"x","address":"x.example","place":{"latitude":1e9,"longitude":0}}`, 422,
			"/place/latitude"},
		{"not valid in itself", "POST", "/gateways", `{"name":"x","address":"http://x.example",` +
			offer + `}`, 422, "/address"},
		{"secret with a control character", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"l2tp":{"psk":"` + key +
				`\u0000","ppp":["mschapv2"]}}}`, 422, "/offers/l2tp/psk"},
		{"name taken", "POST", "/gateways", `{"name":"NORRVIK","address":"x.example"}`, 422,
			"/name"},
		{"name taken on change", "PATCH", "/gateways/" + one.ID, `{"name":"tallholm"}`, 422,
			"/name"},
		{"name removed", "PATCH", "/gateways/" + one.ID, `{"name":null}`, 422, "/name"},
		{"list in place of object", "PATCH", "/gateways/" + one.ID, `{"offers":[]}`, 422,
			"/offers"},
		{"not an object", "PATCH", "/gateways/" + one.ID, `["` + key + `"]`, 400, ""},
		{"not JSON", "POST", "/people", `{"name":`, 400, ""},
		{"nothing", "POST", "/people", ``, 400, ""},
		{"person that is not there", "POST", "/accounts", `{"person_id":"pe-x","login":"a"}`, 422,
			"/person_id"},
		{"gateway that is not there", "PATCH", "/accounts/ACCOUNT", `{"gateway_ids":["gw-x"]}`, 422,
			"/gateway_ids/0"},
		{"device that is not there", "POST", "/profiles", `{"device_id":"de-x","gateway_id":"` +
			one.ID + `"}`, 422, "/device_id"},
		{"profile that is there", "POST", "/profiles",
			`{"device_id":"DEVICE","gateway_id":"NORRVIK"}`, 422, "/device_id"},
		{"account of somebody else", "PATCH", "/profiles/PROFILE",
			`{"preferences":{"account_id":"ACCOUNT"}}`, 422, "/preferences/account_id"},
		{"pattern without a name", "POST", "/patterns", `{"protocols":["ikev2"]}`, 422, "/name"},
		{"pattern with a protocol that is not there", "POST", "/patterns",
			`{"name":"x","protocols":["ikev3"]}`, 422, "/protocols/0"},
		{"pattern with a protocol twice", "POST", "/patterns",
			`{"name":"x","protocols":["tls","tls"]}`, 422, "/protocols/1"},
		{"pattern with a gateway that is not there", "POST", "/patterns",
			`{"name":"x","gateway_ids":["gw-x"]}`, 422, "/gateway_ids/0"},
		{"pattern with a name that cannot be filled", "POST", "/patterns",
			`{"name":"x","naming":"{colour}"}`, 422, "/naming"},
		{"pattern with a probe that is no address", "POST", "/patterns",
			`{"name":"x","demand":{"probe":"javascript:alert(1)"}}`, 422, "/demand/probe"},
		{"pattern with a proxy that is none", "POST", "/patterns",
			`{"name":"x","proxy":{"server":"proxy"}}`, 422, "/proxy/server"},
		{"pattern with a route that is none", "POST", "/patterns",
			`{"name":"x","routes":["10.0.0.0"]}`, 422, "/routes/0"},
		{"prospects of nothing", "POST", "/prospects", ``, 400, ""},
		{"prospects of a pattern that is not valid", "POST", "/prospects",
			`{"gateways":"farthest"}`, 422, "/gateways"},
		{"prospects of a pattern that is not there", "POST", "/prospects?pattern=pa-x", `{}`, 404,
			""},
		{"too many prospects", "POST", "/prospects?limit=1000", `{}`, 422, "/limit"},
		{"roll-out of a pattern that is not there", "POST", "/patterns/pa-x/roll-out", ``, 404, ""},
		{"job that is not there", "GET", "/jobs/jo-x", ``, 404, ""},
		{"cancelling a job that is not there", "POST", "/jobs/jo-x/cancel", ``, 404, ""},
		{"severity of a rule that is not there", "PUT", "/rules/no-rule/severity",
			`{"severity":"off"}`, 404, ""},
		{"severity that is none", "PUT", "/rules/edge-space/severity", `{"severity":"loud"}`, 422,
			"/severity"},
		{"fixing a rule that is not there", "POST", "/rules/no-rule/fix", ``, 404, ""},
		{"override without a reason", "PUT", "/profiles/PROFILE/overrides/edge-space",
			`{"until":"TOMORROW"}`, 422, "/reason"},
		{"override of nothing", "PUT", "/profiles/PROFILE/overrides/psk-short",
			`{"reason":"x","until":"TOMORROW"}`, 422, "/rule"},
		{"override without an end", "PUT", "/profiles/PROFILE/overrides/edge-space",
			`{"reason":"x"}`, 422, "/until"},
		{"taking back what was not passed", "DELETE", "/profiles/PROFILE/overrides/edge-space", ``,
			404, ""},
		{"findings counted by colour", "GET", "/finding-sums?by=colour", ``, 422, "/by"},
		{"findings of a severity that is none", "GET", "/findings?filter=severity:loud", ``, 200,
			""},
		{"check of nothing", "POST", "/file-checks", ``, 422, ""},
		{"offer without a way", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"ikev2":{"auth":["hope"]}}}`, 422,
			"/offers/ikev2/auth/0"},
		{"offer with a proposal that is none", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"ikev2":{"auth":["certificate"],"ike":["aes256-rot13"]}}}`, 422, "/offers/ikev2/ike/0"},
		{"offer with a port that is none", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"sstp":{"port":70000,"ppp":["mschapv2"]}}}`, 422, "/offers/sstp/port"},
		{"offer with a control key that is none", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"tls":{"remotes":[{"port":1194,"transport":"udp"}],"auth":["password"],"control_key":{"kind":"crypt","key":"` + key + `"}}}}`, 422, "/offers/tls/control_key/key"},
		{"authority that is none", "POST", "/gateways",
			`{"name":"x","address":"x.example","offers":{"sstp":{"port":443,"ppp":["mschapv2"],"authority":"` + key + `"}}}`, 422, "/offers/sstp/authority"},
		{"record that is not there", "GET", "/devices/de-x", ``, 404, ""},
		{"filter that is not there", "GET", "/devices?filter=colour:red", ``, 400, ""},
		{"order that is not there", "GET", "/devices?sort=colour", ``, 400, ""},
		{"answer time from north of the pole", "POST", "/gateways/" + one.ID + "/answer-times",
			`{"place":{"latitude":95,"longitude":10},"milliseconds":20}`, 422, "/place/latitude"},
		{"answer time from nowhere", "POST", "/gateways/" + one.ID + "/answer-times",
			`{"place":{},"milliseconds":5}`, 422, "/place/latitude"},
		{"too few bits", "POST", "/secrets", `{"bits":10}`, 422, "/bits"},
		{"too many rows", "GET", "/devices?limit=100000", ``, 422, "/limit"},
		{"still in use", "DELETE", "/gateways/" + one.ID, ``, 409, ""},
		{"no such place", "GET", "/nowhere", ``, 404, ""},
		{"too large", "POST", "/people", `{"name":"` + strings.Repeat("x", 2<<20) + `"}`, 413, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			f.t = t
			accounts, err := f.client.Accounts.List(t.Context(), client.Query{Search: "i_moreau"})
			if err != nil {
				t.Fatal(err)
			}
			profiles, err := f.client.Profiles.List(
				t.Context(),
				client.Query{Search: "Planner Mac 2"},
			)
			if err != nil {
				t.Fatal(err)
			}
			p := profiles.Items[0]
			fill := strings.NewReplacer(
				"ACCOUNT",
				accounts.Items[0].ID,
				"PROFILE",
				p.ID,
				"DEVICE",
				p.DeviceID,
				`"NORRVIK"}`,
				`"`+p.GatewayID+`"}`,
				"TOMORROW",
				time.Now().AddDate(0, 0, 1).Format(time.RFC3339),
			)
			media := "application/json"
			if test.method == "PATCH" {
				media = "application/merge-patch+json"
			}
			res, problem := f.send(
				test.method,
				"/api/v1"+fill.Replace(test.path),
				fill.Replace(test.body),
				"Authorization",
				auth,
				"Content-Type",
				media,
				"If-Match",
				"*",
			)
			if res.StatusCode != test.status {
				t.Fatalf(
					"%d %s %v, expected %d",
					res.StatusCode,
					problem.Detail,
					problem.Errors,
					test.status,
				)
			}
			if test.pointer != "" {
				if len(problem.Errors) != 1 || problem.Errors[0].Pointer != test.pointer ||
					problem.Errors[0].Found == "" ||
					problem.Errors[0].Expected == "" {
					t.Errorf("%+v, expected one whole error at %s", problem.Errors, test.pointer)
				}
			}
			if text := fmt.Sprint(problem); strings.Contains(text, key) {
				t.Errorf("a secret came back: %s", text)
			}
		})
	}
	f.t = t
	after, err := f.client.Overview(t.Context())
	if err != nil || after.Counts != before.Counts {
		t.Errorf("something was stored: %+v, before %+v (%v)", after.Counts, before.Counts, err)
	}
	if same, err := f.client.Gateways.Show(
		t.Context(),
		one.ID,
	); err != nil ||
		same.Version != one.Version {
		t.Errorf(
			"the gateway was changed: version %d, before %d (%v)",
			same.Version,
			one.Version,
			err,
		)
	}
}

// TestDoors tries to get in without a right to: by no session, a false one, another
// site's page, and too many guesses.
func TestDoors(t *testing.T) {
	f := start(t, true)
	var api struct {
		OpenAPI string                                `json:"openapi"`
		Paths   map[string]map[string]json.RawMessage `json:"paths"`
	}
	res, err := http.Get(f.url + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.NewDecoder(res.Body).Decode(&api); err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
	open := []string{
		"get /api/v1/caller",
		"get /api/v1/start",
		"post /api/v1/start",
		"post /api/v1/session",
		"post /api/v1/session/entry",
		"post /api/v1/session/passkey",
	}
	closed := 0
	for path, methods := range api.Paths {
		for method := range methods {
			if slices.Contains(open, method+" "+path) {
				continue
			}
			closed++
			for _, header := range []string{"", "Bearer wi_false"} {
				if res, _ := f.send(
					strings.ToUpper(method),
					strings.NewReplacer("{id}", "x", "{name}", "y").Replace(path),
					"{}",
					"Authorization",
					header,
					"Content-Type",
					"application/json",
				); res.StatusCode != 401 {
					t.Errorf(
						"%s %s with %q: %d, expected 401",
						method,
						path,
						header,
						res.StatusCode,
					)
				}
			}
		}
	}
	if !strings.HasPrefix(api.OpenAPI, "3.1") || closed < 30 {
		t.Errorf("OpenAPI %s with %d closed operations", api.OpenAPI, closed)
	}

	signIn := `{"name":"` + demo.OwnerName + `","password":"` + demo.OwnerPassword +
		`","kind":"cookie"}`
	res, _ = f.send("POST", "/api/v1/session", signIn, "Content-Type", "application/json")
	cookie := res.Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode {
		t.Errorf("the cookie is %v", cookie)
	}
	own := cookie.Name + "=" + cookie.Value
	for _, test := range []struct {
		name, header, value string
		status              int
	}{
		{"own page", "Sec-Fetch-Site", "same-origin", 201},
		{"other site", "Sec-Fetch-Site", "cross-site", 403},
		{"other origin", "Origin", "https://elsewhere.example", 403},
	} {
		res, _ := f.send(
			"POST",
			"/api/v1/people",
			`{"name":"x"}`,
			"Cookie",
			own,
			"Content-Type",
			"application/json",
			test.header,
			test.value,
		)
		if res.StatusCode != test.status {
			t.Errorf("%s: %d, expected %d", test.name, res.StatusCode, test.status)
		}
	}
	if res, _ := f.send("DELETE", "/api/v1/session", "", "Cookie", own); res.StatusCode != 204 {
		t.Errorf("sign-out: %d", res.StatusCode)
	}
	if res, _ := f.send("GET", "/api/v1/overview", "", "Cookie", own); res.StatusCode != 401 {
		t.Errorf("after sign-out: %d, expected 401", res.StatusCode)
	}
	if res, _ := f.send(
		"POST",
		"/api/v1/start",
		`{"code":"","name":"x","password":"y"}`,
		"Content-Type",
		"application/json",
	); res.StatusCode != 409 {
		t.Errorf("a second owner: %d, expected 409", res.StatusCode)
	}
	guesses := map[int]int{}
	for range 15 {
		res, _ := f.send(
			"POST",
			"/api/v1/session",
			`{"name":"`+demo.OwnerName+`","password":"wrong","kind":"token"}`,
			"Content-Type",
			"application/json",
		)
		guesses[res.StatusCode]++
	}
	if guesses[401] > 10 || guesses[429] < 5 || guesses[401]+guesses[429] != 15 {
		t.Errorf("answers to 15 guesses: %v", guesses)
	}
	if res, _ := f.send(
		"POST",
		"/h/x",
		"passcode=abcde",
		"Origin",
		"null",
		"Content-Type",
		"application/x-www-form-urlencoded",
	); res.StatusCode != 410 {
		t.Errorf("a passcode from an old phone's browser: %d", res.StatusCode)
	}
	for _, path := range []string{"/", "/api/v1/start", "/h/x", "/whereami"} {
		res, _ := f.send("GET", path, "", "Origin", "https://elsewhere.example")
		for name, want := range map[string]string{
			"X-Content-Type-Options":       "nosniff",
			"Referrer-Policy":              "no-referrer",
			"Cross-Origin-Resource-Policy": "same-origin",
			"Access-Control-Allow-Origin":  "",
		} {
			if got := res.Header.Get(name); got != want {
				t.Errorf("%s: %s is %q", path, name, got)
			}
		}
		if path != "/" && res.Header.Get("Cache-Control") != "no-store" ||
			!strings.Contains(res.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'") {
			t.Errorf("%s: %v", path, res.Header)
		}
	}
	for path, want := range map[string]string{
		"/":             "text/html",
		"/health":       "text/plain",
		"/ready":        "text/plain",
		"/devices/de-x": "text/html",
	} {
		res, err := http.Get(f.url + path)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		if res.StatusCode != 200 || !strings.HasPrefix(res.Header.Get("Content-Type"), want) {
			t.Errorf("%s: %d %s", path, res.StatusCode, res.Header.Get("Content-Type"))
		}
		if policy := res.Header.Get(
			"Content-Security-Policy",
		); !strings.Contains(policy, "default-src 'self'") ||
			strings.Contains(policy, "script-src") {
			t.Errorf("%s: policy %q", path, policy)
		}
	}
}

// TestSecretsInPatches keeps, replaces and removes a secret by merge patches, and holds
// that a change to an old version is refused.
func TestSecretsInPatches(t *testing.T) {
	f := start(t, true)
	ctx := t.Context()
	page, err := f.client.Gateways.List(
		ctx,
		client.Query{Filter: map[string]string{"name": "norrvik"}},
	)
	if err != nil || page.Total != 1 {
		t.Fatal(page.Total, err)
	}
	id := page.Items[0].ID
	stored := func() string {
		t.Helper()
		files, err := f.client.Preview(ctx, f.profile("Purser desk", "Norrvik"), true, true)
		if err != nil {
			t.Fatal(err)
		}
		_, rest, _ := strings.Cut(
			files.Items[1].Text,
			"Gemeinsamer Schlüssel (PSK) |",
		) // its person reads German
		key, _, _ := strings.Cut(rest, "|")
		return key
	}
	for _, test := range []struct {
		patch client.Patch
		set   bool
		want  string
	}{
		{client.Patch{"note": "x"}, true, "halyard-58-Cormorant-shingle-27-thrift"},
		{client.Patch{"offers": client.Patch{"l2tp": client.Patch{"ike": []string{"aes256-sha1-modp2048"}}}}, true, "halyard-58-Cormorant-shingle-27-thrift"},
		{client.Patch{"offers": client.Patch{"l2tp": client.Patch{"psk": "capstan-64-Velvet"}}},
			true, "capstan-64-Velvet"},
		{client.Patch{"offers": client.Patch{"l2tp": client.Patch{"psk": nil}}}, false, ""},
	} {
		g, err := f.client.Gateways.Change(ctx, id, 0, test.patch)
		if err != nil {
			t.Fatal(err)
		}
		if g.Offers.L2TP.PSK != nil || g.Offers.L2TP.PSKSet != test.set {
			t.Errorf("%v: answered %+v", test.patch, g.Offers.L2TP)
		}
		if got := stored(); got != test.want {
			t.Errorf("%v: stored is %q, expected %q", test.patch, got, test.want)
		}
	}
	_, err = f.client.Gateways.Change(ctx, id, 1, client.Patch{"note": "y"})
	if p, ok := err.(*api.Problem); !ok || p.Status != http.StatusPreconditionFailed ||
		!strings.Contains(p.Detail, "expected 1") {
		t.Errorf("a change to version 1: %v", err)
	}
}

// TestParcels builds every profile of the sample data. What has an error is refused
// with it; what is built installs on a simulator of the device, twice.
func TestParcels(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	page, err := f.client.Profiles.List(ctx, client.Query{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	built, refused, installed := 0, 0, 0
	for _, p := range page.Items {
		planned, err := f.client.Plan(ctx, p.ID)
		if err != nil {
			t.Fatal(err)
		}
		if planned.Tally != p.Tally {
			t.Errorf("%s: the list says %v, the plan %v", planned.Title, p.Tally, planned.Tally)
		}
		parcel, err := f.client.Build(ctx, p.ID, false)
		if planned.Tally.Errors > 0 {
			problem, ok := err.(*api.Problem)
			if !ok || problem.Status != http.StatusConflict ||
				len(problem.Findings) != planned.Tally.Errors {
				t.Errorf(
					"%s: %v, expected a refusal with %d findings",
					planned.Title,
					err,
					planned.Tally.Errors,
				)
			}
			refused++
			continue
		}
		if err != nil {
			t.Fatalf("%s: %v", planned.Title, err)
		}
		built++
		if planned.Format == platform.ByHand {
			continue
		}
		device := simulate.NewDevice(p.Platform, p.Release)
		for i := range parcel.Files {
			if parcel.Files[i].Content, err = f.client.Fetch(
				ctx,
				parcel.ID,
				parcel.Files[i].Name,
			); err != nil {
				t.Fatal(err)
			}
		}
		codec, _ := all.ByName(planned.Format)
		want := codec.Carried(planned.Connection)
		for range 2 {
			c, err := device.Install(
				parcel.Files[0].Name,
				parcel.Files[0].Content,
				format.Files(parcel.Files),
			)
			if err != nil || c.Server != want.Server || c.Login != want.Login && want.Login != "" ||
				c.Name != want.Name ||
				c.Protocol != want.Protocol {
				t.Errorf(
					"%s: installed %s %s %s, %v",
					planned.Title,
					c.Server,
					c.Login,
					c.Protocol,
					err,
				)
			}
		}
		if len(device.Installed) != 1 {
			t.Errorf(
				"%s: %d connections after installing twice",
				planned.Title,
				len(device.Installed),
			)
		}
		installed++
	}
	if built < 10 || refused < 6 || installed < 8 {
		t.Errorf(
			"%d built, %d refused, %d installed: the sample data no longer tries all",
			built,
			refused,
			installed,
		)
	}

	// A change makes the parcel outdated; taking it back makes it current again.
	id := f.profile("Engine laptop 1", "Norrvik")
	for _, test := range []struct {
		preferences client.Patch
		outdated    bool
	}{{client.Patch{"tunnel": "full"}, true}, {client.Patch{"tunnel": nil}, false}} {
		if _, err := f.client.Profiles.Change(
			ctx,
			id,
			0,
			client.Patch{"preferences": test.preferences},
		); err != nil {
			t.Fatal(err)
		}
		list, err := f.client.Parcels(ctx, id)
		if err != nil || len(list.Items) != 1 || list.Items[0].Outdated != test.outdated {
			t.Errorf("%v: %+v (%v)", test.preferences, list.Items, err)
		}
	}
}

// TestRecheck changes a gateway and waits until the profiles of its devices are checked
// again in the background.
func TestRecheck(t *testing.T) {
	f := start(t, true)
	ctx := t.Context()
	id := f.profile("Bridge tablet 2", "Norrvik")
	before, err := f.client.Profiles.Show(ctx, id)
	if err != nil || before.Tally.Errors != 0 {
		t.Fatal(before.Tally, err)
	}
	if _, err := f.client.Gateways.Change(
		ctx,
		before.GatewayID,
		0,
		client.Patch{
			"offers": client.Patch{
				"l2tp": client.Patch{"ike": []string{"chacha20poly1305-curve448"}},
			},
		},
	); err != nil {
		t.Fatal(err)
	}
	for {
		now, err := f.client.Profiles.Show(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if now.Checked {
			if now.Tally.Errors != 1 {
				t.Errorf("after the change: %+v", now.Tally)
			}
			return
		}
	}
}

// TestTogether lets many clients change and read at once.
func TestTogether(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	id := f.profile("Engine laptop 1", "Norrvik")
	const hands = 8
	rounds := 5
	if testing.Short() {
		rounds = 1 // the race detector needs no more
	}
	var wg sync.WaitGroup
	for i := range hands {
		wg.Go(func() {
			for n := range rounds {
				if _, err := f.client.People.Add(
					t.Context(),
					vpn.Person{Name: fmt.Sprintf("Person %d %d", i, n), Groups: []string{}},
				); err != nil {
					t.Error(err)
				}
				if _, err := f.client.Plan(t.Context(), id); err != nil {
					t.Error(err)
				}
				if _, err := f.client.Build(t.Context(), id, false); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if o, err := f.client.Overview(
		t.Context(),
	); err != nil || o.Counts.People != 15+hands*rounds ||
		o.Counts.Parcels != hands*rounds {
		t.Errorf("%+v (%v)", o.Counts, err)
	}
}

// TestSecretsAtRest does all that touches secrets, and looks for every one of them in
// database, WAL, backup and log.
func TestSecretsAtRest(t *testing.T) {
	f := start(t, true)
	ctx := t.Context()
	id := f.profile("Engine laptop 1", "Norrvik")
	if _, err := f.client.Preview(ctx, id, false, true); err != nil {
		t.Fatal(err)
	}
	parcel, err := f.client.Build(ctx, id, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.client.Fetch(ctx, parcel.ID, parcel.Files[0].Name); err != nil {
		t.Fatal(err)
	}
	if _, err := f.client.People.Add(
		ctx,
		client.Patch{"name": "x", "password": demo.Secrets()[1]},
	); err == nil {
		t.Error("an unknown field was accepted")
	}
	backup := filepath.Join(t.TempDir(), "backup.db")
	if err := store.Backup(ctx, f.dir, backup); err != nil {
		t.Fatal(err)
	}
	looked := map[string][]byte{"log": []byte(f.log.String())}
	for _, root := range []string{f.dir, filepath.Dir(backup)} {
		if err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			looked[filepath.Base(path)], err = os.ReadFile(path)
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"log", "wardicon.db", "wardicon.db-wal", "backup.db"} {
		if len(looked[name]) < 1000 {
			t.Errorf("%s has %d bytes: nothing was looked at", name, len(looked[name]))
		}
	}
	if !bytes.Contains(looked["backup.db"], []byte("norrvik.skerryline.example")) {
		t.Error("the backup does not hold the records")
	}
	for name, data := range looked {
		for i, s := range demo.Secrets() {
			if bytes.Contains(data, []byte(s)) {
				t.Errorf("secret %d of the sample data stands in %s", i, name)
			}
		}
	}
	if len(demo.Secrets()) < 12 {
		t.Error("too few secrets to look for")
	}
}

// TestSecurityDocument holds that each test that docs/security.md names exists.
func TestSecurityDocument(t *testing.T) {
	text, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	err = filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && d.Name() == "node_modules" {
			return fs.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		for _, found := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllStringSubmatch(string(source), -1) {
			there[found[1]] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	points := 0
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(line, "|")
		if len(cells) != 5 || !regexp.MustCompile(`^ \d`).MatchString(cells[1]) {
			continue
		}
		points++
		tests := regexp.MustCompile(`Test\w+`).FindAllString(cells[3], -1)
		if len(tests) == 0 {
			t.Errorf("no test for %s", cells[1])
		}
		for _, name := range tests {
			if !there[name] {
				t.Errorf("%s: there is no %s", cells[1], name)
			}
		}
	}
	if points < 50 {
		t.Errorf("%d lines of points", points)
	}
}
