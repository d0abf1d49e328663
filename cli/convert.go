package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
)

func (a *app) convert() *cobra.Command {
	var to, folder string
	var names []string
	long := "Reads a file of any format, with those beside it that it names, and writes " +
		"its\nconnections in another. What the other format cannot carry is listed; what must " +
		"not\nbe lost is refused (exit 1). Nothing is sent anywhere. Formats:\n\n"
	for _, c := range all.Codecs {
		names = append(names, string(c.Name))
		var protocols []string
		for _, p := range c.Protocols {
			protocols = append(protocols, p.Title())
		}
		long += fmt.Sprintf("  %-12s %s: %s\n", c.Name, c.Title, strings.Join(protocols, ", "))
	}
	cmd := &cobra.Command{
		Use:   "convert FILE",
		Short: "Convert a client file to another format, without a service",
		Args:  exactly("FILE"),
		Long:  long,
		Example: "  wardicon convert norrvik.ovpn --format keyfile --out converted\n  wardicon " +
			"convert norrvik.mobileconfig --format powershell --output json",
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := a.read(args[0])
			if err != nil {
				return err
			}
			made, err := all.Convert(
				filepath.Base(args[0]),
				data,
				besideFile(args[0]),
				platform.Format(to),
			)
			var refused *all.ConvertError
			var unfit *format.UnfitError
			switch {
			case errors.As(err, &refused):
				return usage("%v", err)
			case errors.As(err, &unfit):
				return &api.Problem{Status: 422, Detail: err.Error()}
			case err != nil:
				return err
			}
			if folder == "" {
				folder = strings.TrimSuffix(
					filepath.Base(args[0]),
					filepath.Ext(args[0]),
				) + "-" + to
			}
			for _, one := range made {
				if err := keep(folder, one.Files); err != nil {
					return err
				}
			}
			if err := a.print(api.Items[all.Converted]{Items: made}, func(w table.Writer) {
				w.AppendHeader(heads("file", "purpose"))
				for _, one := range made {
					for _, f := range one.Files {
						w.AppendRow(table.Row{filepath.Join(folder, f.Name), f.Purpose})
					}
				}
			}); err != nil || a.output != "table" {
				return err
			}
			for _, one := range made {
				for _, path := range one.Lost {
					a.say("not carried: %s", path)
				}
				for _, n := range one.NotCarried {
					a.say("not carried: %s (%s:%d)", n.What, n.At.File, n.At.Line)
				}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&to, "format", "", "format: "+strings.Join(names, ", "))
	cmd.Flags().
		StringVar(&folder, "out", "", "folder to save to; created if missing (default: "+
			"FILE-FORMAT)")
	return cmd
}

// keep saves files that are not there yet, for their owner alone.
func keep(folder string, files []format.File) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	for _, f := range files {
		out, err := os.OpenFile(
			filepath.Join(folder, filepath.Base(f.Name)),
			os.O_WRONLY|os.O_CREATE|os.O_EXCL,
			0o600,
		)
		if err != nil {
			return fmt.Errorf("%w; remove it or choose another folder", err)
		}
		_, err = out.Write(f.Content)
		if err := errors.Join(err, out.Close()); err != nil {
			return err
		}
	}
	return nil
}
