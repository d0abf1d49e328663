package rehearsal

import "embed"

// Declarations are the sources of this package, whose comments describe fields of the API.
//
//go:embed rehearsal.go
var Declarations embed.FS
