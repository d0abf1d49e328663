package service

import (
	"context"
	"fmt"
	"slices"

	"wardicon/api"
	"wardicon/core/format/daemons"
	"wardicon/core/vpn"
	"wardicon/store"
)

// GatewayUsers makes the lists that the daemons of a gateway look its users up in: everybody whose
// account is valid there and has a password, by the login that devices send, without people who have
// left. Left are logins whose password is not on record.
func (s *Service) GatewayUsers(ctx context.Context, id string) (out api.GatewayUsers, err error) {
	out = api.GatewayUsers{Files: []api.Handed{}, Left: []string{}}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		g, err := store.Gateways.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		accounts, err := store.Accounts.Where(ctx, tx, store.StillThere)
		if err != nil {
			return err
		}
		accounts = slices.DeleteFunc(accounts, func(a vpn.Account) bool {
			if len(a.GatewayIDs) > 0 && !slices.Contains(a.GatewayIDs, g.ID) {
				return true
			}
			if a.Password == nil || a.Password.IsZero() {
				out.Left = append(out.Left, a.Login)
				return true
			}
			return false
		})
		out.Users = len(accounts)
		files := daemons.UserLists(*g, func(p vpn.Protocol) []daemons.User {
			by := g.SignInBy(p)
			list := make([]daemons.User, len(accounts))
			for i, a := range accounts {
				realm := a.Realm
				if realm == "" {
					realm = by.Realm
				}
				list[i] = daemons.User{
					Login: vpn.JoinLogin(by.Form, a.Login, realm), Password: *a.Password,
				}
			}
			return list
		})
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
