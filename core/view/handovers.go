package view

import "time"

// The states of a handover.
const (
	HandoverMade     = "made"
	HandoverOpened   = "opened"
	HandoverFetched  = "fetched"
	HandoverExpired  = "expired"
	HandoverUsedUp   = "used-up"
	HandoverLocked   = "locked"
	HandoverRecalled = "recalled"
)

// Handover is a parcel on its way to its person, by a link and a passcode that neither can be read back.
type Handover struct {
	ID        string     `json:"id"`
	ParcelID  string     `json:"parcel_id"`
	ProfileID string     `json:"profile_id"`
	Device    string     `json:"device"`
	Gateway   string     `json:"gateway"`
	Person    string     `json:"person"`
	State     string     `json:"state" enum:"made,opened,fetched,expired,used-up,locked,recalled"`
	Expires   time.Time  `json:"expires"`
	Most      int        `json:"most" doc:"Openings that it allows"`
	Openings  int        `json:"openings"`
	Wrong     int        `json:"wrong" doc:"Wrong passcodes that were tried"`
	Recalled  *time.Time `json:"recalled,omitempty"`
	Opened    *time.Time `json:"opened,omitempty" doc:"When first"`
	Fetched   *time.Time `json:"fetched,omitempty" doc:"When a file was fetched first"`
	Operator  string     `json:"operator"`
	Created   time.Time  `json:"created"`
}

// NewHandover is a handover that was made: link and passcode are shown once.
type NewHandover struct {
	Handover Handover `json:"handover"`
	Path     string   `json:"path" doc:"Path of the link at the service; give it to the person"`
	Passcode string   `json:"passcode" doc:"Tell it another way than the link"`
}
