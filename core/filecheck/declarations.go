package filecheck

import "embed"

// Declarations has those of the records: the comment on a field describes it in the API.
//
//go:embed ignore.go
var Declarations embed.FS
