package cli

import (
	"crypto/tls"
	"errors"
	"log/slog"
	"net/http"
	"net/url"
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
}

// acmeTime is how long an ACME server has to answer.
const acmeTime = 30 * time.Second

func (s *acmeSettings) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&s.directory, "acme-directory", "", "directory of an ACME CA that issues the "+
		"service's certificate (RFC 8555); the names must lead to port 443 of the service")
	f.StringSliceVar(&s.names, "acme-name", nil, "names that it issues for")
	f.BoolVar(&s.agreed, "acme-terms-agreed", false, "you agree to the terms of that CA")
	f.StringVar(&s.mail, "acme-mail", "", "email address that the CA may write to")
	f.StringVar(
		&s.authority,
		"acme-authority",
		"",
		"file with the CA of the ACME server, PEM (default: "+
			"those of the system)",
	)
	cmd.MarkFlagsRequiredTogether("acme-directory", "acme-name")
	for _, other := range []string{"tls-cert", "tls-self"} {
		cmd.MarkFlagsMutuallyExclusive("acme-directory", other)
	}
}

// client reaches the ACME server.
func (s *acmeSettings) client() (*acme.Client, error) {
	u, err := url.Parse(s.directory)
	if err != nil || u.Host == "" || !vpn.Private(u) {
		return nil, usage("--acme-directory: found %q, expected an address that begins with https://",
			s.directory)
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
	m := &autocert.Manager{
		Prompt: autocert.AcceptTOS, Cache: svc.CertificateCache(), Client: c, Email: s.mail,
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
						"error", acmeReason(err))
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

// acmeReason is what the CA says, without what was sent to it.
func acmeReason(err error) string {
	var said *acme.Error
	if errors.As(err, &said) {
		return said.ProblemType + ": " + said.Detail
	}
	return err.Error()
}
