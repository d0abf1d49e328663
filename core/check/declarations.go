package check

import "embed"

// Declarations has those of the records: the comment on a field describes it in the API.
//
//go:embed agreement.go check.go sites.go
var Declarations embed.FS
