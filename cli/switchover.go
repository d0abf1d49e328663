package cli

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

func findSwitchover(
	ctx context.Context,
	c *client.Client,
	ref string,
) (api.Switchover, error) {
	return byRef(ctx, c.Switchovers, "switchover", "sw", "name", ref)
}

var toAuthority = reference{
	func(ctx context.Context, c *client.Client, ref string) (string, error) {
		a, err := findAuthority(ctx, c, ref)
		return a.ID, err
	},
	func(ctx context.Context, c *client.Client, id string) (string, error) {
		a, err := c.Authorities.Show(ctx, id)
		return a.Name, err
	},
}

func switchoverNoun() noun[api.Switchover] {
	return noun[api.Switchover]{
		name:  "switchover",
		title: "name",
		about: `A switchover is a planned change of the fleet from an old value to a new one: a
key, a certificate, an address, a protocol, a release, or a whole gateway. While it runs, both
values are valid where the gateway can hold two. Devices get the new one in waves; the old one ends
with the cut-off. Kinds: psk, control-key, authority, certificate, address, port, proposals,
offers, retirement, ca-rollover, release, passwords.

Add it, compute its preview, and start it; wardicon switchover board shows where it stands.`,
		example: `"New key at Norrvik" --kind psk --gateway Norrvik --wave pilots --wave 25 \
      --wave 100 --seen-share 80 --cut-off 2026-12-31 --mail`,
		fields: []field{
			{flag: "kind", path: "kind"},
			{flag: "name", path: "name"},
			{flag: "gateway", path: "gateway_id", refers: toGateway},
			{flag: "old-authority", path: "authority_id", refers: toAuthority},
			{flag: "new-authority", path: "successor_id", refers: toAuthority},
			{flag: "successor", path: "successor_ids", refers: toGateway},
			{flag: "group", path: "group"},
			{flag: "platform", path: "platform"},
			{flag: "psk-file", path: "next.psk"},
			{flag: "local-id", path: "next.local_id"},
			{flag: "control-key-file", path: "next.control_key", kind: fileField},
			{flag: "authority-file", path: "next.authority", kind: fileField},
			{flag: "certificate", path: "next.certificate", kind: fileField},
			{flag: "address", path: "next.address"},
			{flag: "ip", path: "next.addresses"},
			{flag: "remote", path: "next.remotes"},
			{flag: "sstp-port", path: "next.sstp_port"},
			{flag: "protocol", path: "next.protocols"},
			{flag: "ike", path: "next.ike"},
			{flag: "esp", path: "next.esp"},
			{flag: "cipher", path: "next.ciphers"},
			{flag: "drop", path: "next.drop"},
			{flag: "release", path: "next.release"},
			{flag: "valid-from", path: "valid_from"},
			{flag: "cut-off", path: "cut_off"},
			{flag: "wave", path: "waves"},
			{flag: "seen-share", path: "seen_share"},
			{flag: "rehearse", path: "rehearse"},
			{flag: "report-share", path: "report_share"},
			{flag: "remind-days", path: "remind_days"},
			{flag: "mail", path: "mail"},
			{flag: "note", path: "note"},
		},
		find:    findSwitchover,
		meta:    func(s api.Switchover) vpn.Meta { return s.Meta },
		ref:     func(s api.Switchover) string { return s.Name },
		columns: []string{"name", "what", "gateway", "state", "devices", "moved", "cut-off"},
		filters: []string{"state", "kind", "gateway_id", "active (true, false)", "name"},
		row: func(s api.Switchover) table.Row {
			return table.Row{s.Name, s.Kind.Title(), s.Gateway, s.State, s.Touched, s.Moved,
				dateOr(s.CutOff, "open")}
		},
	}
}

func dateOr(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return t.Local().Format(moment)
}

// switchoverCommands are those of every noun, and what moves a switchover on.
func (a *app) switchoverCommands() *cobra.Command {
	n := switchoverNoun()
	root := command(a, n)
	own := []*cobra.Command{a.previewSwitchover(n), a.board(n), a.switchDevices(n)}
	for _, p := range phases {
		own = append(own, a.phase(n, p))
	}
	own = append(own, a.confirmSwitched(n))
	for _, c := range own {
		c.ValidArgsFunction = n.complete(a)
	}
	root.AddCommand(append(own, a.calendar())...)
	return root
}

func (a *app) previewSwitchover(n noun[api.Switchover]) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "preview SWITCHOVER",
		Short: "Compute what it means for every device, without changing anything",
		Args:  exactly("SWITCHOVER"),
		Long: `Plans every device that the switchover touches with the new value and shows what its
people must do: nothing, tap to install a file, run a script, retype values; who cannot follow and
why; and how many devices each successor of a retired gateway takes. It is a job of the service.`,
		Example: "  wardicon switchover preview \"New key at Norrvik\"",
	}
	cmd.RunE = n.found(a, func(
		ctx context.Context, c *client.Client, s api.Switchover, _ string,
	) error {
		j, err := c.PreviewSwitchover(ctx, s.ID)
		if err != nil {
			return err
		}
		if _, err := a.wait(ctx, c, j); err != nil {
			return err
		}
		b, err := c.SwitchoverBoard(ctx, s.ID)
		if err != nil {
			return err
		}
		return a.print(b, func(w table.Writer) { a.sayNeeds(w, b) })
	})
	return cmd
}

var needTexts = map[string]string{
	"nothing": "nothing to do", "tap": "install a file", "run": "run a script",
	"retype": "retype values", "cannot": "cannot follow",
}

func (a *app) sayNeeds(w table.Writer, b api.SwitchoverBoard) {
	w.AppendHeader(heads("devices", "platform", "people must", "gateway", "new findings", "why"))
	for _, n := range b.Needs {
		w.AppendRow(table.Row{n.Count, n.Platform, needTexts[n.Need], n.Gateway, n.NewFindings,
			n.Why})
	}
	for _, l := range b.Loads {
		a.say("%s takes %s, and has %s today.", l.Gateway, plural(l.Coming, "device"),
			plural(l.Now, "device"))
		if l.Short {
			a.say("warning: its client address pool has room for %s.",
				plural(l.Addresses, "client"))
		}
	}
	for _, h := range b.Holds {
		if h.Both {
			a.say("%s: the gateway can serve both values.", h.Protocol.Title())
		} else {
			a.say("%s: the gateway serves one value at a time: %s.", h.Protocol.Title(), h.Why)
		}
	}
}

func (a *app) board(n noun[api.Switchover]) *cobra.Command {
	cmd := &cobra.Command{
		Use:     "board SWITCHOVER",
		Short:   "Show where a switchover stands",
		Args:    exactly("SWITCHOVER"),
		Long:    "Shows how far the devices of each wave have come, and what holds the old value.",
		Example: "  wardicon switchover board \"New key at Norrvik\"",
	}
	cmd.RunE = n.found(a, func(
		ctx context.Context, c *client.Client, s api.Switchover, _ string,
	) error {
		b, err := c.SwitchoverBoard(ctx, s.ID)
		if err != nil {
			return err
		}
		return a.print(b, func(w table.Writer) { a.sayBoard(w, b) })
	})
	return cmd
}

func (a *app) sayBoard(w table.Writer, b api.SwitchoverBoard) {
	s := b.Switchover
	w.AppendHeader(heads("wave", "cannot", "waiting", "released", "built", "handed over", "taken",
		"connected", "nothing to do"))
	by := map[int]map[api.SwitchoverStepState]int{}
	most := max(1, len(s.Waves))
	for _, c := range b.Counts {
		if by[c.Wave] == nil {
			by[c.Wave] = map[api.SwitchoverStepState]int{}
		}
		by[c.Wave][c.State] += c.Count
		most = max(most, c.Wave)
	}
	for wave := 1; wave <= most; wave++ {
		row := table.Row{wave}
		for _, state := range api.SwitchoverStepStates {
			row = append(row, by[wave][state])
		}
		w.AppendRow(row)
	}
	state := string(s.State)
	if s.Paused != "" {
		state += ": " + s.Paused
	}
	a.say("%s, %s: %s; %d of %s begun; old value until %s", s.Name, s.Kind.Title(), state,
		s.Begun, plural(max(1, len(s.Waves)), "wave"), dateOr(s.CutOff, "it is cut off"))
	if b.Waits != "" {
		a.say("The next wave waits: %s.", b.Waits)
	}
	for _, p := range b.Places {
		a.say("Old value: %s (%d)", p.Name, p.Count)
	}
	if b.Reports > 0 {
		a.say("Problems reported: %s", plural(b.Reports, "device"))
	}
}

func (a *app) switchDevices(n noun[api.Switchover]) *cobra.Command {
	var of string
	cmd := list(a, listing[api.SwitchoverStep]{
		use:   "devices",
		short: "List the devices of a switchover",
		about: "Lists what a switchover means for devices, and how far each has come.",
		example: "  wardicon switchover devices --of \"New key at Norrvik\" --filter " +
			"holds_old=true",
		plural: "devices",
		filters: []string{"state", "need", "wave", "platform",
			"holds_old (true, false)"},
		columns: []string{"device", "person", "gateway", "wave", "people must", "state", "why"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (
			api.Page[api.SwitchoverStep], error,
		) {
			s, err := findSwitchover(ctx, c, of)
			if err != nil {
				return api.Page[api.SwitchoverStep]{}, err
			}
			return c.SwitchoverDevices(ctx, s.ID, q)
		},
		row: func(x api.SwitchoverStep) table.Row {
			return table.Row{x.Device, x.Person, x.Gateway, x.Wave, needTexts[x.Need], x.State,
				x.Why}
		},
	})
	cmd.Flags().StringVar(&of, "of", "", "name or ID of the switchover")
	_ = cmd.MarkFlagRequired("of")
	return cmd
}

// phaseCommand is a command that brings a switchover into another phase.
type phaseCommand struct{ name, short, long, ask, done string }

var phases = []phaseCommand{
	{
		"start", "Make both values valid and begin the first wave",
		"Starts a switchover whose preview was computed. Undo it as long as the old value is not " +
			"cut off.",
		"Start %s?", "started %s",
	},
	{
		"pause", "Begin no further wave", "Pauses a switchover: devices that have the new value " +
			"keep it.", "", "paused %s",
	},
	{
		"resume", "Go on after a pause", "Resumes a switchover that was paused, by an operator " +
			"or because people reported problems.", "", "resumed %s",
	},
	{
		"advance", "Begin the next wave", "Begins the next wave. It is refused while the wave " +
			"before waits for a rehearsal or for devices; --force begins it anyway.",
		"", "began the next wave of %s",
	},
	{
		"undo", "Keep the old value", "Ends a switchover with the old value: devices are planned " +
			"with it again, and links to the new one are closed. Devices that have taken the new " +
			"one need another parcel.", "Undo %s?", "undid %s",
	},
	{
		"cut-off", "End the old value", "Puts the new value on record and ends the old one: " +
			"links to parcels with it are closed. The devices that still hold it are listed first.",
		"", "cut off the old value of %s",
	},
}

func (a *app) phase(n noun[api.Switchover], p phaseCommand) *cobra.Command {
	var force bool
	cmd := &cobra.Command{
		Use:     p.name + " SWITCHOVER",
		Short:   p.short,
		Args:    exactly("SWITCHOVER"),
		Long:    p.long,
		Example: "  wardicon switchover " + p.name + " \"New key at Norrvik\"",
	}
	cmd.RunE = n.found(a, func(
		ctx context.Context, c *client.Client, s api.Switchover, _ string,
	) error {
		phase := client.Phase{Phase: p.name, Anyway: force}
		if p.ask != "" {
			if err := a.sure(p.ask, s.Name); err != nil {
				return err
			}
		}
		if p.name == "cut-off" && s.State.Active() { // else the service refuses it
			holders, err := a.askHolders(ctx, c, s)
			if err != nil {
				return err
			}
			phase.Holders = holders
		}
		done, err := c.Switch(ctx, s.ID, phase)
		if err != nil {
			return err
		}
		return a.print(done, func(w table.Writer) {
			a.say(p.done, s.Name)
			n.table(w, done)
		})
	})
	if p.name == "advance" {
		cmd.Flags().BoolVar(&force, "force", false, "begin the wave although something waits")
	}
	return cmd
}

// mostNamedHolders bounds how many devices are named before a cut-off.
const mostNamedHolders = 20

// askHolders names the devices that hold the old value, and asks for a confirmation.
func (a *app) askHolders(
	ctx context.Context,
	c *client.Client,
	s api.Switchover,
) (int, error) {
	b, err := c.SwitchoverBoard(ctx, s.ID)
	if err != nil {
		return 0, err
	}
	holders := b.Holders
	if holders == 0 {
		return 0, a.sure("Cut off the old value of %s? No device is known to hold it.", s.Name)
	}
	page, err := c.SwitchoverDevices(ctx, s.ID, client.Query{
		Limit: mostNamedHolders, Filter: map[string]string{"holds_old": "true"},
	})
	if err != nil {
		return 0, err
	}
	for _, x := range page.Items {
		_, _ = fmt.Fprintf(a.Err, "holds the old value: %s of %s (%s)\n", x.Device, x.Person,
			x.State)
	}
	if holders > len(page.Items) {
		_, _ = fmt.Fprintf(a.Err, "and %d more\n", holders-len(page.Items))
	}
	return holders, a.sure("Cut off the old value of %s? %s will not connect any more.", s.Name,
		plural(holders, "device"))
}

func (a *app) confirmSwitched(n noun[api.Switchover]) *cobra.Command {
	return &cobra.Command{
		Use:   "confirm SWITCHOVER DEVICE/GATEWAY",
		Short: "Note that a device is known to have the new value",
		Args:  exactly("SWITCHOVER", "DEVICE/GATEWAY"),
		Long: `Notes that you know that a device has the new value, such as one whose values you
have typed. Others are noted when their link is used and their connection is seen.`,
		Example: "  wardicon switchover confirm \"New key at Norrvik\" \"Ticket desk " +
			"phone/Norrvik\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				s, err := findSwitchover(ctx, c, args[0])
				if err != nil {
					return err
				}
				p, err := findProfile(ctx, c, args[1])
				if err != nil {
					return err
				}
				x, err := c.ConfirmSwitched(ctx, s.ID, p.ID)
				if err != nil {
					return err
				}
				return a.print(x, func(table.Writer) {
					a.say("%s of %s has the new value", x.Device, x.Person)
				})
			})
		},
	}
}

// calendar lists what expires or changes.
func (a *app) calendar() *cobra.Command {
	var days int
	var feed, end bool
	cmd := &cobra.Command{
		Use:   "calendar",
		Short: "List what expires or changes, and which switchover prepares for it",
		Args:  exactly(),
		Long: `Lists certificates, CAs, links and overrides that end within some days, releases of
systems that reach their end of support then, with what later ones can no longer do, and the dates of
switchovers. With --feed it makes the address of a calendar that programs subscribe to
(RFC 5545): whoever has it can read the calendar. Another one takes its place; --end-feed ends
it.`,
		Example: "  wardicon switchover calendar --days 90\n  wardicon switchover calendar --feed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				switch {
				case end:
					return c.EndFeed(ctx)
				case feed:
					made, err := c.NewFeed(ctx)
					if err != nil {
						return err
					}
					return a.print(made, func(table.Writer) { a.say("%s", made.URL) })
				}
				list, err := c.Calendar(ctx, days)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) { a.sayCalendar(w, list.Items) })
			})
		},
	}
	cmd.Flags().IntVar(&days, "days", 365, "days to look ahead")
	cmd.Flags().BoolVar(&feed, "feed", false, "make the address of a calendar to subscribe to")
	cmd.Flags().BoolVar(&end, "end-feed", false, "take that address away")
	return cmd
}

func (a *app) sayCalendar(w table.Writer, list []api.CalendarEntry) {
	if len(list) == 0 {
		a.say("Nothing expires or changes.")
		return
	}
	w.AppendHeader(heads("date", "what", "switchover"))
	for _, e := range list {
		w.AppendRow(table.Row{e.At.Local().Format(time.DateOnly), e.Text(),
			cmp.Or(string(e.Plan), "-")})
	}
}

// timeOf reads a date, or a date with a time, of this machine's zone.
func timeOf(flag, text string) (any, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t.UTC().Format(time.RFC3339), nil
		}
	}
	return nil, usage("--%s: found %q, expected a date such as 2026-12-31, or 2026-12-31 18:00",
		flag, text)
}

// wavesOf reads waves: a number is a share in percent, anything else a group of people.
func wavesOf(list []string) []vpn.Wave {
	waves := []vpn.Wave{}
	for _, v := range list {
		if share, err := strconv.Atoi(strings.TrimSuffix(v, "%")); err == nil {
			waves = append(waves, vpn.Wave{Share: share})
		} else if v != "" {
			waves = append(waves, vpn.Wave{Group: v})
		}
	}
	return waves
}
