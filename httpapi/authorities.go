package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/service"
)

type makeInput struct{ Body api.NewAuthority }

type takeAuthorityInput struct {
	Body struct {
		// Unique name; empty takes the certificate's.
		Authority string `json:"authority" required:"false" maxLength:"100"`
		api.Material
	}
}

type exportInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// Passphrase of the file, at least 15 characters.
		Passphrase secret.Text `json:"passphrase" required:"true" writeOnly:"true"`
		// The same again.
		Again secret.Text `json:"again" required:"true" writeOnly:"true"`
	}
}

type rolloverInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		Step string `json:"step" required:"true" enum:"begin,finish,undo"`
		// The successor, to begin.
		SuccessorID string `json:"successor_id" required:"false"`
		// Finish although some still depend on the old one.
		Anyway bool `json:"anyway" required:"false"`
	}
}

type renewInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		// Renew what expires within so many days; 0 uses the authority's setting, -1 renews all.
		Days int `json:"days" required:"false"`
	}
}

type requestInput struct {
	Body struct {
		// The CA that is to sign a device's certificate.
		AuthorityID string `json:"authority_id" required:"false"`
		DeviceID    string `json:"device_id" required:"false"`
		// Alternative names; empty creates one below the organisation's domain.
		Names []string `json:"names" required:"false"`
		// Name of a new CA whose certificate is to be signed elsewhere.
		Name string `json:"name" required:"false"`
		// Key type of the new CA: p256, p384 or rsa3072.
		Kind pki.KeyChoice `json:"kind" required:"false"`
	}
}

type materialInput struct{ Body api.Material }

func (a *handlers) authorities() {
	const tag = "authorities"
	handle(a, by(service.RoleAuditor, operation(http.MethodGet, "/key-tokens", "key-tokens",
		"List the tokens (PKCS #11) that keys are in", tag)),
		func(context.Context, *struct{}) (api.Items[api.KeyToken], error) {
			return items(a.svc.KeyTokens(), nil)
		})
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPost,
				"/generated-authorities",
				"make-authority",
				"Create a certificate authority",
				tag,
			),
		),
		func(ctx context.Context, in *makeInput) (api.Items[api.Authority], error) {
			return items(a.svc.MakeAuthority(ctx, in.Body))
		},
	)
	take := by(
		service.RoleOwner,
		operation(
			http.MethodPost,
			"/imported-authorities",
			"take-authority",
			"Import a certificate authority from a file",
			tag,
		),
	)
	take.DefaultStatus = http.StatusCreated
	handle(a, take, func(ctx context.Context, in *takeAuthorityInput) (api.Authority, error) {
		return a.svc.TakeAuthority(ctx, in.Body.Authority, in.Body.Material)
	})
	handle(
		a,
		confirming(
			by(
				service.RoleOwner,
				operation(
					http.MethodPost,
					"/authorities/{id}/exports",
					"export-authority",
					"Export a certificate authority with its key (owners only)",
					tag,
				),
			),
		),
		func(ctx context.Context, in *exportInput) (api.Handed, error) {
			data, name, err := a.svc.ExportAuthority(ctx, in.ID, in.Body.Passphrase, in.Body.Again)
			return api.Handed{
				Name:    name,
				Purpose: "Authority with its key as PKCS #12",
				Private: true,
				Content: data,
			}, err
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/authorities/{id}/rollover",
			"show-rollover",
			"Show the progress of a CA rollover",
			tag,
		),
		func(ctx context.Context, in *idInput) (api.Rollover, error) {
			return a.svc.Rollover(ctx, in.ID)
		},
	)
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPost,
				"/authorities/{id}/rollover",
				"roll-over-authority",
				"Begin, finish or undo a CA rollover",
				tag,
			),
		),
		func(ctx context.Context, in *rolloverInput) (api.Rollover, error) {
			return a.svc.RollOver(ctx, in.ID, in.Body.SuccessorID, in.Body.Step, in.Body.Anyway)
		},
	)
	renew := operation(
		http.MethodPost,
		"/authorities/{id}/renewals",
		"renew-certificates",
		"Renew device certificates that expire soon",
		tag,
	)
	renew.DefaultStatus = http.StatusAccepted
	handle(a, renew, func(ctx context.Context, in *renewInput) (api.Job, error) {
		return a.svc.Renew(ctx, in.ID, in.Body.Days)
	})
	a.requests()
}

// requests are the operations on what waits for a certificate from elsewhere.
func (a *handlers) requests() {
	const tag = "requests"
	handle(
		a,
		operation(
			http.MethodGet,
			"/requests",
			"list-requests",
			"List pending signing requests",
			tag,
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Request], error) {
			return a.svc.Requests(ctx, in.query())
		},
	)
	add := operation(
		http.MethodPost,
		"/requests",
		"add-request",
		"Create a key and a signing request for a CA whose key is kept elsewhere",
		tag,
	)
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *requestInput) (api.Request, error) {
		var r api.Request
		var err error
		if in.Body.DeviceID == "" {
			r, err = a.svc.RequestForAuthority(ctx, in.Body.Name, in.Body.Kind)
		} else {
			r, err = a.svc.RequestForDevice(
				ctx,
				in.Body.DeviceID,
				in.Body.AuthorityID,
				in.Body.Names,
			)
		}
		return r, err
	})
	quiet(a, operation(
		http.MethodDelete,
		"/requests/{id}",
		"forget-request",
		"Remove a signing request and its key",
		tag,
	), func(ctx context.Context, in *idInput) error {
		return a.svc.ForgetRequest(ctx, in.ID)
	})
	handle(
		a,
		operation(
			http.MethodPost,
			"/request-answers",
			"answer-request",
			"Import the certificate for a signing request",
			tag,
		),
		func(ctx context.Context, in *materialInput) (api.Answered, error) {
			return a.svc.Answer(ctx, in.Body)
		},
	)
}
