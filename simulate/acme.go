package simulate

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/miekg/dns"

	"wardicon/core/pki"
)

// ACME is a CA that issues certificates by RFC 8555, as strict as it may be: nonces that count
// once, signatures of registered accounts, and control of every name, shown by TLS (RFC 8737), HTTP
// or DNS.
type ACME struct {
	URL       string
	Authority string // certificate of the CA, PEM

	// Dial tells where a name is served, by TLS or HTTP: an address with a port.
	Dial func(name string) string
	// Resolver is the name server that is asked, an address with a port.
	Resolver string
	// Bindings are the MAC keys of accounts outside, by identifier; where there are some, an
	// account needs one (RFC 8555 §7.3.4).
	Bindings map[string][]byte
	// Problems are what clients did wrong, and Issued how many certificates were issued.
	Problems []string
	Issued   int

	ca       pki.Issuer
	server   *http.Server
	mu       sync.Mutex
	nonces   map[string]bool
	accounts map[string]*jose.JSONWebKey
	orders   map[string]*acmeOrder
}

type acmeOrder struct {
	id, account string
	names       []*acmeName
	chain       string
}

// acmeName is a name of an order, and whether it is under control.
type acmeName struct {
	id, name, token string
	valid           bool
}

func (o *acmeOrder) all() (list []string) {
	for _, n := range o.names {
		list = append(list, n.name)
	}
	return list
}

func (o *acmeOrder) valid() bool {
	return !slices.ContainsFunc(o.names, func(n *acmeName) bool { return !n.valid })
}

// alpnExtension marks the certificate that answers a challenge (RFC 8737 §3).
var alpnExtension = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}

// NewACME starts one on loopback.
func NewACME() (*ACME, error) {
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		return nil, err
	}
	now := time.Now().Add(-time.Hour)
	root, err := pki.Issue(rand.Reader, pki.Issuer{Key: key}, key.Public(), pki.Wanted{
		Name: "Authority of a simulator", Usage: pki.ForAuthority, From: now, To: now.AddDate(1, 0, 0),
	})
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	a := &ACME{
		URL: "http://" + listener.Addr().String(), Authority: pki.Bundle(root),
		ca: pki.Issuer{Certificate: root, Key: key}, nonces: map[string]bool{},
		accounts: map[string]*jose.JSONWebKey{}, orders: map[string]*acmeOrder{},
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /directory", func(w http.ResponseWriter, _ *http.Request) {
		a.answer(w, http.StatusOK, map[string]any{
			"newNonce": a.URL + "/nonce", "newAccount": a.URL + "/account", "newOrder": a.URL + "/order",
			"revokeCert": a.URL + "/revoke", "keyChange": a.URL + "/key",
			"meta": map[string]any{"termsOfService": a.URL + "/terms"},
		})
	})
	mux.HandleFunc("GET /nonce", func(w http.ResponseWriter, _ *http.Request) {
		a.answer(w, http.StatusOK, nil)
	})
	mux.HandleFunc("POST /", a.signed)
	a.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = a.server.Serve(listener) }()
	return a, nil
}

// Close ends it.
func (a *ACME) Close() error { return a.server.Close() }

func (a *ACME) answer(w http.ResponseWriter, status int, v any) {
	nonce := rand.Text()
	a.mu.Lock()
	a.nonces[nonce] = true
	a.mu.Unlock()
	w.Header().Set("Replay-Nonce", nonce)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if v != nil {
		_ = json.NewEncoder(w).Encode(v)
	}
}

func (a *ACME) refuse(w http.ResponseWriter, status int, kind, why string) {
	a.mu.Lock()
	a.Problems = append(a.Problems, why)
	a.mu.Unlock()
	a.answer(w, status, map[string]any{"type": "urn:ietf:params:acme:error:" + kind, "detail": why})
}

// opened verifies a request (RFC 8555 §6.2) and finds whose it is.
func (a *ACME) opened(
	r *http.Request,
) (payload []byte, account string, key *jose.JSONWebKey, err error) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		return nil, "", nil, err
	}
	object, err := jose.ParseSigned(string(body), []jose.SignatureAlgorithm{jose.ES256, jose.RS256})
	if err != nil {
		return nil, "", nil, err
	}
	head := object.Signatures[0].Protected
	a.mu.Lock()
	fresh := a.nonces[head.Nonce]
	delete(a.nonces, head.Nonce)
	key = a.accounts[head.KeyID]
	a.mu.Unlock()
	switch {
	case !fresh:
		return nil, "", nil, fmt.Errorf("the nonce was used already")
	case head.ExtraHeaders["url"] != a.URL+r.URL.Path:
		return nil, "", nil, fmt.Errorf("signed for %v", head.ExtraHeaders["url"])
	case r.URL.Path == "/account" && head.JSONWebKey != nil:
		key = head.JSONWebKey
	case key == nil:
		return nil, "", nil, fmt.Errorf("no account %q", head.KeyID)
	}
	payload, err = object.Verify(key)
	return payload, head.KeyID, key, err
}

func (a *ACME) signed(w http.ResponseWriter, r *http.Request) {
	payload, account, key, err := a.opened(r)
	if err != nil {
		a.refuse(w, http.StatusBadRequest, "malformed", err.Error())
		return
	}
	if r.URL.Path == "/account" {
		a.register(w, payload, key)
		return
	}
	if r.URL.Path == "/order" {
		a.newOrder(w, payload, account)
		return
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	a.mu.Lock()
	o := a.orders[parts[min(1, len(parts)-1)]]
	a.mu.Unlock()
	var n *acmeName
	if o != nil && len(parts) > 2 {
		if i := slices.IndexFunc(o.names, func(n *acmeName) bool { return n.id == parts[2] }); i >= 0 {
			n = o.names[i]
		}
	}
	of := len(parts) > 2
	if o == nil || o.account != account || of != (n != nil) {
		a.refuse(w, http.StatusNotFound, "malformed", "nothing at "+r.URL.Path)
		return
	}
	switch "/" + parts[0] {
	case "/order":
		a.answer(w, http.StatusOK, a.order(o))
	case "/authorization":
		a.answer(w, http.StatusOK, a.authorization(o, n))
	case "/challenge":
		if err := a.controls(n, path.Base(r.URL.Path), key); err != nil {
			a.refuse(w, http.StatusForbidden, "unauthorized", err.Error())
			return
		}
		n.valid = true
		a.answer(w, http.StatusOK, a.challenge(o, n, path.Base(r.URL.Path)))
	case "/finalize":
		a.finalize(w, o, payload)
	case "/certificate":
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		_, _ = io.WriteString(w, o.chain)
	}
}

func (a *ACME) register(w http.ResponseWriter, payload []byte, key *jose.JSONWebKey) {
	var in struct {
		Agreed bool            `json:"termsOfServiceAgreed"`
		Only   bool            `json:"onlyReturnExisting"`
		Bound  json.RawMessage `json:"externalAccountBinding"`
	}
	_ = json.Unmarshal(payload, &in)
	if a.Bindings != nil && !in.Only {
		if err := a.bound(in.Bound, key); err != nil {
			a.refuse(w, http.StatusForbidden, "externalAccountRequired", err.Error())
			return
		}
	}
	print, err := key.Thumbprint(crypto.SHA256)
	if err != nil || !in.Agreed && !in.Only {
		a.refuse(w, http.StatusForbidden, "userActionRequired", "the terms were not agreed to")
		return
	}
	id := a.URL + "/account/" + base64.RawURLEncoding.EncodeToString(print)
	a.mu.Lock()
	known := a.accounts[id] != nil
	a.accounts[id] = key
	a.mu.Unlock()
	w.Header().Set("Location", id)
	status := http.StatusCreated
	if known {
		status = http.StatusOK
	}
	a.answer(w, status, map[string]any{"status": "valid"})
}

// bound holds that an account belongs to one outside: its key, signed with the key of that one.
func (a *ACME) bound(text []byte, key *jose.JSONWebKey) error {
	object, err := jose.ParseSigned(string(text), []jose.SignatureAlgorithm{jose.HS256})
	if err != nil {
		return fmt.Errorf("no binding to an account outside: %w", err)
	}
	head := object.Signatures[0].Protected
	payload, err := object.Verify(a.Bindings[head.KeyID])
	if err != nil || head.ExtraHeaders["url"] != a.URL+"/account" {
		return fmt.Errorf("the binding of %q is not signed with its key", head.KeyID)
	}
	var named jose.JSONWebKey
	if err := json.Unmarshal(payload, &named); err != nil {
		return err
	}
	one, err := named.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	if other, err := key.Thumbprint(crypto.SHA256); err != nil || !bytes.Equal(one, other) {
		return fmt.Errorf("the binding is for another account")
	}
	return nil
}

func (a *ACME) newOrder(w http.ResponseWriter, payload []byte, account string) {
	var in struct {
		Identifiers []struct{ Type, Value string } `json:"identifiers"`
	}
	o := &acmeOrder{id: rand.Text(), account: account}
	bad := json.Unmarshal(payload, &in) != nil || len(in.Identifiers) == 0
	for _, i := range in.Identifiers {
		bad = bad || i.Type != "dns"
		o.names = append(o.names, &acmeName{id: rand.Text(), name: i.Value, token: rand.Text()})
	}
	if bad {
		a.refuse(w, http.StatusBadRequest, "malformed", "host names are issued for")
		return
	}
	a.mu.Lock()
	a.orders[o.id] = o
	a.mu.Unlock()
	w.Header().Set("Location", a.URL+"/order/"+o.id)
	a.answer(w, http.StatusCreated, a.order(o))
}

func (a *ACME) order(o *acmeOrder) map[string]any {
	status := "pending"
	if o.valid() {
		status = "ready"
	}
	var names, authorizations []any
	for _, n := range o.names {
		names = append(names, map[string]string{"type": "dns", "value": n.name})
		authorizations = append(authorizations, a.URL+"/authorization/"+o.id+"/"+n.id)
	}
	out := map[string]any{
		"identifiers": names, "authorizations": authorizations, "finalize": a.URL + "/finalize/" + o.id,
	}
	if o.chain != "" {
		status, out["certificate"] = "valid", a.URL+"/certificate/"+o.id
	}
	out["status"] = status
	return out
}

func (a *ACME) challenge(o *acmeOrder, n *acmeName, kind string) map[string]any {
	status := map[bool]string{true: "valid", false: "pending"}[n.valid]
	return map[string]any{
		"type": kind, "url": a.URL + "/challenge/" + o.id + "/" + n.id + "/" + kind, "token": n.token,
		"status": status,
	}
}

func (a *ACME) authorization(o *acmeOrder, n *acmeName) map[string]any {
	var list []any
	for _, kind := range []string{"tls-alpn-01", "http-01", "dns-01"} {
		list = append(list, a.challenge(o, n, kind))
	}
	return map[string]any{
		"identifier": map[string]string{"type": "dns", "value": n.name},
		"status":     map[bool]string{true: "valid", false: "pending"}[n.valid], "challenges": list,
	}
}

// controls holds that whoever has a name has the account.
func (a *ACME) controls(n *acmeName, kind string, key *jose.JSONWebKey) error {
	print, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	want := n.token + "." + base64.RawURLEncoding.EncodeToString(print)
	switch kind {
	case "http-01":
		return a.serves(n, want)
	case "dns-01":
		return a.named(n, want)
	}
	return a.shows(n, want)
}

// serves holds that a name answers a challenge by HTTP (RFC 8555 §8.3); redirects are followed.
func (a *ACME) serves(n *acmeName, want string) error {
	c := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			if host, _, _ := net.SplitHostPort(address); net.ParseIP(host) == nil {
				address = a.Dial(host)
			}
			return (&net.Dialer{}).DialContext(ctx, network, address)
		},
	}}
	res, err := c.Get("http://" + n.name + "/.well-known/acme-challenge/" + n.token)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1000))
	if err != nil || res.StatusCode != http.StatusOK || strings.TrimSpace(string(text)) != want {
		return fmt.Errorf(
			"%s answers the challenge with %d %.40q (%v)",
			n.name,
			res.StatusCode,
			text,
			err,
		)
	}
	return nil
}

// named holds that a name has the record of a challenge (RFC 8555 §8.4); aliases are followed.
func (a *ACME) named(n *acmeName, want string) error {
	sum := sha256.Sum256([]byte(want))
	record := base64.RawURLEncoding.EncodeToString(sum[:])
	at := dns.Fqdn("_acme-challenge." + n.name)
	for range 8 {
		q := new(dns.Msg)
		q.SetQuestion(at, dns.TypeTXT)
		answer, err := dns.Exchange(q, a.Resolver)
		if err != nil {
			return err
		}
		next := ""
		for _, one := range answer.Answer {
			switch one := one.(type) {
			case *dns.TXT:
				if strings.Join(one.Txt, "") == record {
					return nil
				}
			case *dns.CNAME:
				next = one.Target
			}
		}
		if next == "" {
			break
		}
		at = next
	}
	return fmt.Errorf("the record %s is not at %s", record, at)
}

// shows holds that a name answers a challenge by TLS (RFC 8737 §3).
func (a *ACME) shows(n *acmeName, text string) error {
	c, err := tls.DialWithDialer(
		&net.Dialer{Timeout: 5 * time.Second},
		"tcp",
		a.Dial(n.name),
		&tls.Config{
			ServerName: n.name, NextProtos: []string{"acme-tls/1"},
			InsecureSkipVerify: true, //nolint:gosec // it is judged below
		},
	)
	if err != nil {
		return err
	}
	state := c.ConnectionState()
	if err := c.Close(); err != nil {
		return err
	}
	leaf := state.PeerCertificates[0]
	sum := sha256.Sum256([]byte(text))
	want, err := asn1.Marshal(sum[:])
	if err != nil {
		return err
	}
	if state.NegotiatedProtocol != "acme-tls/1" || !slices.Equal(leaf.DNSNames, []string{n.name}) {
		return fmt.Errorf("%s answers with a certificate of %s", n.name,
			strings.Join(leaf.DNSNames, ", "))
	}
	for _, e := range leaf.Extensions {
		if e.Id.Equal(alpnExtension) && e.Critical && bytes.Equal(e.Value, want) {
			return nil
		}
	}
	return fmt.Errorf("%s does not show the token", n.name)
}

func (a *ACME) finalize(w http.ResponseWriter, o *acmeOrder, payload []byte) {
	var in struct {
		CSR string `json:"csr"`
	}
	_ = json.Unmarshal(payload, &in)
	der, err := base64.RawURLEncoding.DecodeString(in.CSR)
	var request *x509.CertificateRequest
	if err == nil {
		request, err = x509.ParseCertificateRequest(der)
	}
	if err != nil || request.CheckSignature() != nil ||
		!slices.Equal(request.DNSNames, o.all()) || !o.valid() {
		a.refuse(w, http.StatusForbidden, "badCSR", "a request for another name, or too early")
		return
	}
	now := time.Now().Add(-time.Minute)
	c, err := pki.Issue(rand.Reader, a.ca, request.PublicKey, pki.Wanted{
		Name: o.all()[0], Usage: pki.ForServer, Names: o.all(), From: now, To: now.AddDate(0, 0, 90),
	})
	if err != nil {
		a.refuse(w, http.StatusInternalServerError, "serverInternal", err.Error())
		return
	}
	a.mu.Lock()
	o.chain = pki.Bundle(c) + a.Authority
	a.Issued++
	a.mu.Unlock()
	early := a.order(o) // it is there a little later (RFC 8555 §7.4)
	early["status"] = "processing"
	delete(early, "certificate")
	a.answer(w, http.StatusOK, early)
}
