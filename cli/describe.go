package cli

import "github.com/spf13/cobra"

// Tree is the command line with all of its commands, for what describes it: manual pages and
// completions.
func Tree() *cobra.Command {
	a := &app{Streams: Standard()}
	return a.root()
}
