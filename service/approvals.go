package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// How long somebody has to decide, how long it may then be done, and how long it is listed.
const (
	approvalLife  = 24 * time.Hour
	approvedLife  = time.Hour
	keptApprovals = 90 * 24 * time.Hour
)

// ApprovalError says that something takes two.
type ApprovalError struct{ ID, What string }

func (e *ApprovalError) Error() string {
	return fmt.Sprintf(
		"this takes two operators (%s): have another one approve %s, then do it again "+
			"within an hour",
		e.What,
		e.ID,
	)
}

// Kind tells the kind of the error.
func (e *ApprovalError) Kind() vpn.Kind { return vpn.KindApproval }

// approvedAlready is what takes nobody else.
func approvedAlready(context.Context, *store.Tx) error { return nil }

// admits demands two for whatever lets somebody sign in who could then decide: with one alone an
// owner could make the second operator. Auditors decide nothing.
func (s *Service) admits(
	ctx context.Context,
	action, object, role, name string,
	confined *api.Confinement,
) (
	use func(context.Context, *store.Tx) error, err error,
) {
	if err := ownerOnly(ctx); err != nil {
		return nil, err
	}
	if !Allows(role, RoleIssuer) {
		return approvedAlready, nil
	}
	what := map[string]string{
		"operator-add":    "add the operator %s as %s",
		"operator-change": "let the operator %s sign in as %s",
		"operator-reset":  "give the operator %s (%s) a new password",
	}[action]
	as := role + confined.String()
	return s.approved(ctx, action, object+" "+as, fmt.Sprintf(what, name, as), RoleOwner)
}

// approved tells whether another operator has said yes to what this one is about to do, where that
// takes two; if nobody was asked yet, they are. What it answers with is called in the transaction
// that does it.
func (s *Service) approved(ctx context.Context, action, object, what, role string) (
	use func(ctx context.Context, tx *store.Tx) error, err error,
) {
	use = approvedAlready
	var asked *ApprovalError
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		o, err := tx.Organisation(ctx)
		if err != nil || !o.FourEyes {
			return err
		}
		now := s.now()
		want := api.Approval{
			Action: action, Object: object, What: what, Role: role, Operator: actor(ctx),
		}
		known, err := tx.ApprovalFor(ctx, want, now.Add(-approvalLife))
		if err != nil {
			return err
		}
		switch {
		case known != nil && known.Decided == nil:
			asked = &ApprovalError{known.ID, what}
			return nil
		case known != nil && known.Granted && now.Sub(*known.Decided) < approvedLife:
			use = func(ctx context.Context, tx *store.Tx) error {
				ok, err := tx.UseApproval(ctx, known.ID)
				if err == nil && !ok {
					err = &ApprovalError{known.ID, what}
				}
				return err
			}
			return nil
		}
		if err := tx.AddApproval(ctx, &want); err != nil {
			return err
		}
		asked = &ApprovalError{want.ID, what}
		return audit(ctx, tx, "ask for", "approval", want.ID, what)
	})
	if err == nil && asked != nil {
		err = asked
	}
	return use, err
}

// Approvals lists what was asked lately.
func (s *Service) Approvals(ctx context.Context) ([]api.Approval, error) {
	return s.store.Read().Approvals(ctx, s.now().Add(-keptApprovals))
}

// Decide says yes or no to what another operator wants to do.
func (s *Service) Decide(ctx context.Context, id string, granted bool) (a api.Approval, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if a, err = tx.Approval(ctx, id); err != nil {
			return err
		}
		who, _ := ctx.Value(actorKey{}).(acting)
		switch {
		case !Allows(who.role, a.Role):
			return ErrRole
		case a.Operator == who.name:
			return problem("approval", "/operator", "your own name", "another operator's",
				"have somebody else decide")
		case a.Decided != nil:
			return problem("approval", "/decided", "a decision of "+a.By, "none yet",
				"nothing is to be done")
		case s.now().Sub(a.Created) > approvalLife:
			return problem("approval", "/created", a.Created.Format(time.DateTime),
				"within the last 24 hours", "have it asked again")
		}
		ok, err := tx.DecideApproval(ctx, id, who.name, granted)
		if err == nil && !ok {
			err = errStale
		}
		said := "grant"
		if !granted {
			said = "refuse"
		}
		if err := errors.Join(err,
			audit(ctx, tx, said, "approval", id, a.Operator+": "+a.What)); err != nil {
			return err
		}
		a, err = tx.Approval(ctx, id)
		return err
	})
	return a, err
}

// twoEyes holds that there is somebody else to decide before two are demanded, and that one alone
// does not do away with it.
func (s *Service) twoEyes(ctx context.Context, before, after vpn.Organisation) (
	use func(context.Context, *store.Tx) error, err error,
) {
	if before.FourEyes && !after.FourEyes {
		return s.approved(ctx, "four-eyes-off", "", "no longer demand two operators", RoleOwner)
	}
	use = func(ctx context.Context, tx *store.Tx) error {
		if before.FourEyes || !after.FourEyes {
			return nil
		}
		n, err := tx.CountDeciders(ctx, []string{RoleOwner}, actor(ctx))
		if err == nil && n == 0 {
			err = problem(
				"organisation",
				"/four_eyes",
				"no other owner",
				"a second owner who can sign in",
				"make another operator an owner first",
			)
		}
		return err
	}
	return use, nil
}
