package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// mostHeld bounds what is looked at for one person or device.
const mostHeld = 500

// Holdings tells what a person or a device holds, and what people would have to do when it is
// offboarded.
func (s *Service) Holdings(
	ctx context.Context,
	noun, id string,
	why vpn.OffboardReason,
) (api.Holdings, error) {
	if err := reason(noun, why); err != nil {
		return api.Holdings{}, err
	}
	return s.holdings(ctx, s.store.Read(), noun, id, why)
}

func reason(noun string, why vpn.OffboardReason) error {
	if !slices.Contains(vpn.OffboardReasons, why) || noun == "person" && why != vpn.Left {
		return problem(
			"offboarding",
			"/why",
			quoted(string(why)),
			"left for a person; lost, left or retired for a device",
			"choose one of them",
		)
	}
	return nil
}

func (s *Service) holdings(
	ctx context.Context,
	tx *store.Tx,
	noun, id string,
	why vpn.OffboardReason,
) (h api.Holdings, err error) {
	h = api.Holdings{
		Noun:         noun,
		Object:       id,
		Devices:      []api.Device{},
		Profiles:     []api.Profile{},
		Links:        []api.Handover{},
		Certificates: []api.Certificate{},
		Accounts:     []api.Account{},
		Shared:       []api.SharedKey{},
		Items:        []api.Item{},
	}
	person := id
	if noun == "device" {
		d, err := store.Devices.Row(ctx, tx, id)
		if err != nil {
			return h, err
		}
		h.Name, h.Devices, person = d.Name, []api.Device{d}, d.PersonID
	} else {
		p, err := store.People.Row(ctx, tx, id)
		if err != nil {
			return h, err
		}
		h.Name = p.Name
		page, err := store.Devices.List(
			ctx,
			tx,
			store.Query{Limit: mostHeld, Conditions: map[string]string{"person_id": id}},
		)
		if err != nil {
			return h, err
		}
		h.Devices = page.Items
	}
	accounts, err := store.Accounts.List(
		ctx,
		tx,
		store.Query{Limit: mostHeld, Conditions: map[string]string{"person_id": person}},
	)
	if err != nil {
		return h, err
	}
	k := keeper{s: s, h: &h, why: why, saved: map[string]bool{}, used: map[string][]string{}}
	for _, d := range h.Devices {
		if err := k.device(ctx, tx, d); err != nil {
			return h, err
		}
	}
	for _, a := range accounts.Items {
		if noun == "person" || len(k.used[a.ID]) > 0 {
			h.Accounts = append(h.Accounts, a)
			k.account(a)
		}
	}
	for i := range h.Shared {
		shared := &h.Shared[i]
		if shared.Others, err = tx.ProfilesOfOthers(
			ctx,
			shared.GatewayID,
			k.devices(),
		); err != nil {
			return h, err
		}
		k.add(
			"gateway",
			shared.GatewayID,
			fmt.Sprintf(
				"Change the %s of %s (%s).",
				shared.What,
				shared.Gateway,
				shared.Protocol.Title(),
			),
			fmt.Sprintf(
				"It stands in what was built for %s. %s at this gateway; those that use the key "+
					"need new parcels then.",
				h.Name,
				counted(
					shared.Others,
					"profile of another device is",
					"profiles of other devices are",
				),
			),
		)
	}
	return h, nil
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}

// keeper gathers holdings.
type keeper struct {
	s     *Service
	h     *api.Holdings
	why   vpn.OffboardReason
	saved map[string]bool     // accounts whose password is on a device
	used  map[string][]string // gateways where an account is used
}

func (k *keeper) devices() []string {
	ids := make([]string, len(k.h.Devices))
	for i, d := range k.h.Devices {
		ids[i] = d.ID
	}
	return ids
}

func (k *keeper) add(noun, id, what, why string) {
	k.h.Items = append(k.h.Items, api.Item{Noun: noun, ID: id, What: what, Why: why})
}

func (k *keeper) device(ctx context.Context, tx *store.Tx, d api.Device) error {
	h := k.h
	query := store.Query{Limit: mostHeld, Conditions: map[string]string{"device_id": d.ID}}
	profiles, err := store.Profiles.List(ctx, tx, query)
	if err != nil {
		return err
	}
	h.Profiles = append(h.Profiles, profiles.Items...)
	query.Conditions["open"] = "true"
	links, err := store.Handovers.List(ctx, tx, query)
	if err != nil {
		return err
	}
	h.Links = append(h.Links, links.Items...)
	certificates, err := store.Certificates.List(
		ctx,
		tx,
		store.Query{
			Limit: mostHeld,
			Conditions: map[string]string{
				"device_id":     d.ID,
				"revoked":       "false",
				"expires_after": k.s.now().UTC().Format("2006-01-02T15:04:05Z"),
			},
		},
	)
	if err != nil {
		return err
	}
	h.Certificates = append(h.Certificates, certificates.Items...)
	k.wipe(d)
	k.elsewhere(d, certificates.Items)
	proves := map[string]bool{}
	for _, p := range profiles.Items {
		w, err := k.s.work(ctx, tx, p.ID)
		if err != nil {
			return err
		}
		k.plan(w, proves)
	}
	return nil
}

// plan looks at what one profile puts on the device.
func (k *keeper) plan(w *worked, proves map[string]bool) {
	c, g := w.plan.Connection, w.in.Gateway
	if a := w.plan.Account; a != nil && c.NeedsPassword() {
		k.used[a.ID] = append(k.used[a.ID], g.Name)
		k.saved[a.ID] = k.saved[a.ID] || c.PasswordMode == vpn.PasswordSaved
	}
	share := func(what string) {
		one := api.SharedKey{GatewayID: g.ID, Gateway: g.Name, Protocol: c.Protocol, What: what}
		if !slices.Contains(k.h.Shared, one) {
			k.h.Shared = append(k.h.Shared, one)
		}
	}
	if !c.PSK().IsZero() {
		share("pre-shared key")
	}
	if t := c.TLS; t != nil && t.Control != nil {
		share("control-channel key")
	}
	if c.NeedsIdentity() && len(k.h.Certificates) > 0 && !proves[g.ID] {
		proves[g.ID] = true
		k.add(
			"gateway",
			g.ID,
			fmt.Sprintf(
				"See to it that %s takes the new revocation list, and end what is connected.",
				g.Name,
			),
			"Until then it lets the certificate of "+w.in.Device.Name+" in.",
		)
	}
}

// wipe is what becomes of the device itself.
func (k *keeper) wipe(d api.Device) {
	switch k.why {
	case vpn.Lost:
		why := "Its disk is not encrypted: whoever has it can read what is on it."
		if d.Encrypted {
			why = "Its disk is encrypted; who knows how to unlock it can still connect."
		}
		k.add(
			"device",
			d.ID,
			fmt.Sprintf("Have %s wiped from afar, if it is managed.", d.Name),
			why,
		)
	default:
		k.add(
			"device",
			d.ID,
			fmt.Sprintf("Collect %s, remove its connections or wipe it.", d.Name),
			"What was fetched is on it.",
		)
	}
}

// elsewhere is about certificates that other authorities have issued.
func (k *keeper) elsewhere(d api.Device, ours []api.Certificate) {
	for id := range d.Identities() {
		list, err := pki.Certificates(id.Certificate)
		if err != nil {
			continue // a rule says so
		}
		serial := list[0].SerialNumber.Text(16)
		if slices.ContainsFunc(ours, func(c api.Certificate) bool { return c.Serial == serial }) {
			continue
		}
		k.add(
			"device",
			d.ID,
			fmt.Sprintf(
				"Have the certificate %s of %s revoked by %s.",
				serial,
				d.Name,
				list[0].Issuer.CommonName,
			),
			"It was not issued here, and cannot be revoked here.",
		)
	}
}

// account is what becomes of a login.
func (k *keeper) account(a api.Account) {
	where := "every gateway"
	if used := k.used[a.ID]; len(used) > 0 {
		slices.Sort(used)
		where = strings.Join(slices.Compact(used), ", ")
	}
	switch {
	case k.why == vpn.Left && k.h.Noun == "person":
		k.add(
			"account",
			a.ID,
			fmt.Sprintf(
				"Close the login %s at %s, and end what is connected with it.",
				a.Login,
				where,
			),
			"Its person has left.",
		)
	case k.saved[a.ID]:
		k.add(
			"account",
			a.ID,
			fmt.Sprintf(
				"Change the password of %s at %s, and end what is connected with it.",
				a.Login,
				where,
			),
			"It is saved on the device.",
		)
	}
}

// Offboard closes the open links of a person or a device, takes its certificates back, has nothing
// more built for it, and keeps a list of what people have to do.
func (s *Service) Offboard(
	ctx context.Context,
	noun, id string,
	why vpn.OffboardReason,
) (w api.Offboarding, err error) {
	if err := reason(noun, why); err != nil {
		return w, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		w, err = s.leave(ctx, tx, noun, id, why)
		return err
	})
	s.checkSoon()
	return w, err
}

// leave offboards one person or device.
func (s *Service) leave(
	ctx context.Context,
	tx *store.Tx,
	noun, id string,
	why vpn.OffboardReason,
) (w api.Offboarding, err error) {
	because := pki.Ceased
	if why == vpn.Lost {
		because = pki.KeyCompromise
	}
	h, err := s.holdings(ctx, tx, noun, id, why)
	if err != nil {
		return w, err
	}
	w = api.Offboarding{
		Noun:     noun,
		Object:   id,
		Name:     h.Name,
		Why:      why,
		Recalled: len(h.Links),
		Revoked:  len(h.Certificates),
		Items:    h.Items,
		Operator: actor(ctx),
	}
	for _, link := range h.Links {
		if err := s.recall(ctx, tx, link); err != nil {
			return w, err
		}
	}
	for _, c := range h.Certificates {
		if _, err := s.revoke(ctx, tx, c.ID, "", because); err != nil {
			return w, err
		}
	}
	for _, d := range h.Devices {
		if _, err := s.Devices.change(
			ctx,
			tx,
			d.ID,
			0,
			func(d *vpn.Device) (*vpn.Device, error) { d.Offboarded = why; return d, nil },
			func(string) bool { return true },
		); err != nil {
			return w, err
		}
	}
	return w, errors.Join(
		tx.PutOffboarding(ctx, &w),
		audit(ctx, tx, "offboard", noun, id, h.Name+", "+string(why)),
	)
}

// Offboardings lists who left and what was lost, a page.
func (s *Service) Offboardings(
	ctx context.Context,
	q store.Query,
) (api.Page[api.Offboarding], error) {
	return store.Offboardings.List(ctx, s.store.Read(), q)
}

// TickItem says that an item of an offboarding is done, or is not after all.
func (s *Service) TickItem(
	ctx context.Context,
	id string,
	item int,
	done bool,
) (w api.Offboarding, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if w, err = store.Offboardings.Row(ctx, tx, id); err != nil {
			return err
		}
		if item < 0 || item >= len(w.Items) {
			return &store.NotFoundError{Noun: "item", ID: strconv.Itoa(item)}
		}
		i := &w.Items[item]
		i.Done, i.By = nil, ""
		said := "still to be done: "
		if done {
			now := s.now().UTC()
			i.Done, i.By, said = &now, actor(ctx), "done: "
		}
		return errors.Join(
			tx.PutOffboarding(ctx, &w),
			audit(ctx, tx, "tick", "offboarding", id, said+i.What),
		)
	})
	return w, err
}
