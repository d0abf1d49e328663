package cli

import "github.com/spf13/cobra"

// branch is a group of commands, as help shows them.
type branch struct {
	id, title string
	commands  []*cobra.Command
}

// tree is every command: records are nouns with verbs below, work is verbs, and what concerns the
// operator alone stands under "me".
func (a *app) tree() []branch {
	return []branch{
		{"records", "Records:", append(a.plainNouns(),
			a.gateways(), a.profiles(), a.patternCommands(), a.switchoverCommands(),
			a.authorityCommands(),
			a.certificateCommands(), a.organisation(), a.operatorCommands())},
		{
			"work",
			"Work:",
			[]*cobra.Command{
				completed(
					a.plan(),
					a.pair(),
				),
				completed(a.build(), profileNoun().complete(a)),
				a.checkFiles(),
				a.importFiles(),
				a.loadFiles(),
				a.saveFiles(),
				a.convert(),
				a.verify(),
				a.explain(),
				a.probe(),
				a.rehearse(),
				a.handoverCommands(),
				a.findingCommands(),
				a.offboardCommands(),
				a.bulk(),
				a.jobs(),
				a.newSecret(),
			},
		},
		{"facts", "Look up:", []*cobra.Command{a.overview(), a.audit(), a.rules(), a.platforms()}},
		{
			"run",
			"Service and session:",
			[]*cobra.Command{a.serve(), a.demo(), a.serviceCommands(), a.me()},
		},
	}
}

// gateways are the commands of the noun, and what its daemons read.
func (a *app) gateways() *cobra.Command {
	root := command(a, gatewayNoun())
	root.AddCommand(completed(a.gatewayUsers(), gatewayNoun().complete(a)),
		completed(a.gatewayConfig(), gatewayNoun().complete(a)),
		completed(a.gatewayRead(), gatewayNoun().complete(a)),
		completed(a.gatewayDelivery(), gatewayNoun().complete(a)))
	return root
}

// profiles are the commands of the noun, and the files that one gives.
func (a *app) profiles() *cobra.Command {
	root := command(a, profileNoun())
	root.AddCommand(completed(a.preview(), profileNoun().complete(a)))
	return root
}

// completed completes what a command takes.
func completed(cmd *cobra.Command, by cobra.CompletionFunc) *cobra.Command {
	cmd.ValidArgsFunction = by
	return cmd
}

// pair completes a device and a gateway.
func (a *app) pair() cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		if len(args) == 0 {
			return deviceNoun().complete(a)(cmd, args, typed)
		}
		return gatewayNoun().complete(a)(cmd, args[1:], typed)
	}
}

// serviceCommands run and maintain a service.
func (a *app) serviceCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "service",
		Short: "Set up, back up, inspect and maintain the service",
		Long: `Commands for whoever runs the service: the first operator, backups, damaged data,
outgoing mail, simulated gateways, the description of the API and the texts for translators.`,
		Example: "  wardicon service set-up --owner harbourmaster\n  wardicon service backup " +
			"--out monday.db\n" +
			"  wardicon service mail show",
	}
	return group(
		root,
		a.setUp(),
		a.backup(),
		a.backupKey(),
		a.changeKey(),
		a.restore(),
		a.inspect(),
		a.mailCommands(),
		a.directoryCommands(),
		a.signOnCommands(),
		a.webhookCommands(),
		a.simulate(),
		a.openAPI(),
		a.translations(),
	)
}

// me are the commands about the operator who is signed in, and this machine.
func (a *app) me() *cobra.Command {
	root := &cobra.Command{
		Use:   "me",
		Short: "Sign in and out; your password, second factor, sessions and tokens",
		Long:  "Commands about your own session, and about where this machine connects from.",
		Example: "  wardicon me sign-in --service https://wardicon.skerryline.example --name " +
			"ada\n  wardicon me token \"nightly export\"",
	}
	own := append(
		[]*cobra.Command{a.signIn(), a.signOut(), a.whoAmI(), a.whereami()},
		a.ownCommands()...)
	return group(root, own...)
}
