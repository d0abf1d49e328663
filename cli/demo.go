package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/simulate"
)

func (a *app) demo() *cobra.Command {
	h := host{logForm: "text", probeInternal: true}
	var once bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run a service with sample data",
		Args:  exactly(),
		Long: `Runs a service with the data of Skerry Line, a fictitious ferry operator, including
mistakes that the checks find. The data is created at every start and deleted at the end. --once
runs a full example on the command line, prints what it does, and exits.`,
		Example: "  wardicon demo\n  wardicon demo --once",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			dir, err := os.MkdirTemp("", "wardicon-demo-")
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
			h.data = filepath.Join(dir, "data")
			if once {
				h.listen = "127.0.0.1:0"
			}
			logFile, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, logFile.Close()) }()
			log, err := h.logger(logFile)
			if err != nil {
				return err
			}
			var clock demo.Clock
			h.now = clock.Now
			svc, s, err := a.open(cmd.Context(), h, log)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, s.Close()) }()
			load := func() (map[string]pki.Identity, error) {
				return demo.Lived(cmd.Context(), svc, s, &clock)
			}
			if once { // the tour makes its own history
				load = func() (map[string]pki.Identity, error) {
					return demo.Furnish(cmd.Context(), svc)
				}
			}
			identities, err := load()
			if err != nil {
				return err
			}
			around, err := demo.Surround(cmd.Context(), svc, s, identities)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, around.Close()) }()
			emails, err := simulate.NewMailServer("wardicon", rand.Text())
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, emails.Close()) }()
			box, err := emails.Mailbox()
			if err != nil {
				return err
			}
			password := secret.New(emails.Password)
			if err := demo.Post(
				cmd.Context(),
				svc,
				vpn.Mail{
					Server:    emails.Host,
					Port:      emails.Port,
					Authority: emails.Authority,
					Login:     emails.Login,
					Password:  &password,
				},
			); err != nil {
				return err
			}
			ctx, stop := context.WithCancel(cmd.Context())
			defer stop()
			h.proxies = []string{
				"127.0.0.1",
			} // the simulator for a tunnel speaks for who comes through it
			var tour sync.WaitGroup
			var toured error
			var tunnel *simulate.Tunnel
			err = h.run(ctx, svc, log, func(address string) {
				if err := demo.Reach(ctx, svc, address); err != nil {
					toured = err
					stop()
					return
				}
				if tunnel, toured = simulate.NewTunnel(address, demo.Egress); toured != nil {
					stop()
					return
				}
				if !once {
					a.say(
						"Wardicon is running with the data of Skerry Line.\n\n  console   %s\n  "+
							"name      %s\n  password  %s\n  emails    %s, where emails are "+
							"delivered\n  tunnel    %s, the console as seen through "+
							"Norrvik\n\nStop it with Ctrl-C; the data is deleted. The log is "+
							"%s.",
						address,
						demo.OwnerName,
						demo.OwnerPassword,
						box,
						tunnel.Address,
						logFile.Name(),
					)
					return
				}
				tour.Go(func() {
					toured = a.tour(dir, address, tunnel.Address, emails)
					stop()
				})
			})
			tour.Wait()
			if tunnel != nil {
				err = errors.Join(err, tunnel.Close())
			}
			return errors.Join(err, toured)
		},
	}
	cmd.Flags().StringVar(&h.listen, "listen", "127.0.0.1:7480", "address and port to listen on")
	cmd.Flags().BoolVar(&once, "once", false, "run a full example and exit")
	return cmd
}

// step is one command of the tour: what it shows, and the exit code it must end with.
type step struct {
	about string
	args  []string
	input string
	want  int
}

// tour goes the whole way on the command line: records, plan, findings, fix, parcel,
// device.
func (a *app) tour(dir, address, tunnel string, emails *simulate.MailServer) error {
	parcels := filepath.Join(dir, "parcels")
	steps := []step{
		{
			"Sign in. The password is read from standard input.",
			[]string{
				"me",
				"sign-in",
				"--service",
				address,
				"--name",
				demo.OwnerName,
				"--password-file",
				"-",
			},
			demo.OwnerPassword,
			exitFine,
		},
		{"Overview of records and findings.", []string{"overview"}, "", exitFine},
		{"The gateways.", []string{"gateway", "list"}, "", exitFine},
		{
			"The devices of one platform.",
			[]string{"device", "list", "--filter", "platform=windows"},
			"",
			exitFine,
		},
		{
			"The connection of a purser's laptop, with the reason for every choice. A space " +
				"after the login is an error.",
			[]string{"plan", "Purser laptop 1", "Norrvik"},
			"",
			exitFindings,
		},
		{
			"An error prevents the build.",
			[]string{
				"build",
				"Purser laptop 1/Norrvik",
				"--out",
				filepath.Join(parcels, "laptop-1"),
			},
			"",
			exitFindings,
		},
		{
			"Fix the login and build: install script, removal script, card.",
			[]string{"account", "change", "b_ravn ", "--login", "b_ravn"},
			"",
			exitFine,
		},
		{
			"",
			[]string{
				"build",
				"Purser laptop 1/Norrvik",
				"--out",
				filepath.Join(parcels, "laptop-1"),
			},
			"",
			exitFine,
		},
		{
			"A new person with account, device and profile, from scratch to a file.",
			[]string{
				"person",
				"add",
				"Mira Tveit",
				"--mail",
				"mira@skerryline.example",
				"--group",
				"engineers",
			},
			"",
			exitFine,
		},
		{
			"",
			[]string{"account", "add", "m_tveit", "--person", "Mira Tveit", "--password-file", "-"},
			"lagoon-63-Thimble-walnut-spray",
			exitFine,
		},
		{
			"",
			[]string{
				"device",
				"add",
				"Engine laptop 3",
				"--person",
				"Mira Tveit",
				"--platform",
				"linux-desktop",
				"--release",
				"1.42",
				"--encrypted",
			},
			"",
			exitFine,
		},
		{"", []string{"profile", "add", "Engine laptop 3", "--gateway", "Norrvik"}, "", exitFine},
		{"", []string{"plan", "Engine laptop 3", "Norrvik"}, "", exitFine},
		{
			"",
			[]string{
				"build",
				"Engine laptop 3/Norrvik",
				"--out",
				filepath.Join(parcels, "engine-3"),
			},
			"",
			exitFine,
		},
		{
			"The bridge tablet gets an Apple profile; secrets are hidden in the preview.",
			[]string{"profile", "preview", "Bridge tablet 2/Norrvik"},
			"",
			exitFine,
		},
		{
			"",
			[]string{"build", "Bridge tablet 2/Norrvik", "--out", filepath.Join(parcels, "tablet")},
			"",
			exitFine,
		},
		{
			"A pattern sets how a class of devices connects; it is tried before anything changes.",
			[]string{"pattern", "try", "Ticket halls"},
			"",
			exitFine,
		},
		{
			"The same devices over IKEv2 to the nearest gateway, for one try.",
			[]string{
				"pattern",
				"try",
				"Ticket halls",
				"--protocol",
				"ikev2,tls",
				"--gateways",
				"nearest",
			},
			"",
			exitFine,
		},
		{
			"Rolled out as a job: existing profiles are kept.",
			[]string{"pattern", "roll-out", "Ticket halls"},
			"",
			exitFine,
		},
		{
			"Files for other devices: a router, a desk phone, a laptop with its own certificate.",
			[]string{"build", "Hall router/Brattvik", "--out", filepath.Join(parcels, "router")},
			"",
			exitFine,
		},
		{
			"",
			[]string{"build", "Hall desk phone/Brattvik", "--out", filepath.Join(parcels, "phone")},
			"",
			exitFine,
		},
		{
			"",
			[]string{"build", "Yard laptop/Brattvik", "--out", filepath.Join(parcels, "yard")},
			"",
			exitFine,
		},
		{
			"Who signed a file and when; a signed list of digests covers the parcel.",
			[]string{
				"verify",
				filepath.Join(parcels, "tablet", "skerry-line-norrvik.mobileconfig"),
				filepath.Join(parcels, "yard", "skerry-line-brattvik-ikev2-install.sh"),
			},
			"",
			exitFine,
		},
		{
			"Simulated gateways are probed. One matches its record, another does not.",
			[]string{"probe", "Norrvik"},
			"",
			exitFine,
		},
		{"", []string{"probe", "Lyngholm"}, "", exitFindings},
		{"", []string{"probe", "--history", "--limit", "6"}, "", exitFine},
		{
			"Parcels are rehearsed before they are handed over, by every protocol. One does not " +
				"connect.",
			[]string{"rehearse", "--profile", "Yard laptop/Brattvik"},
			"",
			exitFine,
		},
		{
			"",
			[]string{"build", "Master desk/Brattvik", "--out", filepath.Join(parcels, "desk")},
			"",
			exitFine,
		},
		{"", []string{"rehearse", "--profile", "Master desk/Brattvik"}, "", exitFine},
		{
			"",
			[]string{"build", "Engine server/Norrvik", "--out", filepath.Join(parcels, "server")},
			"",
			exitFine,
		},
		{"", []string{"rehearse", "--profile", "Engine server/Norrvik"}, "", exitFine},
		{
			"",
			[]string{"build", "Hall Mac/Lyngholm", "--out", filepath.Join(parcels, "mac")},
			"",
			exitFine,
		},
		{"", []string{"rehearse", "--profile", "Hall Mac/Lyngholm"}, "", exitFindings},
		{"", []string{"rehearse", "--matrix"}, "", exitFine},
		{
			"An error message from a device, and its causes in this case.",
			[]string{"explain", "13868", "--profile", "Master laptop/Brattvik", "--causes", "2"},
			"",
			exitFine,
		},
		{
			"An address that is not on record is not probed.",
			[]string{"probe", "192.0.2.99"},
			"",
			exitFindings,
		},
		{
			"The chain that a gateway presents, and what expires soon.",
			[]string{"certificate", "chain", "--gateway", "Brattvik"},
			"",
			exitFine,
		},
		{"", []string{"certificate", "calendar"}, "", exitFine},
		{
			"Emails go through a simulated mail server.",
			[]string{"service", "mail", "test", "ada@skerryline.example"},
			"",
			exitFine,
		},
		{
			"A parcel is handed over: a link, and a passcode that is sent another way.",
			[]string{"handover", "make", "Bridge tablet 2/Norrvik", "--days", "3"},
			"",
			exitFine,
		},
		{
			"Both by email is refused: whoever reads one reads the other.",
			[]string{
				"handover",
				"make",
				"Bridge tablet 2/Norrvik",
				"--by-mail",
				"--passcode-by-mail",
			},
			"",
			exitFindings,
		},
		{
			"A whole group: outdated parcels are built, the links are sent by email; one is held " +
				"back by an error.",
			[]string{"handover", "group", "bridge"},
			"",
			exitFindings,
		},
		{
			"The address that the service sees: not connected, and through a simulated tunnel.",
			[]string{"me", "address", "--service", address},
			"",
			exitFindings,
		},
		{"", []string{"me", "address", "--service", tunnel}, "", exitFine},
		{
			"A laptop is lost: what it holds, and one step that revokes it all.",
			[]string{"offboard", "device", "Purser laptop 1", "--dry-run"},
			"",
			exitFine,
		},
		{"", []string{"offboard", "device", "Purser laptop 1"}, "", exitFine},
		{
			"Another operator, with read access and no secrets; and the audit log is verified.",
			[]string{"operator", "add", "pilot", "--role", "auditor"},
			"",
			exitFine,
		},
		{"", []string{"audit", "verify"}, "", exitFine},
		{
			"A file is converted to another format, with a list of what it cannot carry.",
			[]string{
				"convert",
				filepath.Join(parcels, "phone", "skerry-line-brattvik.ovpn"),
				"--format",
				"keyfile",
				"--out",
				filepath.Join(parcels, "converted"),
			},
			"",
			exitFine,
		},
		{
			"An invalid value is refused, and nothing is stored.",
			[]string{
				"gateway",
				"change",
				"Norrvik",
				"--address",
				"https://norrvik.skerryline.example/vpn",
			},
			"",
			exitFindings,
		},
		{"The audit log.", []string{"audit", "list", "--limit", "8"}, "", exitFine},
	}
	// The session of the tour is remembered in its own folder.
	confirm := filepath.Join(dir, "confirm")
	if err := os.WriteFile(confirm, []byte(demo.OwnerPassword), 0o600); err != nil {
		return err
	}
	quiet := Streams{
		Out: a.Out,
		Err: a.Out,
		Env: func(name string) string {
			return map[string]string{
				"XDG_CONFIG_HOME":       filepath.Join(dir, "config"),
				"WARDICON_CONFIRM_FILE": confirm,
			}[name]
		},
	}
	for _, s := range steps {
		if err := a.step(s, quiet, dir); err != nil {
			return err
		}
	}
	if err := a.handTour(dir, tunnel, emails, quiet); err != nil {
		return err
	}
	for _, made := range []struct {
		device  *simulate.Device
		pattern string
	}{
		{simulate.NewDevice(vpn.Windows, "11"), "laptop-1/*-install.ps1"},
		{simulate.NewDevice(vpn.LinuxDesktop, "1.42"), "engine-3/*.nmconnection"},
		{simulate.NewDevice(vpn.IPadOS, "18"), "tablet/*.mobileconfig"},
		{simulate.NewDevice(vpn.OpenWrt, "23.05"), "router/*.uci"},
		{simulate.NewDevice(vpn.DeskPhone, "1"), "phone/*.ovpn"},
		{simulate.NewDevice(vpn.LinuxDesktop, "1.46"), "yard/*.nmconnection"},
	} {
		if err := a.install(made.device, filepath.Join(parcels, made.pattern)); err != nil {
			return err
		}
	}
	a.say("\nThat was the full example.")
	return nil
}

// handTour sends a link by mail and lets the device fetch its parcel by it, through a simulator for
// a tunnel.
func (a *app) handTour(dir, tunnel string, emails *simulate.MailServer, streams Streams) error {
	var said bytes.Buffer
	streams.Out = io.MultiWriter(a.Out, &said)
	if err := a.step(
		step{
			"A link by email, and a device that fetches the parcel.",
			[]string{"handover", "make", "Engine laptop 3/Norrvik", "--by-mail"},
			"",
			exitFine,
		},
		streams,
		dir,
	); err != nil {
		return err
	}
	_, rest, _ := strings.Cut(said.String(), "passcode  ")
	passcode, _, _ := strings.Cut(rest, "\n")
	link := ""
	for range 200 {
		if list := emails.Emails(); len(list) > 0 &&
			list[len(list)-1].To == "mira@skerryline.example" {
			link = list[len(list)-1].Link()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	at := strings.Index(link, service.LinkPath)
	if at < 0 {
		return errors.New("the email with the link did not arrive")
	}
	streams.Out = a.Out
	for _, s := range []step{
		{"", []string{"handover", "fetch", "-", "--out", filepath.Join(dir, "parcels", "fetched")},
			tunnel + link[at:] + "\n" + passcode + "\n", exitFine},
		{"The connection was seen.", []string{"handover", "list", "--limit", "3"}, "", exitFine},
	} {
		if err := a.step(s, streams, dir); err != nil {
			return err
		}
	}
	return nil
}

// step prints and runs one command line.
func (a *app) step(s step, streams Streams, dir string) error {
	if s.about != "" {
		a.say("\n── %s", s.about)
	}
	shown := make([]string, len(s.args))
	for i, arg := range s.args {
		shown[i] = strings.ReplaceAll(arg, dir, "DEMO")
		if strings.Contains(arg, " ") {
			shown[i] = fmt.Sprintf("%q", shown[i])
		}
	}
	a.say("\n$ wardicon %s", strings.Join(shown, " "))
	streams.In = strings.NewReader(s.input)
	if code := Run(s.args, streams); code != s.want {
		return fmt.Errorf("wardicon %s ended with %d, expected %d", s.args[0], code, s.want)
	}
	return nil
}

// install lets a simulator of a device take a file that was built.
func (a *app) install(d *simulate.Device, pattern string) error {
	names, err := filepath.Glob(pattern)
	if err != nil || len(names) != 1 {
		return errors.Join(
			err,
			fmt.Errorf("%d files fit %s, expected one", len(names), filepath.Base(pattern)),
		)
	}
	content, err := os.ReadFile(names[0])
	if err != nil {
		return err
	}
	c, err := d.Install(filepath.Base(names[0]), content, besideFile(names[0]))
	if err != nil {
		return err
	}
	a.say(
		"\n── A simulated %s %s installs %s: %q to %s by %s, %s tunnel.",
		d.Platform,
		d.Release,
		filepath.Base(names[0]),
		c.Name,
		c.Server,
		c.Protocol.Title(),
		c.Tunnel,
	)
	return nil
}
