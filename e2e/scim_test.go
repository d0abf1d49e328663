package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"wardicon/client"
)

// scimCall makes a request as a client of SCIM does.
func (f *fleet) scimCall(token, method, path, body string) (int, map[string]any) {
	f.t.Helper()
	req, err := http.NewRequestWithContext(f.t.Context(), method, f.url+"/scim/v2"+path,
		strings.NewReader(body))
	if err != nil {
		f.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/scim+json")
	if token != "" {
		req.Header.Set("Authorization", token)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	data, err := io.ReadAll(res.Body)
	if err != nil {
		f.t.Fatal(err)
	}
	if got := res.Header.Get("Content-Type"); len(data) > 0 && got != "application/scim+json" {
		f.t.Errorf("%s %s answers with %s", method, path, got)
	}
	var out map[string]any
	if len(data) > 0 {
		if err := json.Unmarshal(data, &out); err != nil {
			f.t.Errorf("%s %s answers with %s", method, path, data)
		}
	}
	return res.StatusCode, out
}

const scimUser = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],
	"userName":"%s","externalId":"%[1]s","name":{"formatted":"%s","familyName":"Holm"},
	"emails":[{"value":"%[1]s@skerryline.example","type":"work","primary":true},
		{"value":"%[1]s@home.example","type":"home"}],
	"addresses":[{"type":"work","streetAddress":"1 Quay","locality":"Norrvik","country":"NO"}],
	"title":"Purser","userType":"Employee","preferredLanguage":"sv","password":"t1meMa$heen"}`

func operations(list string) string {
	return `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[` + list + `]}`
}

// TestSCIM provisions people and groups with the requests of RFC 7643 and RFC 7644.
func TestSCIM(t *testing.T) {
	f := start(t, true)
	token := f.token()
	call := func(want int, method, path, body string) map[string]any {
		t.Helper()
		got, out := f.scimCall(token, method, path, body)
		if got != want {
			t.Fatalf("%s %s: %d, expected %d: %v", method, path, got, want, out)
		}
		return out
	}
	// RFC 7644 §4: what there is, and who may ask.
	if got, out := f.scimCall("", "GET", "/Users", ""); got != 401 || out["status"] != "401" {
		t.Errorf("without a token: %d %v", got, out)
	}
	for _, path := range []string{"/ServiceProviderConfig", "/ResourceTypes", "/Schemas"} {
		call(200, "GET", path, "")
	}

	// §3.3, §3.4.1, §3.12.
	made := call(201, "POST", "/Users", fmt.Sprintf(scimUser, "sigrid", "Sigrid Holm"))
	id := made["id"].(string)
	if made["password"] != nil || made["externalId"] != "sigrid" || made["active"] != true ||
		made["meta"].(map[string]any)["resourceType"] != "User" {
		t.Errorf("made is %v", made)
	}
	person, err := f.client.People.Show(t.Context(), id)
	if err != nil || person.Name != "Sigrid Holm" || person.Mail != "sigrid@skerryline.example" ||
		person.Language != "sv" || person.Place.City != "Norrvik" || person.Source != "scim" ||
		person.Accounts != 1 {
		t.Errorf("on record is %+v, %v", person, err)
	}
	if out := call(409, "POST", "/Users", fmt.Sprintf(scimUser, "SIGRID", "X")); out["scimType"] !=
		"uniqueness" {
		t.Errorf("a second one of the name: %v", out)
	}
	call(400, "POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"]}`)
	call(400, "POST", "/Users", `{"userName":`)
	call(404, "GET", "/Users/pe-nobody", "")
	ada, err := f.client.People.List(t.Context(), client.Query{Search: "Ada Fjell"})
	if err != nil {
		t.Fatal(err)
	}
	call(404, "GET", "/Users/"+ada.Items[0].ID, "") // not of SCIM
	if got := call(200, "GET", "/Users/"+id, ""); got["title"] != "Purser" {
		t.Errorf("what was sent is lost: %v", got)
	}
	other := call(201, "POST", "/Users", fmt.Sprintf(scimUser, "jorunn", "Jorunn O'Dal"))["id"].(string)

	// §3.4.2.2: the filters of the RFC.
	for filter, want := range map[string]int{
		`userName eq "sigrid"`:      1,
		`userName Eq "sigrid"`:      1,
		`name.formatted co "O'Dal"`: 1,
		`userName sw "J"`:           1,
		`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "j"`: 1,
		`title pr`:                            2,
		`title pr and userType eq "Employee"`: 2,
		`title pr or userType eq "Intern"`:    2,
		`userType ne "Employee" and not (emails.value co "skerryline")`:         0,
		`emails[type eq "work" and value co "@skerryline.example"]`:             2,
		`emails[type eq "work" and value co "sigrid"] and userName eq "jorunn"`: 0,
		`active eq true`:  2,
		`userName eq "x"`: 0,
	} {
		out := call(200, "GET", "/Users?filter="+strings.ReplaceAll(
			strings.ReplaceAll(filter, " ", "%20"), `"`, "%22"), "")
		if out["totalResults"] != float64(want) {
			t.Errorf("%s finds %v, expected %d", filter, out["totalResults"], want)
		}
	}
	call(400, "GET", "/Users?filter=userName%20xx%20%221%22", "")
	if out := call(200, "GET", "/Users?startIndex=2&count=1", ""); out["totalResults"] != 2. ||
		out["itemsPerPage"] != 1. || out["startIndex"] != 2. {
		t.Errorf("the second page is %v", out)
	}

	// §3.5.2: the operations of the RFC, each on what the one before has left.
	emails := func(out map[string]any) (list []string) {
		values, _ := out["emails"].([]any)
		for _, v := range values {
			list = append(list, v.(map[string]any)["value"].(string))
		}
		return list
	}
	for _, step := range []struct{ operation, want string }{
		{`{"op":"add","value":{"emails":[{"value":"sig@quay.example","type":"other"}],
			"nickName":"Sig"}}`, "sigrid@skerryline.example sigrid@home.example sig@quay.example"},
		{`{"op":"remove","path":"emails[type eq \"home\" and value ew \"home.example\"]"}`,
			"sigrid@skerryline.example sig@quay.example"},
		{`{"op":"replace","path":"emails[type eq \"work\"].value","value":"holm@skerryline.example"}`,
			"holm@skerryline.example sig@quay.example"},
		{`{"op":"replace","path":"emails","value":[{"value":"s@skerryline.example"}]}`,
			"s@skerryline.example"},
		{`{"op":"replace","path":"name.formatted","value":"Sigrid Ås"}`, "s@skerryline.example"},
		{`{"op":"replace","path":"addresses[type eq \"work\"]","value":{"type":"work",
			"locality":"Brattvik"}}`, "s@skerryline.example"},
	} {
		out := call(200, "PATCH", "/Users/"+id, operations(step.operation))
		if got := strings.Join(emails(out), " "); got != step.want {
			t.Errorf("%s leaves %s, expected %s", step.operation, got, step.want)
		}
	}
	if p, err := f.client.People.Show(t.Context(), id); err != nil || p.Name != "Sigrid Ås" ||
		p.Mail != "s@skerryline.example" || p.Place.City != "Brattvik" {
		t.Errorf("on record is %+v, %v", p, err)
	}
	call(400, "PATCH", "/Users/"+id,
		operations(`{"op":"replace","path":"emails[type eq \"fax\"].value","value":"x"}`))
	call(400, "PATCH", "/Users/"+id, operations(`{"op":"replace","path":"shoe","value":"x"}`))
	if out := call(400, "PUT", "/Users/"+id, strings.Replace(fmt.Sprintf(scimUser, "sigrid", "S"),
		"sigrid@skerryline.example", "no address", 1)); !strings.Contains(
		fmt.Sprint(out["detail"]), "mail") {
		t.Errorf("a wrong address: %v", out)
	}
	call(200, "PUT", "/Users/"+id, fmt.Sprintf(scimUser, "sigrid", "Sigrid Berg"))

	// §3.6 and active: nobody is removed.
	call(200, "PATCH", "/Users/"+id, operations(`{"op":"replace","value":{"active":false}}`))
	missing := func(id string) bool {
		t.Helper()
		page, err := f.client.People.List(t.Context(), client.Query{
			Filter: map[string]string{"source": "missing"},
		})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range page.Items {
			if p.ID == id {
				return p.Missing != nil
			}
		}
		return false
	}
	if !missing(id) {
		t.Error("who is not active is not offered for offboarding")
	}
	call(200, "PATCH", "/Users/"+id, operations(`{"op":"replace","path":"active","value":true}`))
	if missing(id) {
		t.Error("who is active again is still missing")
	}

	// Groups: §3.5.2.1 to §3.5.2.3.
	group := call(201, "POST", "/Groups", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],
		"displayName":"Night crew","members":[{"value":"`+id+`"}]}`)
	at := "/Groups/" + group["id"].(string)
	call(409, "POST", "/Groups", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],
		"displayName":"night crew"}`)
	member := func(id string) []string {
		t.Helper()
		p, err := f.client.People.Show(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return p.Groups
	}
	for _, step := range []struct {
		operation string
		in        [2]bool
	}{
		{`{"op":"add","path":"members","value":[{"display":"J","value":"` + other + `"}]}`,
			[2]bool{true, true}},
		{`{"op":"remove","path":"members[value eq \"` + id + `\"]"}`, [2]bool{false, true}},
		{`{"op":"replace","path":"members","value":[{"value":"` + id + `"}]}`, [2]bool{true, false}},
		{`{"op":"remove","path":"members"}`, [2]bool{false, false}},
		{`{"op":"add","value":{"members":[{"value":"` + id + `"}]}}`, [2]bool{true, false}},
	} {
		call(200, "PATCH", at, operations(step.operation))
		for i, who := range []string{id, other} {
			if got := slices.Contains(member(who), "Night crew"); got != step.in[i] {
				t.Errorf("after %s person %d is in the group: %v", step.operation, i, got)
			}
		}
	}
	call(200, "PATCH", at, operations(`{"op":"replace","path":"displayName","value":"Late crew"}`))
	if got := member(id); !slices.Equal(got, []string{"Late crew"}) {
		t.Errorf("a renamed group leaves %v", got)
	}
	call(400, "PATCH", at, operations(`{"op":"add","path":"members","value":[{"value":"pe-x"}]}`))
	if out := call(200, "GET", "/Groups?filter=displayName%20eq%20%22Late%20crew%22", ""); out["totalResults"] != 1. {
		t.Errorf("the group is not found: %v", out)
	}
	call(204, "DELETE", at, "")
	call(404, "GET", at, "")
	if got := member(id); len(got) > 0 {
		t.Errorf("a removed group leaves %v", got)
	}
	call(204, "DELETE", "/Users/"+other, "")
	call(404, "GET", "/Users/"+other, "")
	if !missing(other) {
		t.Error("who was removed by SCIM is not offered for offboarding, or is gone")
	}
	call(201, "POST", "/Users", fmt.Sprintf(scimUser, "jorunn", "Jorunn Dal")) // the name is free
	if strings.Contains(f.log.String(), "t1meMa") {
		t.Error("a password is in the log")
	}
	auditor, err := f.client.AddToken(t.Context(), "reader", "auditor", 1)
	if err != nil {
		t.Fatal(err)
	}
	if got, _ := f.scimCall("Bearer "+auditor.Bearer, "POST", "/Users",
		fmt.Sprintf(scimUser, "x", "X")); got != 403 {
		t.Errorf("an auditor adds people: %d", got)
	}
}
