package api

// Changes is what an event tells: which kinds of records have changed, not which of them.
type Changes struct {
	// Kinds of records, such as job or handover.
	Topics []string `json:"topics"`
}
