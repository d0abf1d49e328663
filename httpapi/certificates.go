package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/service"
	"wardicon/store"
)

type issueInput struct {
	Body struct {
		DeviceID    string `json:"device_id" required:"true"`
		AuthorityID string `json:"authority_id" required:"true"`
		// Alternative names; empty creates one below the organisation's domain.
		Names []string `json:"names" required:"false"`
		// Validity in days; 0 uses the authority's setting.
		Days int `json:"days" required:"false"`
	}
}

type signInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		AuthorityID string `json:"authority_id" required:"true"`
		// Signing request (PKCS #10) in PEM form.
		Request string `json:"request" required:"true" maxLength:"262144"`
		// Validity in days; 0 uses the authority's setting.
		Days int `json:"days" required:"false"`
	}
}

type bundleInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		AuthorityID string `json:"authority_id" required:"true"`
		// Key type: p256, p384 or rsa3072; empty means p256.
		Kind pki.KeyChoice `json:"kind" required:"false"`
		// Validity in days; 0 uses the authority's setting.
		Days int `json:"days" required:"false"`
	}
}

type materialForInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body api.Material
}

type deviceCertificateInput struct {
	ID     string `path:"id"     maxLength:"64" doc:"Identifier of the device"`
	Serial string `path:"serial" maxLength:"64" doc:"Serial number, hexadecimal"`
}

type chainInput struct {
	Noun string `path:"noun" enum:"certificate,authority,device,gateway" doc:"Kind of the record"`
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
}

type daysInput struct {
	Days int `query:"days" default:"60" minimum:"1" maximum:"3660" doc:"Days to look ahead"`
}

type reasonInput struct {
	ID   string `path:"id" maxLength:"64" doc:"Identifier of the record"`
	Body struct {
		Reason pki.Reason `json:"reason" required:"true" enum:"unspecified,key-compromise,superseded,ceased"`
	}
}

func (a *handlers) certificates() {
	handle(
		a,
		operation(
			http.MethodGet,
			"/certificates",
			"list-certificates",
			"List issued certificates",
			"certificates",
		),
		func(ctx context.Context, in *listInput) (api.Page[api.Certificate], error) {
			return a.svc.Certificates(ctx, in.query())
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/certificates/{id}",
			"show-certificate",
			"Show a certificate",
			"certificates",
		),
		func(ctx context.Context, in *idInput) (api.Certificate, error) {
			return a.svc.Certificate(ctx, in.ID)
		},
	)
	issue := operation(
		http.MethodPost,
		"/certificates",
		"issue-certificate",
		"Create a key and a certificate for a device, replacing the current one",
		"certificates",
	)
	issue.DefaultStatus = http.StatusCreated
	handle(a, issue, func(ctx context.Context, in *issueInput) (api.Certificate, error) {
		return a.svc.IssueToDevice(
			ctx,
			in.Body.DeviceID,
			in.Body.AuthorityID,
			in.Body.Names,
			in.Body.Days,
		)
	})
	sign := operation(
		http.MethodPost,
		"/gateways/{id}/certificate",
		"sign-for-gateway",
		"Sign a gateway's request, with the names of its record",
		"certificates",
	)
	sign.DefaultStatus = http.StatusCreated
	handle(a, sign, func(ctx context.Context, in *signInput) (api.Issued, error) {
		return a.svc.IssueToGateway(ctx, in.ID, in.Body.AuthorityID, in.Body.Request, in.Body.Days)
	})
	users := confirming(by(service.RoleOwner, operation(
		http.MethodPost,
		"/gateways/{id}/user-lists",
		"make-user-lists",
		"Return the files in which the daemons of a gateway look up users and keys (owners only)",
		"gateways",
	)))
	handle(a, users, func(ctx context.Context, in *idInput) (api.GatewayUsers, error) {
		return a.svc.GatewayUsers(ctx, in.ID)
	})
	configuration := confirming(by(service.RoleOwner, operation(
		http.MethodPost,
		"/gateways/{id}/configurations",
		"make-gateway-configuration",
		"Return a working configuration of a gateway's daemons, with their user lists (owners "+
			"only)",
		"gateways",
	)))
	handle(
		a,
		configuration,
		func(ctx context.Context, in *idInput) (api.GatewayConfiguration, error) {
			return a.svc.GatewayConfiguration(ctx, in.ID)
		},
	)
	fit := operation(
		http.MethodPost,
		"/gateways/{id}/certificate-bundle",
		"make-gateway-bundle",
		"Create a key and a certificate for a gateway and return the files; the key is not stored",
		"certificates",
	)
	fit.DefaultStatus = http.StatusCreated
	handle(a, fit, func(ctx context.Context, in *bundleInput) (api.GatewayBundle, error) {
		return a.svc.IssueGatewayBundle(ctx, in.ID, in.Body.AuthorityID, in.Body.Kind, in.Body.Days)
	})
	handle(
		a,
		operation(
			http.MethodPost,
			"/gateways/{id}/presented-certificate",
			"take-gateway-certificate",
			"Import the certificate that a gateway presents",
			"certificates",
		),
		func(ctx context.Context, in *materialForInput) (api.Gateway, error) {
			return a.svc.TakeGatewayCertificate(ctx, in.ID, in.Body)
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/devices/{id}/certificate",
			"take-device-certificate",
			"Import a device's certificate and key",
			"certificates",
		),
		func(ctx context.Context, in *materialForInput) (api.Device, error) {
			return a.svc.TakeDeviceIdentity(ctx, in.ID, in.Body)
		},
	)
	handle(
		a,
		operation(
			http.MethodDelete,
			"/devices/{id}/certificates/{serial}",
			"drop-device-certificate",
			"Remove a certificate and its key from a device, without revoking it",
			"certificates",
		),
		func(ctx context.Context, in *deviceCertificateInput) (api.Device, error) {
			return a.svc.DropDeviceCertificate(ctx, in.ID, in.Serial)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/chains/{noun}/{id}",
			"show-chain",
			"Show the chain of a record's certificate, and the link at fault",
			"certificates",
		),
		func(ctx context.Context, in *chainInput) (api.Chain, error) {
			return a.svc.Chain(ctx, in.Noun, in.ID)
		},
	)
	handle(
		a,
		operation(
			http.MethodGet,
			"/expiries",
			"list-expiries",
			"List authorities and certificates that expire soon",
			"certificates",
		),
		func(ctx context.Context, in *daysInput) (api.Items[api.Expiry], error) {
			return items(a.svc.Expiries(ctx, in.Days))
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/certificates/{id}/revocation",
			"revoke-certificate",
			"Revoke a certificate",
			"certificates",
		),
		func(ctx context.Context, in *reasonInput) (api.Revocation, error) {
			return a.svc.Revoke(ctx, in.ID, "", in.Body.Reason)
		},
	)
	handle(
		a,
		operation(
			http.MethodPost,
			"/devices/{id}/revocation",
			"revoke-device",
			"Revoke all certificates of a device",
			"certificates",
		),
		func(ctx context.Context, in *reasonInput) (zero api.Revocation, err error) {
			if _, err := a.svc.Devices.Get(ctx, in.ID); err != nil {
				return zero, err
			}
			return a.svc.Revoke(ctx, "", in.ID, in.Body.Reason)
		},
	)
}

// revocationList serves an authority's list, ID.crl, or what was revoked lately, ID.delta.crl, to
// whoever asks: that is what it is for.
func (a *handlers) revocationList(w http.ResponseWriter, r *http.Request) {
	id, ok := strings.CutSuffix(chi.URLParam(r, "name"), ".crl")
	id, delta := strings.CutSuffix(id, ".delta")
	der, until, err := a.svc.RevocationList(r.Context(), id, delta)
	var none *store.NotFoundError
	if err != nil && !errors.As(err, &none) {
		a.log.ErrorContext(r.Context(), "a CRL cannot be served", "authority", id, "error", err)
		writeProblem(
			w,
			r,
			problem(http.StatusInternalServerError, "internal", "the CRL cannot be served now"),
		)
		return
	}
	if !ok || err != nil {
		writeProblem(
			w,
			r,
			problem(http.StatusNotFound, "not-found", "there is no CRL at "+r.URL.Path),
		)
		return
	}
	w.Header().Set("Content-Type", "application/pkix-crl") // RFC 2585 §4.2
	w.Header().
		Set("Cache-Control", fmt.Sprintf("public, max-age=%d",
			max(0, int(time.Until(until).Seconds()))))
	_, _ = w.Write(der)
}
