package api

import (
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
)

// RehearsalState is how far a rehearsal is.
type RehearsalState string

// The states. A rehearsal that the service's end interrupted is stopped; it is not made again by
// itself, because every sign-in counts at the gateway.
const (
	RehearsalRunning RehearsalState = "running"
	RehearsalPassed  RehearsalState = "passed"
	RehearsalFailed  RehearsalState = "failed"
	RehearsalStopped RehearsalState = "stopped"
)

// NewRehearsal asks for a rehearsal of a profile's newest parcel.
type NewRehearsal struct {
	// Password, where neither the parcel nor the account has one; it is not stored.
	Password secret.Text `json:"password,omitzero" maxLength:"1024" writeOnly:"true"`
	// Sign in although the gateway rejected this login the last time.
	Again bool `json:"again,omitempty"`
}

// Rehearsal is a trial connection to a gateway by the files of a parcel.
type Rehearsal struct {
	ID        string `json:"id"`
	ProfileID string `json:"profile_id"`
	ParcelID  string `json:"parcel_id"`
	GatewayID string `json:"gateway_id"`
	Device    string `json:"device"`
	Gateway   string `json:"gateway"`
	Operator  string `json:"operator"`
	// Login that signed in; empty where a certificate or a key does.
	Login  string           `json:"login"`
	State  RehearsalState   `json:"state" enum:"running,passed,failed,stopped"`
	Result rehearsal.Result `json:"result"`
}
