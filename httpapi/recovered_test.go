package httpapi

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"wardicon/api"
)

// TestRecovered breaks a handler down: the caller gets a problem that names the request,
// the log says where, and neither tells what it broke down with.
func TestRecovered(t *testing.T) {
	var log bytes.Buffer
	a := &handlers{log: slog.New(slog.NewJSONHandler(&log, nil))}
	broken := http.HandlerFunc(
		func(http.ResponseWriter, *http.Request) { panic("kelp-4497 in a panic") },
	)
	answer := httptest.NewRecorder()
	identified(
		a.logged(a.recovered(broken)),
	).ServeHTTP(answer, httptest.NewRequest(http.MethodGet, "/", nil))
	var p api.Problem
	if err := json.Unmarshal(answer.Body.Bytes(), &p); err != nil {
		t.Fatal(err)
	}
	id := answer.Header().Get("X-Request-Id")
	if answer.Code != http.StatusInternalServerError || p.Status != answer.Code || id == "" ||
		p.Instance != "urn:wardicon:request:"+id {
		t.Errorf("%d %+v for request %q", answer.Code, p, id)
	}
	if text := log.String(); strings.Contains(text, "kelp") ||
		!strings.Contains(text, "TestRecovered") ||
		strings.Count(text, id) != 2 {
		t.Errorf("the log says %s", text)
	}
}
