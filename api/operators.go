package api

import (
	"slices"
	"strings"
	"time"
)

// Operator signs in to the console or the API.
type Operator struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Role string `json:"role" enum:"owner,issuer,auditor"`
	// It cannot sign in.
	Disabled bool `json:"disabled"`
	// A second factor is demanded and not set up: nothing but that is allowed.
	MustEnrol bool `json:"must_enrol"`
	// Its password is somebody else's choice: nothing but changing it is allowed.
	MustChange bool `json:"must_change"`
	// A code is required in addition to the password.
	SecondFactor bool `json:"second_factor"`
	// They have passkeys: the password alone is not enough.
	Passkeys bool `json:"passkeys"`
	// They sign in by the provider, which has their password and second factor.
	Provider bool `json:"provider"`
	// When last.
	SignedIn *time.Time `json:"signed_in,omitempty"`
	// What their changes are confined to; nothing where they may change all that their role allows.
	Confined *Confinement `json:"confined,omitempty"`
	// Number of open sessions and tokens.
	Sessions int       `json:"sessions"`
	Created  time.Time `json:"created"`
}

// SignedIn is an open session; the token comes once, to programs.
type SignedIn struct {
	Operator Operator  `json:"operator"`
	Expires  time.Time `json:"expires"`
	Token    string    `json:"token,omitempty"`
	// A mark by which this device is known when it signs in again: send it along then.
	Device string `json:"device,omitempty"`
}

// Session is a session of the console or the command line, or a token of a program.
type Session struct {
	ID       string `json:"id"`
	Operator string `json:"operator"`
	// cookie for the console, token for the command line and programs.
	Kind string `json:"kind" enum:"cookie,token"`
	// Name of a program's token.
	Name string `json:"name,omitempty"`
	// Its role, at most that of its operator.
	Role string `json:"role" enum:"owner,issuer,auditor"`
	// The address that it was opened from.
	Origin string `json:"origin"`
	// How the program that opened it calls itself; a console's session ends where another one uses
	// it.
	Client string `json:"client"`

	// Networks that it is bound to, in CIDR form; empty means any.
	Addresses []string  `json:"addresses"`
	Created   time.Time `json:"created"`
	// When last, to the minute.
	Used    *time.Time `json:"used,omitempty"`
	Expires time.Time  `json:"expires"`
	// The one that asks.
	Current bool `json:"current"`
}

// NewOperator is an operator that was made or reset, with a password for the first time.
type NewOperator struct {
	Operator Operator `json:"operator"`
	// For the first sign-in alone; shown once.
	Password string `json:"password"`
}

// NewToken is a token that was made; its bearer is shown once.
type NewToken struct {
	Session Session `json:"session"`
	Bearer  string  `json:"bearer"`
}

// Factor is a second factor on its way: it counts once a code of it was given.
type Factor struct {
	// For typing by hand, base32.
	Key string `json:"key"`
	// otpauth address.
	Address string `json:"address"`
	// The address as a QR code, PNG.
	Picture []byte `json:"picture"`
}

// AuditProof says whether the audit log is as it was written.
type AuditProof struct {
	Sound bool `json:"sound"`
	Lines int  `json:"lines"`
	// The first line that is not as it was written, or that lacks the one before it.
	First int64 `json:"first,omitempty"`
	// Lines were cut off at its end, or its head was changed.
	Cut bool `json:"cut,omitempty"`
	// Digest of the last line: note it elsewhere to notice lines that are cut off at the end.
	Head string `json:"head"`
	// The head that was asked for is in the log.
	Held bool `json:"held"`
}

// Entry is a sign-in by the provider that was begun.
type Entry struct {
	// Address of the provider to go to.
	Address string `json:"address"`
}

// Confinement is what an issuer's changes, files and secrets are confined to. People, their devices
// and accounts must be in one of the groups, gateways among those that are named; profiles with
// their parcels and handovers must be within both, as far as each is given.
type Confinement struct {
	// Groups of people.
	Groups []string `json:"groups"`
	// Identifiers of gateways.
	Gateways []string `json:"gateways"`
}

// String says it, after a role.
func (c *Confinement) String() string {
	if c.Empty() {
		return ""
	}
	var list []string
	if len(c.Groups) > 0 {
		list = append(list, "groups "+strings.Join(c.Groups, ", "))
	}
	if len(c.Gateways) > 0 {
		list = append(list, "gateways "+strings.Join(c.Gateways, ", "))
	}
	return ", confined to " + strings.Join(list, " and ")
}

// Widened tells whether one that another takes the place of held back more: in groups or in gateways
// there is one that was not named, or none is named any more.
func (c *Confinement) Widened(to *Confinement) bool {
	if c.Empty() {
		return false
	}
	if to.Empty() {
		return true
	}
	wider := func(from, to []string) bool {
		return len(from) > 0 && len(to) == 0 || slices.ContainsFunc(to, func(one string) bool {
			return !slices.Contains(from, one)
		})
	}
	return wider(c.Groups, to.Groups) || wider(c.Gateways, to.Gateways)
}

// Empty tells whether it confines nobody.
func (c *Confinement) Empty() bool { return c == nil || len(c.Groups)+len(c.Gateways) == 0 }
