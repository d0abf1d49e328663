// Package trail copies the audit log out of the service: to a file that only grows, and to a
// syslog server.
package trail

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"wardicon/api"
)

// File is a file with a JSON object a line. It is opened for appending alone, so that it may be one
// that the system lets nobody change (chattr +a).
type File struct{ Path string }

// Name is where it is.
func (f File) Name() string { return "file " + f.Path }

// Write appends entries, and has them on disk.
func (f File) Write(_ context.Context, entries []api.AuditEntry) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	for _, e := range entries {
		if err := enc.Encode(e); err != nil {
			return err
		}
	}
	out, err := os.OpenFile(f.Path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	_, err = out.Write(b.Bytes())
	return errors.Join(err, out.Sync(), out.Close())
}

// Syslog is a server that takes messages over TLS (RFC 5424, framed as RFC 5425 §4.3 says).
type Syslog struct {
	Address string // host and port
	TLS     *tls.Config
	Host    string // name of this machine in messages
}

// Name is where it is.
func (s Syslog) Name() string { return "syslog " + s.Address }

const (
	syslogTime = 20 * time.Second
	// Facility 13, log audit, and severity 6, informational (RFC 5424 §6.2.1).
	priority = 13*8 + 6
	// Enterprise number for examples (RFC 5612): the parameters are our own.
	dataID = "wardicon@32473"
)

// Write sends entries by a connection of their own. The protocol has no acknowledgement: what was
// sent counts as taken once the server has taken the end of the connection.
func (s Syslog) Write(ctx context.Context, entries []api.AuditEntry) error {
	ctx, stop := context.WithTimeout(ctx, syslogTime)
	defer stop()
	dialer := tls.Dialer{Config: s.TLS}
	conn, err := dialer.DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }() // the other side has gone first
	if err := conn.SetDeadline(time.Now().Add(syslogTime)); err != nil {
		return err
	}
	var b bytes.Buffer
	for _, e := range entries {
		message := s.message(e)
		fmt.Fprintf(&b, "%d %s", len(message), message)
	}
	if _, err := conn.Write(b.Bytes()); err != nil {
		return err
	}
	// The server answers the end of what is sent with its own: by then it has read all.
	if err := conn.(*tls.Conn).CloseWrite(); err != nil {
		return err
	}
	one := make([]byte, 1)
	if _, err := conn.Read(one); err == nil {
		return errors.New("the server has answered, expected an end: is it a syslog server?")
	} else if timeout, ok := err.(net.Error); ok && timeout.Timeout() {
		return fmt.Errorf("the server has not ended the connection: %w", err)
	}
	return nil
}

// message is an entry as RFC 5424 §6 has it.
func (s Syslog) message(e api.AuditEntry) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "<%d>1 %s %s wardicon %d audit [%s", priority,
		e.At.UTC().Format("2006-01-02T15:04:05.000Z07:00"), header(s.Host, 255), os.Getpid(),
		dataID)
	for _, p := range []struct{ name, value string }{
		{"seq", strconv.FormatInt(e.Seq, 10)},
		{"operator", e.Operator},
		{"action", e.Action},
		{"noun", e.Noun},
		{"object", e.Object},
	} {
		fmt.Fprintf(&b, " %s=\"%s\"", p.name, parameter(p.value))
	}
	b.WriteString("] \xEF\xBB\xBF") // what follows is UTF-8
	b.WriteString(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(e.Operator+": "+e.Action+" "+e.Noun+" "+e.Detail, "\uFFFD")))
	return b.Bytes()
}

// parameter escapes a value (RFC 5424 §6.3.3).
func parameter(v string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`, "\n", " ", "\r", " ", "\x00", " ").
		Replace(strings.ToValidUTF8(v, "\uFFFD"))
}

// header is a field of the header: printable ASCII without blanks, or a hyphen for none.
func header(v string, most int) string {
	v = strings.Map(func(r rune) rune {
		if r <= ' ' || r >= 0x7F {
			return -1
		}
		return r
	}, v)
	if v == "" {
		return "-"
	}
	return v[:min(len(v), most)]
}
