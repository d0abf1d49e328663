package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

type mailInput struct {
	SeenInput
	Body struct {
		vpn.Mail
		// Remove the stored password.
		RemovePassword bool `json:"remove_password" required:"false"`
	}
}

type tryMailInput struct {
	Body struct {
		// Mail address.
		To string `json:"to" required:"true" maxLength:"254"`
	}
}

// mail are the operations on how emails are sent, and on those that were.
func (a *handlers) mail() {
	const tag = "mail"
	handle(
		a,
		operation(http.MethodGet, "/mail", "show-mail", "Show the mail settings", tag),
		func(ctx context.Context, _ *none) (vpn.Mail, error) {
			return a.svc.Mail(ctx)
		},
	)
	handle(
		a,
		by(
			service.RoleOwner,
			operation(
				http.MethodPut,
				"/mail",
				"change-mail",
				"Change the mail settings (owners only)",
				tag,
			),
		),
		func(ctx context.Context, in *mailInput) (zero vpn.Mail, err error) {
			version, err := in.version("mail configuration", true)
			if err != nil {
				return zero, err
			}
			in.Body.Version = version
			return a.svc.SetMail(
				ctx,
				in.Body.Mail,
				in.Body.Password == nil && !in.Body.RemovePassword,
			)
		},
	)
	quiet(a, by(
		service.RoleOwner,
		operation(
			http.MethodPost,
			"/mail/tests",
			"try-mail",
			"Send a test email (owners only)",
			tag,
		),
	), func(ctx context.Context, in *tryMailInput) error {
		return a.svc.TryMail(ctx, in.Body.To)
	})
	hurry := operation(
		http.MethodPost,
		"/mail/deliveries",
		"deliver-mail-queue",
		"Send queued emails now",
		tag,
	)
	hurry.DefaultStatus = http.StatusAccepted
	handle(a, hurry, func(ctx context.Context, _ *none) (api.Sending, error) {
		n, err := a.svc.SendNow(ctx)
		return api.Sending{Waiting: n}, err
	})
	handle(
		a,
		operation(
			http.MethodGet,
			"/mail/queue",
			"list-mail-queue",
			"List queued and sent emails, newest first",
			tag,
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Email], error) {
			return a.svc.Emails(ctx, in.query())
		},
	)
}
