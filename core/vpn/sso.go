package vpn

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"wardicon/core/secret"
)

// SingleSignOn says how operators sign in by a provider of OpenID Connect.
type SingleSignOn struct {
	Version int `json:"version" readOnly:"true"`
	// Issuer identifier of the provider; empty turns it off. Its configuration is read below it
	// (OpenID Connect Discovery 1.0 §4).
	Issuer string `json:"issuer"`
	// Name of the provider on the sign-in page.
	Title string `json:"title" required:"false"`
	// Client identifier that the provider knows this service by.
	ClientID string `json:"client_id" required:"false"`
	// Client secret; never read back. Leave it out to keep it.
	Secret *secret.Text `json:"secret,omitempty" writeOnly:"true"`
	// A client secret is stored.
	SecretSet bool `json:"secret_set" readOnly:"true"`
	// Scopes that are asked for beside openid.
	Scopes []string `json:"scopes" required:"false"`
	// Claim that names the operator; empty means preferred_username.
	NameClaim string `json:"name_claim" required:"false"`
	// Claim with the operator's groups; empty means groups.
	GroupClaim string `json:"group_claim" required:"false"`
	// Roles by group; the first that fits counts. Who is in none of them cannot sign in.
	Roles []GroupRole `json:"roles" required:"false"`
	// CAs of the provider's certificate, PEM; empty trusts those of the system.
	Authority string `json:"authority,omitempty"`
	// A client secret is stored but cannot be read any more: set it again.
	Damaged bool `json:"damaged,omitempty" readOnly:"true"`
}

// GroupRole is the role of those who are in a group of the provider.
type GroupRole struct {
	// Group as the provider's claim names it.
	Group string `json:"group"`
	// Role: owner, issuer or auditor.
	Role string `json:"role" enum:"owner,issuer,auditor"`
}

const maxClaim = 100

// Normalise gives what is not set its usual value.
func (s *SingleSignOn) Normalise() {
	s.Issuer = strings.TrimSpace(s.Issuer)
	if s.NameClaim == "" {
		s.NameClaim = "preferred_username"
	}
	if s.GroupClaim == "" {
		s.GroupClaim = "groups"
	}
	fill(&s.Scopes)
	fill(&s.Roles)
	s.SecretSet = present(s.Secret)
	s.Authority = tidy(s.Authority)
}

// Validate reports every field of the settings that cannot be accepted.
func (s *SingleSignOn) Validate() error {
	in := inspect("single sign-on")
	if s.Issuer == "" {
		return in.err()
	}
	u, err := url.Parse(s.Issuer)
	if err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "" || u.User != nil ||
		!Private(u) || len(s.Issuer) > 500 {
		in.add("/issuer", shown(s.Issuer), "an address such as https://id.skerryline.example, "+
			"without query", "copy the issuer from the provider's configuration")
	}
	in.text("/title", s.Title, maxName, false)
	in.required("/client_id", s.ClientID, maxLogin)
	in.secret("/secret", s.Secret)
	in.required("/name_claim", s.NameClaim, maxClaim)
	in.required("/group_claim", s.GroupClaim, maxClaim)
	for i, scope := range s.Scopes {
		if scope == "" || len(scope) > maxClaim || strings.ContainsFunc(scope, func(r rune) bool {
			return r <= ' ' || r > '~' || r == '"' || r == '\\' // RFC 6749 §3.3
		}) {
			in.add(fmt.Sprintf("/scopes/%d", i), shown(scope), "a scope such as profile",
				"leave out spaces and quotes")
		}
	}
	if len(s.Roles) == 0 {
		in.add("/roles", "no group", "at least one group with its role",
			"say which group's members may sign in")
	}
	for i, r := range s.Roles {
		in.required(fmt.Sprintf("/roles/%d/group", i), r.Group, maxName)
		if !slices.Contains([]string{"owner", "issuer", "auditor"}, r.Role) {
			in.add(fmt.Sprintf("/roles/%d/role", i), shown(r.Role), "owner, issuer or auditor",
				"choose one of them")
		}
	}
	in.certificates("/authority", s.Authority)
	return in.err()
}

// Role is the role of somebody who is in some groups; empty where nobody in them may sign in.
func (s *SingleSignOn) Role(groups []string) string {
	for _, r := range s.Roles {
		if slices.Contains(groups, r.Group) {
			return r.Role
		}
	}
	return ""
}
