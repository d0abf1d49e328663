package cli

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wardicon/console"
	"wardicon/copies"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/httpapi"
	"wardicon/metrics"
	"wardicon/nameserver"
	"wardicon/pkcs11"
	"wardicon/service"
	"wardicon/store"
)

// stopTime is how long requests may take to end when the service stops.
const stopTime = 10 * time.Second

// host are the options of a service.
type host struct {
	now                     func() time.Time // the clock; nil stands for that of this machine
	data, listen, metrics   string
	enrolListen             string // for devices that ask for certificates
	contact                 string // of who hears of weaknesses
	acme                    acmeSettings
	keyFile, passphraseFile string
	tokens                  []string // PKCS #11 URIs
	keyToken                string   // that of the key that the master key is sealed with
	cert, certKey           string
	selfNames               []string
	proxies                 []string
	proxyHeader             string
	zone, zoneListen        string
	resolver                string
	probeInternal           bool
	logForm                 string
	copies                  copyFlags
	synced                  func() time.Time // until when the mirror has all; nil without one
	trails                  trailFlags
}

func (h *host) dataFlags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&h.data, "data", "wardicon-data", "data folder; created if missing")
	cmd.Flags().
		StringVar(&h.keyFile, "key-file", "", "file with the master key (default: master.key in "+
			"the data folder, created at the first start)")
	cmd.Flags().
		StringVar(&h.passphraseFile, "passphrase-file", "", "file with a passphrase instead of a "+
			"key file")
	cmd.Flags().
		StringSliceVar(&h.tokens, "pkcs11", nil, "PKCS #11 URIs (RFC 7512) of tokens, with "+
			"module-path and pin-source")
	cmd.Flags().
		StringVar(&h.keyToken, "key-pkcs11", "", "PKCS #11 URI of an RSA key in one of the tokens, "+
			"which seals the master key, instead of a key file")
}

// open opens the store and makes the service.
func (a *app) open(
	ctx context.Context,
	h host,
	log *slog.Logger,
) (*service.Service, *store.Store, error) {
	key, err := a.masterKey(h)
	if err != nil {
		return nil, nil, err
	}
	now := h.now
	if now == nil {
		now = time.Now
	}
	s, err := store.Open(ctx, h.data, key, now)
	if err != nil {
		return nil, nil, err
	}
	svc := service.New(s, log, now)
	if len(h.tokens) > 0 {
		tokens, err := pkcs11.Open(h.tokens)
		if err != nil {
			return nil, nil, errors.Join(usage("--pkcs11: %w", err), s.Close())
		}
		svc.KeysIn(tokens)
	}
	return svc, s, nil
}

// masterKey is where the master key comes from.
func (a *app) masterKey(h host) (key store.Key, err error) {
	key.File = h.keyFile
	if h.keyToken != "" && (h.keyFile != "" || h.passphraseFile != "") {
		return key, usage("expected one of --key-file, --passphrase-file and --key-pkcs11")
	}
	if h.keyToken != "" {
		if err := pkcs11.CheckKey(h.keyToken); err != nil {
			return key, usage("--key-pkcs11: %w", err)
		}
		tokens, err := pkcs11.Open(h.tokens)
		if err != nil {
			return key, usage("--pkcs11: %w", err)
		}
		key.Token = tokens.Wrapper(h.keyToken)
	}
	if h.passphraseFile != "" {
		text, err := a.passphrase(h)
		if err != nil {
			return key, err
		}
		key.Passphrase = []byte(text)
	}
	return key, nil
}

// passphrase reads the passphrase in the place of a master key. A file that others can read is
// refused; at the first start, so is a passphrase that is easy to guess.
func (a *app) passphrase(h host) (string, error) {
	if info, err := os.Stat(
		h.passphraseFile,
	); err == nil && info.Mode().IsRegular() &&
		info.Mode().Perm()&0o077 != 0 {
		return "", usage(
			"--passphrase-file %s: found mode %04o, expected 0600; run chmod 600 on it",
			h.passphraseFile,
			info.Mode().Perm(),
		)
	}
	text, err := a.readSecret(h.passphraseFile)
	if err != nil {
		return "", err
	}
	if len(text) < 12 {
		return "", usage("--passphrase-file: found %d bytes, expected at least 12", len(text))
	}
	if _, err := os.Stat(filepath.Join(h.data, store.File)); err == nil {
		return text, nil
	}
	if e := secret.Judge(secret.New(text), "wardicon"); e.Bits < passphraseBits {
		return "", usage(
			"--passphrase-file: found a passphrase that %s find, expected %s or more; five or six "+
				"unrelated words do, or wardicon new-secret",
			e.Guesses(),
			secret.Estimate{Bits: passphraseBits}.Guesses(),
		)
	}
	return text, nil
}

// passphraseBits is how hard to guess a passphrase must be that everything is sealed with.
const passphraseBits = 50

func (h *host) logger(w io.Writer) (*slog.Logger, error) {
	switch h.logForm {
	case "text":
		return slog.New(slog.NewTextHandler(w, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, nil)), nil
	}
	return nil, usage("--log: found %q, expected text or json", h.logForm)
}

// run serves until the context ends, then lets open requests finish. ready is called
// with the address once the service answers.
func (h *host) run(
	ctx context.Context,
	svc *service.Service,
	log *slog.Logger,
	ready func(address string),
) error {
	if err := closed(); err != nil {
		log.Warn("core dumps cannot be disabled", "error", err)
	}
	secure := h.cert != "" || h.acme.own()
	var shown *tls.Config
	if h.acme.own() {
		var err error
		if shown, err = h.acme.shown(svc, log); err != nil {
			return err
		}
	} else if secure {
		p, err := newPair(h.cert, h.certKey, log)
		if err != nil {
			return err
		}
		shown = &tls.Config{GetCertificate: p.get, MinVersion: tls.VersionTLS12}
	}
	listener, err := net.Listen("tcp", h.listen)
	if err != nil {
		return fmt.Errorf("--listen: %w", err)
	}
	if tcp, ok := listener.Addr().(*net.TCPAddr); ok && !secure && !tcp.IP.IsLoopback() {
		return errors.Join(
			usage(
				"--listen %s: without TLS the service listens on loopback only; give --tls-cert "+
					"and --tls-key, or put a proxy in front of 127.0.0.1",
				h.listen,
			),
			listener.Close(),
		)
	}
	forwarding, err := h.forwarding()
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	opts := httpapi.Options{
		Version: Version, Console: console.Dist(), Secure: secure, Zone: h.zone,
		Forwarding: forwarding, SecurityContact: h.contact,
	}
	if h.contact != "" {
		if err := httpapi.SecurityContact(h.contact); err != nil {
			return errors.Join(usage("--%v", err), listener.Close())
		}
	}
	requests := metrics.NewRequests()
	opts.Measure = requests.Note
	svc.MeasureProbes(requests.NoteProbe)
	server := httpapi.Server(httpapi.New(svc, log, opts), log)
	server.TLSConfig = shown
	if h.resolver != "" {
		if _, err := netip.ParseAddrPort(h.resolver); err != nil {
			return errors.Join(
				usage(
					"--name-server: found %q, expected an IP address and a port such as "+
						"192.0.2.53:53",
					h.resolver,
				),
				listener.Close(),
			)
		}
		svc.Resolver(h.resolver)
	}
	if h.probeInternal {
		svc.ProbeInternal()
	}
	if h.acme.directory != "" {
		orders, err := h.acme.orderer(h.zone)
		if err != nil {
			return errors.Join(err, listener.Close())
		}
		svc.OrderBy(orders)
	}
	work, stop := context.WithCancel(ctx)
	var background sync.WaitGroup
	if h.zone != "" {
		names, err := nameserver.New(
			h.zone,
			h.zoneListen,
			func(ctx context.Context, probe, from string) error {
				_, err := svc.SeenBy(ctx, probe, store.SeenResolver, from)
				return err
			},
			log,
		)
		if err != nil {
			stop()
			return errors.Join(fmt.Errorf("--look-listen: %w", err), listener.Close())
		}
		names.Texts = svc.ChallengeTexts
		log.Info("serving DNS", "zone", h.zone, "address", names.Address())
		background.Go(func() { names.Run(work) })
	}
	background.Go(func() { svc.Run(work) })
	trails, err := h.trails.trails()
	if err != nil {
		stop()
		return errors.Join(usage("%w", err), listener.Close())
	}
	for _, one := range trails {
		background.Go(func() { svc.CopyAudit(work, one) })
	}
	if h.copies.To != "" {
		keeper := copies.Keeper{
			Settings: h.copies.Settings, Data: h.data, Now: time.Now, Log: log,
		}
		background.Go(func() { keeper.Run(work) })
	}
	if len(h.selfNames) > 0 {
		background.Go(func() { h.keepSelfMade(work, log) })
	}
	if err := h.besides(work, &background, svc, shown, log, opts, requests); err != nil {
		stop()
		return errors.Join(err, listener.Close())
	}
	failed := make(chan error, 1)
	go func() {
		if secure {
			failed <- server.ServeTLS(listener, "", "")
		} else {
			failed <- server.Serve(listener)
		}
	}()
	scheme := map[bool]string{true: "https", false: "http"}[secure]
	ready(scheme + "://" + listener.Addr().String())
	select {
	case err = <-failed:
	case <-ctx.Done():
		svc.EndWatching()
		end, cancel := context.WithTimeout(context.Background(), stopTime)
		if err = server.Shutdown(end); errors.Is(err, context.DeadlineExceeded) {
			log.Warn("requests that were still open were terminated", "after", stopTime)
			err = server.Close()
		}
		cancel()
		log.Info("stopped")
	}
	stop()
	background.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// forwarding reads whose words on a request's origin are believed.
func (h *host) forwarding() (f httpapi.Forwarding, err error) {
	switch strings.ToLower(h.proxyHeader) {
	case "", "x-forwarded-for":
	case "forwarded":
		f.Header = "Forwarded"
	default:
		return f, usage(
			"--proxy-header: found %q, expected x-forwarded-for or forwarded",
			h.proxyHeader,
		)
	}
	for _, text := range h.proxies {
		p, err := netip.ParsePrefix(text)
		if a, plain := netip.ParseAddr(text); plain == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return f, usage(
				"--proxy: found %q, expected an IP address or a network such as 10.0.0.0/8",
				text,
			)
		}
		f.Proxies = append(f.Proxies, p)
	}
	return f, nil
}

// aside serves something else on an address of its own, if one is given: by TLS, or on loopback.
func (h *host) aside(
	ctx context.Context,
	background *sync.WaitGroup,
	flag, address string,
	shown *tls.Config,
	log *slog.Logger,
	handler http.Handler,
) error {
	if address == "" {
		return nil
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("%s: %w", flag, err)
	}
	if tcp, ok := listener.Addr().(*net.TCPAddr); ok && shown == nil && !tcp.IP.IsLoopback() {
		return errors.Join(
			usage(
				"%s %s: without TLS this is served on loopback only; give --tls-cert and --tls-key",
				flag,
				address,
			),
			listener.Close(),
		)
	}
	server := httpapi.Server(handler, log)
	server.TLSConfig = shown
	background.Go(func() { // ends with Close
		if shown != nil {
			_ = server.ServeTLS(listener, "", "")
		} else {
			_ = server.Serve(listener)
		}
	})
	background.Go(func() {
		<-ctx.Done()
		_ = server.Close()
	})
	log.Info("serving", "what", strings.TrimPrefix(flag, "--"), "address", listener.Addr().String())
	return nil
}

// besides serves metrics, and devices that ask for certificates, on addresses of their own.
func (h *host) besides(
	ctx context.Context,
	background *sync.WaitGroup,
	svc *service.Service,
	shown *tls.Config,
	log *slog.Logger,
	opts httpapi.Options,
	requests *metrics.Requests,
) error {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", metrics.Handler(svc, requests,
		metrics.Build{Version: Version, Commit: Commit}, h.synced, log, time.Now))
	if err := h.aside(ctx, background, "--metrics", h.metrics, shown.Clone(), log, mux); err != nil {
		return err
	}
	asking := shown.Clone()
	if asking != nil { // whose certificate it is, and whether it counts, is looked up in the records
		asking.ClientAuth = tls.RequestClientCert
		// Answers in one record: small clients read no second one.
		asking.DynamicRecordSizingDisabled = true
	}
	return h.aside(ctx, background, "--enrol-listen", h.enrolListen, asking, log,
		httpapi.Enrolling(svc, log, opts))
}

func (a *app) serve() *cobra.Command {
	h := host{}
	var file string
	var check bool
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service and its console",
		Args:  exactly(),
		Long: `Runs the service until it receives SIGTERM or Ctrl-C. At the first start it creates
the master key and prompts for the owner's password; without a terminal it writes a set-up code
into the data folder, and the console prompts for it.

Without TLS it listens on loopback only. Provide a certificate, or let the service create a
self-signed one with --tls-self: its fingerprint is logged, and "wardicon me sign-in --authority"
accepts the file tls-certificate.pem of the data folder. Back the data folder up together with the
master key, and keep the two copies apart.

Every flag can also be set by an environment variable, such as WARDICON_TLS_CERT for --tls-cert, or
in the file that --settings names (YAML, such as "tls-cert: cert.pem"). A flag wins over the
environment, and that over the file. --check shows what holds and what would keep the service from
starting, and changes nothing.`,
		Example: `  wardicon serve --data /var/lib/wardicon
  wardicon serve --data /var/lib/wardicon --listen :443 --tls-cert cert.pem --tls-key key.pem
  wardicon serve --data /var/lib/wardicon --listen :443 \
      --tls-self vpn.skerryline.example,192.0.2.10`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			settings, err := a.settle(cmd, cmp.Or(file, a.Env(variable("settings"))))
			if err != nil {
				return err
			}
			ctx := cmd.Context()
			if check {
				return a.checkSettings(ctx, &h, settings)
			}
			if err := h.copies.Check(); err != nil {
				return usage("%w", err)
			}
			log, err := h.logger(a.Err)
			if err != nil {
				return err
			}
			svc, s, err := a.open(ctx, h, log)
			if err != nil {
				return err
			}
			if last, err := svc.ClockBehind(ctx); err == nil && !last.IsZero() {
				log.Warn(
					"this machine's clock is behind the last recorded entry; certificates, links "+
						"and sessions expire at the wrong time until it is corrected",
					"now",
					time.Now().UTC().Format(time.RFC3339),
					"last",
					last.Format(time.RFC3339),
				)
			}
			err = a.firstStart(ctx, svc, h.data)
			if err == nil && len(h.selfNames) > 0 {
				err = h.selfMade(log)
			}
			var unmirror func() error
			if err == nil {
				unmirror, err = h.mirrored(ctx, s, log)
			}
			if err == nil {
				err = h.run(ctx, svc, log, func(address string) {
					log.Info("listening", "address", address, "data", h.data, "version", Version)
				})
				err = errors.Join(err, unmirror())
			}
			return errors.Join(err, s.Close())
		},
	}
	h.dataFlags(cmd)
	h.copies.add(cmd)
	h.trails.add(cmd)
	cmd.Flags().StringVar(&file, "settings", "", "file with settings, YAML")
	cmd.Flags().BoolVar(&check, "check", false, "only check the settings, and say what holds")
	cmd.Flags().StringVar(&h.listen, "listen", "127.0.0.1:7480", "address and port to listen on")
	cmd.Flags().
		StringVar(&h.metrics, "metrics", "", "address and port for metrics, such as "+
			"127.0.0.1:9480 (default: none)")
	cmd.Flags().StringVar(&h.cert, "tls-cert", "", "certificate chain, PEM")
	cmd.Flags().StringVar(&h.certKey, "tls-key", "", "private key, PEM")
	cmd.Flags().StringVar(&h.logForm, "log", "text", "log format: text or json")
	cmd.Flags().
		StringSliceVar(&h.selfNames, "tls-self", nil, "names and addresses for a self-signed "+
			"certificate")
	cmd.Flags().
		StringSliceVar(&h.proxies, "proxy", nil, "addresses or networks of trusted reverse proxies")
	cmd.Flags().
		StringVar(&h.proxyHeader, "proxy-header", "x-forwarded-for", "header with the client's "+
			"address: x-forwarded-for or forwarded")
	cmd.Flags().
		StringVar(&h.enrolListen, "enrol-listen", "", "address and port at which devices ask for "+
			"certificates and renew them, such as 0.0.0.0:7443; there a device can show its "+
			"certificate by TLS")
	cmd.Flags().
		StringVar(&h.contact, "security-contact", "", "whom to tell of a weakness of this "+
			"installation, such as mailto:security@skerryline.example; it is published as "+
			"/.well-known/security.txt (RFC 9116)")
	cmd.Flags().
		BoolVar(&h.probeInternal, "probe-internal", false, "allow probes of loopback, link-local "+
			"and this machine's own addresses; operators can then see what listens there")
	cmd.Flags().
		StringVar(&h.resolver, "name-server", "", "name server for gateways' names, such as "+
			"192.0.2.53:53; a public one shows what devices outside see (default: the "+
			"system's)")
	cmd.Flags().
		StringVar(&h.zone, "look-zone", "", "DNS zone of one-time names that show which resolver "+
			"a device uses; it must be delegated to this service")
	cmd.Flags().
		StringVar(&h.zoneListen, "look-listen", "127.0.0.1:5300", "address and port on which that "+
			"zone is served")
	cmd.MarkFlagsRequiredTogether("tls-cert", "tls-key")
	cmd.MarkFlagsMutuallyExclusive("tls-cert", "tls-self")
	h.acme.add(cmd)
	return cmd
}

const codeFile = "set-up-code"

// firstStart makes the owner, or leaves a code with which the console does.
func (a *app) firstStart(ctx context.Context, svc *service.Service, dir string) error {
	path := filepath.Join(dir, codeFile)
	needs, err := svc.NeedsSetUp(ctx)
	if err != nil {
		return err
	}
	if !needs {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return a.askOwner(ctx, svc, "owner", "", "")
	}
	if err := os.WriteFile(path, []byte(svc.SetUpCode()+"\n"), 0o600); err != nil {
		return err
	}
	a.complain(
		"first start: open the console and enter the code from %s, or run wardicon service set-up",
		path,
	)
	return nil
}

func (a *app) askOwner(
	ctx context.Context,
	svc *service.Service,
	name, file, links string,
) error {
	var password secret.Text
	if file != "" {
		text, err := a.readSecret(file)
		if err != nil {
			return err
		}
		password = secret.New(text)
	} else {
		said, err := a.promptTwice("Password for " + name + " (at least 15 characters)")
		if err != nil {
			return err
		}
		if password = said[0]; !password.Equal(said[1]) {
			return usage("the two passwords differ")
		}
	}
	if err := svc.AddOwner(ctx, name, password, links); err != nil {
		return err
	}
	a.say("%s can sign in", name)
	if problem := vpn.Unreachable(links); problem != "" {
		a.say("people could not open links yet: %s; wardicon organisation change --links "+
			"https://HOST sets one", problem)
	}
	return nil
}

// linksHelp is what --links says wherever it can be given.
const linksHelp = "public URL of this service, such as https://connect.skerryline.example"

func (a *app) setUp() *cobra.Command {
	h := host{}
	var name, file, links string
	cmd := &cobra.Command{
		Use:   "set-up",
		Short: "Create the first owner before the first start",
		Args:  exactly(),
		Long: `Creates data folder, master key and owner. The password is prompted for twice, or
read from a file. It is refused once there is an owner.`,
		Example: "  wardicon service set-up --data /var/lib/wardicon --owner harbourmaster " +
			"--links https://connect.skerryline.example",
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, s, err := a.open(cmd.Context(), h, slog.New(slog.DiscardHandler))
			if err != nil {
				return err
			}
			return errors.Join(a.askOwner(cmd.Context(), svc, name, file, links), s.Close())
		},
	}
	h.dataFlags(cmd)
	cmd.Flags().StringVar(&name, "owner", "owner", "sign-in name")
	cmd.Flags().StringVar(&links, "links", "", linksHelp)
	cmd.Flags().
		StringVar(&file, "password-file", "", "file with the password, - for standard input")
	return cmd
}

func (a *app) backup() *cobra.Command {
	var h host
	var to string
	cmd := &cobra.Command{
		Use:   "backup",
		Short: "Back up the database while the service runs",
		Args:  exactly(),
		Long: `Writes a complete, consistent copy of the database to a new file. Secrets stay
sealed in it: without the master key they cannot be read, so keep a copy of the key elsewhere. If
the key is available, every sealed value of the copy is opened once; values that are damaged in
the data folder are reported. To restore, put the file as wardicon.db into an empty data folder,
together with the key.`,
		Example: "  wardicon service backup --data /var/lib/wardicon --out wardicon-monday.db",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if to == "" {
				return usage("--out: found nothing, expected a file to write")
			}
			if err := store.Backup(cmd.Context(), h.data, to); err != nil {
				return err
			}
			a.say("wrote %s", to)
			return a.sealedWell(cmd.Context(), h, to)
		},
	}
	h.dataFlags(cmd)
	cmd.Flags().StringVar(&to, "out", "", "file to write; it must not exist")
	return cmd
}

// sealedWell opens every value in a copy, where the master key is at hand.
func (a *app) sealedWell(ctx context.Context, h host, file string) error {
	key, err := a.masterKey(h)
	if err != nil {
		return err
	}
	if key.File == "" && len(key.Passphrase) == 0 && key.Token == nil {
		key.File = filepath.Join(h.data, "master.key")
		if _, err := os.Stat(key.File); err != nil {
			return nil
		}
	}
	found, err := store.InspectCopy(ctx, file, key)
	if err != nil {
		return err
	}
	if n := len(found.Values) + len(found.Records); n > 0 {
		a.complain(
			"the copy is complete, but %d of %d values in it cannot be read, as in the data "+
				"folder: stop the service and run wardicon service inspect --data %s; an earlier "+
				"copy may have them",
			n,
			found.Looked,
			h.data,
		)
		return errFindings
	}
	return nil
}

func (a *app) openAPI() *cobra.Command {
	return &cobra.Command{
		Use:   "openapi",
		Short: "Print the OpenAPI 3.1 document of the API",
		Args:  exactly(),
		Long: "Prints the OpenAPI document as JSON. A running service serves it at " +
			"/api/v1/openapi.json.",
		Example: "  wardicon service openapi > openapi.json",
		RunE: func(*cobra.Command, []string) error {
			data, err := json.Marshal(httpapi.Describe(Version))
			if err != nil {
				return err
			}
			var out bytes.Buffer
			if err := json.Indent(&out, data, "", "  "); err != nil {
				return err
			}
			_, err = a.Out.Write(append(out.Bytes(), '\n'))
			return err
		},
	}
}
