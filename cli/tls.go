package cli

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// Files of a certificate that the service made for itself.
const (
	ownCertificate = "tls-certificate.pem"
	ownKey         = "tls-key.pem"
)

// ownRenewal is how long ahead of its end a certificate of one's own is made again.
const ownRenewal = 30 * 24 * time.Hour

// selfMade gives the service a certificate that it makes itself, for a first start: whoever
// connects holds its fingerprint against the one in the log, or takes the certificate from the data
// folder as authority.
func (h *host) selfMade(log *slog.Logger) error {
	certificate, key := filepath.Join(h.data, ownCertificate), filepath.Join(h.data, ownKey)
	c, err := ownStill(certificate, key, h.selfNames)
	if err == nil && c == nil {
		c, err = makeOwn(certificate, key, h.selfNames, time.Now())
	}
	if err != nil {
		return fmt.Errorf("--tls-self: %w", err)
	}
	h.cert, h.certKey = certificate, key
	log.Info(
		"self-signed certificate",
		"file",
		certificate,
		"names",
		h.selfNames,
		"expires",
		c.NotAfter.Format(time.DateOnly),
		"sha256",
		fmt.Sprintf("%x", sha256.Sum256(c.Raw)),
	)
	return nil
}

// selfMadeLook is how often the service looks whether its own certificate must be made again.
const selfMadeLook = 6 * time.Hour

// keepSelfMade makes the service's own certificate again ahead of its end, while it runs;
// connections take the new one as they take any that changes on disk.
func (h *host) keepSelfMade(ctx context.Context, log *slog.Logger) {
	every := time.NewTicker(selfMadeLook)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
			h.renewSelfMade(log)
		}
	}
}

func (h *host) renewSelfMade(log *slog.Logger) {
	if c, err := ownStill(h.cert, h.certKey, h.selfNames); err == nil && c != nil {
		return
	}
	if err := h.selfMade(log); err != nil {
		log.Error("the self-signed certificate could not be made again", "error", err)
	}
}

// ownStill is the certificate that was made before, where it still does.
func ownStill(certificate, key string, names []string) (*x509.Certificate, error) {
	text, err := os.ReadFile(certificate)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	private, err := os.ReadFile(key)
	if err != nil {
		return nil, err
	}
	pair, err := pki.Pair(string(text), secret.New(string(private)))
	if err != nil {
		return nil, err
	}
	if time.Until(pair.Leaf.NotAfter) < ownRenewal ||
		slices.ContainsFunc(names, func(n string) bool { return !pki.Covers(pair.Leaf, n) }) {
		return nil, nil
	}
	return pair.Leaf, nil
}

// makeOwn makes a certificate that vouches for itself, and names contents reached by.
func makeOwn(certificate, key string, names []string, now time.Time) (*x509.Certificate, error) {
	private, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		return nil, err
	}
	from := now.Truncate(time.Second)
	c, err := pki.SelfMade(
		rand.Reader,
		private,
		pki.Wanted{
			Name:  names[0],
			Usage: pki.ForServer,
			Names: names,
			From:  from.Add(-time.Hour),
			To:    from.AddDate(1, 0, 0),
		},
	)
	if err != nil {
		return nil, err
	}
	text, err := pki.KeyPEM(private)
	if err != nil {
		return nil, err
	}
	// The key first: a certificate without its key would not start again.
	for _, f := range []struct{ name, content string }{{key, text.Reveal()},
		{certificate, pki.Bundle(c)}} {
		if err := os.WriteFile(f.name+".new", []byte(f.content), 0o600); err != nil {
			return nil, err
		}
		if err := os.Rename(f.name+".new", f.name); err != nil {
			return nil, err
		}
	}
	return c, nil
}
