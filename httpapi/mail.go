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
		RemovePassword bool `json:"remove_password" required:"false" doc:"Remove the stored password"`
	}
}

type tryMailInput struct {
	Body struct {
		To string `json:"to" required:"true" doc:"Mail address" maxLength:"254"`
	}
}

// mail are the operations on how emails are sent, and on those that were.
func (a *handlers) mail() {
	const tag = "mail"
	handle(a, operation(http.MethodGet, "/mail", "show-mail", "Show the mail settings", tag), func(ctx context.Context, _ *none) (*body[vpn.Mail], error) {
		m, err := a.svc.Mail(ctx)
		return &body[vpn.Mail]{m}, err
	})
	handle(a, by(service.RoleOwner, operation(http.MethodPut, "/mail", "change-mail", "Change the mail settings (owners only)", tag)), func(ctx context.Context, in *mailInput) (*body[vpn.Mail], error) {
		version, err := in.version("mail configuration", true)
		if err != nil {
			return nil, err
		}
		in.Body.Version = version
		m, err := a.svc.SetMail(ctx, in.Body.Mail, in.Body.Password == nil && !in.Body.RemovePassword)
		return &body[vpn.Mail]{m}, err
	})
	try := by(service.RoleOwner, operation(http.MethodPost, "/mail/try", "try-mail", "Send a test email (owners only)", tag))
	try.DefaultStatus = http.StatusNoContent
	handle(a, try, func(ctx context.Context, in *tryMailInput) (*none, error) { return nil, a.svc.TryMail(ctx, in.Body.To) })
	hurry := operation(http.MethodPost, "/mail/deliveries", "deliver-mail-queue", "Send queued emails now", tag)
	hurry.DefaultStatus = http.StatusAccepted
	handle(a, hurry, func(ctx context.Context, _ *none) (*body[api.Sending], error) {
		n, err := a.svc.SendNow(ctx)
		return &body[api.Sending]{api.Sending{Waiting: n}}, err
	})
	handle(a, operation(http.MethodGet, "/mail/queue", "list-mail-queue", "List queued and sent emails, newest first", tag), func(ctx context.Context, in *listInput) (*body[api.Page[api.Email]], error) {
		page, err := a.svc.Emails(ctx, in.query())
		return &body[api.Page[api.Email]]{page}, err
	})
}
