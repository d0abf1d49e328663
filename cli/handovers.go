package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/store"
)

// handoverCommands are those of parcels on their way.
func (a *app) handoverCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "handover",
		Short: "Hand parcels over to people by links and passcodes",
		Long: `A link leads to the newest parcel of a profile. It expires after some days and
uses, requires a passcode that you send another way, and is locked after ten wrong ones. Links and
passcodes cannot be read back.`,
		Example: "  wardicon handover make \"Planner Mac 1/Norrvik\" --by-mail\n  wardicon " +
			"handover group engineers\n  wardicon handover list --filter state=made\n  wardicon " +
			"handover recall ho-4xk7q2m9h3vw8tzp",
	}
	return group(
		root,
		a.handoverMake(),
		a.handoverGroup(),
		a.handoverSlips(),
		a.handoverList(),
		a.handoverStates(),
		a.handoverSeen(),
		a.handoverReissue(),
		a.handoverRecall(),
		a.handoverArchive(),
		a.handoverFolder(),
		a.fetch(),
		a.problemReports(),
	)
}

// handoverFlags are how a handover is requested. Days and uses are said only where they were given.
type handoverFlags struct {
	days, uses   int
	mail, attach bool
	passcodeMail bool
}

func (f *handoverFlags) add(cmd *cobra.Command) {
	cmd.Flags().IntVar(&f.days, "days", 7, "days until the link expires")
	cmd.Flags().IntVar(&f.uses, "uses", 3, "maximum number of uses")
	cmd.Flags().
		BoolVar(&f.attach, "attach", false, "attach the files to the email (refused, with the "+
			"reason)")
	cmd.Flags().
		BoolVar(&f.passcodeMail, "passcode-by-mail", false, "send the passcode by email too "+
			"(refused, with the reason)")
}

func (f *handoverFlags) request(link, passcode check.Way) api.HandoverRequest {
	if f.passcodeMail {
		passcode = check.ByMail
	}
	return api.HandoverRequest{
		Days:     &f.days,
		Uses:     &f.uses,
		Link:     link,
		Passcode: passcode,
		Attach:   f.attach,
	}
}

// warnOfLinks says before a link is made that people could not open it.
func (a *app) warnOfLinks(ctx context.Context, c *client.Client) error {
	o, err := c.Organisation(ctx)
	if err == nil && o.LinksProblem != "" {
		a.complain("warning: people could not open a link: %s; wardicon organisation change "+
			"--links https://HOST sets the public URL", o.LinksProblem)
	}
	return err
}

// made prints a link and its passcode, which nobody can ask for again.
func (a *app) made(n api.NewHandover) error {
	return a.print(n, func(table.Writer) {
		if n.Mailed == "" {
			a.say("link      %s", n.Link)
		} else {
			a.say("link      is sent to %s", n.Mailed)
		}
		a.say(
			"passcode  %s\n\nfor %s, %s, until %s or %d uses (%s). Send the passcode another way "+
				"than the link.",
			n.Passcode,
			n.Handover.Device,
			n.Handover.Person,
			n.Handover.Expires.Local().Format(moment),
			n.Handover.MaxUses,
			n.Handover.ID,
		)
	})
}

func (a *app) handoverMake() *cobra.Command {
	var flags handoverFlags
	cmd := &cobra.Command{
		Use:   "make PROFILE",
		Short: "Create a link to the newest parcel of a profile",
		Args:  exactly("PROFILE"),
		Long: "Prints the link and the passcode, once. The parcel must be up to date. With " +
			"--by-mail the link, and nothing else, is sent to the person.",
		Example: "  wardicon handover make \"Planner Mac 1/Norrvik\" --days 3 --uses 1\n  " +
			"wardicon handover make \"Planner Mac 1/Norrvik\" --by-mail",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := findProfile(ctx, c, args[0])
				if err != nil {
					return err
				}
				link := check.ByOperator
				if flags.mail {
					link = check.ByMail
				}
				if err := a.warnOfLinks(ctx, c); err != nil {
					return err
				}
				n, err := c.MakeHandover(ctx, p.ID, flags.request(link, check.ByOperator))
				if err != nil {
					return err
				}
				return a.made(n)
			})
		},
	}
	cmd.ValidArgsFunction = profileNoun().complete(a)
	flags.add(cmd)
	cmd.Flags().BoolVar(&flags.mail, "by-mail", false, "send the link to the person by email")
	return cmd
}

func (a *app) handoverGroup() *cobra.Command {
	var flags handoverFlags
	var sheets, background bool
	cmd := &cobra.Command{
		Use:   "group GROUP",
		Short: "Hand over to all people of a group",
		Args:  exactly("GROUP"),
		Long: `Builds outdated parcels for the devices of a group's people, and creates a link to
each parcel. Links are sent by email; with --sheets they are kept for a day instead, to be read
with "wardicon handover slips", as the passcodes are. It is a job of the service: it continues
after a restart.`,
		Example: "  wardicon handover group engineers --days 3\n  wardicon handover group deck " +
			"--sheets",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				link, passcode := check.ByMail, check.BySheet
				if sheets {
					link = check.ByOperator
				}
				if err := a.warnOfLinks(ctx, c); err != nil {
					return err
				}
				j, err := c.HandOverGroup(ctx, args[0], flags.request(link, passcode))
				return a.follow(ctx, c, j, err, background)
			})
		},
	}
	flags.add(cmd)
	cmd.Flags().
		BoolVar(&sheets, "sheets", false, "keep the links for reading instead of sending them")
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until it is done")
	return cmd
}

func (a *app) handoverSlips() *cobra.Command {
	var links bool
	cmd := &cobra.Command{
		Use:   "slips JOB",
		Short: "Read the passcodes or the links of a group's handovers",
		Args:  exactly("JOB"),
		Long: "Prints the passcodes of a group's handovers, or with --links the links that " +
			"were not sent by email. Both are kept for a day; reading them is recorded in the " +
			"audit log. Never send the two together.",
		Example: "  wardicon handover slips jo-4xk7q2m9h3vw8tzp\n  wardicon handover slips " +
			"jo-4xk7q2m9h3vw8tzp --links --output json",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				half := store.SlipPasscode
				if links {
					half = store.SlipLink
				}
				list, err := c.Slips(ctx, args[0], half)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("person", "device", "gateway", half))
					for _, s := range list.Items {
						w.AppendRow(table.Row{s.Person, s.Device, s.Gateway, s.Link + s.Passcode})
					}
				})
			})
		},
	}
	cmd.Flags().BoolVar(&links, "links", false, "the links instead of the passcodes")
	return cmd
}

func (a *app) handoverList() *cobra.Command {
	return list(a, listing[api.Handover]{
		short:  "List handovers, newest first",
		plural: "handovers",
		about: "Lists handovers with their state: made, sent, opened, fetched, connected, " +
			"expired, used-up, locked, recalled.",
		example: "  wardicon handover list --filter state=made\n  wardicon handover list " +
			"--filter group=engineers --output json",
		filters: []string{
			"state",
			"open (true or false)",
			"group",
			"batch",
			"profile",
			"device",
			"person",
			"gateway",
		},
		columns: []string{"device", "gateway", "person", "state", "uses", "expires", "id"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.Handover],
			error) {
			return c.Handovers(ctx, q)
		},
		row: func(h api.Handover) table.Row {
			uses := fmt.Sprintf("%d of %d", h.Uses, h.MaxUses)
			return table.Row{
				h.Device,
				h.Gateway,
				h.Person,
				h.State,
				uses,
				h.Expires.Local().Format(moment),
				h.ID,
			}
		},
	})
}

func (a *app) handoverStates() *cobra.Command {
	return &cobra.Command{
		Use:     "states",
		Short:   "Count handovers by state",
		Args:    exactly(),
		Long:    "Counts handovers by state, in the order of their life.",
		Example: "  wardicon handover states",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.SumHandovers(ctx)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("state", "handovers"))
					for _, s := range list.Items {
						w.AppendRow(table.Row{s.State, s.Count})
					}
				})
			})
		},
	}
}

func (a *app) handoverSeen() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "seen PROFILE",
		Short: "Show the connections of a profile's device that were seen",
		Args:  exactly("PROFILE"),
		Long: "Shows gateway, time and address of the connections that were seen while the " +
			"person had the page of the link open.",
		Example: "  wardicon handover seen \"Planner Mac 1/Norrvik\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := findProfile(ctx, c, args[0])
				if err != nil {
					return err
				}
				list, err := c.SeenConnections(ctx, p.ID)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("gateway", "address", "by", "first", "last"))
					for _, s := range list.Items {
						w.AppendRow(
							table.Row{
								s.Gateway,
								s.Address,
								s.By,
								s.First.Local().Format(moment),
								s.Last.Local().Format(moment),
							},
						)
					}
				})
			})
		},
	}
	cmd.ValidArgsFunction = profileNoun().complete(a)
	return cmd
}

func (a *app) handoverReissue() *cobra.Command {
	var mail bool
	cmd := &cobra.Command{
		Use:   "reissue ID",
		Short: "Replace a link by a new one to the same profile",
		Args:  exactly("ID"),
		Long: "Closes a link and creates a new one to the newest parcel of the profile, with a " +
			"new passcode, and the same number of days and uses.",
		Example: "  wardicon handover reissue ho-4xk7q2m9h3vw8tzp --by-mail",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				link := check.ByOperator
				if mail {
					link = check.ByMail
				}
				n, err := c.Reissue(ctx, args[0], link)
				if err != nil {
					return err
				}
				return a.made(n)
			})
		},
	}
	cmd.Flags().BoolVar(&mail, "by-mail", false, "send the link to the person by email")
	return cmd
}

func (a *app) handoverRecall() *cobra.Command {
	return &cobra.Command{
		Use:   "recall ID",
		Short: "Close a link immediately",
		Args:  exactly("ID"),
		Long: "Closes a link, also for whoever has it open. Files that were fetched already " +
			"stay where they are.",
		Example: "  wardicon handover recall ho-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := a.sure("Close the link %s?", args[0]); err != nil {
					return err
				}
				h, err := c.RecallHandover(ctx, args[0])
				if err != nil {
					return err
				}
				return a.print(h, func(table.Writer) {
					a.say(
						"the link for %s is closed; it was used %s",
						h.Device,
						plural(h.Uses, "time"),
					)
				})
			})
		},
	}
}

func (a *app) handoverArchive() *cobra.Command {
	var people, to string
	cmd := &cobra.Command{
		Use:   "archive [PROFILE]",
		Short: "Save parcels in an encrypted archive",
		Args:  cobra.MaximumNArgs(1),
		Long: `Saves the newest parcel of a profile, or those of a group's people, in a ZIP
archive that is encrypted with AES-256 with a random passphrase, for transport on removable media.
The passphrase is printed once; common archive programs prompt for it. Names of people, devices
and files can be read without it.`,
		Example: "  wardicon handover archive \"Planner Mac 1/Norrvik\" --out planner.zip\n  " +
			"wardicon handover archive --group engineers",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				profile := ""
				if len(args) == 1 {
					p, err := findProfile(ctx, c, args[0])
					if err != nil {
						return err
					}
					profile = p.ID
				}
				if (profile == "") == (people == "") {
					return usage(
						"found %d profiles and the group %q, expected either a profile or --group",
						len(args),
						people,
					)
				}
				archive, err := c.Archive(ctx, profile, people)
				if err != nil {
					return err
				}
				if to == "" {
					to = archive.Name
				}
				if err := create(to, archive.Content); err != nil {
					return err
				}
				archive.Content = nil
				return a.print(archive, func(table.Writer) {
					a.say(
						"archive     %s, %d parcels\npassphrase  %s\n\nSend the passphrase "+
							"another way than the archive; it cannot be read back.",
						to,
						archive.Profiles,
						archive.Passphrase,
					)
					for _, left := range archive.Left {
						a.say("left out: %s, its parcel is missing or outdated", left)
					}
				})
			})
		},
	}
	cmd.ValidArgsFunction = profileNoun().complete(a)
	cmd.Flags().StringVar(&people, "group", "", "the parcels of this group's people")
	cmd.Flags().
		StringVar(&to, "out", "", "file to save to; it must not exist (default: named after the "+
			"contents)")
	return cmd
}

// create writes a file that must not be there.
func create(name string, data []byte) error {
	out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("%w; remove it or choose another name with --out", err)
	}
	_, err = out.Write(data)
	return errors.Join(err, out.Close())
}

func (a *app) handoverFolder() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "folder GROUP",
		Short: "Save the parcels of a group's people in folders",
		Args:  exactly("GROUP"),
		Long: `Saves the newest parcels of a group's people in one folder per person, device and
gateway, with mode 0600. They are not encrypted: this is for managing devices from this machine.
Profiles without an up-to-date parcel are listed (exit 1).`,
		Example: "  wardicon handover folder engineers --out engineers",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if to == "" {
					to = args[0]
				}
				out := api.Exported{Folder: to, Left: []string{}}
				q := client.Query{Limit: 500, Filter: map[string]string{"group": args[0]}}
				for {
					page, err := c.Profiles.List(ctx, q)
					if err != nil {
						return err
					}
					for _, p := range page.Items {
						if err := a.export(ctx, c, p, &out); err != nil {
							return err
						}
					}
					if q.Offset += len(page.Items); len(page.Items) < q.Limit {
						break
					}
				}
				if err := a.print(out, func(table.Writer) {
					a.say("%d parcels in %s", out.Profiles, out.Folder)
					for _, left := range out.Left {
						a.say("left out: %s, its parcel is missing or outdated", left)
					}
				}); err != nil {
					return err
				}
				if len(out.Left) > 0 || out.Profiles == 0 {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&to, "out", "", "folder to save to (default: the group's name)")
	return cmd
}

func (a *app) export(
	ctx context.Context,
	c *client.Client,
	p api.Profile,
	out *api.Exported,
) error {
	parcels, err := c.Parcels(ctx, p.ID)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(
		parcels.Items,
		func(one api.Parcel) bool { return !one.Outdated },
	); i == 0 {
		out.Profiles++
		return a.save(
			ctx,
			c,
			parcels.Items[0],
			filepath.Join(out.Folder, filepath.FromSlash(p.Folder())),
		)
	}
	out.Left = append(out.Left, p.Device+" to "+p.Gateway)
	return nil
}
