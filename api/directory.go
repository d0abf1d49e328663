package api

import (
	"time"

	"wardicon/core/vpn"
)

// DirectoryState is what came of the last reading of the directory.
type DirectoryState struct {
	// When it was read last.
	At *time.Time `json:"at,omitempty"`
	// Why that ended without a result; empty where it did not.
	Problem string `json:"problem,omitempty"`
	// Entries that were read.
	Entries int `json:"entries"`
	// People on record who come from the directory.
	People int `json:"people"`
	// Those of them who are no longer in it.
	Missing int `json:"missing"`
	// The import of what was read.
	ImportID string `json:"import_id,omitempty"`
}

// DirectoryReading is what a reading of the directory comes to.
type DirectoryReading struct {
	DirectoryState
	// What becomes of each entry; its rows are those of an import.
	Import RecordImport `json:"import"`
	// Names of people who are no longer in the directory, at most 100.
	Gone []string `json:"gone"`
	// The job that imports what differs; none where nothing does, or in a dry run.
	Job *Job `json:"job,omitempty"`
}

// Provisioned is a person who came by SCIM (RFC 7643), with the attributes as its client sent them.
type Provisioned struct {
	Person             vpn.Person
	UserName, External string
	Attributes         string // JSON
	Active             bool
}
