package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

func findGateway(ctx context.Context, c *client.Client, ref string) (api.Gateway, error) {
	return byRef(ctx, c.Gateways, "gateway", "gw", "name", ref)
}

func findPerson(ctx context.Context, c *client.Client, ref string) (api.Person, error) {
	return byRef(ctx, c.People, "person", "pe", "name", ref)
}

func findAccount(ctx context.Context, c *client.Client, ref string) (api.Account, error) {
	return byRef(ctx, c.Accounts, "account", "ac", "login", ref)
}

func findPattern(ctx context.Context, c *client.Client, ref string) (api.Pattern, error) {
	return byRef(ctx, c.Patterns, "pattern", "pa", "name", ref)
}

func findDevice(ctx context.Context, c *client.Client, ref string) (api.Device, error) {
	return byRef(ctx, c.Devices, "device", "de", "name", ref)
}

// findProfile takes an identifier, or names of device and gateway joined by a slash.
func findProfile(ctx context.Context, c *client.Client, ref string) (api.Profile, error) {
	if strings.HasPrefix(ref, "pr-") {
		return c.Profiles.Show(ctx, ref)
	}
	i := strings.LastIndex(ref, "/")
	if i < 0 {
		return api.Profile{}, usage("profile: found %q, expected its ID or DEVICE/GATEWAY", ref)
	}
	return profileOf(ctx, c, ref[:i], ref[i+1:])
}

// profileOf finds the profile that joins a device and a gateway.
func profileOf(ctx context.Context, c *client.Client, device, gateway string) (api.Profile, error) {
	d, err := findDevice(ctx, c, device)
	if err != nil {
		return api.Profile{}, err
	}
	g, err := findGateway(ctx, c, gateway)
	if err != nil {
		return api.Profile{}, err
	}
	page, err := c.Profiles.List(
		ctx,
		client.Query{Limit: 1, Filter: map[string]string{"device_id": d.ID, "gateway_id": g.ID}},
	)
	if err != nil {
		return api.Profile{}, err
	}
	if page.Total == 0 {
		return api.Profile{}, &api.Problem{
			Status: 404,
			Detail: fmt.Sprintf(
				"there is no profile of %s for %s; wardicon profile add %q --gateway %q makes one",
				d.Name,
				g.Name,
				d.Name,
				g.Name,
			),
		}
	}
	return page.Items[0], nil
}

func gatewayID(ctx context.Context, c *client.Client, ref string) (string, error) {
	g, err := findGateway(ctx, c, ref)
	return g.ID, err
}

func personID(ctx context.Context, c *client.Client, ref string) (string, error) {
	p, err := findPerson(ctx, c, ref)
	return p.ID, err
}

func accountID(ctx context.Context, c *client.Client, ref string) (string, error) {
	a, err := findAccount(ctx, c, ref)
	return a.ID, err
}

func patternID(ctx context.Context, c *client.Client, ref string) (string, error) {
	p, err := findPattern(ctx, c, ref)
	return p.ID, err
}

func deviceID(ctx context.Context, c *client.Client, ref string) (string, error) {
	d, err := findDevice(ctx, c, ref)
	return d.ID, err
}

// plainNouns are the commands of nouns that have none of their own.
func (a *app) plainNouns() []*cobra.Command {
	return []*cobra.Command{
		command(a, personNoun()),
		command(a, accountNoun()),
		command(a, deviceNoun()),
	}
}

func personNoun() noun[api.Person] {
	return noun[api.Person]{
		name:    "person",
		title:   "name",
		about:   "A person uses devices and receives their profiles.",
		example: `"Ada Fjell" --mail ada@skerryline.example --language en --group planners`,
		fields: []field{
			{flag: "mail", path: "mail"},
			{flag: "name", path: "name"},
			{flag: "language", path: "language"},
			{flag: "group", path: "groups"},
			{flag: "city", path: "place.city"},
			{flag: "country", path: "place.country"},
			{flag: "latitude", path: "place.latitude"},
			{flag: "longitude", path: "place.longitude"},
		},
		find: findPerson,
		meta: func(p api.Person) vpn.Meta { return p.Meta },
		ref:  func(p api.Person) string { return p.Name },
		columns: []string{
			"name",
			"mail",
			"groups",
			"accounts",
			"devices",
		},
		filters: []string{"group", "mail", "name", "source (here, directory, scim, missing)"},
		row: func(p api.Person) table.Row {
			return table.Row{p.Name, p.Mail, strings.Join(p.Groups, ", "), p.Accounts, p.Devices}
		},
	}
}

func accountNoun() noun[api.Account] {
	return noun[api.Account]{
		name:    "account",
		title:   "login",
		about:   "An account is the login of a person at some or all gateways.",
		example: `a_fjell --person "Ada Fjell" --password-file ada.secret --gateway Norrvik`,
		fields: []field{
			{flag: "person", path: "person_id", refers: toPerson},
			{flag: "login", path: "login"},
			{flag: "realm", path: "realm"},
			{flag: "password-file", path: "password"},
			{flag: "gateway", path: "gateway_ids", refers: toGateway},
		},
		find: findAccount,
		meta: func(x api.Account) vpn.Meta { return x.Meta },
		ref:  func(x api.Account) string { return x.Login },
		columns: []string{
			"login",
			"realm",
			"person",
			"password",
		},
		filters: []string{"login", "person_id"},
		row: func(x api.Account) table.Row {
			stored := "none"
			if x.PasswordSet {
				stored = "stored"
			}
			return table.Row{x.Login, x.Realm, x.Person, stored}
		},
	}
}

func deviceNoun() noun[api.Device] {
	return noun[api.Device]{
		name:  "device",
		title: "name",
		about: "A device is a laptop, tablet, phone, desk phone or router that a profile is " +
			"built for.",
		example: `"Planner Mac 1" --person "Ada Fjell" --platform macos --release 14 --encrypted`,
		fields: []field{
			{flag: "person", path: "person_id", refers: toPerson},
			{flag: "name", path: "name"},
			{flag: "platform", path: "platform"},
			{flag: "release", path: "release"},
			{flag: "cannot-ask", path: "cannot_ask"},
			{flag: "encrypted", path: "encrypted"},
			{flag: "site", path: "site.networks", whole: "site"},
			{flag: "masquerade", path: "site.masquerade"},
			{flag: "certificate", path: "identity.certificate", kind: fileField},
			{flag: "key-file", path: "identity.key", kind: fileField},
			{flag: "enrol", path: "enrolment.authority_id", refers: toAuthority},
			{flag: "enrol-other", path: "enrolment.other_authority_ids", refers: toAuthority},
			{flag: "enrol-generation", path: "enrolment.generation"},
		},
		find: findDevice,
		meta: func(d api.Device) vpn.Meta { return d.Meta },
		ref:  func(d api.Device) string { return d.Name },
		columns: []string{
			"name",
			"person",
			"platform",
			"release",
			"profiles",
			"findings",
		},
		filters: []string{"platform", "group", "person_id", "name"},
		row: func(d api.Device) table.Row {
			return table.Row{d.Name, d.Person, d.Platform, d.Release, d.Profiles, tally(d.Tally)}
		},
	}
}

func profileNoun() noun[api.Profile] {
	return noun[api.Profile]{
		name:  "profile",
		title: "device",
		about: "A profile is the connection of one device to one gateway. Name one by its id or " +
			"as DEVICE/GATEWAY.\nWhat you leave automatic is chosen by planning, with a " +
			"reason.",
		example: `"Planner Mac 1" --gateway Norrvik --tunnel full`,
		fields: []field{
			{flag: "gateway", path: "gateway_id", refers: toGateway},
			{flag: "connection", path: "preferences.name"},
			{flag: "account", path: "preferences.account_id", refers: toAccount},
			{flag: "tunnel", path: "preferences.tunnel"},
			{flag: "password", path: "preferences.password"},
			{flag: "certificate-passphrase", path: "preferences.certificate_passphrase"},
			{flag: "scope", path: "preferences.scope"},
			{flag: "protocol", path: "preferences.protocol"},
			{flag: "format", path: "preferences.format"},
			{flag: "auth", path: "preferences.auth"},
			{flag: "transport", path: "preferences.transport"},
			{flag: "route", path: "preferences.routes"},
			{flag: "dns", path: "preferences.dns"},
			{flag: "domain", path: "preferences.domains"},
			{flag: "ipv6", path: "preferences.ipv6"},
			{flag: "connect", path: "preferences.connect"},
			{flag: "demand-domain", path: "preferences.demand.domains"},
			{flag: "trusted-network", path: "preferences.demand.networks"},
			{flag: "trusted-suffix", path: "preferences.demand.suffixes"},
			{flag: "fallback", path: "preferences.fallback_id", refers: toGateway},
			{flag: "second-to", path: "preferences.second_to", refers: toGateway},
			{flag: "reconnect", path: "preferences.reconnect"},
			{flag: "pattern", path: "pattern_id", refers: toPattern},
		},
		find: findProfile,
		meta: func(p api.Profile) vpn.Meta { return p.Meta },
		ref:  func(p api.Profile) string { return p.Device + "/" + p.Gateway },
		columns: []string{
			"device",
			"gateway",
			"person",
			"platform",
			"pattern",
			"findings",
		},
		filters: []string{
			"severity",
			"rule",
			"platform",
			"device_id",
			"gateway_id",
			"person_id",
			"pattern_id",
		},
		row: func(p api.Profile) table.Row {
			found := tally(p.Tally)
			if !p.Checked {
				found = "check pending"
			}
			return table.Row{
				p.Device,
				p.Gateway,
				p.Person,
				string(p.Platform) + " " + p.Release,
				p.Pattern,
				found,
			}
		},
	}
}

// tally words a count of findings.
func tally(t vpn.Tally) string {
	var parts []string
	for _, p := range []struct {
		n        int
		one, all string
	}{
		{t.Errors, "error", "errors"},
		{t.Warnings, "warning", "warnings"},
		{t.Notes, "note", "notes"},
	} {
		if p.n == 1 {
			parts = append(parts, "1 "+p.one)
		} else if p.n > 1 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.all))
		}
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

func (a *app) organisation() *cobra.Command {
	root := &cobra.Command{
		Use:   "organisation",
		Short: "Show and change the organisation, and what signs its parcels",
		Long: `The organisation's name is used in profiles and on cards; its domain is the prefix
of the identifiers in Apple profiles. Links in emails start with the public URL of this service.
With one more URL that is reachable over IPv4 only and one over IPv6 only, a recipient's page also
detects traffic that bypasses the tunnel.`,
		Example: `  wardicon organisation change --name "Skerry Line" --domain skerryline.example`,
	}
	printed := func(o vpn.Organisation) error {
		return a.print(o, func(w table.Writer) {
			w.AppendHeader(
				heads("name", "domain", "public URL", "IPv4 only", "IPv6 only", "probes"),
			)
			every := "by hand"
			if o.ProbeEvery > 0 {
				every = fmt.Sprintf("every %d h", o.ProbeEvery)
			}
			w.AppendRow(table.Row{o.Name, o.Domain, o.Links, o.LinksV4, o.LinksV6, every})
			if o.LinksProblem != "" {
				a.say("People could not open a link: %s.", o.LinksProblem)
			}
		})
	}
	var given vpn.Organisation
	change := &cobra.Command{
		Use:   "change",
		Short: "Change name, domain, public URLs or policies",
		Args:  exactly(),
		Long: "Changes the given fields. If name or domain change, every profile is checked " +
			"again.",
		Example: `  wardicon organisation change --name "Skerry Line"`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := c.Organisation(ctx)
				if err != nil {
					return err
				}
				for flag, to := range map[string][2]*string{
					"name":     {&o.Name, &given.Name},
					"domain":   {&o.Domain, &given.Domain},
					"links":    {&o.Links, &given.Links},
					"enrol":    {&o.Enrol, &given.Enrol},
					"links-v4": {&o.LinksV4, &given.LinksV4},
					"links-v6": {&o.LinksV6, &given.LinksV6},
				} {
					if cmd.Flags().Changed(flag) {
						*to[0] = *to[1]
					}
				}
				if cmd.Flags().Changed("second-factors") {
					o.Factors = given.Factors
				}
				if cmd.Flags().Changed("four-eyes") {
					o.FourEyes = given.FourEyes
				}
				if cmd.Flags().Changed("probe-every") {
					o.ProbeEvery = given.ProbeEvery
				}
				if cmd.Flags().Changed("keep-parcels") {
					o.KeepParcels = given.KeepParcels
				}
				if o, err = c.SetOrganisation(ctx, o); err != nil {
					return err
				}
				return printed(o)
			})
		},
	}
	change.Flags().StringVar(&given.Name, "name", "", "name")
	change.Flags().StringVar(&given.Domain, "domain", "", "domain")
	change.Flags().
		StringVar(&given.Links, "links", "", linksHelp)
	change.Flags().StringVar(&given.Enrol, "enrol", "", "URL at which devices renew the "+
		"certificates of their own keys, such as https://enrol.skerryline.example:7443")
	change.Flags().StringVar(&given.LinksV4, "links-v4", "", "URL that is reachable over IPv4 only")
	change.Flags().
		IntVar(&given.ProbeEvery, "probe-every", 0, "hours between probes of each gateway; 0 "+
			"means only on request")
	change.Flags().
		IntVar(&given.KeepParcels, "keep-parcels", 90, "days after which the files of superseded "+
			"parcels are removed; 0 keeps them")
	change.Flags().
		BoolVar(&given.Factors, "second-factors", false, "require a second factor of every "+
			"operator")
	change.Flags().BoolVar(&given.FourEyes, "four-eyes", false, "need two operators to export the key "+
		"of a CA or the archive of a group, to override an error temporarily, and to change a severity")
	change.Flags().StringVar(&given.LinksV6, "links-v6", "", "URL that is reachable over IPv6 only")
	return group(root, change, a.signerCommands(), &cobra.Command{
		Use:     "show",
		Short:   "Show the organisation",
		Args:    exactly(),
		Long:    "Shows name, domain, public URLs and policies.",
		Example: "  wardicon organisation show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := c.Organisation(ctx)
				if err != nil {
					return err
				}
				return printed(o)
			})
		},
	})
}
