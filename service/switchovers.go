package service

import (
	"context"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/plan"
	"wardicon/core/secret"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

func (s *Service) switchovers() *Switchovers {
	return &Switchovers{
		s: s, table: store.Switchovers, unique: "/name",
		meta:   func(w *vpn.Switchover) *vpn.Meta { return &w.Meta },
		name:   func(w api.Switchover) string { return w.Name },
		hide:   hideNext,
		touch:  nothing[*vpn.Switchover],
		before: nothing[*vpn.Switchover],
		refers: s.fitSwitchover,
		used: func(_ context.Context, _ *store.Tx, w *vpn.Switchover) error {
			if !w.State.Active() {
				return nil
			}
			return problem("switchover", "/state", "a switchover that is "+string(w.State),
				"one that has not begun, or has ended", "undo it, or cut off the old value first")
		},
	}
}

// hideNext takes the secrets out of a switchover.
func hideNext(w *vpn.Switchover) {
	w.Next.PSK, w.Next.ControlKey = nil, nil
	if w.Next.Add != nil {
		hidden := w.Next.Add.Hidden()
		w.Next.Add = &hidden
	}
}

// fitSwitchover holds a switchover to the records that it names, and to what it may still change:
// once it has begun, its devices count on the new value. Secrets that are not given are made.
func (s *Service) fitSwitchover(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	old := &vpn.Switchover{State: vpn.SwitchDraft}
	if w.ID != "" {
		kept, err := store.Switchovers.Get(ctx, tx, w.ID)
		if err != nil {
			return err
		}
		old = kept
	}
	w.State, w.Begun, w.Paused = old.State, old.Begun, old.Paused
	w.Started, w.Ended, w.Surveyed = old.Started, old.Ended, old.Surveyed
	if old.State != vpn.SwitchDraft {
		return begunStays(old, w)
	}
	if w.ID != "" && differs(old, w) {
		w.Surveyed = nil // its preview was of something else
		if err := tx.ForgetSteps(ctx, w.ID); err != nil {
			return err
		}
	}
	if err := s.knownBySwitchover(ctx, tx, w); err != nil {
		return err
	}
	return s.prepareNext(ctx, tx, w)
}

// differs tells whether two drafts concern other devices or values.
func differs(a, b *vpn.Switchover) bool {
	return a.Kind != b.Kind || a.GatewayID != b.GatewayID || a.Group != b.Group ||
		a.Platform != b.Platform || shownNext(a) != shownNext(b) ||
		!slices.Equal(a.SuccessorIDs, b.SuccessorIDs) || !slices.Equal(a.Waves, b.Waves) ||
		a.AuthorityID != b.AuthorityID || a.SuccessorID != b.SuccessorID
}

// shownNext is the new value without its secrets, as a text to compare.
func shownNext(w *vpn.Switchover) string {
	shown := *w
	hideNext(&shown)
	shown.Next.PSKSet, shown.Next.ControlKeySet = false, false
	text, err := json.Marshal(shown.Next)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

func begunStays(old, w *vpn.Switchover) error {
	if differs(old, w) {
		return problem("switchover", "/next", "a change of what is being switched over",
			"the same devices, values and waves, because it has begun",
			"undo it and begin another one")
	}
	return nil
}

func (s *Service) knownBySwitchover(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
) error {
	known := func(pointer, id string) error {
		if id == "" {
			return nil
		}
		return reference(ctx, tx, store.Gateways, "switchover", pointer, id)
	}
	err := known("/gateway_id", w.GatewayID)
	for i, id := range w.SuccessorIDs {
		err = errors.Join(err, known(fmt.Sprintf("/successor_ids/%d", i), id))
	}
	for pointer, id := range map[string]string{
		"/authority_id": w.AuthorityID, "/successor_id": w.SuccessorID,
	} {
		if id != "" {
			err = errors.Join(err,
				reference(ctx, tx, store.Authorities, "switchover", pointer, id))
		}
	}
	return err
}

// keyBits is the strength of keys that are made for a switchover.
const keyBits = 128

// prepareNext holds the new value to the gateway that it is for, and makes the secrets of it that
// are not given.
func (s *Service) prepareNext(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	if w.GatewayID == "" {
		return nil
	}
	g, err := store.Gateways.Get(ctx, tx, w.GatewayID)
	if err != nil {
		return err
	}
	none := func(pointer, what string) error {
		return problem("switchover", pointer, g.Name+", which has no "+what,
			"a gateway with one", "choose another gateway or kind")
	}
	o := g.Offers
	switch w.Kind {
	case vpn.SwitchPSK:
		two := o.IKEv2 != nil && o.IKEv2.PSK != nil && !o.IKEv2.PSK.IsZero()
		if !two && (o.L2TP == nil || o.L2TP.PSK == nil || o.L2TP.PSK.IsZero()) {
			return none("/gateway_id", "pre-shared key")
		}
		if w.Next.PSK == nil {
			made, _, err := secret.Make(rand.Reader, keyBits)
			if err != nil {
				return err
			}
			w.Next.PSK = &made
		}
		if two && w.Next.LocalID == "" {
			w.Next.LocalID = newIdentity(g.Address)
		}
	case vpn.SwitchControlKey:
		if o.TLS == nil || o.TLS.ControlKey == nil {
			return none("/gateway_id", "control-channel key")
		}
		if w.Next.ControlKey == nil {
			made, err := vpn.NewControlKey(rand.Reader, o.TLS.ControlKey.Kind)
			if err != nil {
				return err
			}
			text := secret.New(made)
			w.Next.ControlKey = &text
		}
	case vpn.SwitchRetirement, vpn.SwitchPasswords:
		return nil
	}
	w.Complete()
	next := switchover.Final(w, *g)
	var wrong *vpn.Problems
	if err := next.Validate(); errors.As(err, &wrong) {
		return &vpn.Problems{Object: "switchover", List: prefixed(wrong.List)}
	}
	return nil
}

// offerOf is where the offer of a protocol stands in a gateway's record; a new value has none.
var offerOf = regexp.MustCompile(`^/offers/[a-z0-9]+`)

// prefixed are the problems of the gateway as it would be, as those of the new value.
func prefixed(list []vpn.Problem) []vpn.Problem {
	out := slices.Clone(list)
	for i := range out {
		out[i].Pointer = "/next" + offerOf.ReplaceAllString(out[i].Pointer, "")
	}
	return out
}

// newIdentity names devices with a new key: a name below the gateway's, or one of its own.
func newIdentity(address string) string {
	name := "key-" + strings.ToLower(rand.Text()[:8])
	if _, err := netip.ParseAddr(address); err == nil {
		return name
	}
	return name + "." + address
}

// moved puts the new values in place by which a profile is planned, while two are valid. It tells
// by which switchovers.
func (s *Service) moved(
	ctx context.Context,
	tx *store.Tx,
	in *plan.Input,
	look gatewayLook,
) (by []api.FoundRecord, err error) {
	ids, err := tx.MovedBy(ctx, in.Profile.ID)
	for _, id := range ids {
		w, err := store.Switchovers.Get(ctx, tx, id)
		if err != nil {
			return by, err
		}
		if w.Kind == vpn.SwitchRetirement || w.Kind == vpn.SwitchRollover {
			continue // another profile gets its own plan; a rollover is on record
		}
		if err := s.move(w, in, look); err != nil {
			return by, err
		}
		by = append(by, api.FoundRecord{Noun: "switchover", ID: id, Name: w.Name})
	}
	return by, err
}

// gatewayLook is how a gateway looks by a switchover: [switchover.Moved] while two values are
// valid, [switchover.Final] afterwards.
type gatewayLook func(*vpn.Switchover, vpn.Gateway) vpn.Gateway

// move puts the new value of a switchover in the place of the old one.
func (s *Service) move(w *vpn.Switchover, in *plan.Input, look gatewayLook) error {
	if w.Kind == vpn.SwitchRelease || w.Kind == vpn.SwitchPasswords || in.Gateway.ID == w.GatewayID {
		in.Moved = maps.Clone(in.Moved)
		for _, f := range switchover.Fields(w.Kind) {
			if in.Moved == nil {
				in.Moved = map[vpn.Field]string{}
			}
			in.Moved[f] = w.Name
		}
	}
	switch w.Kind {
	case vpn.SwitchRelease:
		in.Device.Release = w.Next.Release
	case vpn.SwitchPasswords:
		in.Accounts = slices.Clone(in.Accounts)
		for i, a := range in.Accounts {
			if givesPassword(a, w) {
				next, err := s.nextPassword(w.ID, a.ID)
				if err != nil {
					return err
				}
				in.Accounts[i].Password, in.Accounts[i].PasswordSet = &next, true
			}
		}
	default:
		if in.Gateway.ID == w.GatewayID {
			in.Gateway = look(w, in.Gateway)
		}
		if in.Fallback != nil && in.Fallback.ID == w.GatewayID {
			g := look(w, *in.Fallback)
			in.Fallback = &g
		}
	}
	return nil
}

// givesPassword tells whether a switchover gives an account another password: one that is kept
// elsewhere is not ours to change.
func givesPassword(a vpn.Account, w *vpn.Switchover) bool {
	return a.Password != nil && !a.Password.IsZero() &&
		(len(a.GatewayIDs) == 0 || slices.Contains(a.GatewayIDs, w.GatewayID))
}

// nextPassword is the password that a switchover gives an account: made under the master key, so
// that it is the same each time and stands nowhere until it is the account's own.
func (s *Service) nextPassword(switchoverID, accountID string) (secret.Text, error) {
	seed := s.store.Digest([]byte("next password " + switchoverID + " " + accountID))
	bytes, err := hkdf.Key(sha256.New, []byte(seed), nil, "password", 64)
	if err != nil {
		return secret.Text{}, err
	}
	made, _, err := secret.Make(strings.NewReader(string(bytes)), passwordBits)
	return made, err
}

// passwordBits is the strength of passwords that a switchover makes.
const passwordBits = 100
