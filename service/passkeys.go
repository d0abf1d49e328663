package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Bounds of what was asked of passkeys and is not answered yet, and of the passkeys of one
// operator.
const (
	challengeLife  = 5 * time.Minute
	mostChallenges = 10_000
	mostPasskeys   = 20
)

// Errors of passkeys.
var (
	ErrPasskeyWanted = vpn.Refuse(
		vpn.KindPasskey,
		"this operator signs in with a passkey, which only a "+
			"browser can use: sign in to the console, and make a token there for what has no browser",
	)
	ErrNoPasskeys = vpn.Refuse(
		vpn.KindNotFound,
		"passkeys need a public address of this service with a "+
			"host name: an owner sets it on the page Organisation",
	)
	ErrPasskey = vpn.Refuse(
		vpn.KindSignIn,
		"this passkey does not count here, or it took too long: try "+
			"again, or sign in another way",
	)
)

// challenges are what was asked of passkeys, by the challenge; each counts once.
type challenges struct {
	sync.Mutex
	open map[string]webauthn.SessionData
}

func (c *challenges) put(d webauthn.SessionData, now time.Time) error {
	c.Lock()
	defer c.Unlock()
	if c.open == nil {
		c.open = map[string]webauthn.SessionData{}
	}
	if len(c.open) >= mostChallenges {
		for k, old := range c.open {
			if old.Expires.Before(now) {
				delete(c.open, k)
			}
		}
	}
	if len(c.open) >= mostChallenges {
		return &BusyError{challengeLife}
	}
	d.Expires = now.Add(challengeLife)
	c.open[d.Challenge] = d
	return nil
}

// take finds what was asked, if that was not long ago, and forgets it.
func (c *challenges) take(challenge string, now time.Time) (d webauthn.SessionData, ok bool) {
	c.Lock()
	defer c.Unlock()
	d, ok = c.open[challenge]
	delete(c.open, challenge)
	ok = ok && now.Before(d.Expires)
	d.Expires = time.Time{} // judged here, by the clock of the service
	return d, ok
}

// keyed is an operator with the public keys of its passkeys.
type keyed struct {
	store.Operator
	keys []webauthn.Credential
}

func (k *keyed) WebAuthnID() []byte                         { return []byte(k.ID) }
func (k *keyed) WebAuthnName() string                       { return k.Name }
func (k *keyed) WebAuthnDisplayName() string                { return k.Name }
func (k *keyed) WebAuthnCredentials() []webauthn.Credential { return k.keys }

// relying is this service as passkeys know it: by the host of its public address.
func (s *Service) relying(ctx context.Context) (*webauthn.WebAuthn, error) {
	o, err := s.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(o.Links)
	if err != nil || u.Hostname() == "" {
		return nil, ErrNoPasskeys
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return nil, ErrNoPasskeys // Web Authentication §5.1.2: a domain, not an address
	}
	name := "Wardicon"
	if o.Name != "" {
		name += " " + o.Name
	}
	w, err := webauthn.New(&webauthn.Config{
		RPID: u.Hostname(), RPDisplayName: name, RPOrigins: []string{u.Scheme + "://" + u.Host},
	})
	if err != nil {
		return nil, ErrNoPasskeys
	}
	return w, nil
}

// OfferPasskey begins to give whoever uses a session a passkey: what their browser needs to create
// it.
func (s *Service) OfferPasskey(ctx context.Context, session store.Session) (
	out api.PasskeyOptions, err error,
) {
	if err := s.mayHavePasskeys(session); err != nil {
		return out, err
	}
	w, err := s.relying(ctx)
	if err != nil {
		return out, err
	}
	k, err := s.keyed(ctx, session.Operator.ID)
	if err != nil {
		return out, err
	}
	if len(k.keys) >= mostPasskeys {
		return out, problem("passkey", "/name", fmt.Sprintf("%d passkeys", len(k.keys)),
			fmt.Sprintf("fewer than %d", mostPasskeys), "remove one that is not used")
	}
	made, d, err := w.BeginRegistration(k,
		webauthn.WithExclusions(webauthn.Credentials(k.keys).CredentialDescriptors()),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{
			ResidentKey:        protocol.ResidentKeyRequirementRequired,
			RequireResidentKey: protocol.ResidentKeyRequired(),
			UserVerification:   protocol.VerificationRequired,
		}))
	if err != nil {
		return out, err
	}
	return api.PasskeyOptions{Options: made.Response}, s.challenges.put(*d, s.now())
}

// mayHavePasskeys refuses programs, those who sign in elsewhere, and a session that alone would be
// enough to make itself a way in for good.
func (s *Service) mayHavePasskeys(session store.Session) error {
	if session.Operator.Provider {
		return problem("passkey", "/operator", "an operator of the identity provider",
			"a local operator", "set passkeys up there")
	}
	return errors.Join(own(session), s.Confirmed(session))
}

func (s *Service) keyed(ctx context.Context, operatorID string) (*keyed, error) {
	o, err := s.store.Read().Operator(ctx, operatorID)
	if err != nil {
		return nil, err
	}
	keys, err := s.store.Read().Credentials(ctx, operatorID)
	return &keyed{o, keys}, err
}

// AddPasskey keeps a passkey that a browser has created. Other sessions end, as with any second
// factor.
func (s *Service) AddPasskey(
	ctx context.Context, session store.Session, name string, answer []byte,
) (p api.Passkey, err error) {
	if err := s.mayHavePasskeys(session); err != nil {
		return p, err
	}
	if list := nameProblems(name, "name it after the device that it is on"); len(list) > 0 {
		return p, &vpn.Problems{Object: "passkey", List: list}
	}
	w, err := s.relying(ctx)
	if err != nil {
		return p, err
	}
	k, err := s.keyed(ctx, session.Operator.ID)
	if err != nil {
		return p, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return p, s.noPasskey(ctx, err)
	}
	d, ok := s.challenges.take(parsed.Response.CollectedClientData.Challenge, s.now())
	if !ok {
		return p, ErrPasskey
	}
	made, err := w.CreateCredential(k, d, parsed)
	if err != nil {
		return p, s.noPasskey(ctx, err)
	}
	p.Name = name
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.AddPasskey(ctx, k.ID, &p, *made),
			tx.EndSessions(ctx, k.ID, session.ID),
			audit(ctx, tx, "add", "passkey", p.ID, k.Name+", "+name),
		)
	})
	return p, err
}

// noPasskey keeps why an answer does not count for the log: the browser's user can do nothing with
// it.
func (s *Service) noPasskey(ctx context.Context, why error) error {
	var detail *protocol.Error
	said := why.Error()
	if errors.As(why, &detail) {
		said += ": " + detail.DevInfo
	}
	s.log.InfoContext(ctx, "a passkey does not count", "why", cut(said, 300))
	return ErrPasskey
}

// Passkeys lists those of whoever uses a session.
func (s *Service) Passkeys(ctx context.Context, session store.Session) ([]api.Passkey, error) {
	return s.store.Read().Passkeys(ctx, session.Operator.ID)
}

// RemovePasskey removes one of them.
func (s *Service) RemovePasskey(ctx context.Context, session store.Session, id string) error {
	if err := errors.Join(own(session), s.Confirmed(session)); err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		name, err := tx.RemovePasskey(ctx, session.Operator.ID, id)
		if err != nil {
			return err
		}
		return audit(ctx, tx, "remove", "passkey", id, session.Operator.Name+", "+name)
	})
}

// AskPasskey begins a sign-in, or a confirmation, by a passkey that the browser finds itself:
// nobody learns here who has one.
func (s *Service) AskPasskey(ctx context.Context, from string) (out api.PasskeyOptions, err error) {
	if err := s.throttled("passkey "+source(from), widePace); err != nil {
		return out, err
	}
	w, err := s.relying(ctx)
	if err != nil {
		return out, err
	}
	asked, d, err := w.BeginDiscoverableLogin(
		webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return out, err
	}
	return api.PasskeyOptions{Options: asked.Response}, s.challenges.put(*d, s.now())
}

// byPasskey finds whose passkey has answered, having verified its user: that is two factors in one.
func (s *Service) byPasskey(ctx context.Context, answer []byte) (
	o store.Operator, c webauthn.Credential, err error,
) {
	w, err := s.relying(ctx)
	if err != nil {
		return o, c, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return o, c, s.noPasskey(ctx, err)
	}
	d, ok := s.challenges.take(parsed.Response.CollectedClientData.Challenge, s.now())
	if !ok {
		return o, c, ErrPasskey
	}
	var found *keyed
	_, used, err := w.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		found, err = s.keyed(ctx, string(handle))
		return found, err
	}, d, parsed)
	if err != nil {
		return o, c, s.noPasskey(ctx, err)
	}
	if used.Authenticator.CloneWarning {
		s.log.WarnContext(ctx, "the counter of a passkey runs backwards: it may have been copied",
			"operator", found.Name)
		return o, c, ErrPasskey
	}
	if found.Disabled || !used.Flags.UserVerified {
		return o, c, ErrPasskey
	}
	return found.Operator, *used, nil
}

// signInByPasskey opens a session for whoever's passkey has answered.
func (s *Service) signInByPasskey(ctx context.Context, e Entry) (
	bearer string, session store.Session, err error,
) {
	if err := s.throttleFrom(e.From); err != nil {
		return "", session, err
	}
	o, used, err := s.byPasskey(ctx, e.Passkey)
	if errors.Is(err, ErrPasskey) {
		return "", session, s.refuseEntry(ctx, "", e, "passkey", err)
	}
	if err != nil {
		return "", session, err
	}
	return s.openSession(ctx, o, e, func(tx *store.Tx) error { return tx.UsePasskey(ctx, used) })
}

// ConfirmByPasskey has whoever uses a session prove by a passkey who they are.
func (s *Service) ConfirmByPasskey(
	ctx context.Context, session store.Session, answer []byte,
) error {
	if err := own(session); err != nil {
		return err
	}
	if err := s.throttle("session " + session.ID); err != nil {
		return err
	}
	o, used, err := s.byPasskey(ctx, answer)
	if err != nil {
		return err
	}
	if o.ID != session.Operator.ID {
		return ErrPasskey
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.UsePasskey(ctx, used),
			tx.ConfirmSession(ctx, session.ID),
			audit(ctx, tx, "confirm", "session", session.ID, "passkey"),
		)
	})
}

// PasskeysUsed tells whether somebody can sign in here with a passkey.
func (s *Service) PasskeysUsed(ctx context.Context) (bool, error) {
	if _, err := s.relying(ctx); err != nil {
		if errors.Is(err, ErrNoPasskeys) {
			err = nil
		}
		return false, err
	}
	return s.store.Read().HasPasskeys(ctx)
}
