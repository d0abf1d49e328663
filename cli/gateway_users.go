package cli

import (
	"context"
	"path/filepath"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/format"
)

// gatewayUsers writes the files in which daemons look up who may sign in.
func (a *app) gatewayUsers() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "users GATEWAY",
		Short: "Write the user lists that a gateway's daemons read (owners only)",
		Args:  exactly("GATEWAY"),
		Long: `Writes chap-secrets and pap-secrets for pppd, and a file for the IKE daemon with its
pre-shared keys, as far as the gateway offers what they are for: everybody whose account is valid
there and has a password, by the login that devices send. People who left are not in it. The files
hold passwords in clear, which those daemons need; the folder is readable by you alone. It is
recorded in the audit log.`,
		Example: "  wardicon gateway users Norrvik --out norrvik-users",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.forGateway(cmd, args[0], to, func(ctx context.Context, c *client.Client,
				g api.Gateway) error {
				out, err := c.GatewayUsers(ctx, g.ID)
				if err != nil {
					return err
				}
				if err := keepHanded(to, out.Files); err != nil {
					return err
				}
				return a.print(out, func(w table.Writer) {
					handedTable(w, to, out.Files)
					a.say("%s of %s", plural(out.Users, "account"), g.Name)
					for _, login := range out.Left {
						a.say("left out, without a password on record: %s", login)
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&to, "out", "", "new folder to save to")
	return cmd
}

// forGateway does something for a gateway whose files go to a new folder.
func (a *app) forGateway(
	cmd *cobra.Command,
	name, to string,
	do func(context.Context, *client.Client, api.Gateway) error,
) error {
	if to == "" {
		return usage("--out: found nothing, expected the folder to write to")
	}
	if err := unused(to); err != nil {
		return err
	}
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		g, err := findGateway(ctx, c, name)
		if err != nil {
			return err
		}
		return do(ctx, c, g)
	})
}

// handedTable lists files that were written.
func handedTable(w table.Writer, to string, list []api.Handed) {
	w.AppendHeader(heads("file", "purpose"))
	for _, f := range list {
		w.AppendRow(table.Row{filepath.Join(to, f.Name), f.Purpose})
	}
}

// keepHanded writes files for a gateway into a new folder, and takes their contents away: passwords
// do not go to the terminal.
func keepHanded(to string, list []api.Handed) error {
	files := make([]format.File, len(list))
	for i, f := range list {
		files[i] = format.File{Name: f.Name, Content: f.Content, Private: true}
		list[i].Content = nil
	}
	return keep(to, files)
}

// gatewayConfig writes a working configuration of a gateway's daemons.
func (a *app) gatewayConfig() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "config GATEWAY",
		Short: "Write a working configuration for a gateway's daemons (owners only)",
		Args:  exactly("GATEWAY"),
		Long: `Writes what the open daemons of Debian need to offer what is on record of a
gateway: the IKE daemon's connections and address pool, a configuration of the TLS tunnel's
daemon for each remote, the L2TP and the PPTP daemon with pppd, their user lists (hashed for the
TLS tunnel, in clear where daemons need that), rules of a packet filter, and a README.txt that
says where each file goes and what is left to you. The certificate and its key come with
wardicon certificate bundle. The folder is readable by you alone. It is recorded in the audit
log.`,
		Example: "  wardicon gateway config Norrvik --out norrvik\n" +
			"  wardicon certificate bundle Norrvik --authority \"Skerry Line\" --out " +
			"norrvik-certificate",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.forGateway(cmd, args[0], to, func(ctx context.Context, c *client.Client,
				g api.Gateway) error {
				out, err := c.GatewayConfiguration(ctx, g.ID)
				if err != nil {
					return err
				}
				if err := keepHanded(to, out.Files); err != nil {
					return err
				}
				out.Archive = nil
				return a.print(out, func(w table.Writer) {
					handedTable(w, to, out.Files)
					a.say("%s of %s", plural(out.Users, "account"), g.Name)
					for _, text := range out.Left {
						a.say("left to you: %s", text)
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&to, "out", "", "new folder to save to")
	return cmd
}
