package cli

import (
	"crypto/tls"
	"encoding/base64"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
	"golang.org/x/time/rate"

	"wardicon/core/vpn"
	"wardicon/service"
)

// acmeSettings say how the service gets its own certificate by ACME (RFC 8555).
type acmeSettings struct {
	directory, authority, mail string
	names                      []string
	agreed                     bool
	bindID, bindKeyFile        string
}

// acmeTime is how long an ACME server has to answer.
const acmeTime = 30 * time.Second

func (s *acmeSettings) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(
		&s.directory,
		"acme-directory",
		"",
		"directory of an ACME CA (RFC 8555) that issues "+
			"the service's certificate, or those of gateways",
	)
	f.StringSliceVar(
		&s.names,
		"acme-name",
		nil,
		"names of the service that it issues for; they must "+
			"lead to port 443 of the service",
	)
	f.StringVar(
		&s.bindID,
		"acme-binding",
		"",
		"identifier of the external account binding that the CA "+
			"gave you (RFC 8555, 7.3.4)",
	)
	f.StringVar(&s.bindKeyFile, "acme-binding-file", "", "file with its MAC key, base64url")
	f.BoolVar(&s.agreed, "acme-terms-agreed", false, "you agree to the terms of that CA")
	f.StringVar(&s.mail, "acme-mail", "", "email address that the CA may write to")
	f.StringVar(
		&s.authority,
		"acme-authority",
		"",
		"file with the CA of the ACME server, PEM (default: "+
			"those of the system)",
	)
	cmd.MarkFlagsRequiredTogether("acme-binding", "acme-binding-file")
	for _, other := range []string{"tls-cert", "tls-self"} {
		cmd.MarkFlagsMutuallyExclusive("acme-name", other)
	}
}

// own tells whether the service's own certificate comes from the CA.
func (s *acmeSettings) own() bool { return s.directory != "" && len(s.names) > 0 }

// binding is the account outside that the CA wants to know of; nil where it wants none.
func (s *acmeSettings) binding() (*acme.ExternalAccountBinding, error) {
	if s.bindID == "" {
		return nil, nil
	}
	text, err := os.ReadFile(s.bindKeyFile)
	if err != nil {
		return nil, usage("--acme-binding-file: %w", err)
	}
	key, err := base64.RawURLEncoding.DecodeString(
		strings.TrimRight(strings.TrimSpace(string(text)), "="),
	)
	if err != nil || len(key) < 16 {
		return nil, usage(
			"--acme-binding-file %s: found no key, expected at least 16 bytes in base64url, as "+
				"the CA gave it",
			s.bindKeyFile,
		)
	}
	return &acme.ExternalAccountBinding{KID: s.bindID, Key: key}, nil
}

// orderer orders gateways' certificates at the CA.
func (s *acmeSettings) orderer(zone string) (o service.Orderer, err error) {
	if _, err = s.client(); err != nil {
		return o, err
	}
	o.Client = func() *acme.Client {
		c, _ := s.client() // it was tried above
		return c
	}
	o.Zone = zone
	if s.mail != "" {
		o.Account.Contact = []string{"mailto:" + s.mail}
	}
	o.Account.ExternalAccountBinding, err = s.binding()
	return o, err
}

// client reaches the ACME server.
func (s *acmeSettings) client() (*acme.Client, error) {
	if s.directory == "" {
		return nil, usage("--acme-name: found names and no CA, expected --acme-directory")
	}
	u, err := url.Parse(s.directory)
	if err != nil || u.Host == "" || !vpn.Private(u) {
		return nil, usage(
			"--acme-directory: found %q, expected an address that begins with https://",
			s.directory,
		)
	}
	if !s.agreed {
		return nil, usage(
			"--acme-terms-agreed: the CA issues nothing before you agree to its terms; its " +
				"directory says where they stand",
		)
	}
	for _, name := range s.names {
		if strings.ContainsAny(name, "*:/ ") || !strings.Contains(strings.Trim(name, "."), ".") {
			return nil, usage("--acme-name: found %q, expected a host name such as "+
				"wardicon.skerryline.example", name)
		}
	}
	shown := &tls.Config{MinVersion: tls.VersionTLS12}
	if s.authority != "" {
		if shown.RootCAs, err = trusted("acme-authority", s.authority); err != nil {
			return nil, err
		}
	}
	return &acme.Client{
		DirectoryURL: s.directory, UserAgent: "wardicon/" + Version,
		HTTPClient: &http.Client{
			Timeout: acmeTime,
			Transport: &http.Transport{
				TLSClientConfig: shown, Proxy: http.ProxyFromEnvironment,
			},
		},
	}, nil
}

// shown is how the service shows a certificate that it gets, and renews 30 days ahead of its end.
func (s *acmeSettings) shown(svc *service.Service, log *slog.Logger) (*tls.Config, error) {
	c, err := s.client()
	if err != nil {
		return nil, err
	}
	binding, err := s.binding()
	if err != nil {
		return nil, err
	}
	m := &autocert.Manager{
		ExternalAccountBinding: binding,
		Prompt:                 autocert.AcceptTOS, Cache: svc.CertificateCache(), Client: c, Email: s.mail,
		HostPolicy: autocert.HostWhitelist(s.names...),
	}
	rarely := rate.Sometimes{Interval: time.Minute}
	return &tls.Config{
		MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1", acme.ALPNProto},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			found, err := m.GetCertificate(hello)
			if err != nil && s.issues(hello.ServerName) {
				rarely.Do(func() {
					log.Error("the ACME CA issues no certificate", "name", hello.ServerName,
						"error", service.ACMEReason(err))
				})
			}
			return found, err
		},
	}, nil
}

// issues tells whether a certificate is got for a name.
func (s *acmeSettings) issues(name string) bool {
	return slices.ContainsFunc(s.names, func(n string) bool { return strings.EqualFold(n, name) })
}
