package api

import "time"

// The states of an email.
const (
	Waiting = "waiting"
	Sent    = "sent"
	GivenUp = "failed"
)

// Email is a mail that was sent, or is to be, without what it says.
type Email struct {
	ID string `json:"id"`
	// What it is about, such as reminder.
	Kind    string `json:"kind"`
	To      string `json:"to"`
	Subject string `json:"subject"`
	State   string `json:"state" enum:"waiting,sent,failed"`
	Tries   int    `json:"tries"`
	// When it is tried next.
	Due time.Time `json:"due"`
	// What went wrong at the last try.
	Problem string `json:"problem,omitempty"`
	// The handover whose link it carries.
	About   string     `json:"about,omitempty"`
	Created time.Time  `json:"created"`
	Sent    *time.Time `json:"sent,omitempty"`
}
