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
		Use: "fetch LINK", Short: "Fetch a parcel on the device that it is for, by its link", Args: exactly("LINK"),
		Long: `Opens the link of a handover, asks for its passcode, and saves the files, readable by you alone. It needs no account
at the service. With - in the place of the link, link and passcode are two lines of standard input.`,
		Example: "  wardicon fetch https://connect.skerryline.example/h/… --to norrvik\n  wardicon fetch - --to norrvik < two-lines.txt",
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
	cmd.Flags().StringVar(&to, "to", "", "folder to save to; it is made where it is missing (default: the device's name)")
	cmd.Flags().StringVar(&file, "passcode-file", "", "file with the passcode, or - for standard input (it is asked for)")
	cmd.Flags().StringVar(&authority, "authority", "", "file with the authorities of the service's certificate, PEM (those of the system)")
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

func (a *app) fetchTo(ctx context.Context, c *client.Client, link string, passcode secret.Text, to string) error {
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
		a.say("for %s, %s: it connects to %s", visit.List.Device, visit.List.Person, visit.List.Gateway)
		if visit.List.Outdated {
			a.say("something has changed since this was made: it may no longer work, ask for a new link")
		}
		if len(visit.List.Steps) > 0 {
			a.say("\nwhat to do")
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
		Use: "whereami", Short: "Tell which address the service sees, and through which gateway", Args: exactly(),
		Long:    "Asks the service which address this machine comes from, and whether that is a gateway's. It needs no session. Exits 1 when no gateway stands in between.",
		Example: "  wardicon whereami --service https://connect.skerryline.example",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				w, err := c.Whereami(ctx)
				if err != nil {
					return err
				}
				if err := a.print(w, func(table.Writer) {
					if w.Match == nil {
						a.say("%s: not connected, no gateway stands in between", w.Address)
					} else {
						a.say("%s: through %s, over the tunnel (%s)", w.Address, w.Match.Gateway, w.Match.By)
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
