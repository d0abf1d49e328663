package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/service"
)

type newOperatorInput struct {
	Body struct {
		Name string `json:"name" required:"true" maxLength:"200"`
		// owner, issuer or auditor.
		Role string `json:"role" required:"true" maxLength:"20"`
		// What the changes of an issuer are confined to; without it, to nothing.
		Confined *api.Confinement `json:"confined" required:"false"`
	}
}

type operatorInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// owner, issuer or auditor.
		Role string `json:"role" required:"true" maxLength:"20"`
		// It cannot sign in.
		Disabled bool `json:"disabled" required:"false"`
		// What the changes of an issuer are confined to. Without it that stays; with empty lists it
		// ends.
		Confined *api.Confinement `json:"confined" required:"false"`
	}
}

type passwordInput struct {
	Body struct {
		Old secret.Text `json:"old" required:"true" writeOnly:"true"`
		// The new one.
		Password secret.Text `json:"password" required:"true" writeOnly:"true"`
	}
}

type codeInput struct {
	Body struct {
		Code string `json:"code" required:"true" maxLength:"10"`
	}
}

type dropFactorInput struct {
	Body struct {
		Password secret.Text `json:"password" required:"true" writeOnly:"true"`
	}
}

type sessionsInput struct {
	All bool `query:"all" doc:"Those of all operators (owners only)"`
}

type tokenInput struct {
	Body struct {
		// Name of the token.
		Name string `json:"name" required:"true" maxLength:"200"`
		// Its role, at most that of its operator.
		Role string `json:"role" required:"true" maxLength:"20"`
		// Days until it expires, at most 365.
		Days int `json:"days" required:"true"`

		// Networks that it may come from, in CIDR form; empty means any.
		Addresses []string `json:"addresses" required:"false"`
	}
}

type headInput struct {
	Head string `query:"head" doc:"Head of an earlier verification" maxLength:"64"`
}

// operators are the operations on who can sign in, and on one's own way of doing it.
func (a *handlers) operators() {
	const tag = "operators"
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodGet,
				"/operators",
				"list-operators",
				"List operators (owners only)",
				tag,
			),
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Operator], error) {
			return a.svc.Operators(ctx, in.query())
		},
	)
	add := confirming(
		by(
			service.RoleOwner,
			operation(
				http.MethodPost,
				"/operators",
				"add-operator",
				"Add an operator, with a password for the first sign-in (owners only)",
				tag,
			),
		),
	)
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *newOperatorInput) (api.NewOperator, error) {
		return a.svc.AddOperator(ctx, in.Body.Name, in.Body.Role, in.Body.Confined)
	})
	handle(
		a,
		confirming(
			by(
				service.RoleOwner,
				operation(
					http.MethodPut,
					"/operators/{id}",
					"change-operator",
					"Change role or state of an operator; ends all its sessions (owners only)",
					tag,
				),
			),
		),
		func(ctx context.Context, in *operatorInput) (api.Operator, error) {
			return a.svc.ChangeOperator(
				ctx,
				in.ID,
				in.Body.Role,
				in.Body.Disabled,
				in.Body.Confined,
			)
		},
	)
	handle(
		a,
		confirming(
			by(
				service.RoleOwner,
				operation(
					http.MethodPost,
					"/operators/{id}/reset",
					"reset-operator",
					"Reset an operator's password and second factor (owners only)",
					tag,
				),
			),
		),
		func(ctx context.Context, in *idInput) (api.NewOperator, error) {
			return a.svc.ResetOperator(ctx, in.ID)
		},
	)
	remove := confirming(
		by(
			service.RoleOwner,
			operation(
				http.MethodDelete,
				"/operators/{id}",
				"remove-operator",
				"Remove an operator (owners only)",
				tag,
			),
		),
	)
	quiet(a, remove, func(ctx context.Context, in *idInput) error {
		return a.svc.RemoveOperator(ctx, in.ID)
	})
	handle(
		a,
		operation(
			http.MethodGet,
			"/audit-proof",
			"verify-audit",
			"Verify that the audit log was not changed",
			"audit",
		),
		func(ctx context.Context, in *headInput) (api.AuditProof, error) {
			return a.svc.VerifyAudit(ctx, in.Head)
		},
	)
	a.own()
}

// own are the operations on one's own sign-in.
func (a *handlers) own() {
	const tag = "session"
	password := ownOperation(
		http.MethodPut,
		"/password",
		"change-password",
		"Change your password; your other sessions end",
		tag,
	)
	quiet(a, password, func(ctx context.Context, in *passwordInput) error {
		return a.svc.ChangePassword(ctx, here(ctx), in.Body.Old, in.Body.Password)
	})
	anybody := func(method, path, id, summary string) huma.Operation {
		return by(service.RoleAuditor, operation(method, path, id, summary, tag))
	}
	enrol := func(op huma.Operation) huma.Operation {
		op.Metadata[enrolling] = true // who must set one up, must be let
		return op
	}
	handle(
		a,
		enrol(
			confirming(
				anybody(
					http.MethodPost,
					"/second-factor",
					"offer-factor",
					"Create a second factor, which becomes active with its first code",
				),
			),
		),
		func(ctx context.Context, _ *none) (api.Factor, error) {
			return a.svc.OfferFactor(ctx, here(ctx))
		},
	)
	confirm := enrol(
		confirming(
			anybody(
				http.MethodPut,
				"/second-factor",
				"confirm-factor",
				"Activate the new second factor",
			),
		),
	)
	quiet(a, confirm, func(ctx context.Context, in *codeInput) error {
		return a.svc.ConfirmFactor(ctx, here(ctx), in.Body.Code)
	})
	drop := confirming(
		anybody(
			http.MethodPost,
			"/second-factor/removal",
			"drop-factor",
			"Turn your second factor off",
		),
	)
	quiet(a, drop, func(ctx context.Context, in *dropFactorInput) error {
		return a.svc.DropFactor(ctx, here(ctx), in.Body.Password)
	})
	handle(
		a,
		anybody(http.MethodGet, "/sessions", "list-sessions", "List your open sessions and tokens"),
		func(ctx context.Context, in *sessionsInput) (api.Items[api.Session], error) {
			return items(a.svc.Sessions(ctx, here(ctx), in.All))
		},
	)
	end := anybody(http.MethodDelete, "/sessions/{id}", "end-session", "End a session or token")
	quiet(a, end, func(ctx context.Context, in *idInput) error {
		return a.svc.EndSession(ctx, here(ctx), in.ID)
	})
	add := confirming(
		anybody(
			http.MethodPost,
			"/tokens",
			"add-token",
			"Create a token for a program; it is shown once",
		),
	)
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *tokenInput) (api.NewToken, error) {
		return a.svc.AddToken(
			ctx,
			here(ctx),
			in.Body.Name,
			in.Body.Role,
			in.Body.Days,
			in.Body.Addresses...)
	})
}
