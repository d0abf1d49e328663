package cli

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"

	"github.com/spf13/cobra"

	"wardicon/service"
	"wardicon/trail"
)

// trailFlags are the settings of where the audit log is copied to.
type trailFlags struct{ file, syslog, authority string }

func (f *trailFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.file, "audit-file", "", "file to which the audit log is appended, a "+
		"JSON object a line (default: none)")
	cmd.Flags().StringVar(&f.syslog, "audit-syslog", "", "syslog server over TLS that gets the "+
		"audit log, such as log.skerryline.example:6514 (default: none)")
	cmd.Flags().StringVar(&f.authority, "audit-syslog-ca", "", "CAs of its certificate, PEM "+
		"(default: those of the system)")
}

// trails are those that are set.
func (f *trailFlags) trails() (list []service.Trail, err error) {
	if f.file != "" {
		list = append(list, trail.File{Path: f.file})
	}
	if f.syslog == "" {
		return list, nil
	}
	host, port, err := net.SplitHostPort(f.syslog)
	if err != nil || host == "" || port == "" {
		return nil, fmt.Errorf("audit-syslog: found %q, expected a host and a port such as "+
			"log.skerryline.example:6514", f.syslog)
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if f.authority != "" {
		if config.RootCAs, err = trusted("audit-syslog-ca", f.authority); err != nil {
			return nil, err
		}
	}
	name, _ := os.Hostname() // without one it is left out
	return append(list, trail.Syslog{Address: f.syslog, TLS: config, Host: name}), nil
}

// trusted are the CAs in the file that a setting names.
func trusted(setting, file string) (*x509.CertPool, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", setting, err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s %s: found no certificate in it, expected PEM", setting, file)
	}
	return pool, nil
}
