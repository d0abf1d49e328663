package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/drift"
	"wardicon/core/vpn"
)

// probeFlags are what the command is told.
type probeFlags struct {
	offRecord, last, history, all bool
	take                          []string
	limit                         int

	times               bool
	from                string
	latitude, longitude float64
	took                float64
}

func (a *app) probe() *cobra.Command {
	var f probeFlags
	cmd := &cobra.Command{
		Use:   "probe [GATEWAY|ADDRESS]",
		Short: "Probe a gateway on the network and compare it with its record",
		Args:  cobra.MaximumNArgs(1),
		Long: `Probes a gateway from the service on every protocol of its record: name resolution,
open ports and response times, accepted IKE suites, its certificate, and what should be closed. It
sends at most four packets per second to an address and never signs in. Differences from the
record are listed (exit 1).

A probe is a job of the service: it continues after a restart; wardicon job cancel stops it.

--from probes from this machine instead, and records the response time for that city: patterns
that choose the fastest gateway use these times. --times summarises them.

An address that is not on record is probed only with --off-record (owners only); the results are
not kept.`,
		Example: "  wardicon probe Brattvik\n  wardicon probe Brattvik --accept suite-refused\n  " +
			"wardicon probe Brattvik --history\n  wardicon probe --all\n  wardicon probe " +
			"Brattvik --from Oslo --latitude 59.91 --longitude 10.75\n  wardicon probe Brattvik " +
			"--times",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) != (f.all || f.history && len(args) == 0) {
				return usage(
					"probe: found %d names, expected a gateway or an address, or --all",
					len(args),
				)
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				switch {
				case f.history:
					return a.probeHistory(ctx, c, args, f.limit)
				case f.all:
					return a.probeAll(ctx, c)
				case f.times:
					return a.answerTimes(ctx, c, args[0])
				case f.from != "":
					if !cmd.Flags().Changed("latitude") || !cmd.Flags().Changed("longitude") {
						return usage("probe: --from needs --latitude and --longitude, in degrees")
					}
					return a.probeFrom(ctx, c, args[0], f)
				}
				return a.probeOne(ctx, c, args[0], f)
			})
		},
	}
	cmd.ValidArgsFunction = gatewayNoun().complete(a)
	cmd.Flags().
		BoolVar(&f.offRecord, "off-record", false, "probe an address that is not on record "+
			"(owners only)")
	cmd.Flags().BoolVar(&f.last, "last", false, "show the last probe results without probing")
	cmd.Flags().BoolVar(&f.history, "history", false, "list earlier probe results")
	cmd.Flags().BoolVar(&f.all, "all", false, "probe all gateways")
	cmd.Flags().
		StringSliceVar(&f.take, "accept", nil, "codes of the differences to accept into the "+
			"record, or all")
	cmd.Flags().IntVar(&f.limit, "limit", 20, "entries of the history")
	cmd.Flags().
		StringVar(&f.from, "from", "", "probe from this machine, and record the response time for "+
			"this city")
	cmd.Flags().Float64Var(&f.latitude, "latitude", 0, "latitude of the city in degrees")
	cmd.Flags().Float64Var(&f.longitude, "longitude", 0, "longitude of the city in degrees")
	cmd.Flags().
		Float64Var(&f.took, "took", 0, "response time in milliseconds that was measured by other "+
			"means; nothing is probed")
	cmd.Flags().BoolVar(&f.times, "times", false, "summarise the gateway's response times by city")
	cmd.MarkFlagsMutuallyExclusive("last", "history", "all", "off-record", "from", "times")
	return cmd
}

func (a *app) probeOne(ctx context.Context, c *client.Client, name string, f probeFlags) error {
	g, err := gatewayAt(ctx, c, name)
	var p drift.Probe
	switch {
	case err != nil && (!unknown(err) || !strings.ContainsAny(name,
		".:")): // a name, not an address
		return err
	case err != nil:
		p, err = c.ProbeAddress(ctx, name, f.offRecord)
	case f.last:
		p, err = c.ProbeOf(ctx, g.ID, "latest")
	default:
		if _, err = a.probeGateways(ctx, c, g.ID); err == nil {
			p, err = c.ProbeOf(ctx, g.ID, "latest")
		}
	}
	if err != nil {
		return err
	}
	if err := a.print(p, func(w table.Writer) { probeTable(w, p) }); err != nil {
		return err
	}
	if a.output == "table" {
		a.tellProbe(p)
	}
	if len(f.take) > 0 {
		return a.takeOver(ctx, c, p, f.take)
	}
	if slices.ContainsFunc(
		p.Differences,
		func(d drift.Difference) bool { return d.Severity != vpn.Note },
	) {
		return errFindings
	}
	return nil
}

// gatewayAt finds a gateway by its name or identifier, or by one of its addresses.
func gatewayAt(ctx context.Context, c *client.Client, ref string) (api.Gateway, error) {
	g, err := findGateway(ctx, c, ref)
	if !unknown(err) {
		return g, err
	}
	page, there := c.Gateways.List(
		ctx,
		client.Query{Limit: 1, Filter: map[string]string{"at": ref}},
	)
	if there != nil || len(page.Items) == 0 {
		return g, errors.Join(err, there)
	}
	return page.Items[0], nil
}

// probeGateways has one gateway asked, or every one without an identifier, and waits until that is
// done.
func (a *app) probeGateways(
	ctx context.Context,
	c *client.Client,
	gatewayID string,
) (api.Job, error) {
	j, err := c.Probe(ctx, gatewayID)
	if err == nil {
		j, err = a.wait(ctx, c, j)
	}
	if err == nil && j.State != api.Done {
		err = fmt.Errorf("%s: %s %s", j.Title, j.State, j.Problem)
	}
	return j, err
}

// unknown tells whether an error says that there is no such record.
func unknown(err error) bool {
	var p *api.Problem
	return errors.As(err, &p) && p.Status == http.StatusNotFound
}

// probeTable is what was answered.
func probeTable(w table.Writer, p drift.Probe) {
	w.AppendHeader(heads("probed", "at", "state", "response time", "shows"))
	for _, r := range p.Answers {
		w.AppendRow(table.Row{r.Method, where(r), string(r.State), milliseconds(r), shows(r)})
	}
}

// where is what was asked, with the port on record where another one stands for it.
func where(r drift.Answer) string {
	at := r.Address + " " + string(r.Transport)
	if !strings.HasSuffix(r.Address, fmt.Sprintf(":%d", r.Port)) {
		at += fmt.Sprintf(" for %d", r.Port)
	}
	return at
}

func milliseconds(r drift.Answer) string {
	if r.Milliseconds == 0 {
		return ""
	}
	return fmt.Sprintf("%.1f ms", r.Milliseconds)
}

// shows is what an answer shows, in a line.
func shows(r drift.Answer) string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if i := r.IKE; i != nil {
		for _, list := range []struct {
			word  string
			names []string
		}{{"accepts", i.Taken}, {"rejects", i.Refused}, {"not probed", i.Unprobed}} {
			if len(list.names) > 0 {
				add("%s %s", list.word, strings.Join(list.names, ", "))
			}
		}
		for _, w := range i.Wanted {
			add("requests %s", w)
		}
		if i.Cookie {
			add("requires a cookie")
		}
		if i.GatewayBehindNAT {
			add("behind NAT")
		}
		if i.Identity != "" {
			add("identifies as %s", i.Identity)
		}
		if len(i.Vendors) > 0 {
			add("is %s", strings.Join(i.Vendors, ", "))
		}
	}
	if t := r.TLS; t != nil {
		add("TLS %s, certificate of %s by %s until %s", t.Version, t.Subject, t.Issuer, t.Expires)
	}
	if r.Peer != nil && r.Peer.Host+r.Peer.Vendor != "" {
		add("host %s %s", r.Peer.Host, r.Peer.Vendor)
	}
	if r.Fault != "" {
		add("%s", r.Fault)
	}
	return strings.Join(append(parts, r.Notes...), "; ")
}

func (a *app) tellProbe(p drift.Probe) {
	for _, n := range p.Names {
		switch {
		case n.Missing:
			a.say("name: %s does not resolve", n.Name)
		case n.Fault != "":
			a.say("name: %s: %s", n.Name, n.Fault)
		default:
			a.say(
				"name: %s resolves to %s (%.1f ms)",
				n.Name,
				strings.Join(n.Addresses, ", "),
				n.Milliseconds,
			)
		}
	}
	for _, d := range p.Differences {
		a.say("%s: %s [%s]\n%s", a.severity(d.Severity), d.Text, d.Code, a.wrap(d.Fix, "  "))
	}
}

// takeOver lets the record take over differences by their codes.
func (a *app) takeOver(ctx context.Context, c *client.Client, p drift.Probe, codes []string) error {
	var which []int
	for i, d := range p.Differences {
		if slices.Contains(codes, d.Code) || d.Take && slices.Contains(codes, "all") {
			which = append(which, i)
		}
	}
	if len(which) == 0 {
		return errors.New("--accept: there is no such difference to accept")
	}
	if _, err := c.TakeOver(ctx, p.GatewayID, p.ID, which); err != nil {
		return err
	}
	a.say(
		"%d of %d differences were accepted into the record of %s.",
		len(which),
		len(p.Differences),
		p.Gateway,
	)
	return nil
}

func (a *app) probeHistory(ctx context.Context, c *client.Client, args []string, limit int) error {
	q := client.Query{Limit: limit}
	if len(args) == 1 {
		g, err := findGateway(ctx, c, args[0])
		if err != nil {
			return err
		}
		q.Filter = map[string]string{"gateway_id": g.ID}
	}
	page, err := c.Probes(ctx, q)
	if err != nil {
		return err
	}
	return a.print(page, func(w table.Writer) {
		w.AppendHeader(heads("at", "gateway", "by", "state", "differences", "answers"))
		for _, r := range page.Items {
			w.AppendRow(
				table.Row{
					r.At.Local().Format(time.DateTime),
					r.Gateway,
					r.By,
					string(r.State),
					r.Differences,
					times(r),
				},
			)
		}
	})
}

// times are how fast each protocol answered, in a line.
func times(r drift.ProbeRow) string {
	var parts []string
	for _, t := range r.Times {
		if t.State == drift.Answered {
			parts = append(parts, fmt.Sprintf("%s %d %.1f ms", t.Method, t.Port, t.Milliseconds))
		} else {
			parts = append(parts, fmt.Sprintf("%s %d %s", t.Method, t.Port, t.State))
		}
	}
	return strings.Join(parts, ", ")
}

// probeAll has every gateway asked, and lists what each answered.
func (a *app) probeAll(ctx context.Context, c *client.Client) error {
	if _, err := a.probeGateways(ctx, c, ""); err != nil {
		return err
	}
	var rows []drift.ProbeRow
	for {
		page, err := c.Probes(
			ctx,
			client.Query{
				Limit:  500,
				Offset: len(rows),
				Sort:   "gateway",
				Filter: map[string]string{"latest": "true"},
			},
		)
		if err != nil {
			return err
		}
		if rows = append(rows, page.Items...); len(page.Items) < 500 {
			break
		}
	}
	if err := a.print(rows, func(w table.Writer) {
		w.AppendHeader(heads("gateway", "state", "differences", "answers"))
		for _, r := range rows {
			w.AppendRow(table.Row{r.Gateway, string(r.State), r.Differences, times(r)})
		}
	}); err != nil {
		return err
	}
	if slices.ContainsFunc(rows, func(r drift.ProbeRow) bool { return r.State != drift.Matches }) {
		return errFindings
	}
	return nil
}
