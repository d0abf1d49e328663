package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"wardicon/api"
	"wardicon/core/format/daemons"
	"wardicon/core/vpn"
	"wardicon/store"
)

// GatewayUsers makes the lists that the daemons of a gateway look its users up in: everybody whose
// account is valid there and has a password, by the login that devices send, without people who
// have left. Left are logins whose password is not on record.
func (s *Service) GatewayUsers(ctx context.Context, id string) (out api.GatewayUsers, err error) {
	out = api.GatewayUsers{Files: []api.Handed{}, Left: []string{}}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		g, err := store.Gateways.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		accounts, without, err := gatewayAccounts(ctx, tx, g)
		if err != nil {
			return err
		}
		out.Users, out.Left = len(accounts), without
		files := daemons.UserLists(*g, usersAt(g, accounts))
		for _, f := range files {
			out.Files = append(out.Files, api.Handed{
				Name: f.Name, Purpose: f.Purpose, Private: f.Private, Content: f.Content,
			})
		}
		return audit(ctx, tx, "hand out users of", "gateway", id,
			fmt.Sprintf("%s: %d users", g.Name, out.Users))
	})
	return out, err
}

// gatewayAccounts are those that are valid at a gateway and have a password, and the logins of
// others.
func gatewayAccounts(
	ctx context.Context,
	tx *store.Tx,
	g *vpn.Gateway,
) (accounts []vpn.Account, without []string, err error) {
	without = []string{}
	accounts, err = store.Accounts.Where(ctx, tx, store.StillThere)
	accounts = slices.DeleteFunc(accounts, func(a vpn.Account) bool {
		if len(a.GatewayIDs) > 0 && !slices.Contains(a.GatewayIDs, g.ID) {
			return true
		}
		if a.Password == nil || a.Password.IsZero() {
			without = append(without, a.Login)
			return true
		}
		return false
	})
	return accounts, without, err
}

// usersAt are accounts by the logins that devices send by a protocol.
func usersAt(g *vpn.Gateway, accounts []vpn.Account) func(vpn.Protocol) []daemons.User {
	return func(p vpn.Protocol) []daemons.User {
		by := g.SignInBy(p)
		list := make([]daemons.User, len(accounts))
		for i, a := range accounts {
			list[i] = daemons.User{
				Login:    vpn.JoinLogin(by.Form, a.Login, cmp.Or(a.Realm, by.Realm)),
				Password: *a.Password,
			}
		}
		return list
	}
}
