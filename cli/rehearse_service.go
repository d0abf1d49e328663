package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/filecheck"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// rehearseProfile has the service rehearse a parcel, and prints steps while they come.
func (a *app) rehearseProfile(cmd *cobra.Command, f rehearseFlags) error {
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		p, err := findProfile(ctx, c, f.profile)
		if err != nil {
			return err
		}
		in := api.NewRehearsal{Again: f.again}
		if f.password != "" {
			text, err := a.readSecret(f.password)
			if err != nil {
				return err
			}
			in.Password = secret.New(text)
		}
		row, err := c.Rehearse(ctx, p.ID, in)
		if err != nil {
			return err
		}
		told := 0
		for {
			if a.output == "table" {
				for ; told < len(row.Result.Steps); told++ {
					a.tellStep(row.Result.Steps[told])
				}
			}
			if row.State != api.RehearsalRunning {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(300 * time.Millisecond):
			}
			if row, err = c.Rehearsal(ctx, row.ID); err != nil {
				return err
			}
		}
		if a.output == "table" {
			a.tellRehearsal(row.Result)
		} else if err := a.print(row, func(table.Writer) {}); err != nil {
			return err
		}
		if row.State != api.RehearsalPassed {
			return errFindings
		}
		return nil
	})
}

// reportRehearsal has the service keep a result.
func (a *app) reportRehearsal(
	cmd *cobra.Command,
	f rehearseFlags,
	files []filecheck.File,
	result rehearsal.Result,
) error {
	if f.report == "" {
		return nil
	}
	i := slices.IndexFunc(files, func(one filecheck.File) bool { return one.Name == result.File })
	if i < 0 {
		return usage("--report: %s is within an archive, expected the file itself", result.File)
	}
	sum := sha256.Sum256(files[i].Data)
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		p, err := findProfile(ctx, c, f.report)
		if err != nil {
			return err
		}
		result.File = path.Base(result.File)
		row, err := c.ReportRehearsal(ctx, p.ID, api.ReportedRehearsal{
			Place: f.place, SHA256: hex.EncodeToString(sum[:]), Result: result,
		})
		if err == nil {
			a.say("the service keeps it: %s to %s, from %s", row.Device, row.Gateway, f.place)
		}
		return err
	})
}

// rehearseSample has the service rehearse a sample of a gateway's or a pattern's profiles.
func (a *app) rehearseSample(cmd *cobra.Command, f rehearseFlags) error {
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		noun, id := "pattern", ""
		if f.gateway != "" {
			g, err := findGateway(ctx, c, f.gateway)
			if err != nil {
				return err
			}
			noun, id = "gateway", g.ID
		} else {
			p, err := findPattern(ctx, c, f.pattern)
			if err != nil {
				return err
			}
			id = p.ID
		}
		sample, err := c.RehearseSample(ctx, noun, id)
		if err != nil {
			return err
		}
		return a.tellSample(ctx, c, sample, f.background)
	})
}

// rehearseOffers has the service rehearse a profile by offers of its gateway.
func (a *app) rehearseOffers(cmd *cobra.Command, f rehearseFlags) error {
	var in api.OfferRehearsals
	for _, name := range f.offers {
		switch p := vpn.Protocol(name); {
		case name == "all":
		case !slices.Contains(vpn.Protocols, p):
			return usage("--offer: found %q, expected ikev2, tls, sstp, l2tp, pptp or all", name)
		default:
			in.Offers = append(in.Offers, p)
		}
	}
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		p, err := findProfile(ctx, c, f.profile)
		if err != nil {
			return err
		}
		sample, err := c.RehearseOffers(ctx, p.ID, in)
		if err != nil {
			return err
		}
		return a.tellSample(ctx, c, sample, f.background)
	})
}

// tellSample waits for a sample, and says what came of it.
func (a *app) tellSample(
	ctx context.Context,
	c *client.Client,
	sample api.RehearsalSample,
	background bool,
) (err error) {
	if !background {
		if sample.Job, err = a.wait(ctx, c, sample.Job); err != nil {
			return err
		}
	}
	if err := a.print(sample, func(w table.Writer) {
		jobTable(w, sample.Job)
		for _, one := range sample.Skipped {
			a.say("not rehearsed: %s: %s", one.Device, one.Reason)
		}
	}); err != nil {
		return err
	}
	if j := sample.Job; j.Done > j.Result["passed"] || j.State != api.Done && !background {
		return errFindings
	}
	return nil
}

// rehearsalMatrix shows the last rehearsal of each gateway, protocol and platform.
func (a *app) rehearsalMatrix(cmd *cobra.Command) error {
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		m, err := wholeMatrix(ctx, c)
		if err != nil {
			return err
		}
		return a.print(m, func(w table.Writer) {
			w.AppendHeader(heads("gateway", "protocol", "platform", "state", "age", "last passed",
				"failed at", "likely cause"))
			for _, row := range m.Rows {
				if len(row.Cells) == 0 {
					w.AppendRow(table.Row{row.Gateway, row.Protocol.Title(), "", "never rehearsed"})
				}
				for _, cell := range row.Cells {
					passed := ""
					if !cell.Passed.IsZero() {
						passed = age(cell.Passed)
					}
					w.AppendRow(table.Row{
						row.Gateway, row.Protocol.Title(), cell.Platform, cell.State, age(cell.At),
						passed, cell.FailedAt, cell.Cause,
					})
				}
			}
		})
	})
}

// wholeMatrix asks for all pages.
func wholeMatrix(ctx context.Context, c *client.Client) (m api.RehearsalMatrix, err error) {
	const size = 500
	for offset := 0; ; offset += size {
		page, err := c.RehearsalMatrix(ctx, client.Query{Limit: size, Offset: offset})
		if err != nil {
			return m, err
		}
		none := len(page.Rows) == 0
		page.Rows = append(m.Rows, page.Rows...)
		if m = page; offset+size >= page.Total && (none || !page.More) {
			return m, nil
		}
	}
}

// age is how long ago something was.
func age(t time.Time) string {
	switch d := time.Since(t); {
	case d < time.Minute:
		return "now"
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	default:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
}

// rehearsalHistory lists the service's rehearsals.
func (a *app) rehearsalHistory(cmd *cobra.Command) error {
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		page, err := c.Rehearsals(ctx, client.Query{Limit: 50})
		if err != nil {
			return err
		}
		return a.print(page, func(w table.Writer) {
			w.AppendHeader(heads("when", "device", "gateway", "protocol", "state", "failed at",
				"likely cause"))
			for _, r := range page.Items {
				w.AppendRow(table.Row{
					r.Result.At.Local().Format("2006-01-02 15:04"), r.Device, r.Gateway,
					r.Result.Protocol.Title(), r.State, r.Result.FailedAt(), r.Result.Cause,
				})
			}
		})
	})
}
