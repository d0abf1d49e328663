package httpapi

import (
	"context"
	"crypto/rand"
	"net/http"

	"wardicon/api"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
)

type newSecretInput struct {
	Body struct {
		// Minimum number of random bits.
		Bits int `json:"bits" minimum:"60" maximum:"300" default:"100"`
	}
}

type organisationInput struct {
	SeenInput
	Body vpn.Organisation
}

type searchInput struct {
	Text string `query:"text" maxLength:"200" doc:"Text to search for, of at least two characters"`
}

func (a *handlers) facts() {
	handle(a, operation(http.MethodGet, "/search", "search", "Find records of every noun by a text",
		"overview"),
		func(ctx context.Context, in *searchInput) (api.Items[api.FoundRecord], error) {
			return items(a.svc.Search(ctx, in.Text))
		})
	handle(
		a,
		operation(
			http.MethodGet,
			"/overview",
			"overview",
			"Show an overview of records and findings",
			"overview",
		),
		func(ctx context.Context, _ *none) (api.Overview, error) {
			return a.svc.Overview(ctx)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/organisation",
			"show-organisation",
			"Show the organisation",
			"organisation",
		),
		func(ctx context.Context, _ *none) (vpn.Organisation, error) {
			return a.svc.Organisation(ctx)
		},
	)
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPut,
				"/organisation",
				"change-organisation",
				"Change the organisation",
				"organisation",
			),
		),
		func(ctx context.Context, in *organisationInput) (zero vpn.Organisation, err error) {
			version, err := in.version("organisation", true)
			if err != nil {
				return zero, err
			}
			in.Body.Version = version
			return a.svc.SetOrganisation(ctx, in.Body)
		},
	)
	register(
		a,
		by(
			service.RoleAuditor,
			operation(
				http.MethodPost,
				"/secrets",
				"make-secret",
				"Generate a secret without look-alike characters; it is not stored",
				"facts",
			),
		),
		func(_ context.Context, in *newSecretInput) (*body[api.NewSecret], error) {
			made, bits, err := secret.Make(rand.Reader, in.Body.Bits)
			return &body[api.NewSecret]{api.NewSecret{Secret: made.Reveal(), Bits: bits}}, err
		},
	)
	register(
		a,
		operation(
			http.MethodGet,
			"/platforms",
			"list-platforms",
			"List what each platform release supports",
			"facts",
		),
		func(context.Context, *none) (*body[api.Items[platform.Row]], error) {
			return &body[api.Items[platform.Row]]{
				api.Items[platform.Row]{Items: platform.Table},
			}, nil
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/audit",
			"list-audit",
			"List audit entries, newest first",
			"audit",
		),
		func(ctx context.Context, in *listInput) (api.Page[api.AuditEntry], error) {
			return a.svc.Audit(ctx, in.query())
		},
	)
}
