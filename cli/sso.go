package cli

import (
	"cmp"
	"context"
	"reflect"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

// signOnCommands are those of signing in by a provider.
func (a *app) signOnCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "single-sign-on",
		Short: "Single sign-on of operators with OpenID Connect",
		Long: `Operators can sign in with an OpenID Connect identity provider (code flow with PKCE),
which checks their passwords and second factors. Their role is that of their groups there, at each
sign-in; who is in none of the groups cannot sign in. Local operators stay, for the case that the identity
provider is not available. Register PUBLIC-URL/sign-in/back as the redirect URI.`,
		Example: `  wardicon service single-sign-on set --issuer https://id.skerryline.example \
      --client-id wardicon --secret-file client.secret --role network-office=owner \
      --role helpdesk=issuer
  wardicon service single-sign-on show`,
	}
	return group(root, a.signOnShow(), a.signOnSet())
}

func (a *app) showSignOn(s vpn.SingleSignOn) error {
	return a.print(s, func(w table.Writer) {
		if s.Issuer == "" {
			a.say("Single sign-on is off: operators sign in with a password of this service.")
			return
		}
		var roles []string
		for _, r := range s.Roles {
			roles = append(roles, r.Group+" = "+r.Role)
		}
		kept := map[bool]string{true: "stored", false: "none"}[s.SecretSet]
		if s.Damaged {
			kept = "cannot be read any more: set it again"
		}
		w.AppendRows([]table.Row{
			{"issuer", s.Issuer}, {"title", cmp.Or(s.Title, "-")}, {"client", s.ClientID},
			{"client secret", kept}, {"scopes", strings.Join(append([]string{"openid"}, s.Scopes...), " ")},
			{"name from", s.NameClaim}, {"groups from", s.GroupClaim},
			{"roles", strings.Join(roles, ", ")},
		})
	})
}

func (a *app) signOnShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show",
		Short:   "Show the single sign-on settings (owners only)",
		Args:    exactly(),
		Long:    "Shows the identity provider, and the roles of its groups.",
		Example: "  wardicon service single-sign-on show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				s, err := c.SingleSignOn(ctx)
				if err != nil {
					return err
				}
				return a.showSignOn(s)
			})
		},
	}
}

func (a *app) signOnSet() *cobra.Command {
	var given vpn.SingleSignOn
	var files outside
	var roles []string
	cmd := &cobra.Command{
		Use:   "set",
		Short: "Change the single sign-on settings (owners only)",
		Args:  exactly(),
		Long: `Changes the given fields; the others are kept. An empty --issuer turns single
sign-on off: its operators can no longer sign in.`,
		Example: `  wardicon service single-sign-on set --issuer https://id.skerryline.example \
      --client-id wardicon --secret-file client.secret --role network-office=owner
  wardicon service single-sign-on set --issuer ""`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				s, err := c.SingleSignOn(ctx)
				if err != nil {
					return err
				}
				if err := a.given(cmd, map[string]func(){
					"issuer":      func() { s.Issuer = given.Issuer },
					"title":       func() { s.Title = given.Title },
					"client-id":   func() { s.ClientID = given.ClientID },
					"scope":       func() { s.Scopes = given.Scopes },
					"name-claim":  func() { s.NameClaim = given.NameClaim },
					"group-claim": func() { s.GroupClaim = given.GroupClaim },
				}, files, &s.Authority, &s.Secret); err != nil {
					return err
				}
				if cmd.Flags().Changed("role") {
					s.Roles = []vpn.GroupRole{}
					for _, one := range roles {
						at := strings.LastIndex(one, "=")
						if at < 1 {
							return usage("--role: found %q, expected GROUP=ROLE", one)
						}
						s.Roles = append(s.Roles, vpn.GroupRole{Group: one[:at], Role: one[at+1:]})
					}
				}
				if s, err = c.SetSingleSignOn(ctx, s, s.Issuer == ""); err != nil {
					return err
				}
				return a.showSignOn(s)
			})
		},
	}
	describe := func(path string) string {
		return flagHelp(api.Describe(reflect.TypeFor[vpn.SingleSignOn](), path))
	}
	f := cmd.Flags()
	f.StringVar(&given.Issuer, "issuer", "", describe("issuer"))
	f.StringVar(&given.Title, "title", "", describe("title"))
	f.StringVar(&given.ClientID, "client-id", "", describe("client_id"))
	f.StringVar(&files.secret, "secret-file", "", "file with the client secret, - for standard input")
	f.StringSliceVar(&given.Scopes, "scope", nil, describe("scopes"))
	f.StringVar(&given.NameClaim, "name-claim", "", describe("name_claim"))
	f.StringVar(&given.GroupClaim, "group-claim", "", describe("group_claim"))
	f.StringArrayVar(&roles, "role", nil, "group with its role, such as helpdesk=issuer; may be "+
		"repeated, the first that fits counts")
	f.StringVar(&files.authority, "authority", "", describe("authority")+" (name of a file)")
	return cmd
}
