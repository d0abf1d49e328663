// Package metrics tells a collector how the service stands: numbers only, no names and no secrets.
package metrics

import (
	"context"
	"log/slog"
	"net/http"
	"runtime"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"wardicon/api"
)

// Source is where the numbers come from.
type Source interface {
	Overview(ctx context.Context) (api.Overview, error)
	Expiries(ctx context.Context, days int) ([]api.Expiry, error)
	WaitingEmails(ctx context.Context) (int, error)
	Workload(ctx context.Context) (api.Workload, error)
	RefusedSignIns() int64
	TokensAway() []string
}

// Build is which program it is.
type Build struct{ Version, Commit string }

// fresh is how long numbers are told again before they are counted again.
const fresh = 15 * time.Second

// horizons are the days within which ends are counted.
var horizons = map[string]int{"7d": 7, "30d": 30, "60d": 60}

type collector struct {
	source Source
	build  Build
	log    *slog.Logger
	now    func() time.Time
	synced func() time.Time

	mu   sync.Mutex
	at   time.Time
	last []prometheus.Metric
}

var (
	records  = prometheus.NewDesc("wardicon_records", "Records by noun.", []string{"noun"}, nil)
	profiles = prometheus.NewDesc(
		"wardicon_profiles",
		"Profiles by how they stand: blocked, warned, clean, or due for a check.",
		[]string{"state"},
		nil,
	)
	findings = prometheus.NewDesc(
		"wardicon_findings",
		"Findings by severity.",
		[]string{"severity"},
		nil,
	)
	answers = prometheus.NewDesc(
		"wardicon_gateways",
		"Gateways by their last probe: matches, differs, no-response, unresolved or unprobed.",
		[]string{"answers"},
		nil,
	)
	expiries = prometheus.NewDesc(
		"wardicon_expiring",
		"Certificates and authorities that end within some days, or have ended.",
		[]string{"within"},
		nil,
	)
	next = prometheus.NewDesc(
		"wardicon_next_expiry_timestamp_seconds",
		"When the next one ends, within a year.",
		nil,
		nil,
	)
	emails = prometheus.NewDesc(
		"wardicon_emails_waiting",
		"Emails that wait to be sent.",
		nil,
		nil,
	)
	calls = prometheus.NewDesc("wardicon_webhook_calls_waiting",
		"Calls of webhooks that wait to be taken.", nil, nil)
	jobs = prometheus.NewDesc("wardicon_jobs",
		"Jobs that are not done, by state: waiting or running.", []string{"state"}, nil)
	rehearsals = prometheus.NewDesc("wardicon_rehearsals",
		"Rehearsals of the last 24 hours by what came of them.", []string{"state"}, nil)
	switchovers = prometheus.NewDesc("wardicon_switchovers",
		"Switchovers by state: draft, running or paused.", []string{"state"}, nil)
	reports = prometheus.NewDesc("wardicon_reports_open",
		"Reports of people that nobody has closed.", nil, nil)
	auditLines = prometheus.NewDesc(
		"wardicon_audit_lines_total",
		"Lines of the audit log.",
		nil,
		nil,
	)
	refused = prometheus.NewDesc("wardicon_sign_ins_refused_total",
		"Sign-ins that were refused since the start.", nil, nil)
	tokensAway = prometheus.NewDesc("wardicon_key_tokens_away",
		"Tokens (PKCS #11) with keys that do not answer.", nil, nil)
	build = prometheus.NewDesc("wardicon_build_info", "Which program it is.",
		[]string{"version", "commit", "go"}, nil)
	mirrored = prometheus.NewDesc(
		"wardicon_mirror_synced_timestamp_seconds",
		"Until when the mirror of the database has all that was written; 0 before the first time.",
		nil,
		nil,
	)
)

// Requests measures how requests are answered, and how long probes of gateways take.
type Requests struct{ took, probes *prometheus.HistogramVec }

// NewRequests begins to.
func NewRequests() *Requests {
	return &Requests{
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "wardicon_http_request_duration_seconds", Help: "How long requests took.",
			Buckets: []float64{.001, .005, .025, .1, .5, 2.5, 10},
		}, []string{"method", "route", "status"}),
		probes: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "wardicon_probe_duration_seconds", Help: "How long probes of gateways took, by result.",
			Buckets: []float64{.05, .1, .25, .5, 1, 2.5, 5, 10, 30},
		}, []string{"answers"}),
	}
}

// NoteProbe notes a probe of a gateway and its result.
func (q *Requests) NoteProbe(result string, took time.Duration) {
	q.probes.WithLabelValues(result).Observe(took.Seconds())
}

// methods are those that are told apart; what else is sent is one.
var methods = map[string]bool{"GET": true, "POST": true, "PUT": true, "PATCH": true, "DELETE": true}

// Note measures one; routes are patterns, so that there are not too many.
func (q *Requests) Note(method, route string, status int, took time.Duration) {
	if !methods[method] {
		method = "other"
	}
	q.took.WithLabelValues(method, route, strconv.Itoa(status/100)+"xx").Observe(took.Seconds())
}

// Handler serves the numbers in the text form that collectors read. Synced tells until when the
// mirror of the database has all; nil where there is none.
func Handler(
	source Source, requests *Requests, what Build, synced func() time.Time, log *slog.Logger,
	now func() time.Time,
) http.Handler {
	r := prometheus.NewRegistry()
	r.MustRegister(
		&collector{source: source, build: what, synced: synced, log: log, now: now},
		requests.took, requests.probes,
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	return promhttp.HandlerFor(
		r,
		promhttp.HandlerOpts{MaxRequestsInFlight: 4, Timeout: 20 * time.Second},
	)
}

// Describe says which numbers there are.
func (c *collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{records, profiles, findings, answers, expiries, next,
		emails, calls, jobs, rehearsals, switchovers, reports, auditLines, refused, tokensAway,
		build, mirrored} {
		ch <- d
	}
}

// Collect counts.
func (c *collector) Collect(ch chan<- prometheus.Metric) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.last == nil || c.now().Sub(c.at) > fresh {
		list, err := c.count(context.Background())
		if err != nil {
			c.log.Error("counting metrics", "error", err)
			return
		}
		c.last, c.at = list, c.now()
	}
	for _, m := range c.last {
		ch <- m
	}
	if c.synced != nil {
		until := 0.0
		if at := c.synced(); !at.IsZero() {
			until = float64(at.UnixMilli()) / 1000
		}
		ch <- prometheus.MustNewConstMetric(mirrored, prometheus.GaugeValue, until)
	}
}

func (c *collector) count(ctx context.Context) (list []prometheus.Metric, err error) {
	o, err := c.source.Overview(ctx)
	if err != nil {
		return nil, err
	}
	gauge := func(d *prometheus.Desc, v int, labels ...string) {
		list = append(
			list,
			prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(v), labels...),
		)
	}
	for noun, n := range map[string]int{
		"gateway": o.Counts.Gateways,
		"person":  o.Counts.People,
		"device":  o.Counts.Devices,
		"profile": o.Counts.Profiles,
		"parcel":  o.Counts.Parcels,
	} {
		gauge(records, n, noun)
	}
	for state, n := range map[string]int{
		"blocked": o.Counts.Blocked,
		"warned":  o.Counts.Warned,
		"clean":   o.Counts.Clean,
		"due":     o.Counts.Due,
	} {
		gauge(profiles, n, state)
	}
	for severity, n := range map[string]int{
		"error":   o.Counts.Tally.Errors,
		"warning": o.Counts.Tally.Warnings,
		"note":    o.Counts.Tally.Notes,
	} {
		gauge(findings, n, severity)
	}
	for state, n := range o.Answers {
		gauge(answers, n, state)
	}
	ends, err := c.source.Expiries(ctx, 366)
	if err != nil {
		return nil, err
	}
	counts := map[string]int{"ended": 0}
	for name := range horizons {
		counts[name] = 0
	}
	first := time.Time{}
	for _, e := range ends {
		if e.Days < 0 {
			counts["ended"]++
			continue
		}
		if first.IsZero() {
			first = e.Expires
		}
		for name, days := range horizons {
			if e.Days < days {
				counts[name]++
			}
		}
	}
	for within, n := range counts {
		gauge(expiries, n, within)
	}
	if !first.IsZero() {
		list = append(
			list,
			prometheus.MustNewConstMetric(next, prometheus.GaugeValue, float64(first.Unix())),
		)
	}
	waiting, err := c.source.WaitingEmails(ctx)
	if err != nil {
		return nil, err
	}
	gauge(emails, waiting)
	w, err := c.source.Workload(ctx)
	if err != nil {
		return nil, err
	}
	gauge(calls, w.Calls)
	gauge(reports, w.Reports)
	for desc, by := range map[*prometheus.Desc]map[string]int{
		jobs: w.Jobs, rehearsals: w.Rehearsals, switchovers: w.Switchovers,
	} {
		for state, n := range by {
			gauge(desc, n, state)
		}
	}
	total := func(d *prometheus.Desc, v int64) {
		list = append(list, prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v)))
	}
	total(auditLines, w.AuditLines)
	total(refused, c.source.RefusedSignIns())
	gauge(tokensAway, len(c.source.TokensAway()))
	gauge(build, 1, c.build.Version, c.build.Commit, runtime.Version())
	return list, nil
}
