package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/vpn"
)

// bulk are the actions on many records at once.
func (a *app) bulk() *cobra.Command {
	root := &cobra.Command{
		Use:   "bulk",
		Short: "Build, hand over, rehearse, move or offboard many records at once",
		Long: `Acts on records that are named, or on all that match --search and --filter. It is a job
of the service: it continues after a restart, and can be cancelled.`,
		Example: "  wardicon bulk build --filter group=crew\n  wardicon bulk move --of devices " +
			"--filter platform=windows --to Norrvik",
	}
	return group(
		root,
		a.act(api.SelectionBuild, "Build the parcels that are out of date",
			"Builds a parcel for each profile whose newest one is out of date, or that has none."),
		a.act(api.SelectionHandOver, "Make links to parcels",
			`Builds what is out of date and makes a link for each profile. Links are sent by email;
with --sheets they are kept for a day, to be read with "wardicon handover slips".`),
		a.act(api.SelectionRehearse, "Sign in as the devices would",
			"Rehearses the newest parcel of each profile, one after the other, at most 200."),
		a.act(api.SelectionMove, "Have profiles lead to another gateway",
			`Changes the gateway of each profile. What was set manually stays; a device that has a
profile at that gateway already keeps both.`),
		a.act(api.SelectionOffboard, "Offboard people or devices",
			`Closes links, revokes certificates, builds no more parcels, and lists for each what is
left to do.`),
	)
}

func (a *app) act(action api.SelectionAction, short, long string) *cobra.Command {
	in := api.Selection{Action: action}
	var of, to, why string
	var filters []string
	var hand handoverFlags
	var sheets, background bool
	cmd := &cobra.Command{
		Use: string(action) + " [NAME...]", Short: short, Long: long,
		Example: "  wardicon bulk " + string(action) + " --of people --filter group=crew",
		RunE: func(cmd *cobra.Command, args []string) error {
			noun, known := map[string]string{
				"profiles": "profile", "devices": "device", "people": "person",
			}[of]
			if !known {
				return usage("--of: found %q, expected profiles, devices or people", of)
			}
			if len(args) == 0 && in.Search == "" && len(filters) == 0 {
				return usage("expected names, --search or --filter")
			}
			in.Noun, in.Why = noun, vpn.OffboardReason(why)
			for _, f := range filters {
				in.Filter = append(in.Filter, strings.Replace(f, "=", ":", 1))
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := a.selectNamed(ctx, c, &in, args, to); err != nil {
					return err
				}
				if action == api.SelectionHandOver {
					link := check.ByMail
					if sheets {
						link = check.ByOperator
					}
					in.HandoverRequest = hand.request(link, check.BySheet)
					if err := a.warnOfLinks(ctx, c); err != nil {
						return err
					}
				}
				if action == api.SelectionMove || action == api.SelectionOffboard {
					which := fmt.Sprintf("%d %s", len(in.IDs), of)
					if len(in.IDs) == 0 {
						which = "all matching " + of
					}
					if err := a.sure("%s %s?", map[api.SelectionAction]string{
						api.SelectionMove: "Move", api.SelectionOffboard: "Offboard",
					}[action], which); err != nil {
						return err
					}
				}
				j, err := c.Act(ctx, in)
				return a.follow(ctx, c, j, err, background)
			})
		},
	}
	cmd.Flags().StringVar(&of, "of", "profiles", "kind of the records: profiles, devices or people")
	cmd.Flags().StringVar(&in.Search, "search", "", "records that contain this text")
	cmd.Flags().StringArrayVar(&filters, "filter", nil, "condition, such as group=crew; repeatable")
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until it is done")
	switch action {
	case api.SelectionMove:
		cmd.Flags().StringVar(&to, "to", "", "gateway to move to")
		_ = cmd.MarkFlagRequired("to")
	case api.SelectionOffboard:
		cmd.Flags().StringVar(&why, "why", "left", "reason: lost, left or retired")
	case api.SelectionHandOver:
		hand.add(cmd)
		cmd.Flags().BoolVar(&sheets, "sheets", false, "keep the links for reading instead of "+
			"sending them")
	}
	return cmd
}

// selectNamed puts the identifiers of what was named into a selection.
func (a *app) selectNamed(
	ctx context.Context,
	c *client.Client,
	in *api.Selection,
	names []string,
	to string,
) error {
	for _, name := range names {
		var id string
		var err error
		switch in.Noun {
		case "profile":
			var p api.Profile
			p, err = findProfile(ctx, c, name)
			id = p.ID
		case "device":
			var d api.Device
			d, err = findDevice(ctx, c, name)
			id = d.ID
		default:
			var p api.Person
			p, err = findPerson(ctx, c, name)
			id = p.ID
		}
		if err != nil {
			return err
		}
		in.IDs = append(in.IDs, id)
	}
	if to == "" {
		return nil
	}
	g, err := findGateway(ctx, c, to)
	in.GatewayID = g.ID
	return err
}
