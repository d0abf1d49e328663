package api

import (
	"fmt"
	"time"

	"wardicon/core/vpn"
)

// Switchover is a switchover in a list.
type Switchover struct {
	vpn.Switchover
	// The gateway's name; empty where none is changed.
	Gateway string `json:"gateway"`
	// Devices that it touches, as far as its preview was computed.
	Touched int `json:"touched"`
	// Devices that were seen with the new value, or need nothing.
	Moved int `json:"moved"`
}

// SwitchoverStep is what a switchover means for one device.
type SwitchoverStep struct {
	ID string `json:"id"`
	// The switchover.
	SwitchoverID string `json:"switchover_id"`
	ProfileID    string `json:"profile_id"`
	// Profile that is handed over: another one where the gateway is another.
	Tracked  string       `json:"tracked"`
	Device   string       `json:"device"`
	Person   string       `json:"person"`
	Platform vpn.Platform `json:"platform"`
	// Gateway that the device connects to afterwards.
	Gateway string `json:"gateway"`
	// Its wave, from 1.
	Wave int `json:"wave"`
	// What the person must do: nothing, tap to install a file, run a script, retype values, or
	// cannot follow.
	Need string `json:"need" enum:"nothing,tap,run,retype,cannot"`
	// Why.
	Why string `json:"why"`
	// Findings that the device does not have today.
	NewFindings int `json:"new_findings"`
	// How far it has come.
	State SwitchoverStepState `json:"state"`
	// Gateway that takes its device, where the old one is retired.
	SuccessorID string `json:"successor_id,omitempty"`
	// Since when it is planned with the new value.
	Released *time.Time `json:"released,omitempty"`
	// When its parcel with the new value was built.
	Built *time.Time `json:"built,omitempty"`
	// When that was handed over.
	Handed *time.Time `json:"handed_over,omitempty"`
	// When its files were fetched.
	Taken *time.Time `json:"taken,omitempty"`
	// When a connection was seen after that.
	Seen *time.Time `json:"seen,omitempty"`
	// When an operator has confirmed that it has the new value.
	Confirmed *time.Time `json:"confirmed,omitempty"`
	// When its person was reminded last.
	Reminded *time.Time `json:"reminded,omitempty"`
}

// SwitchoverStepState is how far a device has come.
type SwitchoverStepState string

// The states, in their order.
const (
	StepNothing   SwitchoverStepState = "nothing" // needs no other parcel
	StepCannot    SwitchoverStepState = "cannot"  // cannot follow
	StepWaiting   SwitchoverStepState = "waiting" // its wave has not begun
	StepReleased  SwitchoverStepState = "released"
	StepBuilt     SwitchoverStepState = "built"
	StepHanded    SwitchoverStepState = "handed-over"
	StepTaken     SwitchoverStepState = "taken"
	StepConnected SwitchoverStepState = "connected"
)

// SwitchoverStepStates lists the states.
var SwitchoverStepStates = []SwitchoverStepState{
	StepCannot, StepWaiting, StepReleased, StepBuilt, StepHanded, StepTaken, StepConnected,
	StepNothing,
}

// HoldsOld tells whether a device in the state has the old value alone, as far as is known.
func (s SwitchoverStepState) HoldsOld() bool {
	return s != StepConnected && s != StepTaken && s != StepNothing
}

// SwitchoverCount says how many devices of a wave are in a state.
type SwitchoverCount struct {
	// Wave, from 1.
	Wave  int                 `json:"wave"`
	State SwitchoverStepState `json:"state"`
	Count int                 `json:"count"`
}

// SwitchoverNeed says how many devices of a platform need the same.
type SwitchoverNeed struct {
	// What people must do.
	Need     string       `json:"need" enum:"nothing,tap,run,retype,cannot"`
	Platform vpn.Platform `json:"platform"`
	// Gateway that takes them, where that is another one.
	Gateway string `json:"gateway,omitempty"`
	// Why they cannot follow.
	Why   string `json:"why,omitempty"`
	Count int    `json:"count"`
	// Devices with findings that they do not have today.
	NewFindings int `json:"new_findings"`
}

// SwitchoverLoad is what a switchover brings to a gateway that takes devices of another one.
type SwitchoverLoad struct {
	GatewayID string `json:"gateway_id"`
	Gateway   string `json:"gateway"`
	// Devices that lead to it today.
	Now int `json:"now"`
	// Devices that it takes.
	Coming int `json:"coming"`
	// Addresses of its client address pool; 0 where none is on record.
	Addresses int `json:"addresses"`
	// A pool is on record, and has fewer addresses than there will be devices.
	Short bool `json:"short"`
}

// SwitchoverDay says how many devices came to a state on a day (UTC).
type SwitchoverDay struct {
	// The day.
	Day time.Time `json:"day"`
	// Devices whose wave began.
	Released int `json:"released"`
	// Devices whose parcel was built.
	Built int `json:"built"`
	// Devices whose parcel was handed over.
	Handed int `json:"handed_over"`
	// Devices whose files were fetched.
	Taken int `json:"taken"`
	// Devices whose connection was seen.
	Connected int `json:"connected"`
}

// SwitchoverBoard is where a switchover stands.
type SwitchoverBoard struct {
	Switchover Switchover `json:"switchover"`
	// Devices by wave and state.
	Counts []SwitchoverCount `json:"counts"`
	// Devices by what their people must do.
	Needs []SwitchoverNeed `json:"needs"`
	// Devices by the days on which they came to a state.
	Days []SwitchoverDay `json:"days"`
	// Where the old and the new value are valid at a time, and where not.
	Holds []SwitchoverHold `json:"holds"`
	// Gateways that take devices of another one.
	Loads []SwitchoverLoad `json:"loads"`
	// Places that hold the old value.
	Places []SwitchoverPlace `json:"places"`
	// Devices that hold the old value alone, as far as is known.
	Holders int `json:"holders"`
	// Devices whose people have reported a problem since they got the new value.
	Reports int `json:"reports"`
	// Why the next wave does not begin; empty where it may, or there is none.
	Waits string `json:"waits,omitempty"`
	// Job that works on it now.
	JobID string `json:"job_id,omitempty"`
}

// SwitchoverHold says whether the gateway can serve both values by a protocol.
type SwitchoverHold struct {
	Protocol vpn.Protocol `json:"protocol"`
	// Both are valid at a time.
	Both bool   `json:"both"`
	Why  string `json:"why,omitempty"`
}

// SwitchoverPlace is a place that holds the old value.
type SwitchoverPlace struct {
	// What it is: record, parcels, links or gateway.
	What  string `json:"what" enum:"record,parcels,links,gateway"`
	Name  string `json:"name"`
	Count int    `json:"count"`
}

// CalendarEntry is something that expires or changes.
type CalendarEntry struct {
	At time.Time `json:"at"`
	// What kind it is: certificate, authority, signer, release, link, override or switchover.
	Kind string `json:"kind" enum:"certificate,authority,signer,release,link,override,switchover"`
	Noun string `json:"noun"`
	// Identifier of the record; empty where there is none.
	ID string `json:"id,omitempty"`
	// Name of the record or release; empty for several.
	Name string `json:"name"`
	// Platform of the release; empty where it is none.
	Platform vpn.Platform `json:"platform,omitempty"`
	// What happens then; empty for several, which expire.
	What string `json:"what"`
	// Kind of the switchover that prepares for it; empty where none does.
	Plan vpn.SwitchoverKind `json:"plan,omitempty"`
	// How many records are concerned.
	Count int `json:"count"`
}

// Text says what happens, in one line.
func (e CalendarEntry) Text() string {
	if e.ID != "" || e.Noun == "signer" {
		return e.Name + ": " + e.What
	}
	if e.Kind == "release" {
		return fmt.Sprintf("%s: %s (devices: %d)", e.Name, e.What, e.Count)
	}
	if e.Count == 1 {
		return "1 " + e.Kind + " expires"
	}
	return fmt.Sprintf("%d %ss expire", e.Count, e.Kind)
}

// NewFeed is the address of a calendar that programs subscribe to.
type NewFeed struct {
	// Address; it is shown once.
	URL string `json:"url"`
}
