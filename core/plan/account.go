package plan

import (
	"cmp"
	"fmt"
	"slices"

	"wardicon/core/vpn"
)

func (p *planner) account() {
	g := p.in.Gateway
	var valid []vpn.Account
	for _, a := range p.in.Accounts {
		if len(a.GatewayIDs) == 0 || slices.Contains(a.GatewayIDs, g.ID) {
			valid = append(valid, a)
		}
	}
	// Made for this gateway before valid everywhere; with a password before without.
	slices.SortFunc(valid, func(a, b vpn.Account) int {
		return cmp.Or(
			order(len(a.GatewayIDs) == 0, len(b.GatewayIDs) == 0),
			order(a.Password == nil, b.Password == nil),
			cmp.Compare(a.Login, b.Login),
			cmp.Compare(a.ID, b.ID),
		)
	})
	by, reason := ByRule, ""
	preference := p.in.Profile.Preferences.AccountID
	if i := slices.IndexFunc(
		valid,
		func(a vpn.Account) bool { return a.ID == preference },
	); preference != "" &&
		i >= 0 {
		valid, by, reason = valid[i:i+1], ByOperator, "set on the profile"
	} else if preference != "" {
		p.choose(
			vpn.FieldAccount,
			"Account",
			"none",
			ByOperator,
			"the account that is set is not valid at %s",
			g.Name,
		)
		return
	} else if len(
		valid,
	) > 1 {
		reason = fmt.Sprintf(
			"of %d accounts valid at %s: first one made for the gateway, then one with a password",
			len(valid),
			g.Name,
		)
	}
	if len(valid) == 0 {
		p.choose(
			vpn.FieldAccount,
			"Account",
			"none",
			ByRule,
			"%s has no account that is valid at %s",
			p.in.Person.Name,
			g.Name,
		)
		return
	}
	a := valid[0]
	if reason == "" {
		reason = fmt.Sprintf("the only account of %s that is valid at %s", p.in.Person.Name, g.Name)
	}
	p.plan.Account = &a
	p.choose(vpn.FieldAccount, "Account", a.Login, by, reason)

	c := &p.plan.Connection
	realm := a.Realm
	if realm == "" {
		realm = g.SignIn.Realm
	}
	c.Login = vpn.JoinLogin(g.SignIn.Form, a.Login, realm)
	if g.SignIn.Form == vpn.LoginPlain {
		p.choose(
			vpn.FieldLogin,
			"Login",
			c.Login,
			ByGateway,
			"%s expects the login without realm",
			g.Name,
		)
	} else {
		p.choose(
			vpn.FieldLogin,
			"Login",
			c.Login,
			ByGateway,
			"%s expects login and realm as %s",
			g.Name,
			g.SignIn.Form,
		)
	}
}

func (p *planner) secrets() {
	c, d, title := &p.plan.Connection, p.in.Device, "Password"
	preference := p.in.Profile.Preferences.Password
	switch {
	case !p.auth.password:
		c.PasswordMode = vpn.PasswordPrompted
		return
	case preference != "":
		c.PasswordMode = preference
		p.choose(vpn.FieldPasswordMode, title, string(preference), ByOperator, "set on the profile")
	case p.in.Pattern.Password != "":
		c.PasswordMode = p.in.Pattern.Password
		p.choose(
			vpn.FieldPasswordMode,
			title,
			string(c.PasswordMode),
			ByPattern,
			"set by the pattern %s",
			p.in.Pattern.Name,
		)
	case d.CannotAsk:
		c.PasswordMode = vpn.PasswordSaved
		p.choose(vpn.FieldPasswordMode, title, "saved", ByDevice, "%s cannot prompt for it", d.Name)
	case p.plan.Ability.CannotAsk:
		c.PasswordMode = vpn.PasswordSaved
		p.choose(
			vpn.FieldPasswordMode,
			title,
			"saved",
			ByDevice,
			"%s does not prompt for it when connecting",
			p.plan.Release.Title,
		)
	case !p.plan.Ability.SavePassword:
		c.PasswordMode = vpn.PasswordPrompted
		p.choose(
			vpn.FieldPasswordMode,
			title,
			"asked",
			ByDevice,
			"%s does not accept a stored password",
			p.plan.Release.Title,
		)
	case d.Encrypted:
		c.PasswordMode = vpn.PasswordSaved
		p.choose(
			vpn.FieldPasswordMode,
			title,
			"saved",
			ByDevice,
			"the disk of %s is encrypted, so it can be saved",
			d.Name,
		)
	default:
		c.PasswordMode = vpn.PasswordPrompted
		p.choose(
			vpn.FieldPasswordMode,
			title,
			"asked",
			ByDevice,
			"the disk of %s is not encrypted: a saved password could be read from it",
			d.Name,
		)
	}
	if a := p.plan.Account; c.PasswordMode == vpn.PasswordSaved && a != nil && a.Password != nil {
		c.Password = *a.Password
	}
	if c.PasswordMode == vpn.PasswordSaved && c.Password.IsZero() && p.plan.Ability.InstallAsks() {
		p.replace(
			Choice{
				vpn.FieldPasswordMode,
				title,
				"prompted at installation",
				ByDevice,
				"not on record; the install script prompts for it and stores it",
			},
		)
	}
	if c.PasswordMode == vpn.PasswordPrompted && p.plan.Ability.InstallAsks() {
		p.replace(
			Choice{
				vpn.FieldPasswordMode,
				title,
				"prompted at installation",
				ByOperator,
				"the install script prompts for it and stores it, because there is no later prompt",
			},
		)
	}
}

// order puts false before true.
func order(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}
