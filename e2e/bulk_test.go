package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"wardicon/api"
	"wardicon/client"
)

// posted sends a body with a key, and has status, whether it was answered again, and the answer.
func (f *fleet) posted(token, path, key, body string) (int, bool, string) {
	f.t.Helper()
	req, err := http.NewRequestWithContext(f.t.Context(), "POST", f.url+"/api/v1"+path,
		strings.NewReader(body))
	if err != nil {
		f.t.Fatal(err)
	}
	req.Header.Set("Authorization", token)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Idempotency-Key", key)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	data, err := io.ReadAll(res.Body)
	if err != nil {
		f.t.Fatal(err)
	}
	return res.StatusCode, res.Header.Get("Idempotency-Replayed") != "", string(data)
}

// TestBulk changes many records in one call, with a result of its own for each.
func TestBulk(t *testing.T) {
	f := start(t, true)
	before, err := f.client.People.List(t.Context(), client.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	ada, err := f.client.People.List(t.Context(), client.Query{Search: "Ada Fjell"})
	if err != nil {
		t.Fatal(err)
	}
	id := ada.Items[0].ID
	got, err := f.client.ChangeRecords(t.Context(), "", []api.RecordOperation{
		{Operation: "add", Noun: "person", Fields: map[string]any{"name": "Nils Vik"}},
		{Operation: "add", Noun: "person", Fields: map[string]any{"nome": "Nils Vik"}},
		{Operation: "change", Noun: "person", ID: id, Fields: map[string]any{"language": "sv"}},
		{Operation: "change", Noun: "person", ID: id, Version: 1, Fields: map[string]any{"language": "da"}},
		{Operation: "remove", Noun: "person", ID: id},
		{Operation: "remove", Noun: "person", ID: "pe-nobody"},
		{Operation: "remove", Noun: "person"},
		{Operation: "add", Noun: "gateway", Fields: map[string]any{"name": "Norrvik", "address": "x.example"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	var statuses []string
	for _, r := range got.Items {
		statuses = append(statuses, fmt.Sprint(r.Status))
		if (r.Problem == nil) != (r.Status < 300) {
			t.Errorf("%+v", r)
		}
	}
	if all := strings.Join(statuses, " "); all != "201 422 200 412 409 404 422 422" {
		t.Errorf("the results are %s", all)
	}
	if p, err := f.client.People.Show(t.Context(), id); err != nil || p.Language != "sv" ||
		p.Version != got.Items[2].Version {
		t.Errorf("%+v, %v; result %+v", p, err, got.Items[2])
	}
	after, err := f.client.People.List(t.Context(), client.Query{Limit: 1})
	if err != nil || after.Total != before.Total+1 {
		t.Errorf("%d people, %d before (%v)", after.Total, before.Total, err)
	}
	if _, err := f.client.ChangeRecords(t.Context(), "", make([]api.RecordOperation, 1001)); err == nil {
		t.Error("more than 1000 operations were taken")
	}
}

// TestOnce sends requests again with the key that they had: nothing is done twice.
func TestOnce(t *testing.T) {
	f := start(t, true)
	token := f.token()
	count := func() int {
		t.Helper()
		page, err := f.client.People.List(t.Context(), client.Query{Search: "Nils Vik"})
		if err != nil {
			t.Fatal(err)
		}
		return page.Total
	}
	const body = `{"name":"Nils Vik"}`
	status, again, first := f.posted(token, "/people", "ferry-1", body)
	if status != 201 || again {
		t.Fatalf("%d %v %s", status, again, first)
	}
	if status, again, second := f.posted(token, "/people", "ferry-1", body); status != 201 || !again ||
		second != first || count() != 1 {
		t.Errorf("again: %d %v, %d people, %s", status, again, count(), second)
	}
	if status, _, out := f.posted(token, "/people", "ferry-1", `{"name":"Other"}`); status != 422 ||
		!strings.Contains(out, "another request") {
		t.Errorf("another request with the key: %d %s", status, out)
	}
	if status, _, _ := f.posted(token, "/people", strings.Repeat("x", 65), body); status != 400 {
		t.Errorf("a key that is too long: %d", status)
	}
	// What was refused was not done, and may be sent again once it is right elsewhere.
	const device = `{"name":"Nils laptop","person_id":"%s","platform":"windows","release":"11"}`
	if status, _, _ := f.posted(token, "/devices", "ferry-2", fmt.Sprintf(device, "pe-x")); status != 422 {
		t.Errorf("a device of nobody: %d", status)
	}
	var person api.Person
	if err := json.Unmarshal([]byte(first), &person); err != nil {
		t.Fatal(err)
	}
	if status, again, _ := f.posted(token, "/devices", "ferry-2", fmt.Sprintf(device, person.ID)); status !=
		201 || again {
		t.Errorf("after it was refused: %d %v", status, again)
	}
	// Side by side, one does it and the others are told to wait, or get its answer.
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			status, _, out := f.posted(token, "/people", "ferry-3", `{"name":"Nils Vik the younger"}`)
			if status != 201 && status != 409 {
				t.Errorf("side by side: %d %s", status, out)
			}
		})
	}
	all.Wait()
	if count() != 2 {
		t.Errorf("%d people after eight requests with one key", count())
	}
	// An answer is told again to who was told it before, and to nobody who may not ask for it.
	other, err := f.client.AddToken(t.Context(), "reader", "auditor", 1)
	if err != nil {
		t.Fatal(err)
	}
	if status, again, _ := f.posted("Bearer "+other.Bearer, "/people", "ferry-1", body); status != 403 ||
		again {
		t.Errorf("a token with another role gets the answer: %d", status)
	}
	if status, _, _ := f.posted("Bearer nobody", "/people", "ferry-1", body); status != 401 {
		t.Errorf("nobody gets the answer: %d", status)
	}
}
