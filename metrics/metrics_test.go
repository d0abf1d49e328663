package metrics_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/metrics"
)

// source tells fixed numbers, and counts how often it is asked.
type source struct {
	asked int
	fault error
}

func (s *source) Overview(context.Context) (o api.Overview, err error) {
	s.asked++
	o.Counts.Gateways, o.Counts.Blocked, o.Counts.Tally.Warnings = 7, 2, 5
	o.Answers = map[string]int{"no-response": 3}
	return o, s.fault
}

func (s *source) Expiries(context.Context, int) (list []api.Expiry, err error) {
	for _, days := range []int{-3, 0, 6, 7, 29, 40, 300} {
		list = append(list, api.Expiry{Days: days, Expires: time.Unix(int64(1000+days), 0)})
	}
	return list, nil
}

func (s *source) Workload(context.Context) (api.Workload, error) {
	return api.Workload{Calls: 6, Jobs: map[string]int{"running": 1}, AuditLines: 99}, nil
}

func (s *source) RefusedSignIns() int64 { return 8 }

func (s *source) TokensAway() []string { return []string{"Quay"} }

func (s *source) WaitingEmails(context.Context) (int, error) { return 4, nil }

// TestMetrics reads what a collector reads.
func TestMetrics(t *testing.T) {
	now := time.Unix(1.7e9, 0)
	s, requests := &source{}, metrics.NewRequests()
	requests.Note("BREW", "/api/v1/devices", 404, 20*time.Millisecond)
	requests.NoteProbe("matches", 300*time.Millisecond)
	handler := metrics.Handler(s, requests, metrics.Build{Version: "1.2"}, func() time.Time { return now },
		slog.New(slog.DiscardHandler), func() time.Time { return now })
	read := func() string {
		t.Helper()
		answer := httptest.NewRecorder()
		handler.ServeHTTP(answer, httptest.NewRequest("GET", "/metrics", nil))
		text, err := io.ReadAll(answer.Body)
		if err != nil || answer.Code != 200 {
			t.Fatalf("%d, %v", answer.Code, err)
		}
		return string(text)
	}
	text := read()
	for _, line := range []string{
		`wardicon_records{noun="gateway"} 7`, `wardicon_profiles{state="blocked"} 2`,
		`wardicon_findings{severity="warning"} 5`, `wardicon_expiring{within="ended"} 1`,
		`wardicon_expiring{within="7d"} 2`,
		`wardicon_expiring{within="30d"} 4`, `wardicon_expiring{within="60d"} 5`,
		`wardicon_next_expiry_timestamp_seconds 1000`, `wardicon_emails_waiting 4`,
		`wardicon_gateways{answers="no-response"} 3`, `wardicon_webhook_calls_waiting 6`,
		`wardicon_jobs{state="running"} 1`, `wardicon_audit_lines_total 99`,
		`wardicon_sign_ins_refused_total 8`, `wardicon_key_tokens_away 1`, `wardicon_mirror_synced_timestamp_seconds 1.7e+09`,
		`wardicon_probe_duration_seconds_bucket{answers="matches",le="0.25"} 0`,
		`wardicon_probe_duration_seconds_bucket{answers="matches",le="0.5"} 1`,
		`wardicon_http_request_duration_seconds_bucket{method="other",route="/api/v1/devices",` +
			`status="4xx",le="0.025"} 1`,
	} {
		if !strings.Contains(text, line+"\n") {
			t.Errorf(
				"%s is not among\n%s",
				line,
				regexp.MustCompile(`(?m)^wardicon.*$`).FindAllString(text, -1),
			)
		}
	}
	read()
	if s.asked != 1 {
		t.Errorf("counted %d times within 15 seconds", s.asked)
	}
	now = now.Add(time.Minute)
	s.fault = errors.New("the database is gone")
	if text := read(); strings.Contains(text, "wardicon_records") ||
		strings.Contains(text, "database") {
		t.Error("numbers without a source")
	}
}
