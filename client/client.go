// Package client is the Go client of the HTTP API.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// maxAnswer bounds what is read of an answer.
const maxAnswer = 64 << 20

// Client speaks to one service.
type Client struct {
	Gateways Noun[api.Gateway]
	People   Noun[api.Person]
	Accounts Noun[api.Account]
	Devices  Noun[api.Device]
	Profiles Noun[api.Profile]
	Patterns Noun[api.Pattern]

	Authorities Noun[api.Authority]
	Switchovers Noun[api.Switchover]

	// Prove gives the operator's password, or a code of the second factor, where the service asks
	// once more who it is; nil has what needs that refused.
	Prove func(code bool) (secret.Text, error)

	Device string // the mark by which the service knows this device when it signs in again

	base  string
	token string
	http  *http.Client
}

// Trusting makes a client that believes certain authorities (PEM) and no others.
func Trusting(address, token, authority string) *Client {
	c := New(address, token)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	c.http.Transport = &http.Transport{
		Proxy:             http.ProxyFromEnvironment,
		TLSClientConfig:   &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
		ForceAttemptHTTP2: true,
	}
	return c
}

// New makes a client for the service at an address such as http://127.0.0.1:7480.
func New(address, token string) *Client {
	c := &Client{
		base:  strings.TrimRight(address, "/"),
		token: token,
		http:  &http.Client{Timeout: time.Minute},
	}
	c.Gateways = Records[api.Gateway](c, "gateway")
	c.People = Records[api.Person](c, "person")
	c.Accounts = Records[api.Account](c, "account")
	c.Devices = Records[api.Device](c, "device")
	c.Profiles = Records[api.Profile](c, "profile")
	c.Patterns = Records[api.Pattern](c, "pattern")
	c.Switchovers = Records[api.Switchover](c, "switchover")
	c.Authorities = Records[api.Authority](c, "authority")
	return c
}

// UnreachableError says that no service answered.
type UnreachableError struct {
	Address string
	Err     error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf(
		"no service answers at %s: %v; start it with wardicon serve, or name another with "+
			"--service",
		e.Address,
		e.Err,
	)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

// call sends a request and reads the answer into out; out may be nil or *[]byte. Where the service
// wants to know once more who it is, Prove is asked.
func (c *Client) call(
	ctx context.Context,
	method, path string,
	query url.Values,
	header http.Header,
	in, out any,
) error {
	err := c.send(ctx, method, path, query, header, in, out)
	var p *api.Problem
	if _, stream := in.(io.Reader); stream || c.Prove == nil || !errors.As(err, &p) ||
		p.Type != typeConfirm {
		return err
	}
	if err := c.Confirm(ctx); err != nil {
		return err
	}
	return c.send(ctx, method, path, query, header, in, out)
}

// Types of problems that are answered by asking for more.
const (
	typeConfirm    = "urn:wardicon:problem:confirm"
	typeCodeWanted = "urn:wardicon:problem:code-wanted"
)

// Confirm proves to the service once more who it is: for some minutes the session may then do what
// a stolen one must not.
func (c *Client) Confirm(ctx context.Context) error {
	password, err := c.Prove(false)
	if err != nil {
		return err
	}
	body := map[string]string{"password": password.Reveal()}
	err = c.send(ctx, http.MethodPost, "/session/confirmation", nil, nil, body, nil)
	var p *api.Problem
	if !errors.As(err, &p) || p.Type != typeCodeWanted {
		return err
	}
	code, err := c.Prove(true)
	if err != nil {
		return err
	}
	body["code"] = strings.TrimSpace(code.Reveal())
	return c.send(ctx, http.MethodPost, "/session/confirmation", nil, nil, body, nil)
}

func (c *Client) send(
	ctx context.Context,
	method, path string,
	query url.Values,
	header http.Header,
	in, out any,
) error {
	var sent io.Reader
	if raw, ok := in.(io.Reader); ok {
		sent = raw
	} else if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			return err
		}
		sent = bytes.NewReader(data)
	}
	target := c.base + "/api/v1" + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, target, sent)
	if err != nil {
		return &UnreachableError{c.base, err}
	}
	for key, values := range header {
		req.Header[key] = values
	}
	if in != nil && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		var plain *url.Error
		if errors.As(err, &plain) {
			err = plain.Err
		}
		return &UnreachableError{c.base, err}
	}
	defer func() { _ = res.Body.Close() }()
	data, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return &UnreachableError{c.base, err}
	}
	if res.StatusCode >= 400 {
		p := &api.Problem{
			Status: res.StatusCode,
			Title:  res.Status,
			Detail: "the service answered " + res.Status,
		}
		if strings.HasPrefix(res.Header.Get("Content-Type"), "application/problem+json") {
			if err := json.Unmarshal(data, p); err != nil {
				return fmt.Errorf("the service's error cannot be read: %w", err)
			}
		}
		return p
	}
	switch out := out.(type) {
	case nil:
		return nil
	case *[]byte:
		*out = data
		return nil
	}
	if err := json.Unmarshal(data, out); err != nil {
		return fmt.Errorf("%s does not respond like a Wardicon service: %w", c.base, err)
	}
	return nil
}

// ask sends a request and reads the answer.
func ask[T any](
	ctx context.Context,
	c *Client,
	method, path string,
	query url.Values,
	header http.Header,
	in any,
) (out T, err error) {
	err = c.call(ctx, method, path, query, header, in, &out)
	return out, err
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	return ask[T](ctx, c, http.MethodGet, path, query, nil, nil)
}

func post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	return ask[T](ctx, c, http.MethodPost, path, nil, nil, in)
}

// Query selects a page of a list. Filter holds conditions by name.
type Query struct {
	Search, Sort  string
	Limit, Offset int
	Filter        map[string]string
}

func (q Query) values() url.Values {
	v := url.Values{}
	for key, value := range map[string]string{"search": q.Search, "sort": q.Sort} {
		if value != "" {
			v.Set(key, value)
		}
	}
	for key, n := range map[string]int{"limit": q.Limit, "offset": q.Offset} {
		if n > 0 {
			v.Set(key, strconv.Itoa(n))
		}
	}
	for name, value := range q.Filter {
		v.Add("filter", name+":"+value)
	}
	return v
}

// Patch is a JSON merge patch (RFC 7396): what is absent stays, null removes. A secret
// goes into it as a plain string.
type Patch map[string]any

// Noun is one kind of record.
type Noun[Row any] struct {
	c    *Client
	name string
	path string
}

// Records are the calls of a noun, by its name in api.Nouns. Row is a record as lists show it.
func Records[Row any](c *Client, noun string) Noun[Row] {
	n := api.NounOf(noun)
	return Noun[Row]{c, n.Name, "/" + n.Plural}
}

// List reads a page.
func (n Noun[Row]) List(ctx context.Context, q Query) (api.Page[Row], error) {
	return get[api.Page[Row]](ctx, n.c, n.path, q.values())
}

// Show reads one record.
func (n Noun[Row]) Show(ctx context.Context, id string) (Row, error) {
	return get[Row](ctx, n.c, n.path+"/"+url.PathEscape(id), nil)
}

// Add keeps a new record.
func (n Noun[Row]) Add(ctx context.Context, record any) (Row, error) {
	return post[Row](ctx, n.c, n.path, record)
}

// seen is the header with the version that a change is made to; 0 stands for any.
func seen(version int) http.Header {
	if version == 0 {
		return http.Header{"If-Match": {"*"}}
	}
	return http.Header{"If-Match": {strconv.Itoa(version)}}
}

// Change changes a record; version 0 changes whatever version is there.
func (n Noun[Row]) Change(ctx context.Context, id string, version int, patch any) (Row, error) {
	header := seen(version)
	header.Set("Content-Type", "application/merge-patch+json")
	return ask[Row](ctx, n.c, http.MethodPatch, n.path+"/"+url.PathEscape(id), nil, header, patch)
}

// Remove removes a record.
func (n Noun[Row]) Remove(ctx context.Context, id string) error {
	return n.c.call(ctx, http.MethodDelete, n.path+"/"+url.PathEscape(id), nil, nil, nil, nil)
}

// Start tells whether the service is set up.
func (c *Client) Start(ctx context.Context) (api.Start, error) {
	return get[api.Start](ctx, c, "/start", nil)
}

// SetUp makes the owner at the first start.
func (c *Client) SetUp(
	ctx context.Context,
	code, name string,
	password secret.Text,
	links string,
) error {
	return c.call(
		ctx,
		http.MethodPost,
		"/start",
		nil,
		nil,
		map[string]string{
			"code": code, "name": name, "password": password.Reveal(), "links": links,
		},
		nil,
	)
}

// SignIn signs in and keeps the token. A second factor wants its code.
func (c *Client) SignIn(
	ctx context.Context,
	name string,
	password secret.Text,
	code ...string,
) (s api.SignedIn, err error) {
	body := map[string]string{
		"name":     name,
		"password": password.Reveal(),
		"kind":     "token",
		"device":   c.Device,
	}
	if len(code) > 0 {
		body["code"] = code[0]
	}
	err = c.call(ctx, http.MethodPost, "/session", nil, nil, body, &s)
	if err == nil {
		c.token, c.Device = s.Token, s.Device
	}
	return s, err
}

// Session tells who is signed in.
func (c *Client) Session(ctx context.Context) (api.SignedIn, error) {
	return get[api.SignedIn](ctx, c, "/session", nil)
}

// SignOut ends the session.
func (c *Client) SignOut(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/session", nil, nil, nil, nil)
}

// Organisation reads who the service works for.
func (c *Client) Organisation(ctx context.Context) (vpn.Organisation, error) {
	return get[vpn.Organisation](ctx, c, "/organisation", nil)
}

// SetOrganisation replaces it, in the version that it has.
func (c *Client) SetOrganisation(
	ctx context.Context,
	o vpn.Organisation,
) (vpn.Organisation, error) {
	return ask[vpn.Organisation](ctx, c, http.MethodPut, "/organisation", nil, seen(o.Version), o)
}

// Overview sums up the fleet.
func (c *Client) Overview(ctx context.Context) (api.Overview, error) {
	return get[api.Overview](ctx, c, "/overview", nil)
}

// Platforms lists what each release can do.
func (c *Client) Platforms(ctx context.Context) (api.Items[platform.Row], error) {
	return get[api.Items[platform.Row]](ctx, c, "/platforms", nil)
}

// Audit lists what was done.
func (c *Client) Audit(ctx context.Context, q Query) (api.Page[api.AuditEntry], error) {
	return get[api.Page[api.AuditEntry]](ctx, c, "/audit", q.values())
}

// Plan plans and checks a profile.
func (c *Client) Plan(ctx context.Context, profileID string) (api.Planned, error) {
	return get[api.Planned](ctx, c, "/profiles/"+url.PathEscape(profileID)+"/plan", nil)
}

// Try plans and checks without keeping anything.
func (c *Client) Try(
	ctx context.Context,
	deviceID, gatewayID string,
	preferences vpn.Preferences,
) (api.Planned, error) {
	return post[api.Planned](
		ctx,
		c,
		"/plan",
		map[string]any{"device_id": deviceID, "gateway_id": gatewayID, "preferences": preferences},
	)
}

func byHandQuery(
	byHand bool,
) url.Values {
	return url.Values{"by_hand": {strconv.FormatBool(byHand)}}
}

// Preview shows the files of a profile; with reveal their secrets too, which is logged.
func (c *Client) Preview(
	ctx context.Context,
	profileID string,
	byHand, reveal bool,
) (api.Items[api.ShownFile], error) {
	method, path := http.MethodGet, "/preview"
	if reveal {
		method, path = http.MethodPost, "/secret-preview"
	}
	return ask[api.Items[api.ShownFile]](
		ctx,
		c,
		method,
		"/profiles/"+url.PathEscape(profileID)+path,
		byHandQuery(byHand),
		nil,
		nil,
	)
}

// Parcels lists the parcels of a profile.
func (c *Client) Parcels(ctx context.Context, profileID string) (api.Items[api.Parcel], error) {
	return get[api.Items[api.Parcel]](
		ctx,
		c,
		"/profiles/"+url.PathEscape(profileID)+"/parcels",
		nil,
	)
}

// Build makes a parcel.
func (c *Client) Build(ctx context.Context, profileID string, byHand bool) (api.Parcel, error) {
	return post[api.Parcel](
		ctx,
		c,
		"/profiles/"+url.PathEscape(profileID)+"/parcels",
		map[string]bool{"by_hand": byHand},
	)
}

// Fetch reads a file of a parcel, with its secrets; that is logged.
func (c *Client) Fetch(ctx context.Context, parcelID, name string) ([]byte, error) {
	return get[[]byte](
		ctx,
		c,
		"/parcels/"+url.PathEscape(parcelID)+"/files/"+url.PathEscape(name),
		nil,
	)
}

// Prospects shows what a pattern would make of its devices, a page. With an identifier
// the change is to a pattern that is kept, else it describes a new one.
func (c *Client) Prospects(
	ctx context.Context,
	patternID string,
	change any,
	limit, offset int,
) (api.Page[api.Prospect], error) {
	q := Query{Limit: limit, Offset: offset}.values()
	if patternID != "" {
		q.Set("pattern", patternID)
	}
	return ask[api.Page[api.Prospect]](
		ctx,
		c,
		http.MethodPost,
		"/prospects",
		q,
		http.Header{"Content-Type": {"application/merge-patch+json"}},
		change,
	)
}

// RollOut makes or changes the profiles of all devices that a pattern is for.
func (c *Client) RollOut(ctx context.Context, patternID string) (api.Job, error) {
	return post[api.Job](ctx, c, "/patterns/"+url.PathEscape(patternID)+"/roll-outs", nil)
}

// Jobs lists jobs, newest first.
func (c *Client) Jobs(ctx context.Context, q Query) (api.Page[api.Job], error) {
	return get[api.Page[api.Job]](ctx, c, "/jobs", q.values())
}

// Job tells how far a job has come.
func (c *Client) Job(ctx context.Context, id string) (api.Job, error) {
	return get[api.Job](ctx, c, "/jobs/"+url.PathEscape(id), nil)
}

// Cancel ends a job.
func (c *Client) Cancel(ctx context.Context, id string) (api.Job, error) {
	return post[api.Job](ctx, c, "/jobs/"+url.PathEscape(id)+"/cancellation", nil)
}

// UndoJob moves the profiles that a job has moved back to where they were, as a job.
func (c *Client) UndoJob(ctx context.Context, id string) (api.Job, error) {
	return post[api.Job](ctx, c, "/jobs/"+url.PathEscape(id)+"/undo", nil)
}

// Search finds records of every noun by a text.
func (c *Client) Search(ctx context.Context, text string) (api.Items[api.FoundRecord], error) {
	return get[api.Items[api.FoundRecord]](ctx, c, "/search", url.Values{"text": {text}})
}
