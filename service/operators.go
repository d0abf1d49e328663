package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// The roles of operators: an auditor looks and sees no secrets; an issuer does the daily work; an
// owner decides who the others are, and on what vouches for everything.
const (
	RoleAuditor = "auditor"
	RoleIssuer  = "issuer"
	RoleOwner   = "owner"
)

// Roles lists them, the least first.
var Roles = []string{RoleAuditor, RoleIssuer, RoleOwner}

// Allows tells whether a role may do what another one is needed for.
func Allows(role, needed string) bool {
	return slices.Index(Roles, role) >= slices.Index(Roles, needed) && slices.Contains(Roles, role)
}

// lesser is the one of two roles that allows less; an empty one is the other.
func lesser(a, b string) string {
	if a == "" || Allows(a, b) {
		return b
	}
	return a
}

// setup is the first start: a code proves that whoever chooses the owner's password
// can also read the service's own files.
type setup struct {
	sync.Mutex
	code string
}

// Errors of the first start.
var (
	ErrSetUpDone = vpn.Refuse(vpn.KindSetUpDone, "the service is set up already; sign in")
	ErrSetUpCode = vpn.Refuse(vpn.KindSignIn, "this is not the set-up code")
)

// NeedsSetUp tells whether no owner was made yet.
func (s *Service) NeedsSetUp(ctx context.Context) (bool, error) {
	has, err := s.store.Read().HasOperators(ctx)
	return !has, err
}

// SetUpCode makes the code for the first start.
func (s *Service) SetUpCode() string {
	s.setup.Lock()
	defer s.setup.Unlock()
	s.setup.code = rand.Text()
	return s.setup.code
}

// SetUp makes the owner at the first start, and notes under which address people reach the service,
// where it is said.
func (s *Service) SetUp(
	ctx context.Context,
	code, name string,
	password secret.Text,
	links string,
) error {
	if err := s.throttle("set-up"); err != nil {
		return err
	}
	s.setup.Lock()
	defer s.setup.Unlock()
	if s.setup.code == "" {
		return ErrSetUpDone
	}
	if subtle.ConstantTimeCompare([]byte(strings.TrimSpace(code)), []byte(s.setup.code)) != 1 {
		return ErrSetUpCode
	}
	if err := s.AddOwner(ctx, name, password, links); err != nil {
		return err
	}
	s.setup.code = ""
	return nil
}

// AddOwner makes the first owner. It is refused once there is an operator.
func (s *Service) AddOwner(
	ctx context.Context,
	name string,
	password secret.Text,
	links string,
) error {
	problems := append(
		nameProblems(name, nameFix),
		passwordProblems("/password", name, password)...)
	problems = append(problems, vpn.OriginProblems("/links", links)...)
	if len(problems) > 0 {
		return &vpn.Problems{Object: "owner", List: problems}
	}
	hash := hashPassword(password)
	return s.store.Write(ctx, func(tx *store.Tx) error {
		has, err := tx.HasOperators(ctx)
		if err != nil {
			return err
		}
		if has {
			return ErrSetUpDone
		}
		if links != "" {
			organisation, err := tx.Organisation(ctx)
			if err != nil {
				return err
			}
			organisation.Links = links
			if err := tx.PutOrganisation(ctx, &organisation); err != nil {
				return err
			}
		}
		o := store.Operator{Operator: api.Operator{Name: name, Role: RoleOwner}, Password: hash}
		return errors.Join(
			tx.AddOperator(ctx, &o),
			audit(As(ctx, name), tx, "set up", "operator", o.ID, name),
		)
	})
}

const nameFix = "choose a name to sign in with"

// nameProblems judges a name that an operator chooses.
func nameProblems(name, fix string) []vpn.Problem {
	if n := utf8.RuneCountInString(
		strings.TrimSpace(name),
	); n < 1 || n > 64 ||
		name != strings.TrimSpace(name) {
		return []vpn.Problem{
			{
				Pointer:  "/name",
				Found:    fmt.Sprintf("%d characters", n),
				Expected: "1 to 64 characters, no leading or trailing space",
				Fix:      fix,
			},
		}
	}
	if at := strings.IndexFunc(name, func(r rune) bool { return !unicode.IsPrint(r) }); at >= 0 {
		return []vpn.Problem{{
			Pointer: "/name", Found: fmt.Sprintf("the character %+q", name[at:][:1]),
			Expected: "letters, digits, signs and spaces that can be shown",
			Fix:      "leave it out",
		}}
	}
	return nil
}

// passwordProblems judges a password of an operator's choice.
func passwordProblems(pointer, name string, password secret.Text) []vpn.Problem {
	// NIST SP 800-63B-4 §3.1.1.2: fifteen characters where the password stands alone.
	if n := utf8.RuneCountInString(password.Reveal()); n < 15 || n > 256 {
		return []vpn.Problem{
			{
				Pointer:  pointer,
				Found:    fmt.Sprintf("%d characters", n),
				Expected: "15 to 256 characters",
				Fix:      "four or five unrelated words are easy to remember",
			},
		}
	}
	if e := secret.Judge(password, name, "wardicon"); e.Bits < 40 {
		return []vpn.Problem{
			{
				Pointer:  pointer,
				Found:    "a password that " + e.Guesses() + " find",
				Expected: secret.Estimate{Bits: 40}.Guesses() + " or more",
				Fix:      "avoid names, repetitions and rows of keys",
			},
		}
	}
	return nil
}

// Operators lists who can sign in, a page.
func (s *Service) Operators(ctx context.Context, q store.Query) (api.Page[api.Operator], error) {
	return store.Operators.List(ctx, s.store.Read(), q)
}

// firstPassword makes a password for the first sign-in of somebody.
func firstPassword() (secret.Text, error) {
	password, _, err := secret.Make(rand.Reader, 100)
	return password, err
}

// AddOperator makes an operator with a password for the first sign-in, which must then be changed.
func (s *Service) AddOperator(
	ctx context.Context,
	name, role string,
	confined *api.Confinement,
) (made api.NewOperator, err error) {
	if err := ownerOnly(ctx); err != nil {
		return made, err
	}
	problems := nameProblems(name, nameFix)
	if !slices.Contains(Roles, role) {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/role",
				Found:    quoted(role),
				Expected: "owner, issuer or auditor",
				Fix:      "choose one of them",
			},
		)
	}
	if len(problems) > 0 {
		return made, &vpn.Problems{Object: "operator", List: problems}
	}
	if confined, err = s.confine(ctx, role, confined); err != nil {
		return made, err
	}
	use, err := s.admits(ctx, "operator-add", name, role, name, confined)
	if err != nil {
		return made, err
	}
	password, err := firstPassword()
	if err != nil {
		return made, err
	}
	o := store.Operator{
		Operator: api.Operator{Name: name, Role: role, MustChange: true},
		Password: hashPassword(password),
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		err := tx.AddOperator(ctx, &o)
		var taken *store.TakenError
		if errors.As(err, &taken) {
			return problem(
				"operator",
				"/name",
				"a name that another operator has",
				"one that is not in use",
				"choose another one",
			)
		}
		if err == nil && confined != nil {
			err = tx.PutConfinement(ctx, o.ID, confined)
		}
		if err != nil {
			return err
		}
		made.Operator, err = store.Operators.Row(ctx, tx, o.ID)
		return errors.Join(err, use(ctx, tx),
			audit(ctx, tx, "add", "operator", o.ID, name+", "+role+confined.String()))
	})
	made.Password = password.Reveal()
	return made, err
}

// ChangeOperator gives an operator another role, confines them, or keeps them from signing in;
// their sessions end. There is always an owner left. A nil confinement leaves that of an issuer as
// it is, an empty one ends it.
func (s *Service) ChangeOperator(
	ctx context.Context,
	id, role string,
	disabled bool,
	confined *api.Confinement,
) (row api.Operator, err error) {
	use := approvedAlready
	before, err := store.Operators.Row(ctx, s.store.Read(), id)
	if err != nil {
		return row, err
	}
	switch {
	case confined != nil:
		if confined, err = s.confine(ctx, role, confined); err != nil {
			return row, err
		}
	case role == RoleIssuer:
		confined = before.Confined
	}
	more := before.Disabled || !Allows(before.Role, role) || before.Confined.Widened(confined)
	if more && !disabled {
		use, err = s.admits(ctx, "operator-change", id, role, before.Name, confined)
		if err != nil {
			return row, err
		}
	}
	err = s.editOperator(ctx, id, "change", func(tx *store.Tx, o *store.Operator) error {
		if !slices.Contains(Roles, role) {
			return problem(
				"operator",
				"/role",
				quoted(role),
				"owner, issuer or auditor",
				"choose one of them",
			)
		}
		o.Role, o.Disabled, o.Confined = role, disabled, confined
		return errors.Join(use(ctx, tx), tx.PutConfinement(ctx, o.ID, confined))
	})
	if err != nil {
		return row, err
	}
	return store.Operators.Row(ctx, s.store.Read(), id)
}

// ResetOperator gives an operator a new password for the next sign-in, and takes the second factor
// away.
func (s *Service) ResetOperator(ctx context.Context, id string) (made api.NewOperator, err error) {
	before, err := store.Operators.Row(ctx, s.store.Read(), id)
	if err != nil {
		return made, err
	}
	use, err := s.admits(ctx, "operator-reset", id, before.Role, before.Name, before.Confined)
	if err != nil {
		return made, err
	}
	return s.resetOperator(ctx, id, use)
}

func (s *Service) resetOperator(
	ctx context.Context, id string, use func(context.Context, *store.Tx) error,
) (made api.NewOperator, err error) {
	password, err := firstPassword()
	if err != nil {
		return made, err
	}
	hash := hashPassword(password)
	err = s.editOperator(ctx, id, "reset", func(tx *store.Tx, o *store.Operator) error {
		o.Password, o.MustChange, o.Disabled = hash, true, false
		return errors.Join(use(ctx, tx), tx.PutFactor(ctx, o.ID, secret.Text{}),
			tx.DropPasskeys(ctx, o.ID))
	})
	if err != nil {
		return made, err
	}
	made.Password = password.Reveal()
	made.Operator, err = store.Operators.Row(ctx, s.store.Read(), id)
	return made, err
}

// RecoverOperator is ResetOperator by name, for whoever has the data folder.
func (s *Service) RecoverOperator(ctx context.Context, name string) (api.NewOperator, error) {
	o, err := s.store.Read().OperatorByName(ctx, name)
	if err != nil {
		return api.NewOperator{}, err
	}
	return s.resetOperator(As(ctx, "server"), o.ID, approvedAlready)
}

// editOperator changes an operator and ends its sessions.
func (s *Service) editOperator(
	ctx context.Context,
	id, action string,
	edit func(*store.Tx, *store.Operator) error,
) error {
	if err := ownerOnly(ctx); err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		o, err := tx.Operator(ctx, id)
		if err != nil {
			return err
		}
		if err := edit(tx, &o); err != nil {
			return err
		}
		if err := errors.Join(tx.PutOperator(ctx, o), tx.EndSessions(ctx, id, "")); err != nil {
			return err
		}
		return errors.Join(
			ownerLeft(ctx, tx),
			audit(
				ctx,
				tx,
				action,
				"operator",
				id,
				fmt.Sprintf(
					"%s, %s%s, disabled %t",
					o.Name,
					o.Role,
					o.Confined.String(),
					o.Disabled,
				),
			),
		)
	})
}

// ownerLeft refuses what would leave nobody who can decide.
func ownerLeft(ctx context.Context, tx *store.Tx) error {
	n, err := tx.CountOwners(ctx)
	if err == nil && n == 0 {
		return problem(
			"operator",
			"/role",
			"the last owner",
			"an owner that can sign in",
			"make another operator an owner first",
		)
	}
	return err
}

// RemoveOperator removes an operator with its sessions. What it did stays in the audit log.
func (s *Service) RemoveOperator(ctx context.Context, id string) error {
	if err := ownerOnly(ctx); err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		o, err := tx.Operator(ctx, id)
		if err != nil {
			return err
		}
		return errors.Join(
			store.Operators.Delete(ctx, tx, id),
			ownerLeft(ctx, tx),
			audit(ctx, tx, "remove", "operator", id, o.Name),
		)
	})
}
