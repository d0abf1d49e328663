package vpn

import "embed"

// Declarations has those of the records: the comment on a field describes it in the API.
//
//go:embed authority.go connection.go directory.go mail.go offers.go options.go pattern.go problem.go site.go vpn.go
var Declarations embed.FS
