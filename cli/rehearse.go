package cli

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/core/filecheck"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/rehearse"
)

// rehearseFlags are what the command is told.
type rehearseFlags struct {
	login, password, passphrases, as string
	hosts, names                     []string
	only, profile, gateway, pattern  string
	report, place                    string
	again, history, matrix           bool
	background                       bool
	offers                           []string
}

func (a *app) rehearse() *cobra.Command {
	var f rehearseFlags
	cmd := &cobra.Command{
		Use:   "rehearse [FILE|FOLDER…]",
		Short: "Sign in to a gateway with client files, as a device would",
		Long: `Reads client files as wardicon check does, and connects with each connection in
them as a device would: it agrees on keys, holds the gateway to the file, signs in, takes an
address, looks at hosts, names and services inside, and disconnects. Routes, DNS servers and the
system stay as they are. No privileges are needed but for PPTP, whose GRE takes the capability
CAP_NET_RAW.

With --profile the service does it, with the files of the profile's newest parcel, and keeps the
result; --history lists results. There a login is tried once a minute at most, and after the
gateway rejected it only with --again. --offer tries other offers of the profile's gateway, before
the profile is moved to one; what comes of them stands in the matrix. --gateway and --pattern
rehearse one profile for each pattern, gateway and platform with the account for rehearsals on the
gateway's record, as a job that continues after a restart and can be cancelled; with
--rehearse-every on that record the service does so by itself. --report has it keep what came of
files on this machine.

Prints each step with its time, and where one fails its likely cause (exit 1). A password that the
file leaves to the person is read from --password-file or prompted for. A login that a gateway
rejected is not tried there again, because gateways lock accounts after several failures. A device
that is connected with the same certificate or login may be disconnected.`,
		Example: `  wardicon rehearse norrvik.ovpn --password-file secret.txt
  wardicon rehearse parcels/ada/ --host 10.20.0.1 --host 10.20.0.5:443 \
      --lookup timetable.inside.skerryline.example
  wardicon rehearse tallholm.mobileconfig --as "ios 17"
  wardicon rehearse --profile "Ada's laptop/Norrvik"
  wardicon rehearse parcels/ada/ --report "Ada's laptop/Norrvik" --place "Easthaven ticket hall"
  wardicon rehearse --profile "Ada's laptop/Norrvik" --offer all
  wardicon rehearse --gateway Norrvik
  wardicon rehearse --matrix`,
		RunE: func(cmd *cobra.Command, args []string) error {
			service := f.profile != "" || f.gateway != "" || f.pattern != "" || f.history ||
				f.matrix
			switch {
			case len(args) > 0 == service:
				return usage(
					"expected files, or one of --profile, --gateway, --pattern, --matrix and " +
						"--history",
				)
			case (f.report == "") != (f.place == "") || f.report != "" && service:
				return usage("--report and --place belong together, and to files")
			case f.history:
				return a.rehearsalHistory(cmd)
			case f.matrix:
				return a.rehearsalMatrix(cmd)
			case f.gateway != "" || f.pattern != "":
				return a.rehearseSample(cmd, f)
			case len(f.offers) > 0 && f.profile == "":
				return usage("--offer belongs to --profile")
			case len(f.offers) > 0:
				return a.rehearseOffers(cmd, f)
			case f.profile != "":
				return a.rehearseProfile(cmd, f)
			}
			return a.runRehearse(cmd, args, f)
		},
	}
	cmd.Flags().StringVar(&f.login, "login", "", "login in the place of the file's")
	cmd.Flags().StringVar(&f.password, "password-file", "",
		"file with the password, - for standard input")
	cmd.Flags().StringVar(&f.passphrases, "passphrase-file", "",
		"file with passphrases for PKCS #12, one per line")
	cmd.Flags().StringVar(&f.as, "as", "",
		"platform and release to connect as, such as \"windows 10\"")
	cmd.Flags().StringSliceVar(&f.hosts, "host", nil,
		"internal address that must respond; with a port, a service that must accept connections")
	cmd.Flags().StringSliceVar(&f.names, "lookup", nil, "name that the internal DNS must know")
	cmd.Flags().StringVar(&f.only, "connection", "", "only the connection of this name")
	cmd.Flags().StringVar(&f.profile, "profile", "",
		"rehearse the newest parcel of this profile, from the service")
	cmd.Flags().BoolVar(&f.again, "again", false,
		"sign in although the gateway rejected the login the last time")
	cmd.Flags().StringVar(&f.gateway, "gateway", "",
		"rehearse a sample of this gateway's profiles, from the service")
	cmd.Flags().StringVar(&f.pattern, "pattern", "",
		"rehearse a sample of this pattern's profiles, from the service")
	cmd.Flags().StringSliceVar(&f.offers, "offer", nil,
		"with --profile, rehearse these offers of its gateway (ikev2, tls, sstp, l2tp, pptp; "+
			"all), by files as they would be built for each")
	cmd.Flags().BoolVar(&f.background, "background", false,
		"with --gateway, --pattern or --offer, do not wait until it is done")
	cmd.Flags().BoolVar(&f.matrix, "matrix", false,
		"show the last rehearsal of each gateway, protocol and platform")
	cmd.Flags().BoolVar(&f.history, "history", false, "list the service's rehearsals")
	cmd.Flags().StringVar(&f.report, "report", "",
		"have the service keep the result, as one of this profile's newest parcel")
	cmd.Flags().StringVar(&f.place, "place", "", "where this is, for --report")
	cmd.MarkFlagsMutuallyExclusive("profile", "gateway", "pattern", "matrix", "history")
	return cmd
}

func (a *app) runRehearse(cmd *cobra.Command, args []string, f rehearseFlags) error {
	for _, h := range f.hosts {
		_, one := netip.ParseAddr(h)
		_, with := netip.ParseAddrPort(h)
		if one != nil && with != nil {
			return usage("--host: found %q, expected an IP address, or one with a port, such as "+
				"10.20.0.5:443", h)
		}
	}
	ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	o := checkOptions{release: f.as, passphrases: f.passphrases}
	options, err := a.batchOptions(ctx, cmd, o)
	if err != nil {
		return err
	}
	files, err := a.gather(args)
	if err != nil {
		return err
	}
	password := secret.Text{}
	if f.password != "" {
		text, err := a.readSecret(f.password)
		if err != nil {
			return err
		}
		password = secret.New(text)
	}
	r := &rehearse.Rehearser{}
	results, failed := []rehearsal.Result{}, false
	rejected := map[[2]string]bool{} // logins at servers
	for _, item := range filecheck.Check(files, options) {
		for _, l := range item.Connections {
			c := l.Connection
			if f.only != "" && c.Name != f.only {
				continue
			}
			if f.login != "" {
				c.Login = f.login
			}
			if !password.IsZero() {
				c.Password = password
			}
			if rejected[[2]string{c.Server, c.Login}] && c.NeedsPassword() {
				_, _ = fmt.Fprintf(a.Err, "%s: %s is not tried again at %s, which rejected it\n",
					item.Name, c.Login, c.Server)
				continue
			}
			if err := a.askPassword(&c); err != nil {
				return err
			}
			result := a.rehearseOne(ctx, r, rehearse.Request{
				File: item.Name, Connection: c, As: options.Release, Hosts: f.hosts, Names: f.names,
			})
			results = append(results, result)
			failed = failed || !result.Passed
			if err := a.reportRehearsal(cmd, f, files, result); err != nil {
				return err
			}
			rejected[[2]string{c.Server, c.Login}] = result.CauseID == "password-wrong"
		}
	}
	if len(results) == 0 {
		return usage(
			"found no connection in the files; wardicon check says what is in them",
		)
	}
	if a.output != "table" {
		if err := a.print(results, func(table.Writer) {}); err != nil {
			return err
		}
	}
	if failed {
		return errFindings
	}
	return nil
}

// askPassword prompts for what a device would prompt for.
func (a *app) askPassword(c *vpn.Connection) error {
	if !c.NeedsPassword() || !c.Password.IsZero() || c.Login == "" {
		return nil
	}
	said, err := a.promptAll(fmt.Sprintf("Password of %s for %s", c.Login, c.Server))
	if err == nil {
		c.Password = said[0]
	}
	return err
}

// rehearseOne prints steps while they come.
func (a *app) rehearseOne(
	ctx context.Context,
	r *rehearse.Rehearser,
	q rehearse.Request,
) rehearsal.Result {
	if a.output == "table" {
		a.say("%s: %s, %s to %s", q.File, q.Connection.Name, q.Connection.Protocol.Title(),
			q.Connection.Server)
		q.Reached = a.tellStep
	}
	result := r.Run(ctx, q)
	if a.output == "table" {
		a.tellRehearsal(result)
	}
	return result
}

func (a *app) tellStep(s rehearsal.Step) {
	took := ""
	if s.State != rehearsal.Skipped {
		took = fmt.Sprintf("%.1f ms", s.Took)
	}
	a.say("  %s  %-22s %10s  %s", a.state(s.State), s.Name, took, s.Found)
}

// state words what a step came to, failures in the colour of errors.
func (a *app) state(s rehearsal.State) string {
	if s == rehearsal.Failed && a.screen.colours {
		return "\x1b[31" + pen + fmt.Sprintf("%-7s", s) + "\x1b[0" + pen
	}
	return fmt.Sprintf("%-7s", s)
}

func (a *app) tellRehearsal(r rehearsal.Result) {
	if len(r.Default) > 0 {
		a.say("  default  route of %s through the tunnel", strings.Join(r.Default, " and "))
	}
	for _, d := range r.Differences {
		a.say("  differs  %s", d)
	}
	for _, c := range r.Certificates[:min(1, len(r.Certificates))] {
		a.say("  gateway  %s, expires %s", c.Subject, c.Expires.Format(time.DateOnly))
	}
	if r.Passed {
		a.say("passed in %.1f s: connected as a device would\n", r.Took/1000)
		return
	}
	a.say("failed at: %s", r.FailedAt())
	if r.Cause != "" {
		a.say("likely cause: %s  [%s]", r.Cause, r.CauseID)
		a.say("fix: %s", r.Fix)
	}
	a.say("")
}
