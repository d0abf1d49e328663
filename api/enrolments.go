package api

import "time"

// Enrolment is a one-time secret with which a device may ask for a certificate, for a key that it
// makes itself.
type Enrolment struct {
	ID          string `json:"id"`
	DeviceID    string `json:"device_id"`
	Device      string `json:"device"`
	AuthorityID string `json:"authority_id"`
	Authority   string `json:"authority"`
	// When it ends.
	Expires time.Time `json:"expires"`
	// Who made it.
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
	// When the device had its certificate; null before.
	Used *time.Time `json:"used,omitempty"`
	// Serial number of that certificate, hexadecimal.
	Serial string `json:"serial,omitempty"`
}

// NewEnrolment is an enrolment with what a client of a protocol needs.
type NewEnrolment struct {
	Enrolment
	// The enrolment secret; it is shown once. It is the password with EST, and the challenge password
	// with SCEP.
	Secret string `json:"secret"`
	// Address for EST (RFC 7030).
	EST string `json:"est"`
	// Address for SCEP (RFC 8894).
	SCEP string `json:"scep"`
}
