package service

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// SignInBack is the path to which a provider sends operators back.
const SignInBack = "/sign-in/back"

// How long somebody has to sign in at the provider, how long the provider has to answer, and how
// long its answers about itself count.
const (
	entryLife    = 10 * time.Minute
	providerTime = 10 * time.Second
	providerLife = time.Hour
	mostProvider = 1 << 20 // bytes of an answer
)

// Errors of signing in by a provider.
var (
	ErrNoProvider = vpn.Refuse(vpn.KindNotFound, "single sign-on is not set up here")
	ErrEntry      = vpn.Refuse(vpn.KindSignIn, "this sign-in was not started here, or it took too long")
	ErrNoRole     = vpn.Refuse(vpn.KindRole, "none of your groups may sign in here")
	ErrNameTaken  = vpn.Refuse(vpn.KindRole,
		"an operator with your name exists here and uses a password")
	ErrProvider = vpn.Refuse(vpn.KindSignIn, "the identity provider does not respond as expected")
)

// provider keeps what the provider says of itself.
type provider struct {
	sync.Mutex
	version int
	asked   time.Time
	known   *oidc.Provider
}

// client speaks to the provider: by TLS, within a time and a size.
func providerClient(o vpn.SingleSignOn) *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	if list, err := pki.Certificates(o.Authority); err == nil {
		transport.TLSClientConfig.RootCAs = x509.NewCertPool()
		for _, c := range list {
			transport.TLSClientConfig.RootCAs.AddCert(c)
		}
	}
	return &http.Client{
		Transport: &limited{transport}, Timeout: providerTime,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// limited bounds answers.
type limited struct{ next http.RoundTripper }

func (l *limited) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := l.next.RoundTrip(r)
	if err == nil {
		res.Body = http.MaxBytesReader(nil, res.Body, mostProvider)
	}
	return res, err
}

// provided asks the provider what it says of itself.
func (s *Service) provided(ctx context.Context) (
	o vpn.SingleSignOn, p *oidc.Provider, with context.Context, err error,
) {
	if o, err = s.store.Read().SingleSignOn(ctx); err != nil {
		return o, nil, nil, err
	}
	if o.Issuer == "" {
		return o, nil, nil, ErrNoProvider
	}
	client := providerClient(o)
	with = oidc.ClientContext(ctx, client)
	s.provider.Lock()
	defer s.provider.Unlock()
	if s.provider.known == nil || s.provider.version != o.Version ||
		s.now().Sub(s.provider.asked) > providerLife {
		// Its keys are asked for later, when this request is over.
		lasting := oidc.ClientContext(context.WithoutCancel(ctx), client)
		if p, err = oidc.NewProvider(lasting, o.Issuer); err != nil {
			s.log.ErrorContext(ctx, "the provider of sign-in cannot be asked", "issuer", o.Issuer,
				"error", err)
			return o, nil, nil, ErrProvider
		}
		s.provider.known, s.provider.version, s.provider.asked = p, o.Version, s.now()
	}
	return o, s.provider.known, with, nil
}

// entry is a sign-in that was begun: it goes to the browser and comes back, under a digest.
type entry struct {
	State, Nonce, Verifier, To string
	Session                    string // that is to be confirmed; empty for a new one
	End                        int64  // Unix time
}

// BeginEntry begins a sign-in by the provider, and tells where to go and what to keep meanwhile.
// With a session, it is proven once more who uses it.
func (s *Service) BeginEntry(ctx context.Context, back, to, sessionID, from string) (
	address, kept string, err error,
) {
	o, p, _, err := s.provided(ctx)
	if err != nil {
		return "", "", s.refusedEntry(err, from)
	}
	e := entry{
		State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), To: to,
		Session: sessionID, End: s.now().Add(entryLife).Unix(),
	}
	options := []oauth2.AuthCodeOption{oidc.Nonce(e.Nonce), oauth2.S256ChallengeOption(e.Verifier)}
	if sessionID != "" {
		options = append(options, oauth2.SetAuthURLParam("prompt", "login"),
			oauth2.SetAuthURLParam("max_age", "0"))
	}
	body, err := json.Marshal(e)
	if err != nil {
		return "", "", err
	}
	text := base64.RawURLEncoding.EncodeToString(body)
	digest := base64.RawURLEncoding.EncodeToString(s.store.Prove("entry", text))
	return oauthOf(o, p, back).AuthCodeURL(e.State, options...), text + "." + digest, nil
}

func oauthOf(o vpn.SingleSignOn, p *oidc.Provider, back string) *oauth2.Config {
	c := &oauth2.Config{
		ClientID: o.ClientID, Endpoint: p.Endpoint(), RedirectURL: back,
		Scopes: append([]string{oidc.ScopeOpenID}, o.Scopes...),
	}
	if o.Secret != nil {
		c.ClientSecret = o.Secret.Reveal()
	}
	return c
}

// Entered is what came of a sign-in by the provider.
type Entered struct {
	Bearer  string // of a new session; empty where one was confirmed
	Session store.Session
	To      string
}

// Enter finishes a sign-in: state and code are what the provider sends back, kept is what the
// browser kept. Who is unknown here is made an operator with the role of their groups; roles are
// those of the groups at each sign-in.
func (s *Service) Enter(ctx context.Context, back, state, code, kept string, by Caller) (
	in Entered, err error,
) {
	defer func() { err = s.refusedEntry(err, by.Address) }()
	e, ok := s.begun(kept)
	if !ok || code == "" || !hmac.Equal([]byte(e.State), []byte(state)) {
		return in, ErrEntry
	}
	o, p, with, err := s.provided(ctx)
	if err != nil {
		return in, err
	}
	token, err := oauthOf(o, p, back).Exchange(with, code, oauth2.VerifierOption(e.Verifier))
	if err != nil {
		s.log.WarnContext(ctx, "the provider of sign-in refuses a code", "error", withoutAnswer(err))
		return in, ErrProvider
	}
	who, err := s.identified(with, o, p, e, token)
	if err != nil {
		return in, err
	}
	in.To = e.To
	if e.Session != "" {
		in.Session.ID = e.Session
		return in, s.confirmEntry(ctx, o, e, who)
	}
	role := o.Role(who.groups)
	if role == "" {
		return in, errors.Join(ErrNoRole, s.store.Write(ctx, func(tx *store.Tx) error {
			return audit(ctx, tx, "sign-in refused", "operator", "", "by "+o.Issuer+": "+
				cut(who.name, 64)+" is in none of the groups, from "+by.Address)
		}))
	}
	return in, s.open(ctx, &in, o, who, role, by)
}

// refusedEntry counts what was refused to an address; whole offices that sign in are not held up.
func (s *Service) refusedEntry(err error, from string) error {
	if errors.Is(err, ErrEntry) || errors.Is(err, ErrProvider) || errors.Is(err, ErrNoRole) {
		s.refusals.Add(1)
		if busy := s.throttleFrom(from); busy != nil {
			return busy
		}
	}
	return err
}

// begun opens what the browser kept.
func (s *Service) begun(kept string) (e entry, ok bool) {
	text, digest, _ := strings.Cut(kept, ".")
	sum, err := base64.RawURLEncoding.DecodeString(digest)
	if err != nil || !hmac.Equal(sum, s.store.Prove("entry", text)) {
		return e, false
	}
	body, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || json.Unmarshal(body, &e) != nil || s.now().Unix() > e.End {
		return entry{}, false
	}
	return e, true
}

// withoutAnswer leaves what an answer said out of an error: codes and tokens can be in it.
func withoutAnswer(err error) string {
	var refused *oauth2.RetrieveError
	if errors.As(err, &refused) {
		return "answered with " + refused.Response.Status + " " + cut(refused.ErrorCode, 40)
	}
	return "no answer"
}

// person is who the provider says somebody is.
type person struct {
	subject, name string
	groups        []string
	at            time.Time // when they signed in there
}

// identified holds that a token is the provider's, for us, for this sign-in, and valid now (OpenID
// Connect Core 1.0 §3.1.3.7).
func (s *Service) identified(
	ctx context.Context, o vpn.SingleSignOn, p *oidc.Provider, e entry, token *oauth2.Token,
) (who person, err error) {
	refuse := func(why any) (person, error) {
		s.log.WarnContext(ctx, "a sign-in by the provider is refused", "error", why)
		return person{}, ErrProvider
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: o.ClientID, Now: s.now}).Verify(ctx, raw)
	switch {
	case err != nil:
		return refuse(err)
	case !hmac.Equal([]byte(id.Nonce), []byte(e.Nonce)):
		return refuse("the token is for another sign-in")
	case id.Subject == "" || len(id.Subject) > 255:
		return refuse("the token names nobody")
	}
	if id.AccessTokenHash != "" {
		if err := id.VerifyAccessToken(token.AccessToken); err != nil {
			return refuse(err)
		}
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return refuse(err)
	}
	if _, there := claims[o.GroupClaim]; !there { // some providers tell groups only there
		if info, err := p.UserInfo(ctx, oauth2.StaticTokenSource(token)); err == nil &&
			info.Subject == id.Subject {
			more := map[string]any{}
			if info.Claims(&more) == nil {
				for key, value := range more {
					if _, there := claims[key]; !there {
						claims[key] = value
					}
				}
			}
		}
	}
	who.subject, who.at = id.Subject, id.IssuedAt
	if at, ok := claims["auth_time"].(float64); ok {
		who.at = time.Unix(int64(at), 0)
	}
	who.name, _ = claims[o.NameClaim].(string)
	switch groups := claims[o.GroupClaim].(type) {
	case []any:
		for _, g := range groups {
			if text, ok := g.(string); ok {
				who.groups = append(who.groups, text)
			}
		}
	case string:
		who.groups = []string{groups}
	}
	return who, nil
}

// open opens a session for somebody of the provider.
func (s *Service) open(
	ctx context.Context, in *Entered, o vpn.SingleSignOn, who person, role string, by Caller,
) error {
	in.Bearer = newBearer()
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		operator, err := tx.OperatorLinked(ctx, o.Issuer, who.subject)
		if err != nil {
			return err
		}
		own := AsRole(ctx, who.name, role)
		switch {
		case operator == nil:
			if operator, err = s.newcomer(own, tx, o, who, role); err != nil {
				return err
			}
		case operator.Disabled:
			return ErrNoRole
		case operator.Role != role:
			before := operator.Role
			operator.Role = role
			if err := errors.Join(tx.PutOperator(ctx, *operator), ownerLeft(ctx, tx),
				audit(own, tx, "change", "operator", operator.ID, fmt.Sprintf("%s, %s instead of %s by "+
					"the groups of %s", operator.Name, role, before, o.Issuer))); err != nil {
				return err
			}
		}
		in.Session = store.Session{Operator: operator.Operator}
		in.Session.Kind, in.Session.Expires = "cookie", s.now().Add(cookieLife)
		in.Session.Origin, in.Session.Client = by.Address, cut(by.Client, mostClient)
		return errors.Join(tx.AddSession(ctx, in.Bearer, &in.Session),
			tx.NoteSignIn(ctx, operator.ID),
			audit(AsRole(ctx, operator.Name, role), tx, "sign in", "operator", operator.ID,
				"by "+o.Issuer+" from "+by.Address))
	})
	in.Session.Role = role
	if err != nil {
		in.Bearer = ""
	}
	return err
}

// newcomer makes an operator of somebody whom the provider knows. Nobody becomes an operator who
// signs in here by themselves: whoever rules the provider could take their name.
func (s *Service) newcomer(
	ctx context.Context, tx *store.Tx, o vpn.SingleSignOn, who person, role string,
) (*store.Operator, error) {
	if wrong := nameProblems(who.name, "change it at the provider"); len(wrong) > 0 {
		s.log.WarnContext(ctx, "the provider's name for somebody cannot be an operator's",
			"claim", o.NameClaim, "expected", wrong[0].Expected)
		return nil, ErrProvider
	}
	_, err := tx.OperatorByName(ctx, who.name)
	var none *store.NotFoundError
	switch {
	case err == nil:
		return nil, ErrNameTaken
	case !errors.As(err, &none):
		return nil, err
	}
	operator := &store.Operator{Operator: api.Operator{Name: who.name, Role: role}}
	return operator, errors.Join(tx.AddOperator(ctx, operator),
		tx.LinkOperator(ctx, operator.ID, o.Issuer, who.subject),
		audit(ctx, tx, "add", "operator", operator.ID, who.name+", "+role+", by "+o.Issuer))
}

// confirmEntry notes that whoever uses a session has proven at the provider who they are, just now.
func (s *Service) confirmEntry(ctx context.Context, o vpn.SingleSignOn, e entry, who person) error {
	if s.now().Sub(who.at) > entryLife {
		return ErrEntry
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		operator, err := tx.OperatorLinked(ctx, o.Issuer, who.subject)
		if err != nil {
			return err
		}
		if operator == nil {
			return ErrEntry
		}
		sessions, err := tx.Sessions(ctx, operator.ID)
		if err != nil {
			return err
		}
		for _, one := range sessions {
			if one.ID == e.Session && one.Kind == "cookie" {
				return errors.Join(tx.ConfirmSession(ctx, e.Session),
					audit(AsRole(ctx, operator.Name, operator.Role), tx, "confirm", "session", e.Session,
						"by "+o.Issuer))
			}
		}
		return ErrEntry
	})
}
