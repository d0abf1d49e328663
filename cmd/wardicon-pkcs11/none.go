//go:build !linux || !cgo

package main

import (
	"fmt"
	"os"
)

func main() {
	fmt.Fprintln(os.Stderr, "this build cannot load modules; build it with CGO_ENABLED=1 and gcc")
	os.Exit(2)
}
