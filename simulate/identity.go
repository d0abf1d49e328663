package simulate

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Member is somebody whom an identity provider knows.
type Member struct {
	Subject, Name string
	Groups        []string
}

// Identity is a provider of OpenID Connect (Core 1.0, code flow) as strict as it may be: one
// client, one address to come back to, PKCE with S256 (RFC 7636), codes that count once and for a
// minute.
type Identity struct {
	URL string

	// Lie changes what an ID token says before it is signed, where it is set.
	Lie func(claims map[string]any)
	// Away has it answer nothing but an error.
	Away bool

	client, password string
	members          []Member
	key              *rsa.PrivateKey
	server           *http.Server
	mu               sync.Mutex
	codes            map[string]code
	// Problems are what clients did wrong.
	Problems []string
}

type code struct {
	member                 Member
	nonce, challenge, back string
	at                     time.Time
}

var choose = template.Must(template.New("choose").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Who are you?</title>
<meta name="viewport" content="width=device-width, initial-scale=1">
<style>:root { color-scheme: light dark } body { font: 1rem/1.5 system-ui, "DejaVu Sans", sans-serif;
max-width: 30rem; margin: 4rem auto; padding: 0 1rem } a { display: block; padding: .6rem 0 }</style>
</head><body><main><h1>Who are you?</h1>
<p>This is a simulator for an identity provider.</p>
{{range .}}<a href="{{.Link}}">{{.Name}}</a>{{end}}</main></body></html>`))

// NewIdentity starts one on loopback for a client with a password; it asks for none of its members.
func NewIdentity(address, client, password string, members ...Member) (*Identity, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	p := &Identity{
		URL: "http://" + listener.Addr().String(), client: client, password: password,
		members: members, key: key, codes: map[string]code{},
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.configuration)
	mux.HandleFunc("GET /keys", p.keys)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /token", p.token)
	p.server = &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.Away {
			http.Error(w, "away", http.StatusServiceUnavailable)
			return
		}
		mux.ServeHTTP(w, r)
	}), ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = p.server.Serve(listener) }()
	return p, nil
}

// Close ends it.
func (p *Identity) Close() { _ = p.server.Close() }

// Change changes it while nobody asks it.
func (p *Identity) Change(change func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	change()
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func (p *Identity) configuration(w http.ResponseWriter, _ *http.Request) {
	answer(w, map[string]any{
		"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize",
		"token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
		"response_types_supported":              []string{"code"},
		"subject_types_supported":               []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"},
		"code_challenge_methods_supported":      []string{"S256"},
	})
}

func (p *Identity) keys(w http.ResponseWriter, _ *http.Request) {
	answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{
		Key: p.key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig",
	}}})
}

func (p *Identity) wrong(w http.ResponseWriter, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	p.Problems = append(p.Problems, text)
	http.Error(w, text, http.StatusBadRequest)
}

// authorize shows the members, or sends one of them back.
func (p *Identity) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back := q.Get("redirect_uri")
	for _, c := range []struct {
		ok   bool
		what string
	}{
		{q.Get("client_id") == p.client, "the client"},
		{q.Get("response_type") == "code", "response_type"},
		{strings.Contains(" "+q.Get("scope")+" ", " openid "), "scope"},
		{q.Get("code_challenge_method") == "S256" && len(q.Get("code_challenge")) == 43, "PKCE"},
		{len(q.Get("state")) >= 16 && len(q.Get("nonce")) >= 16, "state or nonce"},
		{strings.HasSuffix(back, "/sign-in/back"), "redirect_uri"},
	} {
		if !c.ok {
			p.wrong(w, "%s: %s", c.what, r.URL.RawQuery)
			return
		}
	}
	for _, m := range p.members {
		if q.Get("member") != m.Subject {
			continue
		}
		text := rand.Text()
		p.codes[text] = code{m, q.Get("nonce"), q.Get("code_challenge"), back, time.Now()}
		http.Redirect(w, r, back+"?"+url.Values{
			"code": {text}, "state": {q.Get("state")},
		}.Encode(), http.StatusSeeOther)
		return
	}
	type link struct{ Name, Link string }
	links := make([]link, 0, len(p.members))
	for _, m := range p.members {
		q.Set("member", m.Subject)
		links = append(links, link{m.Name, "/authorize?" + q.Encode()})
	}
	_ = choose.Execute(w, links)
}

func (p *Identity) token(w http.ResponseWriter, r *http.Request) {
	client, password, ok := r.BasicAuth()
	if !ok {
		client, password = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	c, known := p.codes[r.PostFormValue("code")]
	delete(p.codes, r.PostFormValue("code"))
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case client != p.client || password != p.password:
		p.wrong(w, "the client is not who it says")
		return
	case !known || time.Since(c.at) > time.Minute:
		p.wrong(w, "a code that does not count")
		return
	case base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge:
		p.wrong(w, "another verifier (RFC 7636 §4.6)")
		return
	case r.PostFormValue("redirect_uri") != c.back:
		p.wrong(w, "another redirect_uri (RFC 6749 §4.1.3)")
		return
	}
	now := time.Now()
	claims := map[string]any{
		"iss": p.URL, "sub": c.member.Subject, "aud": p.client, "iat": now.Unix(),
		"exp": now.Add(time.Minute).Unix(), "auth_time": now.Unix(), "nonce": c.nonce,
		"preferred_username": c.member.Name, "groups": c.member.Groups,
	}
	if p.Lie != nil {
		p.Lie(claims)
	}
	body, err := json.Marshal(claims)
	if err != nil {
		p.wrong(w, "%s", err)
		return
	}
	key := jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "one"}}
	signer, err := jose.NewSigner(key, nil)
	if err != nil {
		p.wrong(w, "%s", err)
		return
	}
	signed, err := signer.Sign(body)
	if err != nil {
		p.wrong(w, "%s", err)
		return
	}
	text, err := signed.CompactSerialize()
	if claims["alg"] == "none" { // unsigned (RFC 7519 §6)
		text, err = base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`))+"."+
			base64.RawURLEncoding.EncodeToString(body)+".", nil
	}
	if err != nil {
		p.wrong(w, "%s", err)
		return
	}
	answer(w, map[string]any{
		"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": text,
	})
}
