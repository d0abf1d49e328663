package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wardicon/client"
	"wardicon/core/explain"
)

func (a *app) explain() *cobra.Command {
	var profile, device string
	var most int
	cmd := &cobra.Command{
		Use:   "explain CODE|LINE|FILE",
		Short: "Explain an error code or a log, and how to fix the cause",
		Args:  cobra.MinimumNArgs(1),
		Long: `Explains an error code, a log line, a log file (or - for standard input) or the
output of the diagnostic script. Logs of any length are read as a stream, on this machine; secrets
are masked. Without a profile it lists the usual causes and needs no service. With --profile or
--device the causes are ranked by what is on record: when the key was changed, the last probe
results, who else connects.`,
		Example: "  wardicon explain 809\n  wardicon explain 0x800B0109 --profile \"Purser " +
			"laptop 1/Norrvik\"\n  wardicon explain /var/log/syslog --device \"Engine laptop 1\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			question, err := a.failure(strings.Join(args, " "))
			if err != nil {
				return err
			}
			if profile == "" && device == "" {
				code, _ := explain.Find(question.Text)
				x := explain.Explain(code, question.Reading, explain.Evidence{})
				return a.explained(x, most)
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if profile != "" {
					p, err := findProfile(ctx, c, profile)
					if err != nil {
						return err
					}
					question.ProfileID = p.ID
				} else if question.DeviceID, err = deviceID(ctx, c, device); err != nil {
					return err
				}
				x, err := c.Explain(ctx, question)
				if err != nil {
					return err
				}
				return a.explained(x, most)
			})
		},
	}
	cmd.Flags().StringVar(&profile, "profile", "", "the profile concerned: DEVICE/GATEWAY")
	cmd.Flags().StringVar(&device, "device", "", "the device concerned, if it has one profile")
	cmd.Flags().IntVar(&most, "causes", 5, "maximum number of causes")
	cmd.MarkFlagsMutuallyExclusive("profile", "device")
	return cmd
}

// failure tells a code, a file and a line apart, and reads logs as they come.
func (a *app) failure(what string) (f client.Failure, err error) {
	if explain.IsCode(what) {
		f.Text = what
		return f, nil
	}
	var in io.Reader = strings.NewReader(what + "\n")
	if what == "-" {
		in = a.In
	} else if file, err := os.Open(what); err == nil {
		defer func() { _ = file.Close() }()
		in = file
	} else if !errors.Is(err, fs.ErrNotExist) && !strings.Contains(what, " ") {
		return f, err
	}
	r, err := explain.Read(in, time.Now())
	f.Reading = &r
	return f, err
}

// explained prints an explanation.
func (a *app) explained(x explain.Explanation, most int) error {
	x.Causes = x.Causes[:min(most, len(x.Causes))]
	if a.output != "table" {
		if err := a.print(x, nil); err != nil {
			return err
		}
	} else {
		a.tellExplanation(x)
	}
	if len(x.Causes) == 0 {
		return errFindings
	}
	return nil
}

func (a *app) tellExplanation(x explain.Explanation) {
	if x.Code != nil {
		a.say("%s: %s (%s)", x.Code.Name, x.Code.Title, x.Code.Source)
	}
	if r := x.Reading; r != nil {
		a.say(
			"%s read, %s; %s masked",
			plural(int(r.Lines), "line"),
			plural(r.Tries, "try"),
			plural(r.Masked, "secret"),
		)
		if r.First != nil {
			a.say("line %d (%s) shows the cause:\n  %s", r.First.Line, r.First.Source, r.First.Text)
		}
		if !r.Since.IsZero() {
			a.say("It has connected since then, on %s.", r.Since.Format(time.DateTime))
		}
	}
	for _, n := range x.Notes {
		a.say("%s", n)
	}
	if len(x.Causes) == 0 {
		a.say("Nothing is known about this. A longer part of the log may help.")
	}
	for i, c := range x.Causes {
		a.say("\n%d. %s", i+1, c.Title)
		for _, r := range c.Reasons {
			a.say("   for it:      %s", r)
		}
		for _, r := range c.Against {
			a.say("   against it:  %s", r)
		}
		a.say(
			"   confirm:     %s\n   fix:        %s\n   changes:     %s%s",
			c.Confirm,
			c.Fix,
			c.Changes,
			map[bool]string{true: " A rebuilt parcel fixes it."}[c.Rebuild],
		)
	}
}

// plural counts things.
func plural(n int, noun string) string {
	switch {
	case n == 1:
	case noun == "person":
		noun = "people"
	case strings.HasSuffix(noun, "y") && !strings.HasSuffix(noun, "ay"):
		noun = strings.TrimSuffix(noun, "y") + "ies"
	default:
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}
