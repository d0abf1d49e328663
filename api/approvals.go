package api

import "time"

// Approval is what an operator wants to do that takes two: another one says yes or no to it.
type Approval struct {
	ID string `json:"id"`
	// What is to be done: export-key, archive, override, severity, operator-add, operator-change,
	// operator-reset, single-sign-on or four-eyes-off.
	Action string `json:"action"`
	// What it is done to; an identifier where there is one.
	Object string `json:"object"`
	// What is to be done, in words.
	What string `json:"what"`
	// Role that decides.
	Role string `json:"role"`
	// Who wants to.
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
	// When somebody decided; null before.
	Decided *time.Time `json:"decided,omitempty"`
	// Who decided.
	By string `json:"by,omitempty"`
	// They said yes.
	Granted bool `json:"granted"`
	// When it was done; null before.
	Used *time.Time `json:"used,omitempty"`
}
