package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/format"
	"wardicon/core/format/daemons"
	"wardicon/core/inventory"
	"wardicon/core/vpn"
)

// Bounds of the files of a gateway.
const (
	maxGatewayFiles = 500
	maxGatewayFile  = 8 << 20
)

// gatewayRead fills the record of a gateway with what its daemons' configuration says.
func (a *app) gatewayRead() *cobra.Command {
	var address, users string
	var dry bool
	cmd := &cobra.Command{
		Use:   "read GATEWAY FOLDER|FILE…",
		Short: "Fill a gateway's record from the configuration of its daemons",
		Args:  cobra.MinimumNArgs(2),
		Long: `Reads what a gateway's daemons read: swanctl.conf with its certificates, the
configurations of the TLS tunnel's daemon, xl2tpd.conf, pptpd.conf, options and secrets of pppd.
What they say of offers, proposals, address pool, networks, DNS, certificate, CAs and keys goes
to the gateway's record: one that is on record is changed in the fields that the files have,
another is added with --address.

--users FILE writes the users of the files as a table for wardicon import, readable by you alone.`,
		Example: `  wardicon gateway read Sandvik /etc/swanctl /etc/openvpn/server \
      --address sandvik.skerryline.example --dry-run
  wardicon gateway read Norrvik norrvik-etc/ --users norrvik-users.csv
  wardicon import norrvik-users.csv`,
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := gatewayFiles(args[1:])
			if err != nil {
				return err
			}
			read := daemons.ReadGateway(files)
			if len(read.Files) == 0 {
				return usage("found no configuration of a gateway's daemons in %s, expected "+
					"swanctl.conf, a configuration of the TLS tunnel's daemon, xl2tpd.conf or "+
					"pptpd.conf",
					strings.Join(args[1:], ", "))
			}
			fields, err := gatewayFields(read.Gateway)
			if err != nil {
				return err
			}
			if users != "" && !dry {
				if err := writeUsers(users, read.Users); err != nil {
					return err
				}
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				g, err := findGateway(ctx, c, args[0])
				var p *api.Problem
				switch {
				case errors.As(err, &p) && p.Status == 404:
					if fields["name"] = args[0]; address == "" {
						return usage(
							"--address: found nothing, expected the address of %s, which is not "+
								"on record yet",
							args[0],
						)
					}
					fields["address"] = address
				case err != nil:
					return err
				case address != "":
					fields["address"] = address
				}
				if !dry {
					if g.ID == "" {
						g, err = c.Gateways.Add(ctx, fields)
					} else {
						g, err = c.Gateways.Change(ctx, g.ID, g.Version, fields)
					}
					if err != nil {
						return err
					}
				}
				return a.print(readOf(read, g), func(w table.Writer) {
					a.sayRead(w, read, dry)
				})
			})
		},
	}
	cmd.Flags().
		StringVar(&address, "address", "", "address of the gateway, where it is added or moves")
	cmd.Flags().
		StringVar(&users, "users", "", "new file to write the users to, for wardicon import")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what the files say")
	return cmd
}

// gatewayFiles reads all files below folders.
func gatewayFiles(args []string) (files []format.File, err error) {
	for _, arg := range args {
		err := filepath.WalkDir(arg, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			// Certificates are links often enough.
			if at, err := os.Stat(path); err != nil || !at.Mode().IsRegular() {
				return nil
			}
			if len(files) >= maxGatewayFiles {
				return usage(
					"found more than %d files, expected those of one gateway",
					maxGatewayFiles,
				)
			}
			data, err := readBounded(path, maxGatewayFile)
			files = append(files, format.File{Name: filepath.Base(path), Content: data})
			return err
		})
		if errors.Is(err, fs.ErrNotExist) {
			return nil, missing("there is no file or folder %s", arg)
		}
		if err != nil {
			return nil, err
		}
	}
	return files, nil
}

// gatewayFields is what is said of a gateway as a merge patch, with its secrets.
func gatewayFields(g vpn.Gateway) (client.Patch, error) {
	secrets := map[string]string{}
	for place, at := range g.Offers.Secrets() {
		if *at != nil && !(*at).IsZero() {
			secrets[strings.ReplaceAll(place, "/", ".")] = (*at).Reveal()
		}
	}
	g.Offers = g.Offers.Hidden()
	data, err := json.Marshal(g)
	if err != nil {
		return nil, err
	}
	fields := client.Patch{}
	if err := json.Unmarshal(data, &fields); err != nil {
		return nil, err
	}
	api.Settable(reflect.TypeFor[vpn.Gateway](), fields)
	for path, value := range secrets {
		inventory.Put(fields, path, value)
	}
	return fields, nil
}

// writeUsers writes users as a table of people with their accounts.
func writeUsers(name string, list []daemons.User) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	w := csv.NewWriter(f)
	rows := [][]string{{"name", "login", "password"}}
	for _, u := range list {
		rows = append(rows, []string{u.Login, u.Login, u.Password.Reveal()})
	}
	return errors.Join(w.WriteAll(rows), f.Close())
}

// gatewayReading is what was read, as it is printed.
type gatewayReading struct {
	Files   []string    `json:"files"`
	Gateway api.Gateway `json:"gateway"`
	Users   int         `json:"users"`
	Unread  []string    `json:"unread"`
}

func readOf(read daemons.Served, g api.Gateway) gatewayReading {
	if g.ID == "" { // nothing is kept
		g.Gateway = read.Gateway
		g.Offers = g.Offers.Hidden()
	}
	return gatewayReading{read.Files, g, len(read.Users), append([]string{}, read.Unread...)}
}

func (a *app) sayRead(w table.Writer, read daemons.Served, dry bool) {
	a.say("read: %s", strings.Join(read.Files, ", "))
	g := read.Gateway
	var offers []string
	for _, p := range g.Offers.Protocols() {
		offers = append(offers, p.Title())
	}
	for _, row := range [][2]string{
		{"offers", strings.Join(offers, ", ")},
		{"addresses", strings.Join(g.Addresses, ", ")},
		{"address pool", strings.Join(g.Pool, ", ")},
		{"networks", strings.Join(g.Routes, ", ")},
		{"sites behind routers", strings.Join(g.Announced, ", ")},
		{"DNS servers", strings.Join(g.DNS, ", ")},
		{"internal domains", strings.Join(g.Domains, ", ")},
	} {
		if row[1] != "" {
			w.AppendRow(table.Row{row[0], row[1]})
		}
	}
	secrets := g.Offers.Secrets()
	for _, place := range slices.Sorted(maps.Keys(secrets)) {
		if at := *secrets[place]; at != nil && !at.IsZero() {
			w.AppendRow(table.Row{strings.ReplaceAll(place, "/", "."), "a secret"})
		}
	}
	a.say("%s in the user lists", plural(len(read.Users), "login"))
	for _, text := range read.Unread {
		a.say("not carried: %s", text)
	}
	if dry {
		a.say("Nothing was stored (--dry-run).")
	}
}
