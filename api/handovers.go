package api

import (
	"time"

	"wardicon/core/card"
	"wardicon/core/check"
	"wardicon/core/egress"
	"wardicon/core/format"
	"wardicon/core/i18n"
	"wardicon/core/vpn"
)

// The states of a handover.
const (
	HandoverMade      = "made"
	HandoverSent      = "sent"
	HandoverOpened    = "opened"
	HandoverFetched   = "fetched"
	HandoverConnected = "connected"
	HandoverExpired   = "expired"
	HandoverUsedUp    = "used-up"
	HandoverLocked    = "locked"
	HandoverRecalled  = "recalled"
)

// HandoverStates lists the states in the order in which a handover goes through them.
var HandoverStates = []string{
	HandoverMade,
	HandoverSent,
	HandoverOpened,
	HandoverFetched,
	HandoverConnected,
	HandoverExpired,
	HandoverUsedUp,
	HandoverLocked,
	HandoverRecalled,
}

// Handover is a parcel on its way to its person, by a link and a passcode that neither can be read
// back.
type Handover struct {
	ID        string `json:"id"`
	ParcelID  string `json:"parcel_id"`
	ProfileID string `json:"profile_id"`
	Device    string `json:"device"`
	Gateway   string `json:"gateway"`
	Person    string `json:"person"`
	State     string `json:"state" enum:"made,sent,opened,fetched,connected,expired,used-up,locked,recalled"`
	// Days that it was made for.
	Days    int       `json:"days"`
	Expires time.Time `json:"expires"`
	// Uses that it allows.
	MaxUses int `json:"max_uses"`
	Uses    int `json:"uses"`
	// Wrong passcodes that were tried.
	Wrong int `json:"wrong"`
	// The job that made it for a group.
	Batch    string     `json:"batch,omitempty"`
	Recalled *time.Time `json:"recalled,omitempty"`
	// When the email with the link left.
	Sent *time.Time `json:"sent,omitempty"`
	// When first.
	Opened *time.Time `json:"opened,omitempty"`
	// When a file was fetched first.
	Fetched *time.Time `json:"fetched,omitempty"`
	// When the device was first seen through the gateway.
	Connected *time.Time `json:"connected,omitempty"`
	Operator  string     `json:"operator"`
	Created   time.Time  `json:"created"`
}

// HandoverRequest is how a parcel, or those of a group, are to be handed over.
type HandoverRequest struct {
	// Days until the link ends, 1 to 60; left out means 7.
	Days *int `json:"days,omitempty"`
	// Uses that it allows, 1 to 20; left out means 3.
	Uses *int `json:"uses,omitempty"`
	// How the link is told; left out means shown, to whoever makes it. sheet is for groups.
	Link check.Way `json:"link,omitempty" enum:"shown,mail,sheet"`
	// How the passcode is told; it must be another way than the link, and never mail.
	Passcode check.Way `json:"passcode,omitempty" enum:"shown,mail,sheet"`
	// Send the files along with the mail: an error.
	Attach bool `json:"attach,omitempty"`
}

// NewHandover is a handover that was made: link and passcode are shown once.
type NewHandover struct {
	Handover Handover `json:"handover"`
	// Path of the link at the service.
	Path string `json:"path"`
	// Give it to the person.
	Link string `json:"link"`
	// The link as a QR code, SVG.
	QR string `json:"qr"`
	// Tell it another way than the link.
	Passcode string `json:"passcode"`
	// The address that the link is sent to.
	Mailed string `json:"mailed,omitempty"`
}

// HandoverSum counts the handovers of one state.
type HandoverSum struct {
	State string `json:"state"`
	Count int    `json:"count"`
}

// Slip is a link or a passcode of a batch, to be told to its person.
type Slip struct {
	HandoverID string `json:"handover_id"`
	Person     string `json:"person"`
	Device     string `json:"device"`
	Gateway    string `json:"gateway"`
	Link       string `json:"link,omitempty"`
	Passcode   string `json:"passcode,omitempty"`
}

// Where answer times come from.
const (
	TimedByProbe     = "probe"
	TimedByPage      = "page"
	TimedByRehearsal = "rehearsal"
)

// MeasuredTime is how fast a gateway answered once, and where that was measured.
type MeasuredTime struct {
	GatewayID string `json:"gateway_id" readOnly:"true"`
	// Whose page measured it.
	PersonID string `json:"person_id,omitempty" readOnly:"true"`
	// probe or rehearsal.
	Source string `json:"source,omitempty"`
	// Where it was measured: latitude and longitude.
	Place        vpn.Place `json:"place"`
	Milliseconds float64   `json:"milliseconds"`
}

// MeasuredTimes is how fast a gateway answers from one place.
type MeasuredTimes struct {
	Source string `json:"source" enum:"probe,page,rehearsal"`
	// City; empty for recipients' pages.
	Place string `json:"place"`
	// The median.
	Milliseconds float64   `json:"milliseconds"`
	Count        int       `json:"count"`
	Last         time.Time `json:"last"`
}

// Door is where a browser can knock at a gateway.
type Door struct {
	GatewayID string `json:"gateway"`
	URL       string `json:"url"`
}

// SeenConnection is a device that was seen through a gateway.
type SeenConnection struct {
	ProfileID string `json:"profile_id"`
	GatewayID string `json:"gateway_id"`
	Gateway   string `json:"gateway"`
	// That the service saw.
	Address string    `json:"address"`
	By      string    `json:"by" enum:"pool,egress"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
}

// Whereabouts says which address a caller comes from, and through which gateway.
type Whereabouts struct {
	Address string `json:"address"`
	// The gateway that it comes through; absent for who is not connected.
	Match *egress.Match `json:"match,omitempty"`
}

// Opened is what whoever has opened a link sees: the files without their content.
type Opened struct {
	Handover Handover
	Parcel   Parcel
	Card     *card.Card // as it is now; nil where the parcel is older than that
	Platform vpn.Platform
	Language i18n.Language
}

// Seen is what a look at a browser that has opened a link tells. Probe is the one-time name that it
// was given.
type Seen struct {
	Handover Handover
	Proof    Proof
	Probe    string
	Doors    []Door // gateways whose answer time the page may measure
}

// Proof is what was seen of a device since it opened its link.
type Proof struct {
	// The address when the link was opened.
	Before string      `json:"before"`
	Now    Whereabouts `json:"now"`
	// It is the gateway that the parcel is for.
	Right bool `json:"right"`
	// Seen by IPv4 alone.
	V4 *Whereabouts `json:"v4,omitempty"`
	// Seen by IPv6 alone.
	V6 *Whereabouts `json:"v6,omitempty"`
	// IPv4 or IPv6 bypasses the tunnel.
	Past bool `json:"past"`
	// Who asked for the one-time name.
	Resolver *Whereabouts `json:"resolver,omitempty"`
}

// Archive is an archive of parcels that is encrypted under a passphrase, which is shown once.
type Archive struct {
	Name string `json:"name"`
	// Tell it another way than the archive travels.
	Passphrase string `json:"passphrase"`
	// Parcels in it.
	Profiles int `json:"profiles"`
	// Profiles that were left out: without a parcel that is up to date, or offboarded.
	Left []string `json:"left"`
	// ZIP, encrypted with AES-256 (AE-2).
	Content []byte `json:"content"`
}

// FetchList is what a program sees that has opened a link.
type FetchList struct {
	Device  string `json:"device"`
	Gateway string `json:"gateway"`
	Person  string `json:"person"`
	// Something has changed since the parcel was built.
	Outdated bool        `json:"outdated"`
	Files    []FetchFile `json:"files"`
	Steps    []string    `json:"steps"`
}

// FetchFile is a file that can be fetched.
type FetchFile struct {
	format.File
	Path string `json:"path"`
}

// Exported is what was saved in folders.
type Exported struct {
	Folder   string `json:"folder"`
	Profiles int    `json:"profiles"`
	// Profiles that were left out.
	Left []string `json:"left"`
}
