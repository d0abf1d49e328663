package inventory

import "embed"

// Declarations are the sources with the types whose comments describe them elsewhere.
//
//go:embed change.go
var Declarations embed.FS
