// Package metrics tells a collector how the service stands: numbers only, no names and no secrets.
package metrics

import (
	"context"
	"log/slog"
	"net/http"
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
}

// fresh is how long numbers are told again before they are counted again.
const fresh = 15 * time.Second

// horizons are the days within which ends are counted.
var horizons = map[string]int{"7d": 7, "30d": 30, "60d": 60}

type collector struct {
	source Source
	log    *slog.Logger
	now    func() time.Time

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
)

// Handler serves the numbers in the text form that collectors read.
func Handler(source Source, log *slog.Logger, now func() time.Time) http.Handler {
	r := prometheus.NewRegistry()
	r.MustRegister(
		&collector{source: source, log: log, now: now},
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
		emails} {
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
	gauge(emails, waiting)
	return list, err
}
