//go:debug tlsunsafeekm=1

// Command wardicon builds, checks and distributes VPN client connection profiles.
package main

import (
	"os"

	"wardicon/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], cli.Standard())) }
