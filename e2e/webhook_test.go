package e2e

import (
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/store"
)

// receiver takes calls of a webhook as its document says, and checks their signatures by what it was
// sent alone (RFC 9421 §3.2).
type receiver struct {
	mu     sync.Mutex
	answer int
	key    []byte
	events []api.Event
	ids    map[string]int
	wrong  []string
}

var inputParts = regexp.MustCompile(`^wardicon=(\(([^)]*)\);created=(\d+);keyid="([^"]+)";alg="hmac-sha256")$`)

func (v *receiver) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	v.mu.Lock()
	defer v.mu.Unlock()
	body, _ := io.ReadAll(r.Body)
	var e api.Event
	if err := json.Unmarshal(body, &e); err != nil {
		v.wrong = append(v.wrong, err.Error())
	}
	if e.Event != "test" {
		v.check(r, body)
		v.ids[r.Header.Get("Idempotency-Key")]++
		if v.answer == http.StatusOK {
			v.events = append(v.events, e)
		}
	}
	w.WriteHeader(v.answer)
}

func (v *receiver) check(r *http.Request, body []byte) {
	sum := sha256.Sum256(body)
	if r.Header.Get("Content-Digest") != "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":" {
		v.wrong = append(v.wrong, "digest "+r.Header.Get("Content-Digest"))
	}
	parts := inputParts.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if parts == nil {
		v.wrong = append(v.wrong, "input "+r.Header.Get("Signature-Input"))
		return
	}
	var base strings.Builder
	for name := range strings.FieldsSeq(strings.ReplaceAll(parts[2], `"`, "")) {
		value := r.Header.Get(name)
		switch name {
		case "@method":
			value = r.Method
		case "@target-uri":
			value = "http://" + r.Host + r.RequestURI
		}
		fmt.Fprintf(&base, "\"%s\": %s\n", name, value)
	}
	fmt.Fprintf(&base, "\"@signature-params\": %s", parts[1])
	mac := hmac.New(sha256.New, v.key)
	mac.Write([]byte(base.String()))
	if want := "wardicon=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":"; want !=
		r.Header.Get("Signature") {
		v.wrong = append(v.wrong, "signature "+r.Header.Get("Signature"))
	}
}

// told are the events that it took.
func (v *receiver) told() []api.Event {
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Clone(v.events)
}

func (v *receiver) got() (list []string) {
	for _, e := range v.told() {
		list = append(list, e.Event)
	}
	return list
}

// TestWebhooks has another service told what happens: signed, in order, again where it was not taken,
// and nothing of it a secret.
func TestWebhooks(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	v := &receiver{answer: http.StatusServiceUnavailable, ids: map[string]int{}}
	server := httptest.NewServer(v)
	defer server.Close()
	args := []string{"service", "webhook", "add", "Tickets", "--url", server.URL + "/vpn?x=1",
		"--event", "handover.made,handover.recalled,report.received,profile.blocked,profile.unblocked," +
			"certificate.issued,certificate.revoked"}
	run(1, "response 503", args...)
	run(1, "https://", "service", "webhook", "add", "Plain", "--url", "http://tickets.example/",
		"--event", "report.received")
	run(1, "report.received", "service", "webhook", "add", "X", "--url", server.URL, "--event", "all")
	v.answer = http.StatusOK
	var made api.NewWebhook
	if err := json.Unmarshal([]byte(run(0, "", append(args, "--output", "json")...)), &made); err != nil {
		t.Fatal(err)
	}
	key, err := base64.StdEncoding.DecodeString(made.Key)
	if err != nil || len(key) != 32 {
		t.Fatalf("its key is %q (%v)", made.Key, err)
	}
	v.mu.Lock()
	v.key = key
	v.mu.Unlock()
	await := func(want ...string) {
		t.Helper()
		for end := time.Now().Add(15 * time.Second); time.Now().Before(end); time.Sleep(50 *
			time.Millisecond) {
			if fmt.Sprint(v.got()) == fmt.Sprint(want) {
				return
			}
		}
		t.Fatalf("it was told %v, expected %v\n%s", v.got(), want, f.log)
	}
	f.checked()
	h := f.handed("Purser laptop 3", false)
	await("handover.made")
	run(0, "", "handover", "recall", h.Handover.ID, "--yes")
	await("handover.made", "handover.recalled")
	v.mu.Lock()
	v.answer, v.events = http.StatusBadGateway, nil
	v.mu.Unlock()
	run(0, "", "certificate", "issue", "Purser laptop 3", "--authority", "Skerry Line Authority")
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(50 *
		time.Millisecond) {
		if list, err := f.client.WebhookCalls(t.Context(), made.ID); err == nil &&
			list.Items[0].Tries == 1 {
			break
		}
	}
	run(0, "response 502", "service", "webhook", "list")
	run(0, "retry ", "service", "webhook", "deliveries", "Tickets")
	// What happens meanwhile waits behind it; then both come, in order, and the first one as before.
	run(0, "", "certificate", "revoke", "--device", "Purser laptop 3", "--reason", "superseded", "--yes")
	v.mu.Lock()
	v.answer = http.StatusOK
	v.mu.Unlock()
	db, err := sql.Open("sqlite", filepath.Join(f.dir, store.File)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec(`UPDATE webhook_calls SET due = 1 WHERE due IS NOT NULL`); err != nil {
		t.Fatal(err)
	}
	run(0, "accepted the test event", "service", "webhook", "try", "Tickets")
	run(0, "", "service", "webhook", "change", "Tickets", "--disabled=false")
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end) && len(v.got()) < 2; {
		time.Sleep(100 * time.Millisecond)
	}
	got := v.got()
	if len(got) < 2 || got[0] != "certificate.issued" || got[len(got)-1] != "certificate.revoked" &&
		got[1] != "certificate.revoked" {
		t.Errorf("it was told %v", got)
	}
	// Of findings below errors it is told by profile: those that are new, and those that have ended.
	run(0, "", "service", "webhook", "change", "Tickets", "--event", "finding.new,finding.ended")
	for _, step := range []struct{ encrypted, event string }{
		{"true", api.EventFindingEnded}, {"false", api.EventFindingNew},
	} {
		run(0, "", "device", "change", "Purser laptop 3", "--encrypted="+step.encrypted)
		told := func(e api.Event) bool {
			return e.Event == step.event && e.Noun == "profile" && e.Name == "Purser laptop 3 to Norrvik" &&
				strings.Contains(e.Detail, "warning saved-unencrypted")
		}
		for end := time.Now().Add(20 * time.Second); !slices.ContainsFunc(v.told(), told); {
			if time.Now().After(end) {
				t.Fatalf("%s did not come: %+v", step.event, v.told())
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	twice := 0
	for _, n := range v.ids {
		if n > 1 {
			twice++
		}
	}
	if twice != 1 {
		t.Errorf("of %v, %d came more than once, expected the one that was refused", v.ids, twice)
	}
	if len(v.wrong) > 0 {
		t.Errorf("%d calls are not as they should be: %s", len(v.wrong), v.wrong[0])
	}
	if strings.Contains(f.log.String(), made.Key) {
		t.Error("its key is in the log")
	}
	run(0, "removed", "service", "webhook", "remove", "Tickets", "--yes")
	run(4, "", "service", "webhook", "deliveries", "Tickets")
}
