package simulate

import (
	"bytes"
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

	"wardicon/core/pki"
)

// ACME is a CA that issues certificates by RFC 8555, as strict as it may be: nonces that count
// once, signatures of registered accounts, and control of a name shown by TLS alone (RFC 8737).
type ACME struct {
	URL       string
	Authority string // certificate of the CA, PEM

	// Dial tells where a name is served: an address with a port.
	Dial func(name string) string
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
	id, account, name, token string
	valid                    bool
	chain                    string
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
	a.mu.Lock()
	o := a.orders[path.Base(r.URL.Path)]
	a.mu.Unlock()
	if o == nil || o.account != account {
		a.refuse(w, http.StatusNotFound, "malformed", "nothing at "+r.URL.Path)
		return
	}
	switch path.Dir(r.URL.Path) {
	case "/order":
		a.answer(w, http.StatusOK, a.order(o))
	case "/authorization":
		a.answer(w, http.StatusOK, a.authorization(o))
	case "/challenge":
		if err := a.controls(o, key); err != nil {
			a.refuse(w, http.StatusForbidden, "unauthorized", err.Error())
			return
		}
		o.valid = true
		a.answer(w, http.StatusOK, a.challenge(o))
	case "/finalize":
		a.finalize(w, o, payload)
	case "/certificate":
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		_, _ = io.WriteString(w, o.chain)
	}
}

func (a *ACME) register(w http.ResponseWriter, payload []byte, key *jose.JSONWebKey) {
	var in struct {
		Agreed bool `json:"termsOfServiceAgreed"`
		Only   bool `json:"onlyReturnExisting"`
	}
	_ = json.Unmarshal(payload, &in)
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

func (a *ACME) newOrder(w http.ResponseWriter, payload []byte, account string) {
	var in struct {
		Identifiers []struct{ Type, Value string } `json:"identifiers"`
	}
	if json.Unmarshal(payload, &in) != nil || len(in.Identifiers) != 1 ||
		in.Identifiers[0].Type != "dns" {
		a.refuse(w, http.StatusBadRequest, "malformed", "one name is issued for")
		return
	}
	o := &acmeOrder{
		id:      rand.Text(),
		account: account,
		name:    in.Identifiers[0].Value,
		token:   rand.Text(),
	}
	a.mu.Lock()
	a.orders[o.id] = o
	a.mu.Unlock()
	w.Header().Set("Location", a.URL+"/order/"+o.id)
	a.answer(w, http.StatusCreated, a.order(o))
}

func (a *ACME) order(o *acmeOrder) map[string]any {
	status := "pending"
	if o.valid {
		status = "ready"
	}
	out := map[string]any{
		"identifiers":    []any{map[string]string{"type": "dns", "value": o.name}},
		"authorizations": []string{a.URL + "/authorization/" + o.id},
		"finalize":       a.URL + "/finalize/" + o.id,
	}
	if o.chain != "" {
		status, out["certificate"] = "valid", a.URL+"/certificate/"+o.id
	}
	out["status"] = status
	return out
}

func (a *ACME) challenge(o *acmeOrder) map[string]any {
	status := map[bool]string{true: "valid", false: "pending"}[o.valid]
	return map[string]any{
		"type": "tls-alpn-01", "url": a.URL + "/challenge/" + o.id, "token": o.token, "status": status,
	}
}

func (a *ACME) authorization(o *acmeOrder) map[string]any {
	return map[string]any{
		"identifier": map[string]string{"type": "dns", "value": o.name},
		"status":     a.challenge(o)["status"], "challenges": []any{a.challenge(o)},
	}
}

// controls holds that whoever serves a name has the account (RFC 8737 §3).
func (a *ACME) controls(o *acmeOrder, key *jose.JSONWebKey) error {
	print, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	c, err := tls.DialWithDialer(
		&net.Dialer{Timeout: 5 * time.Second},
		"tcp",
		a.Dial(o.name),
		&tls.Config{
			ServerName: o.name, NextProtos: []string{"acme-tls/1"},
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
	sum := sha256.Sum256([]byte(o.token + "." + base64.RawURLEncoding.EncodeToString(print)))
	want, err := asn1.Marshal(sum[:])
	if err != nil {
		return err
	}
	if state.NegotiatedProtocol != "acme-tls/1" || !slices.Equal(leaf.DNSNames, []string{o.name}) {
		return fmt.Errorf("%s answers with a certificate of %s", o.name,
			strings.Join(leaf.DNSNames, ", "))
	}
	for _, e := range leaf.Extensions {
		if e.Id.Equal(alpnExtension) && e.Critical && bytes.Equal(e.Value, want) {
			return nil
		}
	}
	return fmt.Errorf("%s does not show the token", o.name)
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
		!slices.Equal(request.DNSNames, []string{o.name}) ||
		!o.valid {
		a.refuse(w, http.StatusForbidden, "badCSR", "a request for another name, or too early")
		return
	}
	now := time.Now().Add(-time.Minute)
	c, err := pki.Issue(rand.Reader, a.ca, request.PublicKey, pki.Wanted{
		Name: o.name, Usage: pki.ForServer, Names: []string{o.name}, From: now, To: now.AddDate(0, 0, 90),
	})
	if err != nil {
		a.refuse(w, http.StatusInternalServerError, "serverInternal", err.Error())
		return
	}
	a.mu.Lock()
	o.chain = pki.Bundle(c) + a.Authority
	a.Issued++
	a.mu.Unlock()
	a.answer(w, http.StatusOK, a.order(o))
}
