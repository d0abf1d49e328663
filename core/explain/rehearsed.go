package explain

import (
	"cmp"
	"fmt"
	"slices"

	"wardicon/core/rehearsal"
)

// inParcel are causes that lie in the parcel or at the gateway: where a rehearsal passes with the
// same files, they are unlikely.
var inParcel = []string{
	"gateway-no-response", "name-unresolved", "suites-differ", "group-differs",
	"child-suites-differ", "methods-differ", "encryption-differs", "key-wrong", "control-key",
	"identity-differs", "identity-unknown", "ciphers-differ", "authority-missing",
	"certificate-name", "certificate-usage", "gateway-certificate-expired", "client-refused",
	"device-certificate-expired", "device-certificate-revoked", "tls-versions",
}

// onDevice are causes that lie in the device or its network: there a rehearsal that passes leaves
// them.
var onDevice = []string{"port-blocked", "proxy-between", "clock-wrong", "nat-registry"}

// Tried is the newest rehearsal of the newest parcel.
type Tried struct {
	rehearsal.Result
	// It signed in with the account that the device signs in with.
	Own bool
}

// answered tells whether the gateway said anything in it.
func (t *Tried) answered() bool {
	return slices.ContainsFunc(t.Steps, func(s rehearsal.Step) bool {
		return s.Name == rehearsal.Exchange && s.State == rehearsal.Passed
	})
}

// newer tells whether it tells more of the gateway than the last probe.
func (e Evidence) newer() bool {
	return e.Tried != nil && e.Tried.answered() &&
		(e.Probe == nil || e.Tried.At.After(e.Probe.At))
}

// weighRehearsal adds what a rehearsal shows. What it shows of another account's password says
// nothing.
func weighRehearsal(r *Ranked, e Evidence) {
	t := e.Tried
	if t == nil || proves[r.ID] == ByPassword && !t.Own {
		return
	}
	what := fmt.Sprintf("a rehearsal of this parcel from %s on %s",
		cmp.Or(t.Place, "the service"), t.At.Format(minutes))
	switch {
	case !t.Passed && t.CauseID == r.ID:
		r.speaks(proof, "%s failed by it, at the step %s", what, t.FailedAt())
	case t.Passed && slices.Contains(inParcel, r.ID):
		r.speaks(-strong, "%s connected", what)
	case t.Passed && slices.Contains(onDevice, r.ID):
		r.speaks(some, "%s connected, so it is this device or its network", what)
	case r.ID == "gateway-no-response" && e.newer():
		r.speaks(-strong, "the gateway answered %s", what)
	}
}
