package cli

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/format"
	"wardicon/core/secret"
)

// fetch is for the device itself: it needs no session, only a link and its passcode.
func (a *app) fetch() *cobra.Command {
	var to, file, authority string
	cmd := &cobra.Command{
		Use:   "fetch LINK",
		Short: "Fetch a parcel by its link, on the device that it is for",
		Args:  exactly("LINK"),
		Long: `Opens the link of a handover, prompts for its passcode, and saves the files with
mode 0600. It needs no operator account. With - instead of the link, link and passcode are read
from two lines of standard input.`,
		Example: "  wardicon handover fetch https://connect.skerryline.example/h/… --out " +
			"norrvik\n  wardicon handover fetch - --out norrvik < two-lines.txt",
		RunE: func(cmd *cobra.Command, args []string) error {
			link, passcode, err := a.linkAndPasscode(args[0], file)
			if err != nil {
				return err
			}
			c := client.New("", "")
			if authority != "" {
				text, err := a.read(authority)
				if err != nil {
					return err
				}
				c = client.Trusting("", "", string(text))
			}
			return a.fetchTo(cmd.Context(), c, link, passcode, to)
		},
	}
	cmd.Flags().
		StringVar(&to, "out", "", "folder to save to; created if missing (default: the device's "+
			"name)")
	cmd.Flags().
		StringVar(&file, "passcode-file", "", "file with the passcode, or - for standard input "+
			"(default: prompt)")
	cmd.Flags().
		StringVar(&authority, "authority", "", "file with the CAs of the service's certificate, "+
			"PEM (default: those of the system)")
	return cmd
}

func (a *app) linkAndPasscode(link, file string) (string, secret.Text, error) {
	switch {
	case link == "-":
		said, err := a.promptAll("Link", "Passcode")
		if err != nil {
			return "", secret.Text{}, err
		}
		return strings.TrimSpace(said[0].Reveal()), said[1], nil
	case file != "":
		text, err := a.readSecret(file)
		return link, secret.New(text), err
	}
	passcode, err := a.ask("Passcode")
	return link, passcode, err
}

func (a *app) fetchTo(
	ctx context.Context,
	c *client.Client,
	link string,
	passcode secret.Text,
	to string,
) error {
	visit, err := c.OpenLink(ctx, link, passcode)
	if err != nil {
		var refused *api.Problem
		var unreachable *client.UnreachableError
		if errors.As(err, &refused) || errors.As(err, &unreachable) {
			return err
		}
		return usage("%v", err)
	}
	files := make([]format.File, len(visit.List.Files))
	for i, f := range visit.List.Files {
		if f.Content, err = visit.Fetch(ctx, f); err != nil {
			return err
		}
		files[i] = f.File
	}
	if to == "" {
		to = format.FileName(visit.List.Device, "")
	}
	if err := keep(to, files); err != nil {
		return err
	}
	return a.print(visit.List, func(w table.Writer) {
		a.say(
			"for %s, %s: it connects to %s",
			visit.List.Device,
			visit.List.Person,
			visit.List.Gateway,
		)
		if visit.List.Outdated {
			a.say(
				"something has changed since this was built: it may no longer work, ask for a " +
					"new link",
			)
		}
		if len(visit.List.Steps) > 0 {
			a.say("\nnext steps")
		}
		for i, step := range visit.List.Steps {
			a.say("%3d. %s", i+1, strings.NewReplacer("‹", "", "›", "").Replace(step))
		}
		a.say("")
		w.AppendHeader(heads("file", "purpose"))
		for _, f := range files {
			w.AppendRow(table.Row{filepath.Join(to, f.Name), f.Purpose})
		}
	})
}

func (a *app) whereami() *cobra.Command {
	return &cobra.Command{
		Use:   "address",
		Short: "Show the public address that the service sees, and the gateway in between",
		Args:  exactly(),
		Long: "Shows the address from which this machine reaches the service, and whether it " +
			"is a gateway's. It needs no session. Exits 1 if no gateway is in between.",
		Example: "  wardicon me address --service https://connect.skerryline.example",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				w, err := c.Whereami(ctx)
				if err != nil {
					return err
				}
				if err := a.print(w, func(table.Writer) {
					if w.Match == nil {
						a.say("%s: not connected, no gateway in between", w.Address)
					} else {
						a.say(
							"%s: through %s, over the tunnel (%s)",
							w.Address,
							w.Match.Gateway,
							w.Match.By,
						)
					}
				}); err != nil {
					return err
				}
				if w.Match == nil {
					return errFindings
				}
				return nil
			})
		},
	}
}
