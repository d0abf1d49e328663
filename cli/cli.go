// Package cli is the command line: it reads flags, calls the service through package
// client (or core, for what needs no service) and prints.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

// Version and Commit are set by the build.
var (
	Version = "0.0.0"
	Commit  string
)

// Streams are where a command reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) string
}

// Standard are the streams of the process.
func Standard() Streams { return Streams{os.Stdin, os.Stdout, os.Stderr, os.Getenv} }

// errFindings ends a command that did its work and found something.
var errFindings = errors.New("findings")

// app is what the commands share.
type app struct {
	Streams
	service string
	output  string

	withoutTLS        bool
	confirmFile, code string // what proves once more who it is
	yes               bool   // no questions
	raw               io.Writer
	screen            screen
}

// Run runs a command line and returns the exit code.
func Run(args []string, s Streams) int {
	debug.SetGCPercent(200)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{Streams: s, raw: s.Err, screen: screenOf(s)}
	a.Out, a.Err = &clean{
		to:     s.Out,
		escape: func() bool { return a.output == "json" },
	}, &clean{
		to: s.Err,
	}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(s.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	return a.exit(root.ExecuteContext(ctx))
}

func (a *app) complain(format string, args ...any) {
	_, _ = fmt.Fprintln(a.Err, "wardicon:", fmt.Sprintf(format, args...))
}

func (a *app) say(format string, args ...any) {
	_, _ = fmt.Fprintln(a.Out, fmt.Sprintf(format, args...))
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "wardicon",
		Short: "Plan, check, build and hand over VPN client profiles",
		Long: `Wardicon knows your VPN gateways, people and devices, plans the connection of each
device, finds errors before anyone runs into them, and builds the file that the device imports, or
the card for manual setup.

Most commands talk to a running service. These work without one: check, convert, explain, verify,
rule list and show, platform, new-secret, serve, demo, and service set-up, backup, inspect,
simulate.`,
		Example: `  wardicon demo                                  # a service with sample data
  wardicon me sign-in --service http://127.0.0.1:7480 --name harbourmaster
  wardicon gateway list
  wardicon plan "Planner Mac 1" Norrvik
  wardicon check norrvik.mobileconfig`,
		Version:       strings.TrimSpace(Version + " " + Commit),
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			forms := []string{"table", "json", "yaml"}
			if extra := cmd.Annotations["output"]; extra != "" {
				forms = append(forms, extra)
			}
			if !slices.Contains(forms, a.output) {
				return usage(
					"--output: found %q, expected %s",
					a.output,
					strings.Join(forms[:len(forms)-1], ", ")+" or "+forms[len(forms)-1],
				)
			}
			return nil
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{err} })
	root.PersistentFlags().
		StringVar(&a.service, "service", "", "address of the service (else WARDICON_SERVICE, else "+
			"the one signed in to)")
	root.PersistentFlags().
		BoolVar(&a.withoutTLS, "without-tls", false, "allow a connection without TLS to a service "+
			"on another machine")
	root.PersistentFlags().
		StringVar(&a.confirmFile, "confirm-file", "", "file with your password, for actions that "+
			"need it again (else WARDICON_CONFIRM_FILE, else prompted for)")
	root.PersistentFlags().
		BoolVarP(&a.yes, "yes", "y", false, "do not prompt before a change that cannot be undone")
	root.PersistentFlags().
		StringVarP(&a.output, "output", "o", "table", "output format: table, json or yaml")
	_ = root.RegisterFlagCompletionFunc(
		"output",
		cobra.FixedCompletions(
			[]string{"table", "json", "yaml"},
			cobra.ShellCompDirectiveNoFileComp,
		),
	)
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), ".FlagUsages",
		fmt.Sprintf(".FlagUsagesWrapped %d", min(a.screen.width, 110))))
	for _, b := range a.tree() {
		root.AddGroup(&cobra.Group{ID: b.id, Title: b.title})
		for _, c := range b.commands {
			c.GroupID = b.id
			root.AddCommand(c)
		}
	}
	return root
}

// group makes a command that is nothing but its commands.
func group(c *cobra.Command, commands ...*cobra.Command) *cobra.Command {
	c.AddCommand(commands...)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usage(
				"unknown command %q for %q; see %s --help",
				args[0],
				cmd.CommandPath(),
				cmd.CommandPath(),
			)
		}
		return cmd.Help()
	}
	return c
}

// exactly refuses another number of arguments than those named.
func exactly(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != len(names) {
			wanted := "none"
			if len(names) > 0 {
				wanted = strings.Join(names, " ")
			}
			return usage("found %s, expected %s", plural(len(args), "argument"), wanted)
		}
		return nil
	}
}

// print writes a value as JSON or YAML, or as the table that rows fills.
func (a *app) print(v any, rows func(table.Writer)) error {
	switch a.output {
	case "json":
		enc := json.NewEncoder(a.Out)
		enc.SetEscapeHTML(false)
		enc.SetIndent("", "  ")
		return enc.Encode(v)
	case "yaml":
		data, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if data, err = yaml.JSONToYAML(data); err != nil {
			return err
		}
		_, err = a.Out.Write(data)
		return err
	}
	w := table.NewWriter()
	w.SetStyle(table.StyleLight)
	w.Style().Options = table.Options{SeparateHeader: true}
	w.Style().Format.Header = text.FormatDefault
	w.Style().Box.PaddingLeft = ""
	w.Style().Box.PaddingRight = "  "
	g := &grid{Writer: w, app: a}
	rows(g)
	if drawn := g.draw(); drawn != "" {
		_, err := fmt.Fprintln(a.Out, drawn)
		return err
	}
	return nil
}

func heads(names ...string) table.Row {
	row := make(table.Row, len(names))
	for i, n := range names {
		row[i] = n
	}
	return row
}
