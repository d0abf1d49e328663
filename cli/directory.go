package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

// directoryCommands are those of the directory that people come from.
func (a *app) directoryCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "directory",
		Short: "Read people from an LDAP directory",
		Long: `People, their logins and their groups can come from an LDAP directory, on demand
or by a schedule. It is only read. What differs is imported like a table: shown by a dry run,
undone in one step. People who are no longer in the directory are never removed; person list
--filter source=missing lists them, and wardicon offboard takes them through offboarding.`,
		Example: `  wardicon service directory set --url ldaps://directory.skerryline.example \
      --base ou=people,dc=skerryline,dc=example --bind-dn cn=reader,dc=skerryline,dc=example \
      --password-file reader.secret --authority directory-ca.pem --every 60
  wardicon service directory read --dry-run
  wardicon service directory read`,
	}
	return group(root, a.directoryShow(), a.directorySet(), a.directoryRead())
}

func (a *app) showDirectory(d vpn.Directory, st api.DirectoryState) error {
	return a.print(struct {
		vpn.Directory
		State api.DirectoryState `json:"state"`
	}{d, st}, func(w table.Writer) {
		if d.URL == "" {
			a.say("No directory is set: people are not read from one.")
			return
		}
		every := "on demand"
		if d.Every > 0 {
			every = "every " + plural(d.Every, "minute")
		}
		last := "never"
		if st.At != nil {
			last = st.At.Local().Format(moment)
		}
		var fields []string
		for _, field := range slices.Sorted(maps.Keys(d.Attributes)) {
			fields = append(fields, field+" = "+d.Attributes[field])
		}
		for _, row := range [][2]string{
			{"address", d.URL}, {"signs in as", cmp.Or(d.BindDN, "nobody")}, {"base", d.Base},
			{"filter", d.Filter}, {"identified by", d.KeyAttribute},
			{"attributes", strings.Join(fields, ", ")}, {"groups below", d.GroupBase},
			{"read", every}, {"last read", last}, {"problem", st.Problem},
			{"entries", fmt.Sprint(st.Entries)},
			{"people from it", fmt.Sprintf("%d, %d of them no longer in "+
				"it", st.People, st.Missing)},
		} {
			if row[1] != "" {
				w.AppendRow(table.Row{row[0], row[1]})
			}
		}
	})
}

func (a *app) directoryShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show",
		Short:   "Show the directory settings and the last reading",
		Args:    exactly(),
		Long:    "Shows how people are read from the directory, and what came of the last reading.",
		Example: "  wardicon service directory show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				d, err := c.Directory(ctx)
				if err != nil {
					return err
				}
				st, err := c.DirectoryState(ctx)
				if err != nil {
					return err
				}
				return a.showDirectory(d, st)
			})
		},
	}
}

func (a *app) directorySet() *cobra.Command {
	var given vpn.Directory
	var files outside
	var attributes, groups []string
	cmd := &cobra.Command{
		Use:   "set",
		Short: "Change the directory settings (owners only)",
		Args:  exactly(),
		Long: `Changes the given fields; the others are kept. An empty --url reads no directory
any more.

--attribute says which attribute has a field: name, mail, login, language, groups, city or country.
--group says which group here a group of the directory is; with any, only those are taken over, and
other groups of a person stay as they are.`,
		Example: `  wardicon service directory set --url ldaps://directory.skerryline.example \
      --base ou=people,dc=skerryline,dc=example
  wardicon service directory set --attribute login=sAMAccountName --key-attribute objectGUID
  wardicon service directory set --group-base ou=groups,dc=skerryline,dc=example \
      --group "cn=Pursers,ou=groups,dc=skerryline,dc=example=pursers"`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				d, err := c.Directory(ctx)
				if err != nil {
					return err
				}
				changed := cmd.Flags().Changed
				if err := a.given(cmd, map[string]func(){
					"url":           func() { d.URL = given.URL },
					"bind-dn":       func() { d.BindDN = given.BindDN },
					"base":          func() { d.Base = given.Base },
					"entries":       func() { d.Filter = given.Filter },
					"key-attribute": func() { d.KeyAttribute = given.KeyAttribute },
					"group-base":    func() { d.GroupBase = given.GroupBase },
					"every":         func() { d.Every = given.Every },
					"stop-over":     func() { d.StopOver = given.StopOver },
				}, files, &d.Authority, &d.Password); err != nil {
					return err
				}
				if err := pairs("--attribute", attributes, d.Attributes); err != nil {
					return err
				}
				if changed("group") {
					d.Groups = map[string]string{}
				}
				if err := pairs("--group", groups, d.Groups); err != nil {
					return err
				}
				if d, err = c.SetDirectory(ctx, d, d.BindDN == ""); err != nil {
					return err
				}
				st, err := c.DirectoryState(ctx)
				if err != nil {
					return err
				}
				return a.showDirectory(d, st)
			})
		},
	}
	describe := func(path string) string {
		return flagHelp(api.Describe(reflect.TypeFor[vpn.Directory](), path))
	}
	f := cmd.Flags()
	f.StringVar(&given.URL, "url", "", describe("url"))
	f.StringVar(&files.authority, "authority", "", describe("authority")+" (name of a file)")
	f.StringVar(&given.BindDN, "bind-dn", "", describe("bind_dn"))
	f.StringVar(&files.secret, "password-file", "", "file with the password, - for standard input")
	f.StringVar(&given.Base, "base", "", describe("base"))
	f.StringVar(&given.Filter, "entries", "", describe("filter"))
	f.StringVar(&given.KeyAttribute, "key-attribute", "", describe("key_attribute"))
	f.StringArrayVar(&attributes, "attribute", nil, "attribute of a field, such as login=uid; may "+
		"be repeated")
	f.StringVar(&given.GroupBase, "group-base", "", describe("group_base"))
	f.StringArrayVar(
		&groups,
		"group",
		nil,
		"group here of a group there, such as Pursers=pursers; "+
			"may be repeated; --group \"\" takes all groups",
	)
	f.IntVar(&given.Every, "every", 0, describe("every"))
	f.IntVar(&given.StopOver, "stop-over", 10, describe("stop_over"))
	return cmd
}

// pairs reads values such as NAME=VALUE into a map; what follows the last sign is the value, and an
// empty one takes the name out.
func pairs(flag string, given []string, into map[string]string) error {
	for _, one := range given {
		at := strings.LastIndex(one, "=")
		switch {
		case one == "":
		case at < 1:
			return usage("%s: found %q, expected two names with = between them", flag, one)
		case one[at+1:] == "":
			delete(into, one[:at])
		default:
			into[one[:at]] = one[at+1:]
		}
	}
	return nil
}

func (a *app) directoryRead() *cobra.Command {
	var dry, background bool
	cmd := &cobra.Command{
		Use:   "read",
		Short: "Read the directory, and import what differs",
		Args:  exactly(),
		Long: `Reads all entries that fit the filter, and adds and changes people, accounts and
groups to match, as a job. It stops before it changes anything if more people than --stop-over
allows are no longer in the directory. wardicon import undo takes an import back.`,
		Example: "  wardicon service directory read --dry-run\n  wardicon service directory read",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				r, err := c.ReadDirectory(ctx, dry)
				if err != nil {
					return err
				}
				wrong := r.Import.Rows[api.RowWrong]
				if a.output != "table" && r.Job == nil {
					if err := a.print(r, nil); err != nil {
						return err
					}
				}
				if a.output == "table" {
					a.sayReading(r, dry)
					page, err := a.rowsOf(ctx, c, r)
					if err != nil {
						return err
					}
					if err := a.print(page, func(w table.Writer) {
						if len(page.Items) > 0 {
							rowTable(w, page.Items)
						}
					}); err != nil {
						return err
					}
				}
				if r.Job != nil {
					if err := a.follow(ctx, c, *r.Job, nil, background); err != nil {
						return err
					}
				}
				if wrong > 0 {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would be added and changed")
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until it is imported")
	return cmd
}

// rowsOf are the first rows of a reading that are not as they were.
func (a *app) rowsOf(
	ctx context.Context,
	c *client.Client,
	r api.DirectoryReading,
) (api.Page[api.ImportRow], error) {
	for _, outcome := range []api.RowOutcome{api.RowWrong, api.RowAdd, api.RowChange} {
		if r.Import.ID != "" && r.Import.Rows[outcome] > 0 {
			return c.ImportRows(ctx, r.Import.ID, client.Query{
				Limit: 50, Filter: map[string]string{"outcome": string(outcome)},
			})
		}
	}
	return api.Page[api.ImportRow]{}, nil
}

func (a *app) sayReading(r api.DirectoryReading, dry bool) {
	n := r.Import.Rows
	a.say(
		"%s: %s, %d to add, %d to change, %d the same, %d wrong",
		r.Import.File,
		plural(
			r.Entries,
			"entry",
		),
		n[api.RowAdd],
		n[api.RowChange],
		n[api.RowSame],
		n[api.RowWrong],
	)
	if r.Missing > 0 {
		names := strings.Join(r.Gone, ", ")
		if r.Missing > len(r.Gone) {
			names += " …"
		}
		verb := "are"
		if r.Missing == 1 {
			verb = "is"
		}
		a.say("%s %s no longer in the directory: %s", plural(r.Missing, "person"), verb, names)
		a.say("Nobody is removed; wardicon offboard takes them through offboarding.")
	}
	if dry {
		a.say("Nothing was imported (--dry-run).")
	}
}
