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
		Use: "probe [GATEWAY|ADDRESS]", Short: "Ask a gateway on the network what it answers, and compare that with its record", Args: cobra.MaximumNArgs(1),
		Long: `Lets the service ask a gateway by every protocol on its record: where its names lead, which ports answer and how
fast, which IKE suites it takes, what its certificate says, and what it should not answer. It sends at most four packets
a second to one address and never goes on to a sign-in. What is not as the record says is listed (exit 1).

The service asks as a job: it goes on after a restart, and wardicon job cancel ends it.

With --from the gateway is asked from here instead, by this command, and the service notes how fast it answered from that
place: patterns that choose the fastest gateway go by such times. --times sums up what was measured.

An address that is on no record is asked only where an owner says so with --off-record, and what it answers is not kept.`,
		Example: "  wardicon probe Brattvik\n  wardicon probe Brattvik --take suite-refused\n  wardicon probe Brattvik --history\n  wardicon probe --all\n  wardicon probe Brattvik --from Oslo --latitude 59.91 --longitude 10.75\n  wardicon probe Brattvik --times",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) != (f.all || f.history && len(args) == 0) {
				return usage("probe: found %d names, expected a gateway or an address, or --all", len(args))
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
	cmd.Flags().BoolVar(&f.offRecord, "off-record", false, "ask an address although it is on no record (owners only)")
	cmd.Flags().BoolVar(&f.last, "last", false, "show what was answered last, without asking")
	cmd.Flags().BoolVar(&f.history, "history", false, "list what was answered before")
	cmd.Flags().BoolVar(&f.all, "all", false, "ask every gateway")
	cmd.Flags().StringSliceVar(&f.take, "take", nil, "codes of differences that the record takes over, or all")
	cmd.Flags().IntVar(&f.limit, "limit", 20, "lines of the history")
	cmd.Flags().StringVar(&f.from, "from", "", "ask from here, and note how fast the gateway answers at this place, a city")
	cmd.Flags().Float64Var(&f.latitude, "latitude", 0, "degrees north of the place")
	cmd.Flags().Float64Var(&f.longitude, "longitude", 0, "degrees east of the place")
	cmd.Flags().Float64Var(&f.took, "took", 0, "milliseconds that were measured there by other means: nothing is asked")
	cmd.Flags().BoolVar(&f.times, "times", false, "sum up how fast the gateway answered, by place")
	cmd.MarkFlagsMutuallyExclusive("last", "history", "all", "off-record", "from", "times")
	return cmd
}

func (a *app) probeOne(ctx context.Context, c *client.Client, name string, f probeFlags) error {
	g, err := gatewayAt(ctx, c, name)
	var p drift.Probe
	switch {
	case err != nil && (!unknown(err) || !strings.ContainsAny(name, ".:")): // a name, not an address
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
	if slices.ContainsFunc(p.Differences, func(d drift.Difference) bool { return d.Severity != vpn.Note }) {
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
	page, there := c.Gateways.List(ctx, client.Query{Limit: 1, Filter: map[string]string{"at": ref}})
	if there != nil || len(page.Items) == 0 {
		return g, errors.Join(err, there)
	}
	return page.Items[0], nil
}

// probeGateways has one gateway asked, or every one without an identifier, and waits until that is done.
func (a *app) probeGateways(ctx context.Context, c *client.Client, gatewayID string) (api.Job, error) {
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
	w.AppendHeader(heads("asked for", "at", "state", "answers in", "shows"))
	w.SetColumnConfigs([]table.ColumnConfig{wrapped(5, 70)})
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
		}{{"takes", i.Taken}, {"refuses", i.Refused}, {"not asked for", i.Unprobed}} {
			if len(list.names) > 0 {
				add("%s %s", list.word, strings.Join(list.names, ", "))
			}
		}
		for _, w := range i.Wanted {
			add("asks for %s", w)
		}
		if i.Cookie {
			add("wants a cookie first")
		}
		if i.GatewayBehindNAT {
			add("behind address translation")
		}
		if i.Identity != "" {
			add("introduces itself as %s", i.Identity)
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
			a.say("name: %s leads nowhere", n.Name)
		case n.Fault != "":
			a.say("name: %s: %s", n.Name, n.Fault)
		default:
			a.say("name: %s leads to %s (%.1f ms)", n.Name, strings.Join(n.Addresses, ", "), n.Milliseconds)
		}
	}
	for _, d := range p.Differences {
		a.say("%s: %s [%s]\n  %s", d.Severity, d.Text, d.Code, d.Fix)
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
		return errors.New("--take: there is nothing of that kind to take over")
	}
	if _, err := c.TakeOver(ctx, p.GatewayID, p.ID, which); err != nil {
		return err
	}
	a.say("The record of %s has taken over %d of %d differences.", p.Gateway, len(which), len(p.Differences))
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
		w.SetColumnConfigs([]table.ColumnConfig{wrapped(6, 70)})
		for _, r := range page.Items {
			w.AppendRow(table.Row{r.At.Local().Format(time.DateTime), r.Gateway, r.By, string(r.State), r.Differences, times(r)})
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
		page, err := c.Probes(ctx, client.Query{Limit: 500, Offset: len(rows), Sort: "gateway", Filter: map[string]string{"latest": "yes"}})
		if err != nil {
			return err
		}
		if rows = append(rows, page.Items...); len(page.Items) < 500 {
			break
		}
	}
	if err := a.print(rows, func(w table.Writer) {
		w.AppendHeader(heads("gateway", "state", "differences", "answers"))
		w.SetColumnConfigs([]table.ColumnConfig{wrapped(4, 90)})
		for _, r := range rows {
			w.AppendRow(table.Row{r.Gateway, string(r.State), r.Differences, times(r)})
		}
	}); err != nil {
		return err
	}
	if slices.ContainsFunc(rows, func(r drift.ProbeRow) bool { return r.State != drift.Sound }) {
		return errFindings
	}
	return nil
}
