package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
	"wardicon/service"
)

// confinable are the operations beyond reading that a confined operator may call, and the noun of
// the record that the path names. Without a noun the service looks at the record itself.
var confinable = map[string]string{
	"add-person": "", "change-person": "", "remove-person": "", "offboard-person": "person",
	"add-device": "", "change-device": "", "remove-device": "", "offboard-device": "device",
	"add-account": "", "change-account": "", "remove-account": "",
	"add-profile": "", "change-profile": "", "remove-profile": "",
	"change-gateway": "",

	"take-device-certificate": "device", "make-enrolment": "device", "revoke-device": "device",
	"issue-certificate": "", "make-handover": "",

	"build-parcel": "profile", "reveal-profile": "profile", "rehearse-profile": "profile",
	"rehearse-offers": "profile", "override-error": "profile", "end-override": "profile",
	"fetch-file": "parcel", "recall-handover": "handover", "reissue-handover": "handover",

	"probe-gateway": "gateway", "take-over-probe": "gateway", "rehearse-gateway": "gateway",
	"sign-for-gateway": "gateway", "make-gateway-bundle": "gateway", "take-gateway-certificate": "gateway",
	"place-certificate-order": "gateway", "end-certificate-order": "gateway",
}

// within lets a confined operator read as an auditor does, and change what they are confined to.
// Whatever is not known to be within that is refused.
func (a *handlers) within(
	ctx context.Context,
	o api.Operator,
	op *huma.Operation,
	id string,
) error {
	needed, _ := op.Metadata[roleNeeded].(string)
	if o.Confined == nil || op.Metadata[ownAffair] != nil ||
		service.Allows(service.RoleAuditor, needed) {
		return nil
	}
	noun, known := confinable[op.OperationID]
	switch {
	case !known:
		return service.ErrBeyond
	case noun == "":
		return nil
	}
	return a.svc.Permits(ctx, noun, id)
}
