package explain

import "embed"

// Declarations has those of the records: the comment on a field describes it in the API.
//
//go:embed causes.go explain.go rank.go reader.go
var Declarations embed.FS
