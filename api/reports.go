package api

import "time"

// Report is what a person said does not work, with secrets masked, and what was likeliest then.
type Report struct {
	ID        string     `json:"id"`
	ProfileID string     `json:"profile_id"`
	Device    string     `json:"device"`
	Gateway   string     `json:"gateway"`
	Person    string     `json:"person"`
	Message   string     `json:"message" doc:"What the person wrote, with secrets masked"`
	Cause     string     `json:"cause" doc:"The likeliest cause when it was said; empty where nothing was known"`
	Created   time.Time  `json:"created"`
	Done      *time.Time `json:"done,omitempty" doc:"When somebody dealt with it"`
}
