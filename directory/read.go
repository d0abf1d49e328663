// Package directory reads people from an LDAP directory (RFC 4511), and changes nothing there.
package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"wardicon/core/rows"
	"wardicon/core/vpn"
)

// Kind is that of the tables that are read, and Entry their column with what identifies an entry;
// the others are called like the fields of vpn.DirectoryFields.
const (
	Kind  = "LDAP"
	Entry = "entry"
)

// Bounds of what a directory may answer.
const (
	pageSize   = 500
	maxPacket  = 4 << 20
	maxAnswers = 256 << 20
	patience   = 20 * time.Second // for one answer
)

func init() { ber.MaxPacketLengthBytes = maxPacket }

// Error says what a directory did not do, in words for whoever set it up.
type Error struct {
	Found, Expected, Fix string
	// Pointer is the field of the settings that is at fault (RFC 6901).
	Pointer string
}

func (e *Error) Error() string { return "the directory " + e.Found }

// bounded gives an answer up that has no end.
type bounded struct {
	net.Conn
	left int64
}

func (c *bounded) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, errTooMuch
	}
	_ = c.SetReadDeadline(time.Now().Add(patience))
	n, err := c.Conn.Read(p)
	c.left -= int64(n)
	return n, err
}

var errTooMuch = errors.New("more than is read of any directory")

// Read reads the people of a directory as a table: a column for each field that is mapped, and one
// for what identifies an entry. Groups are joined with semicolons. The error is an *Error, or
// the context's.
func Read(ctx context.Context, d vpn.Directory) (rows.Sheet, error) {
	conn, err := dial(ctx, d)
	if err != nil {
		return rows.Sheet{}, err
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	groups := map[string][]string{}
	if d.GroupBase != "" {
		if groups, err = members(conn, d.GroupBase); err != nil {
			return rows.Sheet{}, cause(ctx, err)
		}
	}
	sheet, err := people(conn, d, groups)
	return sheet, cause(ctx, err)
}

// cause is why reading ended: the caller's wish before what that led to.
func cause(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

func dial(ctx context.Context, d vpn.Directory) (*ldap.Conn, error) {
	u, err := url.Parse(d.URL)
	if err != nil {
		return nil, &Error{
			"has no address that can be read",
			"ldaps:// and a host name",
			"",
			"/url",
		}
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"ldaps": "636", "ldap": "389"}[u.Scheme]
	}
	config := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if d.Authority != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(d.Authority))
	}
	dialer := &net.Dialer{Timeout: patience}
	raw, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return nil, cause(ctx, &Error{"does not answer: " + plain(err), "a server that answers",
			"check address and port, and whether a firewall is between", "/url"})
	}
	var through net.Conn = &bounded{raw, maxAnswers}
	if u.Scheme == "ldaps" {
		secured := tls.Client(through, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			_ = raw.Close()
			return nil, cause(ctx, untrusted(err))
		}
		through = secured
	}
	conn := ldap.NewConn(through, u.Scheme == "ldaps")
	conn.Start()
	conn.SetTimeout(patience)
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	if u.Scheme == "ldap" {
		if err := conn.StartTLS(config); err != nil {
			_ = conn.Close()
			return nil, cause(ctx, untrusted(err))
		}
	}
	if d.BindDN == "" {
		return conn, nil
	}
	if err := conn.Bind(d.BindDN, d.Password.Reveal()); err != nil {
		_ = conn.Close()
		return nil, cause(ctx, &Error{"refused the sign-in: " + plain(err),
			"a name and a password that it accepts", "correct one of the two", "/bind_dn"})
	}
	return conn, nil
}

func untrusted(err error) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case errors.As(err, &unknown):
		return &Error{"shows a certificate of a CA that is not trusted", "one of the CAs on record",
			"add the CA that issued it", "/authority"}
	case errors.As(err, &name):
		return &Error{"shows a certificate for another name", "one for the name in its address",
			"write the name that the certificate has", "/url"}
	}
	return &Error{"does not begin TLS: " + plain(err), "TLS 1.2 or later",
		"check the port, and whether the server has a certificate", "/url"}
}

// plain words an error without the names of Go packages.
func plain(err error) string {
	var refused *ldap.Error
	if errors.As(err, &refused) {
		if text, ok := ldap.LDAPResultCodeMap[refused.ResultCode]; ok && refused.ResultCode < 100 {
			return fmt.Sprintf("%s (result %d)", strings.ToLower(text), refused.ResultCode)
		}
		err = refused.Err
	}
	var timeout net.Error
	switch {
	case errors.Is(err, errTooMuch):
		return "the answer has no end"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "no response in time"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection was closed"
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	return strings.TrimPrefix(err.Error(), "ldap: ")
}

// search visits the entries of a search, page by page (RFC 2696).
func search(
	conn *ldap.Conn,
	base, filter, pointer string,
	attributes []string,
	visit func(*ldap.Entry) error,
) error {
	paging := ldap.NewControlPaging(pageSize)
	for count := 0; ; {
		res, err := conn.Search(ldap.NewSearchRequest(
			base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, int(patience.Seconds()), false,
			filter, attributes, []ldap.Control{paging},
		))
		if err != nil {
			return refused(err, pointer)
		}
		for _, e := range res.Entries {
			if count++; count > rows.MaxRows {
				return &Error{fmt.Sprintf("has more than %d entries that fit", rows.MaxRows),
					fmt.Sprintf("at most %d", rows.MaxRows), "narrow base or filter", "/filter"}
			}
			if err := visit(e); err != nil {
				return err
			}
		}
		next, ok := ldap.FindControl(res.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return nil
		}
		if len(res.Entries) == 0 {
			return &Error{"answers with pages without entries", "entries, or an end",
				"ask who runs it", "/url"}
		}
		paging.SetCookie(next.Cookie)
	}
}

func refused(err error, pointer string) error {
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return &Error{"has no such base", "a base that is there, and may be read",
			"correct it", pointer}
	case ldap.IsErrorWithCode(err, ldap.ErrorFilterCompile):
		return &Error{
			"was not asked: the filter cannot be read",
			"a filter such as (objectClass=person)",
			"count its parentheses",
			"/filter",
		}
	case ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
		return &Error{"answers only a part of the search", "all entries, page by page",
			"allow paged results for the name that signs in", "/bind_dn"}
	}
	return &Error{"did not answer the search: " + plain(err), "entries", "ask who runs it", pointer}
}

// members are the groups of entries and of logins: by distinguished name in small letters (RFC 4519
// §2.17, §2.40), or by uid (RFC 2307 §3).
func members(conn *ldap.Conn, base string) (map[string][]string, error) {
	groups := map[string][]string{}
	attributes := []string{"cn", "member", "uniqueMember", "memberUid"}
	filter := "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)" +
		"(objectClass=posixGroup)(objectClass=group))"
	err := search(conn, base, filter, "/group_base", attributes, func(e *ldap.Entry) error {
		for _, attribute := range attributes[1:] {
			for _, member := range e.GetEqualFoldAttributeValues(attribute) {
				key := sameDN(member)
				groups[key] = append(groups[key], e.DN)
			}
		}
		return nil
	})
	return groups, err
}

// sameDN writes a distinguished name, or any other, in one form, as far as groups write one
// otherwise than the entry itself: capitals, and spaces between its parts.
func sameDN(text string) string {
	dn, err := ldap.ParseDN(text)
	if err != nil {
		return strings.ToLower(text)
	}
	return strings.ToLower(dn.String())
}

// people reads the entries of people into a table.
func people(
	conn *ldap.Conn,
	d vpn.Directory,
	groups map[string][]string,
) (sheet rows.Sheet, err error) {
	sheet = rows.Sheet{Kind: Kind, Encoding: "UTF-8", Columns: []string{Entry}}
	wanted := []string{d.KeyAttribute}
	for _, field := range slices.Sorted(maps.Keys(vpn.DirectoryFields)) {
		if attribute := d.Attributes[field]; attribute != "" {
			sheet.Columns, wanted = append(sheet.Columns, field), append(wanted, attribute)
		}
	}
	seen, named := map[string]bool{}, newGroupNames(d.Groups)
	err = search(conn, d.Base, d.Filter, "/base", wanted, func(e *ldap.Entry) error {
		key := identity(e.GetEqualFoldRawAttributeValues(d.KeyAttribute))
		if key == "" {
			return &Error{
				fmt.Sprintf("has an entry without %s: %s", d.KeyAttribute, short(e.DN)),
				"what identifies each entry for good", "name another attribute", "/key_attribute",
			}
		}
		if seen[key] {
			return &Error{
				fmt.Sprintf("has two entries of one %s: %s", d.KeyAttribute, short(e.DN)),
				"what identifies each entry for good", "name another attribute", "/key_attribute",
			}
		}
		seen[key] = true
		row := rows.Row{Line: len(sheet.Rows) + 1, Cells: []rows.Cell{{Text: key}}}
		for i, field := range sheet.Columns[1:] {
			values := e.GetEqualFoldAttributeValues(wanted[i+1])
			if field == "groups" {
				values = append(values, groups[sameDN(e.DN)]...)
				values = append(values, groups[strings.ToLower(one(e, d.Attributes["login"]))]...)
				row.Cells = append(row.Cells, rows.Cell{Text: named.here(values)})
				continue
			}
			text := ""
			if len(values) > 0 && utf8.ValidString(values[0]) {
				text = strings.TrimSpace(values[0])
			}
			row.Cells = append(row.Cells, rows.Cell{Text: text})
		}
		for i := range row.Cells {
			row.Cells[i].Line, row.Cells[i].Column = row.Line, i+1
		}
		sheet.Rows = append(sheet.Rows, row)
		return nil
	})
	return sheet, err
}

func one(e *ldap.Entry, attribute string) string {
	if values := e.GetEqualFoldAttributeValues(attribute); len(values) > 0 {
		return values[0]
	}
	return ""
}

func short(dn string) string {
	if len(dn) > 120 {
		return dn[:120] + "…"
	}
	return dn
}

// identity writes what identifies an entry: as it is, or in hexadecimal where it is no text.
func identity(values [][]byte) string {
	if len(values) == 0 {
		return ""
	}
	if !utf8.Valid(values[0]) || strings.ContainsFunc(string(values[0]), func(r rune) bool {
		return r < ' '
	}) {
		return hex.EncodeToString(values[0])
	}
	return string(values[0])
}

// groupNames gives groups of a directory their names here.
type groupNames map[string]string

func newGroupNames(mapped map[string]string) groupNames {
	own := groupNames{}
	for name, to := range mapped {
		own[sameDN(name)] = to
	}
	return own
}

// here are the groups here of somebody who is in groups of the directory, joined by semicolons.
func (g groupNames) here(names []string) string {
	var list []string
	for _, name := range names {
		first := firstName(name)
		to, ok := g[sameDN(name)]
		if !ok {
			to, ok = g[strings.ToLower(first)]
		}
		if len(g) == 0 {
			to, ok = first, true
		}
		// In a cell these signs part one group from another.
		to = strings.NewReplacer(";", " ", "=", " ", ",", " ", "|", " ", "\n", " ").Replace(to)
		if ok && to != "" {
			list = append(list, to)
		}
	}
	return strings.Join(list, ";")
}

// firstName is the value of the first part of a distinguished name, or a name that is none.
func firstName(name string) string {
	dn, err := ldap.ParseDN(name)
	if err != nil || len(dn.RDNs) == 0 || !strings.Contains(name, "=") {
		return name
	}
	return dn.RDNs[0].Attributes[0].Value
}
