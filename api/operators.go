package api

import "time"

// Operator signs in to the console or the API.
type Operator struct {
	ID           string     `json:"id"`
	Name         string     `json:"name"`
	Role         string     `json:"role" enum:"owner,issuer,auditor"`
	Disabled     bool       `json:"disabled" doc:"It cannot sign in"`
	MustEnrol    bool       `json:"must_enrol" doc:"A second factor is demanded and not set up: nothing but that is allowed"`
	MustChange   bool       `json:"must_change" doc:"Its password is somebody else's choice: nothing but changing it is allowed"`
	SecondFactor bool       `json:"second_factor" doc:"A code is required in addition to the password"`
	SignedIn     *time.Time `json:"signed_in,omitempty" doc:"When last"`
	Sessions     int        `json:"sessions" doc:"Number of open sessions and tokens"`
	Created      time.Time  `json:"created"`
}

// SignedIn is an open session; the token comes once, to programs.
type SignedIn struct {
	Operator Operator  `json:"operator"`
	Expires  time.Time `json:"expires"`
	Token    string    `json:"token,omitempty"`
	Device   string    `json:"device,omitempty" doc:"A mark by which this device is known when it signs in again: send it along then"`
}

// Session is a session of the console or the command line, or a token of a program.
type Session struct {
	ID       string `json:"id"`
	Operator string `json:"operator"`
	Kind     string `json:"kind" enum:"cookie,token" doc:"cookie for the console, token for the command line and programs"`
	Name     string `json:"name,omitempty" doc:"Name of a program's token"`
	Role     string `json:"role" enum:"owner,issuer,auditor" doc:"Its role, at most that of its operator"`
	Origin   string `json:"origin" doc:"The address that it was opened from"`
	Client   string `json:"client" doc:"How the program that opened it calls itself; a console's session ends where another one uses it"`

	Addresses []string   `json:"addresses" doc:"Networks that it is bound to, in CIDR form; empty means any"`
	Created   time.Time  `json:"created"`
	Used      *time.Time `json:"used,omitempty" doc:"When last, to the minute"`
	Expires   time.Time  `json:"expires"`
	Current   bool       `json:"current" doc:"The one that asks"`
}

// NewOperator is an operator that was made or reset, with a password for the first time.
type NewOperator struct {
	Operator Operator `json:"operator"`
	Password string   `json:"password" doc:"For the first sign-in alone; shown once"`
}

// NewToken is a token that was made; its bearer is shown once.
type NewToken struct {
	Session Session `json:"session"`
	Bearer  string  `json:"bearer"`
}

// Factor is a second factor on its way: it counts once a code of it was given.
type Factor struct {
	Key     string `json:"key" doc:"For typing by hand, base32"`
	Address string `json:"address" doc:"otpauth address"`
	Picture []byte `json:"picture" doc:"The address as a QR code, PNG"`
}

// AuditProof says whether the audit log is as it was written.
type AuditProof struct {
	Sound bool   `json:"sound"`
	Lines int    `json:"lines"`
	First int64  `json:"first,omitempty" doc:"The first line that is not as it was written, or that lacks the one before it"`
	Cut   bool   `json:"cut,omitempty" doc:"Lines were cut off at its end, or its head was changed"`
	Head  string `json:"head" doc:"Digest of the last line: note it elsewhere to notice lines that are cut off at the end"`
	Held  bool   `json:"held" doc:"The head that was asked for is in the log"`
}
