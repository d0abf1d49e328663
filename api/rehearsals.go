package api

import (
	"time"

	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
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

// OfferRehearsals asks for rehearsals of a profile by several offers of its gateway.
type OfferRehearsals struct {
	// Protocols of the offers; empty means all.
	Offers []vpn.Protocol `json:"offers,omitempty" maxItems:"5"`
}

// Rehearsal is a trial connection to a gateway by the files of a parcel, or by those that would be
// built for another offer of the gateway.
type Rehearsal struct {
	ID        string `json:"id"`
	ProfileID string `json:"profile_id"`
	// Empty for a rehearsal of another offer.
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

// ReportedRehearsal is a rehearsal that was made elsewhere, with a file of a profile's newest
// parcel.
type ReportedRehearsal struct {
	// Where it was made, such as the name of a branch.
	Place string `json:"place" minLength:"1" maxLength:"100"`
	// SHA-256 of the file, in hexadecimal digits: it has to be one of the newest parcel.
	SHA256 string           `json:"sha256" minLength:"64" maxLength:"64"`
	Result rehearsal.Result `json:"result"`
}

// RehearsalCell is the last rehearsal of a gateway by a protocol for a platform.
type RehearsalCell struct {
	GatewayID   string         `json:"gateway_id"`
	Protocol    vpn.Protocol   `json:"protocol"`
	Platform    vpn.Platform   `json:"platform"`
	RehearsalID string         `json:"rehearsal_id"`
	ProfileID   string         `json:"profile_id"`
	Device      string         `json:"device"`
	State       RehearsalState `json:"state" enum:"passed,failed"`
	// Step that failed; empty where none did.
	FailedAt rehearsal.StepName `json:"failed_at,omitempty"`
	// The most likely cause of the failure.
	Cause string `json:"cause,omitempty"`
	// Where it was made; empty means the service.
	Place string    `json:"place,omitempty"`
	At    time.Time `json:"at"`
	// When one last passed.
	Passed time.Time `json:"passed,omitzero"`
}

// RehearsalRow is what a gateway offers by a protocol, with what came of rehearsing it.
type RehearsalRow struct {
	GatewayID string          `json:"gateway_id"`
	Gateway   string          `json:"gateway"`
	Protocol  vpn.Protocol    `json:"protocol"`
	Cells     []RehearsalCell `json:"cells"`
}

// RehearsalMatrix is the last rehearsal of the gateways of a page, by protocol that they offer, and
// platform.
type RehearsalMatrix struct {
	// Platforms of any cell, on this page or not.
	Platforms []vpn.Platform `json:"platforms"`
	Rows      []RehearsalRow `json:"rows"`
	// Gateways that the search fits.
	Total int `json:"total"`
	// There are more than total says: what a search fits is counted to a bound.
	More bool `json:"more,omitempty"`
}

// RehearsalSample says which rehearsals of a sample will be made.
type RehearsalSample struct {
	// Job that makes them, and can be cancelled.
	Job Job `json:"job"`
	// Profiles that are rehearsed one after the other, a login at most once a minute.
	Profiles []string `json:"profiles"`
	// Profiles that are not, and why.
	Skipped []SkippedRehearsal `json:"skipped"`
}

// SkippedRehearsal is a profile of a sample that is not rehearsed.
type SkippedRehearsal struct {
	ProfileID string `json:"profile_id"`
	Device    string `json:"device"`
	Reason    string `json:"reason"`
}
