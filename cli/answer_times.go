package cli

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/drift"
	"wardicon/core/vpn"
	"wardicon/probe"
)

// answerTimes sums up how fast a gateway answered.
func (a *app) answerTimes(ctx context.Context, c *client.Client, name string) error {
	g, err := findGateway(ctx, c, name)
	if err != nil {
		return err
	}
	list, err := c.AnswerTimes(ctx, g.ID)
	if err != nil {
		return err
	}
	if len(list) == 0 && a.output == "table" {
		a.say(
			"no response times of %s in the last 30 days; measure some with wardicon probe %s "+
				"--from CITY",
			g.Name,
			name,
		)
		return nil
	}
	return a.print(list, func(w table.Writer) {
		w.AppendHeader(heads("place", "measured by", "median", "times", "last"))
		for _, t := range list {
			place := t.Place
			if t.Source == api.TimedByPage {
				place = "where people are"
			}
			w.AppendRow(
				table.Row{
					place,
					t.Source,
					fmt.Sprintf("%.0f ms", t.Milliseconds),
					t.Count,
					t.Last.Local().Format(time.DateTime),
				},
			)
		}
	})
}

// probeFrom asks a gateway from where the command runs, and has the service note how fast it
// answered there.
func (a *app) probeFrom(ctx context.Context, c *client.Client, name string, f probeFlags) error {
	row, err := findGateway(ctx, c, name)
	if err != nil {
		return err
	}
	g := &row.Gateway
	t := api.MeasuredTime{
		GatewayID:    g.ID,
		Source:       api.TimedByProbe,
		Place:        vpn.Place{City: f.from, Latitude: &f.latitude, Longitude: &f.longitude},
		Milliseconds: f.took,
	}
	if f.took != 0 {
		if err := c.AddAnswerTime(ctx, t); err != nil {
			return err
		}
		a.say("%s responds from %s in %.0f ms; recorded", g.Name, f.from, f.took)
		return nil
	}
	names := map[string][]netip.Addr{}
	if _, err := netip.ParseAddr(g.Address); err != nil {
		list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", g.Address)
		if err != nil {
			return fmt.Errorf("%s cannot be resolved from here: %w", g.Address, err)
		}
		for _, one := range list {
			names[g.Address] = append(names[g.Address], one.Unmap())
		}
	}
	var best *drift.Answer
	answers := probe.New().All(ctx, drift.Questions(g, drift.Addresses(g, names[g.Address]), names))
	for i := range answers {
		if one := &answers[i]; one.State == drift.Answered && one.Milliseconds > 0 &&
			(best == nil || one.Milliseconds < best.Milliseconds) {
			best = one
		}
	}
	if best == nil {
		a.say("%s did not respond from here on any protocol; nothing was recorded", g.Name)
		return errFindings
	}
	t.Milliseconds = best.Milliseconds
	if err := c.AddAnswerTime(ctx, t); err != nil {
		return err
	}
	a.say(
		"%s responds from %s in %.0f ms over %s; recorded",
		g.Name,
		f.from,
		best.Milliseconds,
		best.Protocol.Title(),
	)
	return nil
}
