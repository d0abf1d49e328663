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
	ID      string     `json:"id"`
	Kind    string     `json:"kind" doc:"What it is about, such as reminder"`
	To      string     `json:"to"`
	Subject string     `json:"subject"`
	State   string     `json:"state" enum:"waiting,sent,failed"`
	Tries   int        `json:"tries"`
	Due     time.Time  `json:"due" doc:"When it is tried next"`
	Problem string     `json:"problem,omitempty" doc:"What went wrong at the last try"`
	About   string     `json:"about,omitempty" doc:"The handover whose link it carries"`
	Created time.Time  `json:"created"`
	Sent    *time.Time `json:"sent,omitempty"`
}
