package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"net/netip"
	"strings"

	"github.com/pquerna/otp/totp"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// ErrOwn is the error for a program's token that would change how its operator signs in.
var ErrOwn = vpn.Refuse(
	vpn.KindRole,
	"a program's token cannot change how its operator signs in; sign in yourself",
)

// own refuses programs where an operator's own sign-in is changed.
func own(session store.Session) error {
	if session.Name != "" {
		return ErrOwn
	}
	return nil
}

// proven finds the operator of a session for whoever says its password; tries are counted.
func (s *Service) proven(
	ctx context.Context,
	session store.Session,
	pointer string,
	password secret.Text,
) (o store.Operator, err error) {
	if err := own(session); err != nil {
		return o, err
	}
	if err := s.throttle(
		"session " + session.ID,
	); err != nil { // not by name: others cannot use it up
		return o, err
	}
	if o, err = s.store.Read().Operator(ctx, session.Operator.ID); err != nil {
		return o, err
	}
	leave, err := s.hashing.enter(ctx, session.ID, true)
	if err != nil {
		return o, err
	}
	fits := passwordFits(o.Password, password)
	leave()
	if !fits {
		return o, problem(
			"operator",
			pointer,
			"another password",
			"the one that you sign in with",
			"type it again",
		)
	}
	return o, nil
}

// ChangePassword changes the password of whoever a session belongs to, and ends the other sessions.
func (s *Service) ChangePassword(
	ctx context.Context,
	session store.Session,
	old, fresh secret.Text,
) error {
	o, err := s.proven(ctx, session, "/old", old)
	if err != nil {
		return err
	}
	if o.SecondFactor || o.Passkeys {
		if err := s.Confirmed(session); err != nil {
			return err
		}
	}
	problems := passwordProblems("/password", o.Name, fresh)
	if len(problems) == 0 && fresh.Equal(old) {
		problems = []vpn.Problem{
			{
				Pointer:  "/password",
				Found:    "the old password",
				Expected: "another one",
				Fix:      "choose a new one",
			},
		}
	}
	if len(problems) > 0 {
		return &vpn.Problems{Object: "operator", List: problems}
	}
	o.Password, o.MustChange = hashPassword(fresh), false
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.PutOperator(ctx, o),
			tx.EndSessions(ctx, o.ID, session.ID),
			audit(ctx, tx, "change password", "operator", o.ID, o.Name),
		)
	})
}

// OfferFactor makes a second factor (RFC 6238) that counts once a code of it is given.
func (s *Service) OfferFactor(
	ctx context.Context,
	session store.Session,
) (f api.Factor, err error) {
	if err := own(session); err != nil {
		return f, err
	}
	organisation, err := s.Organisation(ctx)
	if err != nil {
		return f, err
	}
	key, err := totp.Generate(
		totp.GenerateOpts{
			Issuer:      "Wardicon " + strings.ReplaceAll(organisation.Name, ":", " "),
			AccountName: strings.ReplaceAll(session.Operator.Name, ":", " "),
			Period:      factorStep,
			SecretSize:  20,
		},
	)
	if err != nil {
		return f, fmt.Errorf("second factor: %w", err)
	}
	picture, err := key.Image(280, 280)
	if err != nil {
		return f, fmt.Errorf("second factor: %w", err)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, picture); err != nil {
		return f, err
	}
	f = api.Factor{Key: key.Secret(), Address: key.URL(), Picture: b.Bytes()}
	return f, s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.OfferFactor(ctx, session.Operator.ID, secret.New(key.Secret())),
			audit(
				ctx,
				tx,
				"offer second factor",
				"operator",
				session.Operator.ID,
				session.Operator.Name,
			),
		)
	})
}

// ConfirmFactor has the second factor that was offered count from now on.
func (s *Service) ConfirmFactor(ctx context.Context, session store.Session, code string) error {
	if err := own(session); err != nil {
		return err
	}
	if err := s.throttle("session " + session.ID); err != nil {
		return err
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		key, err := tx.Factor(ctx, session.Operator.ID, true)
		if err != nil {
			return err
		}
		if key.IsZero() {
			return problem(
				"operator",
				"/code",
				"no second factor that was offered",
				"one that waits for its first code",
				"begin again",
			)
		}
		if err := s.takeCode(ctx, tx, session.Operator.ID, code, true); err != nil {
			return err
		}
		return errors.Join(
			tx.PutFactor(ctx, session.Operator.ID, key),
			tx.EndSessions(ctx, session.Operator.ID, session.ID),
			audit(
				ctx,
				tx,
				"second factor on",
				"operator",
				session.Operator.ID,
				session.Operator.Name,
			),
		)
	})
	if errors.Is(err, ErrSignIn) {
		return problem(
			"operator",
			"/code",
			"another code",
			"the six digits that the device shows now",
			"look at the clocks of both, and type the next one",
		)
	}
	return err
}

// DropFactor takes the second factor away, for whoever knows the password.
func (s *Service) DropFactor(
	ctx context.Context,
	session store.Session,
	password secret.Text,
) error {
	o, err := s.proven(ctx, session, "/password", password)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.PutFactor(ctx, o.ID, secret.Text{}),
			audit(ctx, tx, "second factor off", "operator", o.ID, o.Name),
		)
	})
}

// Sessions lists the open sessions and tokens of whoever asks; all for an owner who asks for all.
func (s *Service) Sessions(
	ctx context.Context,
	session store.Session,
	all bool,
) ([]api.Session, error) {
	of := session.Operator.ID
	if all {
		if err := ownerOnly(ctx); err != nil {
			return nil, err
		}
		of = ""
	}
	list, err := s.store.Read().Sessions(ctx, of)
	for i := range list {
		list[i].Used = s.used.last(list[i].ID, list[i].Used)
	}
	for i := range list {
		list[i].Current = list[i].ID == session.ID
		if list[i].Role == "" && list[i].Operator == session.Operator.Name {
			list[i].Role = session.Operator.Role
		}
	}
	return list, err
}

// EndSession ends a session or token: one's own, or anybody's for an owner.
func (s *Service) EndSession(ctx context.Context, session store.Session, id string) error {
	of := session.Operator.ID
	if ownerOnly(ctx) == nil {
		of = ""
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.EndSession(ctx, id, of), audit(ctx, tx, "end", "session", id, ""))
	})
}

// mostNetworks bounds the networks that a token is bound to.
const mostNetworks = 16

// mostTokenDays bounds how long a program's token lives.
const mostTokenDays = 365

// AddToken makes a token for a program: with a role of its own that is no more than the operator's,
// and an end.
func (s *Service) AddToken(
	ctx context.Context,
	session store.Session,
	name, role string,
	days int,
	networks ...string,
) (made api.NewToken, err error) {
	if err := own(session); err != nil {
		return made, err
	}
	var problems []vpn.Problem
	if strings.TrimSpace(name) == "" || len(name) > 100 {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/name",
				Found:    quoted(name),
				Expected: "1 to 100 characters",
				Fix:      "say what the token is for",
			},
		)
	}
	if !Allows(session.Role, role) || !Allows(role, RoleAuditor) {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/role",
				Found:    quoted(role),
				Expected: "a role that allows no more than yours, " + session.Role,
				Fix:      "choose a lesser one",
			},
		)
	}
	if days < 1 || days > mostTokenDays {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/days",
				Found:    fmt.Sprint(days),
				Expected: fmt.Sprintf("1 to %d days", mostTokenDays),
				Fix:      "choose a number within",
			},
		)
	}
	if len(networks) > mostNetworks {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/addresses",
				Found:    fmt.Sprintf("%d networks", len(networks)),
				Expected: fmt.Sprintf("at most %d", mostNetworks),
				Fix:      "join some",
			},
		)
	}
	for i, v := range networks {
		if _, err := netip.ParsePrefix(v); err != nil {
			problems = append(
				problems,
				vpn.Problem{
					Pointer:  fmt.Sprintf("/addresses/%d", i),
					Found:    quoted(v),
					Expected: "a network in CIDR form such as 10.20.0.0/16",
					Fix:      "write address, slash and prefix length",
				},
			)
		}
	}
	if len(problems) > 0 {
		return made, &vpn.Problems{Object: "token", List: problems}
	}
	t := store.Session{Operator: session.Operator}
	t.Kind, t.Name, t.Role, t.Origin, t.Expires = "token", strings.TrimSpace(
		name,
	), role, session.Origin, s.now().
		AddDate(0, 0, days)
	t.Addresses, t.Client = networks, session.Client
	made.Bearer = newBearer()
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.AddSession(ctx, made.Bearer, &t),
			audit(ctx, tx, "add", "token", t.ID, t.Name+", "+role),
		)
	})
	t.Session.Operator = session.Operator.Name
	made.Session = t.Session
	return made, err
}
