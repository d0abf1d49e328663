package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

var jobColumns = []string{"job", "what", "state", "done", "result", "id"}

func jobRow(j api.Job) table.Row {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(j.Result)) {
		parts = append(parts, fmt.Sprintf("%d %s", j.Result[k], k))
	}
	result := strings.Join(parts, ", ")
	if j.Problem != "" {
		result = j.Problem
	}
	return table.Row{
		j.Kind,
		j.Title,
		j.State,
		fmt.Sprintf("%d of %d", j.Done, j.Total),
		result,
		j.ID,
	}
}

// follow waits for a job that was begun, unless it goes on in the background, and prints it. One
// that failed, or has not made every link, is a finding.
func (a *app) follow(
	ctx context.Context,
	c *client.Client,
	j api.Job,
	err error,
	background bool,
) error {
	if err == nil && !background {
		j, err = a.wait(ctx, c, j)
	}
	if err != nil {
		return err
	}
	if err := a.print(j, func(w table.Writer) { jobTable(w, j) }); err != nil {
		return err
	}
	// A roll-out keeps profiles that have errors; such a parcel is neither built nor handed over.
	if j.State == api.Failed || j.Kind != "roll-out" && j.Result["blocked"] > 0 {
		return errFindings
	}
	return nil
}

func jobTable(w table.Writer, j api.Job) {
	w.AppendHeader(heads(jobColumns...))
	w.AppendRow(jobRow(j))
}

func (a *app) jobs() *cobra.Command {
	root := &cobra.Command{
		Use:     "job",
		Short:   "List, show, cancel and undo jobs",
		Long:    "Long work runs as a job of the service. It continues after a restart.",
		Example: "  wardicon job list\n  wardicon job cancel JOB",
	}
	jobs := list(a, listing[api.Job]{
		short:   "List jobs, newest first",
		about:   "Lists jobs, a page at a time.",
		plural:  "jobs",
		columns: jobColumns,
		example: "  wardicon job list --filter kind=roll-out --output json",
		filters: []string{
			"kind (roll-out, hand-over, probe, fix, renew, rehearse)",
			"state (running, done, cancelled, failed)",
			"operator",
		},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.Job],
			error) {
			return c.Jobs(ctx, q)
		},
		row: jobRow,
	})
	one := func(use, short, long string, do func(ctx context.Context,
		c *client.Client, id string) (api.Job, error)) *cobra.Command {
		return &cobra.Command{
			Use:     use + " JOB",
			Short:   short,
			Long:    long,
			Example: "  wardicon job " + use + " jo-…",
			Args:    exactly("JOB"),
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.with(cmd, func(ctx context.Context, c *client.Client) error {
					j, err := do(ctx, c, args[0])
					if err != nil {
						return err
					}
					return a.print(j, func(w table.Writer) { jobTable(w, j) })
				})
			},
		}
	}
	return group(
		root,
		jobs,
		one(
			"show",
			"Show the progress of a job",
			"Shows state, progress and result of a job.",
			func(ctx context.Context, c *client.Client, id string) (api.Job, error) {
				return c.Job(ctx, id)
			},
		),
		one(
			"cancel",
			"Cancel a running job",
			"Cancels a running job. What it has done so far is kept.",
			func(ctx context.Context, c *client.Client, id string) (api.Job, error) {
				return c.Cancel(ctx, id)
			},
		),
		one(
			"undo",
			"Move back the profiles that a job has moved",
			"Moves the profiles that a job has moved back to their earlier gateways, as a job. "+
				"Those that were changed to another gateway since stay there.",
			func(ctx context.Context, c *client.Client, id string) (api.Job, error) {
				j, err := c.UndoJob(ctx, id)
				if err != nil {
					return j, err
				}
				return a.wait(ctx, c, j)
			},
		),
	)
}

// wait shows how a job goes on until it ends.
func (a *app) wait(ctx context.Context, c *client.Client, j api.Job) (api.Job, error) {
	bar := progressbar.NewOptions(
		max(j.Total, 1),
		progressbar.OptionSetWriter(a.raw),
		progressbar.OptionSetDescription(j.Title),
		progressbar.OptionClearOnFinish(),
	)
	for j.State == api.Running {
		select {
		case <-ctx.Done():
			return j, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		var err error
		if j, err = c.Job(ctx, j.ID); err != nil {
			return j, err
		}
		_ = bar.Set(min(j.Done, max(j.Total, 1)))
	}
	_ = bar.Finish()
	return j, nil
}
