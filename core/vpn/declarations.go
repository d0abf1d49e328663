package vpn

import "embed"

// Declarations has those of the records: the comment on a field describes it in the API.
//
//go:embed *.go
var Declarations embed.FS
