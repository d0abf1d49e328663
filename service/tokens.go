package service

import (
	"context"
	"errors"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/pkcs11"
	"wardicon/store"
)

// KeysIn says which tokens the service has. It must be called before the service runs.
func (s *Service) KeysIn(t *pkcs11.Tokens) { s.tokens = t }

// KeyTokens are the tokens of the service, as they were when they were asked last.
func (s *Service) KeyTokens() []api.KeyToken {
	list := []api.KeyToken{}
	if s.tokens == nil {
		return list
	}
	for _, name := range s.tokens.Names() {
		one := api.KeyToken{Name: name}
		if why, asked := s.tokenStates.Load(name); asked {
			one.Why = why.(string)
			one.Available = one.Why == ""
		}
		list = append(list, one)
	}
	return list
}

// TokensAway are those that did not answer when they were asked last.
func (s *Service) TokensAway() []string {
	away := []string{}
	for _, one := range s.KeyTokens() {
		if one.Why != "" {
			away = append(away, one.Name)
		}
	}
	return away
}

// errNoTokens is the error for a key in a token where the service has none.
var errNoTokens = vpn.Refuse(vpn.KindToken, "the service is started without tokens; start it with "+
	"--pkcs11")

// signing opens what an authority signs with: its key, or the one in a token.
func (s *Service) signing(a *vpn.Authority) (pki.Identity, error) {
	if a.KeyURI == "" {
		return pki.Pair(a.Certificate, *a.Key)
	}
	list, err := pki.Certificates(a.Certificate)
	if err != nil {
		return pki.Identity{}, err
	}
	if s.tokens == nil {
		return pki.Identity{}, errNoTokens
	}
	key, err := s.tokens.Signer(a.KeyURI)
	if err != nil {
		return pki.Identity{}, err
	}
	if !pki.Belongs(list[0], key) {
		return pki.Identity{}, pki.ErrPair
	}
	return pki.Identity{Leaf: list[0], Chain: list[1:], Key: key}, nil
}

// inToken refuses an authority whose key is not where its record says. One that says the same as
// before is not looked at: what else is in its record can be changed while a token is away.
func (s *Service) inToken(ctx context.Context, tx *store.Tx, a *vpn.Authority) error {
	if a.KeyURI == "" {
		return nil
	}
	if a.ID != "" {
		before, err := store.Authorities.Row(ctx, tx, a.ID)
		if err == nil && before.KeyURI == a.KeyURI && before.Certificate == a.Certificate {
			return nil
		}
	}
	if s.tokens == nil {
		return errNoTokens
	}
	if err := pkcs11.CheckKey(a.KeyURI); err != nil {
		return problem("authority", "/key_uri", quoted(a.KeyURI)+": "+err.Error(),
			"where a key is, such as pkcs11:token=Quay;object=devices", "correct it")
	}
	key, err := s.tokens.Signer(a.KeyURI)
	var refused *pkcs11.RefusedError
	if errors.As(err, &refused) {
		return problem("authority", "/key_uri", quoted(a.KeyURI)+": "+err.Error(),
			"a key in one of the service's tokens", "name one that is there")
	}
	if err != nil {
		return err
	}
	if list, err := pki.Certificates(a.Certificate); err == nil && !pki.Belongs(list[0], key) {
		return problem("authority", "/key_uri", "another key", "that of the certificate",
			"name the key that belongs to it")
	}
	return nil
}

// tokenEvery is how often tokens are asked whether they are there.
const tokenEvery = time.Minute

// WatchTokens asks the tokens until the context ends, and writes into the log when one goes and
// when it is back.
func (s *Service) WatchTokens(ctx context.Context) {
	if s.tokens == nil {
		return
	}
	for {
		s.AskTokens(ctx)
		select {
		case <-ctx.Done():
			return
		case <-time.After(tokenEvery):
		}
	}
}

// AskTokens asks the tokens once.
func (s *Service) AskTokens(ctx context.Context) {
	for _, name := range s.tokens.Names() {
		why := ""
		if err := s.tokens.Check(name); err != nil {
			why = err.Error()
		}
		before, asked := s.tokenStates.Swap(name, why)
		switch {
		case why != "" && (!asked || before == ""):
			s.log.ErrorContext(
				ctx,
				"a token is not available: what its keys sign must wait",
				"error",
				why,
			)
		case why == "" && asked && before != "":
			s.log.InfoContext(ctx, "the token is available again", "token", name)
		}
	}
}
