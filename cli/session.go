package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/core/secret"
)

const defaultService = "http://127.0.0.1:7480"

// remembered is what sign-in keeps for later commands.
type remembered struct {
	Service string `json:"service"`
	Token   string `json:"token"`

	Device string `json:"device,omitempty"` // by which the service knows this device again

	// CA of the service, PEM; empty trusts those of the system
	Authority string `json:"authority,omitempty"`
}

func (a *app) rememberedFile() (string, error) {
	dir := a.Env("XDG_CONFIG_HOME")
	if dir == "" {
		home := a.Env("HOME")
		if home == "" {
			return "", errors.New(
				"neither XDG_CONFIG_HOME nor HOME is set: the session cannot be saved",
			)
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "wardicon", "session.json"), nil
}

// connection settles which service to talk to, and as whom.
func (a *app) connection() remembered {
	var r remembered
	if path, err := a.rememberedFile(); err == nil {
		if data, err := os.ReadFile(path); err == nil {
			_ = json.Unmarshal(data, &r) // a broken file counts as none
		}
	}
	wanted := a.service
	if wanted == "" {
		wanted = a.Env("WARDICON_SERVICE")
	}
	if wanted != "" && wanted != r.Service {
		r = remembered{Service: wanted} // a token never goes to another service
	}
	if r.Service == "" {
		r.Service = defaultService
	}
	if token := a.Env("WARDICON_TOKEN"); token != "" {
		r.Token = token
	}
	return r
}

// with runs a command that needs the service.
func (a *app) with(cmd *cobra.Command, do func(context.Context, *client.Client) error) error {
	r := a.connection()
	if err := a.private(r.Service); err != nil {
		return err
	}
	c := client.New(r.Service, r.Token)
	if r.Authority != "" {
		c = client.Trusting(r.Service, r.Token, r.Authority)
	}
	c.Prove, c.Device = a.prove, r.Device
	return do(cmd.Context(), c)
}

// private refuses to carry passwords and tokens over a network in clear, unless that is wanted.
func (a *app) private(service string) error {
	u, err := url.Parse(service)
	if err != nil || u.Scheme != "http" || a.withoutTLS {
		return nil
	}
	if ip, err := netip.ParseAddr(
		u.Hostname(),
	); u.Hostname() == "localhost" ||
		err == nil && ip.IsLoopback() {
		return nil
	}
	return usage(
		"%s is not reached over TLS: password and token would cross the network unencrypted. Use "+
			"https://, or give --without-tls",
		service,
	)
}

// having is prove where the password was asked for already.
func (a *app) having(password secret.Text) func(bool) (secret.Text, error) {
	return func(code bool) (secret.Text, error) {
		if code {
			return a.prove(true)
		}
		return password, nil
	}
}

// prove gives the operator's password once more, or a code of the second factor: from the file that
// was named, else from the terminal.
func (a *app) prove(code bool) (secret.Text, error) {
	switch {
	case code && a.code != "":
		return secret.New(a.code), nil
	case code:
		return a.ask("Code of your second factor")
	case cmp.Or(a.confirmFile, a.Env("WARDICON_CONFIRM_FILE")) != "":
		text, err := a.readSecret(cmp.Or(a.confirmFile, a.Env("WARDICON_CONFIRM_FILE")))
		return secret.New(text), err
	}
	f, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return secret.Text{}, usage(
			"this action needs your password again: run it on a terminal, or pass a file with " +
				"--confirm-file",
		)
	}
	return a.ask("Your password, to confirm")
}

// read reads a file, or standard input for -.
func (a *app) read(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.In, maxRead))
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, &usageError{err}
	}
	data, err := io.ReadAll(io.LimitReader(f, maxRead))
	return data, errors.Join(err, f.Close())
}

// readSecret reads a secret from the first line of a file.
func (a *app) readSecret(name string) (string, error) {
	data, err := a.read(name)
	if err != nil {
		return "", err
	}
	text := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	if strings.Contains(text, "\n") {
		return "", usage("%s: found several lines, expected a secret on one line", name)
	}
	return text, nil
}

// sure prompts before a change that cannot be undone: on a terminal, and where --yes was not given.
func (a *app) sure(format string, args ...any) error {
	f, ok := a.In.(*os.File)
	if a.yes || !ok || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	_, _ = fmt.Fprintf(a.Err, format+" [y/N] ", args...)
	line, err := bufio.NewReader(io.LimitReader(f, 64)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
		return usage("nothing was changed; answer y, or give --yes")
	}
	return nil
}

// ask reads a secret from the terminal, or one line of standard input.
func (a *app) ask(prompt string) (secret.Text, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		_, _ = fmt.Fprint(a.Err, prompt+": ")
		data, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(a.Err)
		return secret.New(string(data)), err
	}
	line, err := bufio.NewReader(io.LimitReader(a.In, 4096)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return secret.Text{}, err
	}
	return secret.New(strings.TrimRight(line, "\r\n")), nil
}

// promptTwice reads a new secret, said twice: from the terminal, or from two lines of standard
// input.
func (a *app) promptTwice(prompt string) (said [2]secret.Text, err error) {
	list, err := a.promptAll(prompt, "Repeat")
	if err == nil {
		said = [2]secret.Text(list)
	}
	return said, err
}

// promptAll reads several secrets: from the terminal, or from as many lines of standard input.
func (a *app) promptAll(prompts ...string) (said []secret.Text, err error) {
	f, ok := a.In.(*os.File)
	terminal := ok && term.IsTerminal(int(f.Fd()))
	lines := bufio.NewReader(io.LimitReader(a.In, 8192))
	for _, prompt := range prompts {
		if terminal {
			one, err := a.ask(prompt)
			if err != nil {
				return nil, err
			}
			said = append(said, one)
			continue
		}
		line, err := lines.ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		said = append(said, secret.New(strings.TrimRight(line, "\r\n")))
	}
	return said, nil
}

func (a *app) signIn() *cobra.Command {
	var name, file, code, authority string
	cmd := &cobra.Command{
		Use:   "sign-in",
		Short: "Sign in to a service",
		Args:  exactly(),
		Long: `Signs in and saves the session for later commands with mode 0600
(wardicon/session.json below XDG_CONFIG_HOME). The password is prompted for, or read from a file;
never from the command line.`,
		Example: `  wardicon me sign-in --service http://127.0.0.1:7480 --name harbourmaster
  wardicon me sign-in --name harbourmaster --password-file secret.txt`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if name == "" {
					return usage("--name: found nothing, expected the sign-in name")
				}
				at := a.connection()
				if authority != "" {
					text, err := a.read(authority)
					if err != nil {
						return err
					}
					if _, err := pki.Certificates(string(text)); err != nil {
						return usage("--authority: %v", err)
					}
					at.Authority = string(text)
					c = client.Trusting(at.Service, "", at.Authority)
					c.Device = at.Device
				}
				var password secret.Text
				var err error
				if file != "" {
					var text string
					text, err = a.readSecret(file)
					password = secret.New(text)
				} else {
					password, err = a.ask("Password of " + name)
				}
				if err != nil {
					return err
				}
				s, err := c.SignIn(ctx, name, password, code)
				var wanted *api.Problem
				if errors.As(err, &wanted) && wanted.Type == "urn:wardicon:problem:code-wanted" &&
					code == "" &&
					file == "" {
					one, asked := a.ask("Code of the second factor")
					if asked != nil {
						return asked
					}
					s, err = c.SignIn(ctx, name, password, strings.TrimSpace(one.Reveal()))
				}
				if err != nil {
					return err
				}
				if err := a.remember(
					remembered{
						Service:   at.Service,
						Token:     s.Token,
						Device:    s.Device,
						Authority: at.Authority,
					},
				); err != nil {
					return err
				}
				a.say(
					"signed in to %s as %s until %s",
					a.connection().Service,
					s.Operator.Name,
					s.Expires.Local().Format("2006-01-02 15:04"),
				)
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "sign-in name")
	cmd.Flags().
		StringVar(&file, "password-file", "", "file with the password, - for standard input")
	cmd.Flags().
		StringVar(&authority, "authority", "", "file with the CA of the service's certificate, "+
			"PEM; it is saved with the session (default: those of the system)")
	cmd.Flags().
		StringVar(&code, "code", "", "code of the second factor (default: prompt if required)")
	return cmd
}

func (a *app) remember(r remembered) error {
	path, err := a.rememberedFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	data, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return os.WriteFile(path, data, 0o600)
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{
		Use:     "sign-out",
		Short:   "End your session",
		Args:    exactly(),
		Long:    "Ends the session at the service and removes it from this machine.",
		Example: "  wardicon me sign-out",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				err := c.SignOut(ctx)
				var ended *api.Problem
				if err != nil && !(errors.As(err, &ended) && ended.Status == 401) {
					return err
				}
				path, err := a.rememberedFile()
				if err != nil {
					return err
				}
				if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
				a.say("signed out")
				return nil
			})
		},
	}
}

func (a *app) whoAmI() *cobra.Command {
	return &cobra.Command{
		Use:     "show",
		Short:   "Show who is signed in, and to which service",
		Args:    exactly(),
		Long:    "Shows the service, the operator and when the session expires.",
		Example: "  wardicon me show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				s, err := c.Session(ctx)
				if err != nil {
					return err
				}
				return a.print(s, func(w table.Writer) {
					w.AppendHeader(heads("service", "operator", "role", "until"))
					w.AppendRow(
						table.Row{
							a.connection().Service,
							s.Operator.Name,
							s.Operator.Role,
							s.Expires.Local().Format("2006-01-02 15:04"),
						},
					)
				})
			})
		},
	}
}
