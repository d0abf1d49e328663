// Package service holds the use cases: what an operator can do with gateways, people,
// accounts, devices, profiles and parcels. It knows nothing of HTTP.
package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/pkcs11"
	"wardicon/store"
)

// Service is the whole of the use cases over one store.
type Service struct {
	Nouns

	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	memo  *secret.Memo
	wake  chan struct{} // there are profiles to check

	jobsWake chan struct{} // there are jobs to do
	mailWake chan struct{} // there are emails to send
	refusals atomic.Int64  // of sign-ins, since the start
	hookWake chan struct{} // there are webhooks to call
	reading  chan struct{} // how many lots of files are looked at side by side

	readingOf  sync.Map   // by operator, a place for one
	lists      lists      // revocation lists that were signed
	statuses   statuses   // answers about certificates that were signed
	registrars sync.Mutex // one is made at a time
	provider   provider   // of sign-in
	challenges challenges // of passkeys

	directoryOnce sync.Mutex // one reading of the directory at a time
	asking        *asking
	ordering      *ordering // of gateways' certificates; nil where nothing is ordered

	rehearsing *rehearsing
	loose      *loose

	tokens      *pkcs11.Tokens // nil where there are none
	tokenStates sync.Map       // by their names, why they do not answer; empty where they do

	called   atomic.Int64 // when somebody asked for something last
	outage   outage
	used     uses
	compared compared
	sums     sums
	overview together[api.Overview]
	setup    setup
	tries    counting
	hashing  *hashing
	watching watching
	hashes   hashes
}

// New makes the service. Run must be started for checks to be made in the background.
func New(s *store.Store, log *slog.Logger, now func() time.Time) *Service {
	key := make([]byte, 32)
	_, _ = rand.Read(key)
	svc := &Service{
		store:    s,
		log:      log,
		now:      now,
		memo:     secret.NewMemo(key, 200_000),
		wake:     make(chan struct{}, 1),
		jobsWake: make(chan struct{}, 1),
		mailWake: make(chan struct{}, 1),
		hookWake: make(chan struct{}, 1),
		reading:  make(chan struct{}, 2),
		asking:   newProbing(),

		rehearsing: newRehearsing(),
		loose:      newLoose(),

		hashing: newHashing(),
	}
	svc.Nouns = svc.nouns()
	if s != nil { // there is none behind a description of the API
		s.OnChange(func(topics []string) {
			if at := slices.Index(topics, store.CallsDue); at >= 0 {
				topics = slices.Delete(topics, at, at+1)
				svc.callSoon()
			}
			if len(topics) > 0 {
				svc.watching.tell(topics)
			}
		})
	}
	svc.lists.known = map[string]listed{}
	return svc
}

// Ready tells whether the service can work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ready(ctx) }

// clockSlack is how far a clock may go back without a word.
const clockSlack = 10 * time.Minute

// ClockBehind is when something was done last, where that is later than now by this machine's
// clock: then certificates, links and sessions end at the wrong time. Otherwise it is the zero
// time.
func (s *Service) ClockBehind(ctx context.Context) (time.Time, error) {
	last, err := s.store.Read().LastEntry(ctx)
	if err != nil || !last.After(s.now().Add(clockSlack)) {
		return time.Time{}, err
	}
	return last, nil
}

type actorKey struct{}

// acting is who does something: an operator with a role, or the service itself.
type acting struct {
	name, role string
	confined   *api.Confinement // what changes are confined to; nil where they are not
}

// As says who acts in a context, with the role of an owner. Every change is logged under this name.
func As(ctx context.Context, operator string) context.Context {
	return AsRole(ctx, operator, RoleOwner)
}

// AsRole says who acts in a context, and in which role.
func AsRole(ctx context.Context, operator, role string) context.Context {
	return context.WithValue(ctx, actorKey{}, acting{operator, role, nil})
}

func actor(ctx context.Context) string {
	if who, ok := ctx.Value(actorKey{}).(acting); ok {
		return who.name
	}
	return "system"
}

// ErrRole is the error for what an operator's role does not allow.
var ErrRole = vpn.Refuse(vpn.KindRole, "this is for the owner alone; ask them to do it")

// ownerOnly refuses everybody but owners.
func ownerOnly(ctx context.Context) error {
	if who, ok := ctx.Value(actorKey{}).(acting); !ok || who.role != RoleOwner {
		return ErrRole
	}
	return nil
}

// audit logs what was done, in the transaction that does it.
func audit(ctx context.Context, tx *store.Tx, action, noun, object, detail string) error {
	return tx.Log(
		ctx,
		api.AuditEntry{
			Operator: actor(ctx),
			Action:   action,
			Noun:     noun,
			Object:   object,
			Detail:   detail,
		},
	)
}

// InUseError says what still refers to a record that is to be removed.
type InUseError struct {
	Noun, Name, By string
	Count          int
}

func (e *InUseError) Error() string {
	by, those := e.By, "those"
	if e.Count == 1 {
		first, rest, _ := strings.Cut(by, " ")
		by, those = strings.TrimSpace(strings.TrimSuffix(first, "s")+" "+rest), "that"
	}
	return fmt.Sprintf("%s %s is still used by %d %s; remove or change %s first",
		e.Noun, e.Name, e.Count, by, those)
}

// Kind tells the kind of the error.
func (e *InUseError) Kind() vpn.Kind { return vpn.KindInUse }

// BlockedError says which errors keep a parcel from being built, or from being handed over.
type BlockedError struct {
	Object   string
	Findings []check.Finding
}

func (e *BlockedError) Error() string {
	from := "the parcel from being built"
	if len(e.Findings) > 0 && e.Findings[0].Field == vpn.FieldHandover {
		from = "it from being handed over like this"
	}
	if len(e.Findings) == 1 {
		return e.Object + ": an error keeps " + from + "; fix it first"
	}
	return fmt.Sprintf("%s: %d errors keep %s; fix them first", e.Object, len(e.Findings), from)
}

// Kind tells the kind of the error.
func (e *BlockedError) Kind() vpn.Kind { return vpn.KindBlocked }

// Run does all that goes on beside requests, until the context ends: checking again, jobs, emails,
// probes, and keeping when sessions were used. What is not done by then is taken up at the next
// start.
func (s *Service) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, work := range []func(context.Context){
		s.Recheck, s.Work, s.Post, s.Ask, s.KeepUses, s.RunRehearsals,
		s.ReadDirectories, s.WatchSwitchovers, s.CallWebhooks, s.KeepOrders,
		s.WatchTokens,
	} {
		all.Go(func() { work(ctx) })
	}
	all.Wait()
}
