package httpapi

import (
	"context"
	"encoding/json"
	"net"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/service"
)

type askPasskeyInput struct{ from string }

// Resolve takes the caller's address from the connection.
func (in *askPasskeyInput) Resolve(ctx huma.Context) []error {
	if host, _, err := net.SplitHostPort(ctx.RemoteAddr()); err == nil {
		in.from = host
	}
	return nil
}

type newPasskeyInput struct {
	Body api.NewPasskey
}

// mostPasskey bounds what a browser says of a passkey, in bytes.
const mostPasskey = 64 << 10

// passkeyOf is what a browser says of a passkey; nil where it says nothing.
func passkeyOf(v any) ([]byte, error) {
	if v == nil {
		return nil, nil
	}
	data, err := json.Marshal(v)
	if err == nil && len(data) > mostPasskey {
		err = service.ErrPasskey
	}
	return data, err
}

// passkeys are the key pairs that operators sign in with.
func (a *handlers) passkeys() {
	ask := operation(http.MethodPost, "/session/passkey", "ask-passkey",
		"Begin to sign in, or to confirm your identity, with a passkey", "session")
	ask.Security = nil
	handle(a, ask, func(ctx context.Context, in *askPasskeyInput) (api.PasskeyOptions, error) {
		return a.svc.AskPasskey(ctx, in.from)
	})
	handle(a, ownOperation(http.MethodPost, "/passkeys/offer", "offer-passkey",
		"Begin to create a passkey for yourself", "session"),
		func(ctx context.Context, _ *none) (api.PasskeyOptions, error) {
			return a.svc.OfferPasskey(ctx, here(ctx))
		})
	add := ownOperation(http.MethodPost, "/passkeys", "add-passkey",
		"Keep a passkey that your browser has created", "session")
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *newPasskeyInput) (api.Passkey, error) {
		answer, err := passkeyOf(in.Body.Credential)
		if err != nil {
			return api.Passkey{}, err
		}
		return a.svc.AddPasskey(ctx, here(ctx), in.Body.Name, answer)
	})
	handle(
		a,
		ownOperation(http.MethodGet, "/passkeys", "list-passkeys", "List your passkeys", "session"),
		func(ctx context.Context, _ *none) (api.Items[api.Passkey], error) {
			list, err := a.svc.Passkeys(ctx, here(ctx))
			return api.Items[api.Passkey]{Items: list}, err
		},
	)
	remove := ownOperation(http.MethodDelete, "/passkeys/{id}", "remove-passkey",
		"Remove one of your passkeys", "session")
	quiet(a, remove, func(ctx context.Context, in *idInput) error {
		return a.svc.RemovePasskey(ctx, here(ctx), in.ID)
	})
}
