package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"wardicon/httpapi"
	"wardicon/pkcs11"
	"wardicon/store"
)

// finding is what is wrong, or worth knowing, before a service starts.
type finding struct {
	Severity string `json:"severity"` // error or warning
	Text     string `json:"text"`
}

// checked is what a look at the settings has found.
type checked struct {
	Settings []setting `json:"settings"`
	Findings []finding `json:"findings"`
}

// checkSettings says what would keep the service from starting, without starting it and without
// changing anything.
func (a *app) checkSettings(ctx context.Context, h *host, settings []setting) error {
	c := checked{Settings: settings, Findings: []finding{}}
	failed := false
	add := func(err error) {
		if err != nil {
			failed = true
			c.Findings = append(c.Findings, finding{"error", plainly(err)})
		}
	}
	warn := func(format string, args ...any) {
		c.Findings = append(c.Findings, finding{"warning", fmt.Sprintf(format, args...)})
	}
	_, err := h.logger(a.Err)
	add(err)
	add(h.checkData(ctx, a, warn))
	add(h.checkAddress(warn))
	_, err = h.forwarding()
	add(err)
	if h.resolver != "" {
		if _, err := netip.ParseAddrPort(h.resolver); err != nil {
			add(fmt.Errorf("name-server: found %q, expected an IP address and a port", h.resolver))
		}
	}
	if h.acme.directory != "" || len(h.acme.names) > 0 {
		_, err := h.acme.orderer(h.zone)
		add(err)
	}
	if h.contact != "" {
		add(httpapi.SecurityContact(h.contact))
	}
	h.checkTokens(add)
	add(h.copies.Check())
	_, err = h.trails.trails()
	add(err)
	if err := a.print(c, func(w table.Writer) {
		w.AppendHeader(heads("setting", "value", "from"))
		for _, s := range c.Settings {
			w.AppendRow(table.Row{s.Name, s.Value, s.From})
		}
	}); err != nil {
		return err
	}
	if a.output == "table" || a.output == "" {
		for _, f := range c.Findings {
			a.say("%s: %s", f.Severity, f.Text)
		}
		if !failed {
			a.say("The service can start.")
		}
	}
	if failed {
		return errFindings
	}
	return nil
}

// checkData looks at the data folder and its key.
func (h *host) checkData(ctx context.Context, a *app, warn func(string, ...any)) error {
	key, err := a.masterKey(*h)
	if err != nil {
		return err
	}
	found, err := store.Check(ctx, h.data, key)
	if err != nil {
		return err
	}
	switch {
	case found.New:
		warn("data folder %s: it has no database yet; the first start makes it", h.data)
	case found.Version < found.Known:
		warn("data folder %s: an earlier release made it; the start upgrades it, and keeps a copy "+
			"%s.before-%04d", h.data, store.File, found.Known)
	}
	if now := time.Now(); found.Last.After(now.Add(10 * time.Minute)) {
		warn("this machine's clock says %s, but something was recorded at %s; set the clock",
			now.UTC().Format(time.RFC3339), found.Last.Format(time.RFC3339))
	}
	return nil
}

// checkTokens asks the tokens that are set for an answer.
func (h *host) checkTokens(add func(error)) {
	tokens, err := pkcs11.Open(h.tokens)
	if err != nil {
		add(fmt.Errorf("pkcs11: %w", err))
		return
	}
	defer tokens.Close()
	for _, name := range tokens.Names() {
		add(tokens.Check(name))
	}
}

// checkAddress looks at the certificate and at where the service listens.
func (h *host) checkAddress(warn func(string, ...any)) error {
	if h.cert != "" {
		pair, err := tls.LoadX509KeyPair(h.cert, h.certKey)
		if err != nil {
			return fmt.Errorf("tls-cert %s, tls-key %s: %w", h.cert, h.certKey, err)
		}
		if leaf, err := x509.ParseCertificate(pair.Certificate[0]); err == nil {
			switch now := time.Now(); {
			case now.After(leaf.NotAfter):
				return fmt.Errorf("tls-cert %s: it expired on %s; renew it", h.cert,
					leaf.NotAfter.Format(time.DateOnly))
			case now.AddDate(0, 0, 30).After(leaf.NotAfter):
				warn("tls-cert %s: it expires on %s", h.cert, leaf.NotAfter.Format(time.DateOnly))
			}
		}
	}
	name, _, err := net.SplitHostPort(h.listen)
	if err != nil {
		return fmt.Errorf("listen: %w, expected an address and a port such as 127.0.0.1:7480", err)
	}
	at, _ := netip.ParseAddr(name)
	plain := h.cert == "" && len(h.selfNames) == 0 && h.acme.directory == ""
	if plain && name != "localhost" && !at.IsLoopback() {
		return fmt.Errorf("listen %s: without TLS the service listens on loopback only; set "+
			"tls-cert and tls-key, or put a proxy in front of 127.0.0.1", h.listen)
	}
	listener, err := net.Listen("tcp", h.listen)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		warn("listen %s: a program listens there already; the service itself, if it runs", h.listen)
		return nil
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("listen: %w; ports below 1024 need the right to bind them", err)
	case err != nil:
		return fmt.Errorf("listen: %w", err)
	}
	return listener.Close()
}
