package cli

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/simulate"
)

// simulator is what the command tells of the simulator that runs.
type simulator struct {
	Name    string         `json:"name"`
	ProbeAt vpn.ProbeAt    `json:"probe_at"`
	Faults  []string       `json:"faults"`
	Ports   map[int]string `json:"ports"`
}

func (a *app) simulate() *cobra.Command {
	var faults, suites, tunnels []string
	var name, bind, authorityTo, keyFile, keyKind string
	cmd := &cobra.Command{
		Use:   "simulate [PROTOCOL...]",
		Short: "Run a simulated gateway, with faults, on loopback",
		Args:  cobra.ArbitraryArgs,
		Long: `Runs a simulated gateway until Ctrl-C, to try how faults are reported. It answers
the first messages of each protocol on ports of its own: point a gateway's record there with
--probe-at and --probe-port.

Faults:` + strings.Join(
			faultNames(),
			", ",
		) + `.`,
		Example: "  wardicon service simulate\n  wardicon service simulate ikev2 tls --fault " +
			"suite --fault slow",
		RunE: func(cmd *cobra.Command, args []string) error {
			g := &simulate.Gateway{Name: name}
			for _, p := range args {
				if !slices.Contains(vpn.Protocols, vpn.Protocol(p)) {
					return usage(
						"simulate: found the protocol %q, expected one of %v",
						p,
						vpn.Protocols,
					)
				}
				g.Protocols = append(g.Protocols, vpn.Protocol(p))
			}
			var list []simulate.Fault
			for _, f := range faults {
				if !slices.Contains(simulate.Faults, simulate.Fault(f)) {
					return usage(
						"--fault: found %q, expected one of %s",
						f,
						strings.Join(faultNames(), ", "),
					)
				}
				list = append(list, simulate.Fault(f))
			}
			var err error
			if g.Suites, err = suite.ParseAll(suites); err != nil {
				return usage("--suite: %v", err)
			}
			if g.Bind, err = netip.ParseAddr(bind); err != nil || !g.Bind.IsLoopback() {
				return usage(
					"--bind: found %q, expected an address of this machine alone such as 127.0.0.2",
					bind,
				)
			}
			if len(tunnels) > 0 {
				if g.Tunnel, err = remotes("tunnel", tunnels); err != nil {
					return err
				}
			}
			if keyFile != "" {
				if g.Wrapping, err = a.serverWrapping(
					keyFile,
					vpn.ControlKind(keyKind),
				); err != nil {
					return err
				}
			}
			if err := g.Start(list...); err != nil {
				return err
			}
			defer func() { _ = g.Close() }()
			if authorityTo != "" {
				if err := os.WriteFile(authorityTo, []byte(g.Authority), 0o644); err != nil {
					return err
				}
			}
			told := simulator{
				Name:    g.Name,
				ProbeAt: vpn.ProbeAt{Address: bind, Ports: map[string]int{}},
				Faults:  faults,
				Ports:   map[int]string{},
			}
			for from, to := range g.Ports() {
				told.ProbeAt.Ports[fmt.Sprint(from)] = to
				told.Ports[from] = netip.AddrPortFrom(g.Bind, uint16(to)).String()
			}
			if err := a.print(told, func(w table.Writer) {
				w.AppendHeader(heads("instead of port", "listens on"))
				for _, from := range sortedPorts(told.Ports) {
					w.AppendRow(table.Row{from, told.Ports[from]})
				}
			}); err != nil {
				return err
			}
			if a.output == "table" {
				var ports []string
				for _, from := range sortedPorts(told.Ports) {
					ports = append(
						ports,
						fmt.Sprintf("%d=%d", from, told.ProbeAt.Ports[fmt.Sprint(from)]),
					)
				}
				a.say(
					"\nPoint a record here:  wardicon gateway change NAME --probe-at %s "+
						"--probe-port %s\nStop it with Ctrl-C.",
					bind,
					strings.Join(ports, ","),
				)
			}
			<-cmd.Context().Done()
			return nil
		},
	}
	cmd.ValidArgs = []string{"ikev2", "l2tp", "pptp", "sstp", "tls"}
	cmd.Flags().StringSliceVar(&faults, "fault", nil, "fault (repeat or separate by commas)")
	cmd.Flags().
		StringSliceVar(&suites, "suite", nil, "IKE suites that it accepts, in order of preference")
	cmd.Flags().StringVar(&name, "name", "gateway.example", "host name that it identifies with")
	cmd.Flags().StringVar(&bind, "bind", "127.0.0.1", "loopback address that it listens on")
	cmd.Flags().StringSliceVar(&tunnels, "tunnel", nil, "ports of the TLS tunnel, such as udp:1194")
	cmd.Flags().
		StringVar(&keyFile, "control-key", "", "file with the control-channel key of the TLS "+
			"tunnel")
	cmd.Flags().StringVar(&keyKind, "control-kind", "crypt", "type of that key: auth or crypt")
	cmd.Flags().
		StringVar(&authorityTo, "authority-to", "", "file to write the CA of its certificate to, "+
			"PEM")
	return cmd
}

func faultNames() (list []string) {
	for _, f := range simulate.Faults {
		list = append(list, string(f))
	}
	return list
}

func sortedPorts(ports map[int]string) (list []int) {
	for p := range ports {
		list = append(list, p)
	}
	slices.Sort(list)
	return list
}

// serverWrapping reads a control-channel key as the gateway's end has it.
func (a *app) serverWrapping(path string, kind vpn.ControlKind) (w tlstunnel.Wrapping, err error) {
	text, err := a.readSecret(path)
	if err != nil {
		return w, err
	}
	key, err := vpn.ControlKeyBytes(kind, text)
	switch {
	case err != nil || kind == vpn.ControlCryptV2:
		return w, usage("--control-key: found %v, expected a static key for auth or crypt", err)
	case kind == vpn.ControlAuth:
		return tlstunnel.Auth(key, "0", "SHA256")
	default:
		return tlstunnel.Crypt(key, true)
	}
}
