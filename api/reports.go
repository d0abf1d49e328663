package api

import "time"

// Report is what a person said does not work, with secrets masked, and what was likeliest then.
type Report struct {
	ID        string `json:"id"`
	ProfileID string `json:"profile_id"`
	Device    string `json:"device"`
	Gateway   string `json:"gateway"`
	Person    string `json:"person"`
	// What the person wrote, with secrets masked.
	Message string `json:"message"`
	// The likeliest cause when it was said; empty where nothing was known.
	Cause string `json:"cause"`
	// What was seen then: browser, address, files, tunnel; a line each.
	Facts   string    `json:"facts"`
	Created time.Time `json:"created"`
	// When somebody dealt with it.
	Done *time.Time `json:"done,omitempty"`
}
