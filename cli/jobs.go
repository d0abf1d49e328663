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

func jobTable(w table.Writer, jobs ...api.Job) {
	w.AppendHeader(heads("job", "what", "state", "done", "result", "id"))
	for _, j := range jobs {
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(j.Result)) {
			parts = append(parts, fmt.Sprintf("%d %s", j.Result[k], k))
		}
		result := strings.Join(parts, ", ")
		if j.Problem != "" {
			result = j.Problem
		}
		w.AppendRow(table.Row{j.Kind, j.Title, j.State, fmt.Sprintf("%d of %d", j.Done, j.Total), result, j.ID})
	}
}

func (a *app) jobs() *cobra.Command {
	root := &cobra.Command{
		Use: "job", Short: "List, show and cancel jobs", Long: "Long work runs as a job of the service. It goes on after a restart.",
		Example: "  wardicon job list\n  wardicon job cancel JOB",
	}
	var limit, offset int
	var kind string
	list := &cobra.Command{
		Use: "list", Short: "List jobs, newest first", Long: "Lists jobs, newest first, a page at a time.", Example: "  wardicon job list --output json", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Jobs(ctx, kind, limit, offset)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) { jobTable(w, page.Items...) }); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", counted(len(page.Items), offset, page.Total, "jobs"))
				}
				return nil
			})
		},
	}
	list.Flags().StringVar(&kind, "kind", "", "those of one kind alone, such as roll-out, hand-over or ask")
	list.Flags().IntVar(&limit, "limit", 50, "rows at the most")
	list.Flags().IntVar(&offset, "offset", 0, "rows to pass over")
	one := func(use, short, long string, do func(ctx context.Context, c *client.Client, id string) (api.Job, error)) *cobra.Command {
		return &cobra.Command{
			Use: use + " JOB", Short: short, Long: long, Example: "  wardicon job " + use + " jo-…", Args: exactly("JOB"),
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
	return group(root, list,
		one("show", "Show how far a job has come", "Shows state, progress and result of a job.", func(ctx context.Context, c *client.Client, id string) (api.Job, error) { return c.Job(ctx, id) }),
		one("cancel", "End a job that runs", "Ends a job that runs. What it has done stays done.", func(ctx context.Context, c *client.Client, id string) (api.Job, error) { return c.Cancel(ctx, id) }))
}

// wait shows how a job goes on until it ends.
func (a *app) wait(ctx context.Context, c *client.Client, j api.Job) (api.Job, error) {
	bar := progressbar.NewOptions(max(j.Total, 1), progressbar.OptionSetWriter(a.raw), progressbar.OptionSetDescription(j.Title), progressbar.OptionClearOnFinish())
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
