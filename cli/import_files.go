package cli

import (
	"context"
	"errors"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// importFiles imports tables of records, and what client files say.
func (a *app) importFiles() *cobra.Command {
	var person, device, release string
	var dry, background bool
	var rowsOf tableFlags
	cmd := &cobra.Command{
		Use: "import FILE|FOLDER…",
		Short: "Import records from tables, and gateways, accounts and certificates from client " +
			"files",
		Args: cobra.MinimumNArgs(1),
		Long: `A table (CSV with any delimiter, JSON, YAML or LDIF) brings people with their
accounts and devices, or gateways with --rows gateways. A row whose --key is on record changes
that record, in the fields that have a value; other rows are added. --dry-run shows what would
be added, changed and left alone, and what is wrong, by line and column.

Other files are read as wardicon check does, and what they say of gateways, offers and accounts is
added where it is not on record. Accounts are added for the person that --person names. A
certificate with its key goes to the device that --device names; a device that is not on record is
added for that person, with its platform and release by --for.`,
		Example: `  wardicon import people.csv --dry-run
  wardicon import people.csv --map "E-Mail=mail" --key mail
  wardicon import old-profiles/ --dry-run
  wardicon import ada.mobileconfig --person "Ada Fjell"
  wardicon import ada.ovpn --person "Ada Fjell" --device "Ada's laptop" --for "windows 11"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			tables, others, err := a.tables(args)
			if err != nil {
				return err
			}
			files, err := a.gather(others)
			if err != nil {
				return err
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				var found error
				for _, file := range tables {
					data, err := os.ReadFile(file)
					if err != nil {
						return err
					}
					err = a.importTable(ctx, c, file, data, rowsOf, dry, background)
					if err != nil {
						if !errors.Is(err, errFindings) {
							return err
						}
						found = err
					}
				}
				if len(others) == 0 {
					return found
				}
				id := ""
				if person != "" {
					p, err := findPerson(ctx, c, person)
					if err != nil {
						return err
					}
					id = p.ID
				}
				done, err := c.Import(ctx, files, api.ImportFor{
					PersonID: id, Device: device, Release: release, Keep: !dry,
				})
				if err != nil {
					return err
				}
				return a.print(done, func(w table.Writer) {
					w.AppendHeader(heads("record", "state", "name", "detail"))
					for _, f := range done.Items {
						w.AppendRow(table.Row{f.Noun, f.State, f.Name, f.Detail})
					}
					for _, u := range done.NotCarried {
						a.say("not carried: %s (%s:%d)", u.What, u.At.File, u.At.Line)
					}
					if !done.Kept {
						a.say("Nothing was added (--dry-run).\n")
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&person, "person", "", "person that the accounts belong to, name or ID")
	cmd.Flags().StringVar(&device, "device", "", "name of the device that has the certificate")
	cmd.Flags().StringVar(&release, "for", "", "platform and release of a new device")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would be added")
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until a table is imported")
	rowsOf.on(cmd)
	cmd.AddCommand(a.importHistory()...)
	return cmd
}
