// Package console embeds the built console. The build puts it into dist; before the
// first build there is only a placeholder.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var built embed.FS

// Dist is the built console.
func Dist() fs.FS {
	dist, err := fs.Sub(built, "dist")
	if err != nil {
		panic(err) // dist is a fixed, valid path
	}
	return dist
}
