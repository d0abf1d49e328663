package cli

import (
	"context"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/store"
)

func (a *app) inspect() *cobra.Command {
	h := host{}
	var repair bool
	cmd := &cobra.Command{
		Use:   "inspect",
		Short: "Check a data folder for damage, and repair it",
		Args:  exactly(),
		Long: `Checks every page of the database, every sealed value and every record of a data
folder. The service must be stopped. Nothing is changed without --repair.

--repair rebuilds indexes and counts. If pages are damaged, all rows that can still be read are
copied to a new database; the old one is kept. What is lost is listed. A sealed value that cannot
be opened stays listed with its record until it is set again.`,
		Example: "  wardicon service inspect --data /var/lib/wardicon\n  wardicon service " +
			"inspect --data /var/lib/wardicon --repair",
		RunE: func(cmd *cobra.Command, _ []string) error {
			key, err := a.masterKey(h)
			if err != nil {
				return err
			}
			look := store.Inspect
			if repair {
				look = func(ctx context.Context, dir string, key store.Key) (api.Inspection,
					error) {
					return store.Repair(ctx, dir, key, time.Now())
				}
			}
			found, err := look(cmd.Context(), h.data, key)
			if err != nil {
				return err
			}
			if err := a.print(found, func(w table.Writer) { inspected(w, found) }); err != nil {
				return err
			}
			if a.output == "table" || a.output == "" {
				a.tellInspected(found)
			}
			if !found.Sound() || len(found.Lost) > 0 {
				return errFindings
			}
			return nil
		},
	}
	h.dataFlags(cmd)
	cmd.Flags().BoolVar(&repair, "repair", false, "repair the damage")
	return cmd
}

func inspected(w table.Writer, found api.Inspection) {
	w.AppendHeader(table.Row{"Noun", "ID", "Field", "fix"})
	for _, list := range [][]api.DamagedValue{found.Records, found.Values} {
		for _, v := range list {
			w.AppendRow(table.Row{v.Noun, v.ID, v.Field, v.Fix})
		}
	}
}

func (a *app) tellInspected(found api.Inspection) {
	for _, text := range found.Pages {
		a.say("damaged: %s", text)
	}
	for _, text := range found.Lost {
		a.say("lost: %s", text)
	}
	if found.Kept != "" {
		a.say("the old database: %s", found.Kept)
	}
	if found.Sound() {
		a.say("values and records checked: %d; all are intact", found.Looked)
		return
	}
	a.say(
		"values and records checked: %d; unreadable: %d; damaged pages: %d",
		found.Looked,
		len(found.Values)+len(found.Records),
		len(found.Pages),
	)
}
