package service_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/service"
	"wardicon/store"
)

// staffed is a service with an owner that is signed in.
func staffed(t *testing.T) (svc *service.Service, s *store.Store, c *clock, owner store.Session) {
	t.Helper()
	svc, s, c = start(t)
	if err := svc.AddOwner(t.Context(), "owner", right, ""); err != nil {
		t.Fatal(err)
	}
	_, owner, err := svc.SignIn(
		t.Context(),
		service.Entry{Name: "owner", Password: right, From: "192.0.2.1"},
	)
	if err != nil {
		t.Fatal(err)
	}
	return svc, s, c, owner
}

// TestOperators makes operators, changes and removes them, and holds that an owner is always left.
func TestOperators(t *testing.T) {
	svc, _, c, owner := staffed(t)
	ctx := service.AsRole(t.Context(), "owner", service.RoleOwner)
	for _, role := range []string{service.RoleIssuer, service.RoleAuditor, ""} {
		as := service.AsRole(t.Context(), "somebody", role)
		_, add := svc.AddOperator(as, "pilot", service.RoleOwner, nil)
		_, change := svc.ChangeOperator(as, owner.Operator.ID, service.RoleOwner, false, nil)
		_, reset := svc.ResetOperator(as, owner.Operator.ID)
		for what, err := range map[string]error{
			"add":    add,
			"change": change,
			"reset":  reset,
			"remove": svc.RemoveOperator(as, owner.Operator.ID),
		} {
			if !errors.Is(err, service.ErrRole) {
				t.Errorf("%s by the role %q: %v", what, role, err)
			}
		}
	}
	_, err := svc.AddOperator(ctx, "pilot", "captain", nil)
	refusedAt(t, "a role that is none", err, "/role", "captain")
	_, err = svc.AddOperator(ctx, " pilot", service.RoleIssuer, nil)
	refusedAt(t, "a name with a space", err, "/name", "characters")
	made, err := svc.AddOperator(ctx, "pilot", service.RoleIssuer, nil)
	if err != nil || !made.Operator.MustChange || len(made.Password) < 20 {
		t.Fatalf("%+v (%v)", made.Operator, err)
	}
	_, err = svc.AddOperator(ctx, "PILOT", service.RoleIssuer, nil)
	refusedAt(t, "a name that is taken", err, "/name", "another operator")
	enter := func(password, code string) (string, store.Session, error) {
		c.turn(10 * time.Minute) // past the throttle
		return svc.SignIn(
			t.Context(),
			service.Entry{
				Name:     "pilot",
				Password: secret.New(password),
				Code:     code,
				From:     "192.0.2.2",
				Token:    true,
			},
		)
	}
	bearer, pilot, err := enter(made.Password, "")
	if err != nil || !pilot.Operator.MustChange {
		t.Fatalf("%+v (%v)", pilot, err)
	}
	const chosen = "anchor-velvet-52-pepper-rudder"
	for _, test := range []struct{ name, old, fresh, pointer string }{
		{"not the old one", "x", chosen, "/old"},
		{"short", made.Password, "short", "/password"},
		{"guessable", made.Password, "passwordpassword", "/password"},
		{"the same", made.Password, made.Password, "/password"},
	} {
		refusedAt(
			t,
			test.name,
			svc.ChangePassword(ctx, pilot, secret.New(test.old), secret.New(test.fresh)),
			test.pointer,
			"",
		)
	}
	other, _, err := enter(made.Password, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := svc.ChangePassword(
		ctx,
		pilot,
		secret.New(made.Password),
		secret.New(chosen),
	); err != nil {
		t.Fatal(err)
	}
	if now, err := svc.Session(
		ctx,
		bearer,
		service.Caller{},
	); err != nil ||
		now.Operator.MustChange {
		t.Errorf("%+v (%v)", now.Operator, err)
	}
	if _, err := svc.Session(ctx, other, service.Caller{}); !errors.Is(err, service.ErrNoSession) {
		t.Errorf("another session goes on after the password was changed: %v", err)
	}
	if _, _, err := enter(made.Password, ""); !errors.Is(err, service.ErrSignIn) {
		t.Errorf("the first password still works: %v", err)
	}

	_, err = svc.ChangeOperator(ctx, owner.Operator.ID, service.RoleIssuer, false, nil)
	refusedAt(t, "the last owner demoted", err, "/role", "last owner")
	_, err = svc.ChangeOperator(ctx, owner.Operator.ID, service.RoleOwner, true, nil)
	refusedAt(t, "the last owner shut out", err, "/role", "last owner")
	refusedAt(
		t,
		"the last owner removed",
		svc.RemoveOperator(ctx, owner.Operator.ID),
		"/role",
		"last owner",
	)
	if _, err := svc.ChangeOperator(ctx, pilot.Operator.ID, service.RoleAuditor, true, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Session(ctx, bearer, service.Caller{}); !errors.Is(err, service.ErrNoSession) {
		t.Errorf("a session of somebody who was shut out goes on: %v", err)
	}
	if _, _, err := enter(chosen, ""); !errors.Is(err, service.ErrSignIn) {
		t.Errorf("somebody who was shut out signs in: %v", err)
	}
	again, err := svc.RecoverOperator(t.Context(), "pilot")
	if err != nil {
		t.Fatal(err)
	}
	if _, back, err := enter(
		again.Password,
		"",
	); err != nil || back.Operator.Role != service.RoleAuditor ||
		!back.Operator.MustChange {
		t.Errorf("after the recovery: %+v (%v)", back.Operator, err)
	}
	if err := svc.RemoveOperator(ctx, pilot.Operator.ID); err != nil {
		t.Fatal(err)
	}
	if page, err := svc.Operators(ctx, store.Query{Limit: 5}); err != nil || page.Total != 1 {
		t.Errorf("%d operators (%v)", page.Total, err)
	}
}

// TestSecondFactor sets a second factor up and signs in by it: each code once, clocks may differ by
// a step, and guessing is slowed.
func TestSecondFactor(t *testing.T) {
	svc, s, c, owner := staffed(t)
	ctx := service.AsRole(t.Context(), "owner", service.RoleOwner)
	refusedAt(
		t,
		"nothing was offered",
		svc.ConfirmFactor(ctx, owner, "123456"),
		"/code",
		"no second factor",
	)
	f, err := svc.OfferFactor(ctx, owner)
	if err != nil || !strings.HasPrefix(f.Address, "otpauth://totp/") || len(f.Picture) < 200 {
		t.Fatalf("%q (%v)", f.Address, err)
	}
	code := func(off time.Duration) string {
		t.Helper()
		v, err := totp.GenerateCode(f.Key, c.now().Add(off))
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	enter := func(code string) error {
		_, _, err := svc.SignIn(
			t.Context(),
			service.Entry{Name: "owner", Password: right, Code: code, From: "192.0.2.1"},
		)
		return err
	}
	if err := enter(""); err != nil {
		t.Errorf("a factor that was only offered counts already: %v", err)
	}
	refusedAt(
		t,
		"a wrong first code",
		svc.ConfirmFactor(ctx, owner, "000000"),
		"/code",
		"another code",
	)
	if err := svc.ConfirmFactor(ctx, owner, code(0)); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name string
		code string
		want error
	}{
		{"none", "", service.ErrCodeWanted},
		{"the one that was taken", code(0), service.ErrSignIn},
		{"of long ago", code(-5 * time.Minute), service.ErrSignIn},
		{"of the next step", code(30 * time.Second), nil},
	} {
		if err := enter(test.code); !errors.Is(err, test.want) {
			t.Errorf("%s: %v, expected %v", test.name, err, test.want)
		}
	}
	c.turn(10 * time.Minute)
	if err := enter(code(-30 * time.Second)); err != nil {
		t.Errorf("a clock that is slow: %v", err)
	}
	var busy *service.BusyError
	for n := 0; ; n++ {
		if err := enter("123456"); errors.As(err, &busy) {
			break
		} else if n > 10 {
			t.Fatal("guessing codes is not slowed")
		}
	}
	c.turn(10 * time.Minute)
	if plain, err := s.Read().
		Factor(ctx, owner.Operator.ID, false); err != nil ||
		plain.Reveal() != f.Key {
		t.Errorf("the key is not kept sealed (%v)", err)
	}
	refusedAt(
		t,
		"dropped without the password",
		svc.DropFactor(ctx, owner, secret.New("x")),
		"/password",
		"another",
	)
	if err := svc.DropFactor(ctx, owner, right); err != nil {
		t.Fatal(err)
	}
	if err := enter(""); err != nil {
		t.Errorf("after it was dropped: %v", err)
	}
}

// TestTokens makes tokens for programs: with a role that is no more than the operator's, an end,
// and no way to change how the operator signs in.
func TestTokens(t *testing.T) {
	svc, _, c, owner := staffed(t)
	ctx := service.AsRole(t.Context(), "owner", service.RoleOwner)
	issuer := owner
	issuer.Role = service.RoleIssuer
	_, err := svc.AddToken(ctx, issuer, "x", service.RoleOwner, 10)
	refusedAt(t, "more than one's own role", err, "/role", "owner")
	_, err = svc.AddToken(ctx, owner, " ", service.RoleAuditor, 10)
	refusedAt(t, "without a name", err, "/name", "")
	_, err = svc.AddToken(ctx, owner, "x", service.RoleAuditor, 5000)
	refusedAt(t, "without an end in sight", err, "/days", "5000")
	made, err := svc.AddToken(ctx, owner, "inventory", service.RoleAuditor, 10)
	if err != nil {
		t.Fatal(err)
	}
	token, err := svc.Session(ctx, made.Bearer, service.Caller{})
	if err != nil || token.Role != service.RoleAuditor || token.Operator.Role != service.RoleOwner {
		t.Fatalf("%+v (%v)", token, err)
	}
	for what, err := range map[string]error{
		"password": svc.ChangePassword(ctx, token, right,
			secret.New("anchor-velvet-52-pepper-rudder")),
		"code":    svc.ConfirmFactor(ctx, token, "123456"),
		"no code": svc.DropFactor(ctx, token, right),
		"factor": func() error {
			_, err := svc.OfferFactor(ctx,
				token)
			return err
		}(),
		"token": func() error {
			_, err := svc.AddToken(ctx, token, "x", service.RoleAuditor,
				1)
			return err
		}(),
	} {
		if !errors.Is(err, service.ErrOwn) {
			t.Errorf("a token changes the %s: %v", what, err)
		}
	}
	list, err := svc.Sessions(ctx, owner, true)
	if err != nil || len(list) != 2 {
		t.Fatalf("%+v (%v)", list, err)
	}
	var shown api.Session
	for _, one := range list {
		if one.Name == "inventory" {
			shown = one
		}
	}
	if shown.Used == nil || shown.Role != service.RoleAuditor || shown.Origin != "192.0.2.1" ||
		shown.Current {
		t.Errorf("%+v", shown)
	}
	if _, err := svc.Sessions(
		service.AsRole(ctx, "somebody", service.RoleIssuer),
		owner,
		true,
	); !errors.Is(
		err,
		service.ErrRole,
	) {
		t.Errorf("an issuer sees the sessions of all: %v", err)
	}
	stranger := store.Session{Operator: api.Operator{ID: "op-x"}}
	var none *store.NotFoundError
	if err := svc.EndSession(
		service.AsRole(ctx, "somebody", service.RoleIssuer),
		stranger,
		shown.ID,
	); !errors.As(
		err,
		&none,
	) {
		t.Errorf("somebody else ended it: %v", err)
	}
	c.turn(9 * 24 * time.Hour)
	if _, err := svc.Session(ctx, made.Bearer, service.Caller{}); err != nil {
		t.Error(err)
	}
	c.turn(2 * 24 * time.Hour)
	if _, err := svc.Session(
		ctx,
		made.Bearer,
		service.Caller{},
	); !errors.Is(
		err,
		service.ErrNoSession,
	) {
		t.Errorf("a token goes on after its end: %v", err)
	}
}

// TestIdle ends a console that nobody uses, and leaves one that is used, and programs.
func TestIdle(t *testing.T) {
	svc, _, c, _ := staffed(t)
	enter := func(token bool) string {
		t.Helper()
		c.turn(10 * time.Minute)
		bearer, _, err := svc.SignIn(
			t.Context(),
			service.Entry{Name: "owner", Password: right, From: "192.0.2.1", Token: token},
		)
		if err != nil {
			t.Fatal(err)
		}
		return bearer
	}
	program, idle, used := enter(true), enter(false), enter(false)
	for range 4 {
		c.turn(20 * time.Minute)
		if _, err := svc.Session(t.Context(), used, service.Caller{}); err != nil {
			t.Fatalf("one that is used: %v", err)
		}
	}
	if _, err := svc.Session(
		t.Context(),
		idle,
		service.Caller{},
	); !errors.Is(
		err,
		service.ErrNoSession,
	) {
		t.Errorf("one that nobody uses: %v", err)
	}
	if _, err := svc.Session(t.Context(), program, service.Caller{}); err != nil {
		t.Errorf("a program's: %v", err)
	}
}

// TestDemanded holds operators without a second factor back where one is demanded.
func TestDemanded(t *testing.T) {
	svc, _, c, owner := staffed(t)
	ctx := service.AsRole(t.Context(), "owner", service.RoleOwner)
	enter := func(code string) store.Session {
		t.Helper()
		c.turn(10 * time.Minute)
		bearer, _, err := svc.SignIn(
			t.Context(),
			service.Entry{Name: "owner", Password: right, Code: code, From: "192.0.2.1"},
		)
		if err != nil {
			t.Fatal(err)
		}
		session, err := svc.Session(t.Context(), bearer, service.Caller{})
		if err != nil {
			t.Fatal(err)
		}
		return session
	}
	if session := enter(""); session.Operator.MustEnrol {
		t.Errorf("before it is demanded: %+v", session.Operator)
	}
	o, err := svc.Organisation(ctx)
	if err != nil {
		t.Fatal(err)
	}
	o.Name, o.Domain, o.Factors = "Skerry Line", "skerryline.example", true
	if _, err := svc.SetOrganisation(ctx, o); err != nil {
		t.Fatal(err)
	}
	if session := enter(""); !session.Operator.MustEnrol {
		t.Errorf("once it is demanded: %+v", session.Operator)
	}
	f, err := svc.OfferFactor(ctx, owner)
	if err != nil {
		t.Fatal(err)
	}
	code := func() string {
		t.Helper()
		v, err := totp.GenerateCode(f.Key, c.now())
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if err := svc.ConfirmFactor(ctx, owner, code()); err != nil {
		t.Fatal(err)
	}
	c.turn(10 * time.Minute)
	at := c.now().Add(10 * time.Minute)
	next, err := totp.GenerateCode(f.Key, at)
	if err != nil {
		t.Fatal(err)
	}
	if session := enter(next); session.Operator.MustEnrol || !session.Operator.SecondFactor {
		t.Errorf("with one: %+v", session.Operator)
	}
}
