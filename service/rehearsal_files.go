package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/rehearse"
	"wardicon/store"
)

// Bounds of rehearsals of files that are of no profile.
const (
	loosePrefix = "rf-"
	mostLoose   = 100
	looseKept   = 15 * time.Minute
	mostTyped   = 1024 // bytes of a login or a password
)

// loose are rehearsals of files that somebody dropped. Nothing of them is on record but that they
// were made: they are kept for a while, for who began them.
type loose struct {
	mu    sync.Mutex
	rows  map[string]api.Rehearsal
	tries map[string]tried // by gateway and login
}

// tried is the last sign-in of a login by a file.
type tried struct {
	at       time.Time
	rejected bool
}

// FileRehearsal asks for a rehearsal of a file that is of no profile.
type FileRehearsal struct {
	// Name of the file and of the connection, where there are several.
	File, Connection string
	// Platform and release to connect as.
	For string
	// Login and password, where the file has none; they are not stored.
	Login    string
	Password secret.Text
	// Sign in although the gateway rejected this login the last time.
	Again bool
	// Try an address of no gateway on record; for owners.
	OffRecord bool
}

func newLoose() *loose {
	return &loose{rows: map[string]api.Rehearsal{}, tries: map[string]tried{}}
}

// RehearseFile begins a trial connection with a dropped file: to a gateway on record, or to another
// where an owner says that it may be tried. The file is not stored.
func (s *Service) RehearseFile(
	ctx context.Context,
	files []filecheck.File,
	in FileRehearsal,
) (row api.Rehearsal, err error) {
	items, err := s.looked(ctx, files, in.For)
	if err != nil {
		return row, err
	}
	work, err := chosen(items, in)
	if err != nil {
		return row, err
	}
	g, err := s.leadsTo(ctx, work.request.Connection, in.OffRecord)
	if err != nil {
		return row, err
	}
	work.row.GatewayID, work.row.Gateway = g.ID, g.Name
	work.request.Hosts, work.request.Lead = g.Hosts, g.ProbeAt
	if work.request.As, err = releaseOf(in.For); err != nil {
		return row, err
	}
	c := &work.request.Connection
	if c.NeedsPassword() {
		if c.Password.IsZero() {
			c.Password = in.Password
		}
		if c.Login == "" {
			c.Login = in.Login
		}
		if len(c.Login) > mostTyped || len(c.Password.Reveal()) > mostTyped {
			return row, problem("rehearsal", "/password", "a login or password that is very long",
				fmt.Sprintf("at most %d bytes", mostTyped), "shorten it")
		}
		if c.Login == "" || c.Password.IsZero() {
			return row, problem("rehearsal", "/password", "no login or password in the file",
				"both", "enter them; they are not stored")
		}
		work.row.Login = c.Login
	}
	work.row.ID, work.row.Operator = loosePrefix+strings.ToLower(rand.Text()), actor(ctx)
	work.row.Device, work.row.State = work.request.File, api.RehearsalRunning
	work.row.Result = rehearsal.Begun(s.now(), work.request.File, *c)
	if err := s.loose.add(work.row, in.Again, s.now()); err != nil {
		return row, err
	}
	if err := s.store.Write(ctx, func(tx *store.Tx) error {
		if err := s.maySignIn(ctx, tx, work.row, in.Again); err != nil {
			return err
		}
		return audit(ctx, tx, "rehearse", "file", work.request.File, "to "+c.Server)
	}); err != nil {
		s.loose.drop(work.row.ID)
		return row, err
	}
	s.rehearsing.live.Store(work.row.ID, &live{})
	select {
	case s.rehearsing.queue <- work:
		return work.row, nil
	default:
		s.rehearsing.live.Delete(work.row.ID)
		s.loose.drop(work.row.ID)
		return row, vpn.Refuse(vpn.KindTries, fmt.Sprintf("the rehearsal: %d are waiting already; "+
			"try again in a minute", mostQueued))
	}
}

// chosen is the connection of files that is meant.
func chosen(items []filecheck.Item, in FileRehearsal) (work rehearsalWork, err error) {
	var names []string
	for _, item := range items {
		for _, l := range item.Connections {
			if (in.File == "" || in.File == item.Name) &&
				(in.Connection == "" || in.Connection == l.Connection.Name) {
				names = append(names, l.Connection.Name)
				work.request = rehearse.Request{File: item.Name, Connection: l.Connection}
			}
		}
	}
	switch len(names) {
	case 0:
		return work, problem("rehearsal", "/connection", "no such connection in the files",
			"one", "drop a file that a device reads")
	case 1:
		return work, nil
	}
	return work, problem("rehearsal", "/connection", strings.Join(names, ", "), "one connection",
		"choose one")
}

// leadsTo is the gateway on record that every address of a connection belongs to; one without an
// identifier where an owner allows another.
func (s *Service) leadsTo(
	ctx context.Context,
	c vpn.Connection,
	offRecord bool,
) (g vpn.Gateway, err error) {
	hosts := []string{c.Server}
	if c.TLS != nil {
		for _, r := range c.TLS.Remotes {
			if r.Address != "" {
				hosts = append(hosts, r.Address)
			}
		}
	}
	for _, host := range hosts {
		page, err := store.Gateways.List(ctx, s.store.Read(),
			store.Query{Limit: 1, Conditions: map[string]string{"at": host}})
		if err != nil {
			return g, err
		}
		if page.Total > 0 {
			g = page.Items[0].Gateway
			continue
		}
		if !offRecord {
			return g, problem("rehearsal", "/off_record", host, "an address of a gateway on record",
				"add it to a record, or let an owner confirm that it may be tried")
		}
		if err := ownerOnly(ctx); err != nil {
			return g, err
		}
	}
	return g, nil
}

// add keeps a rehearsal that begins, unless its login was tried a moment ago or was rejected.
func (l *loose) add(row api.Rehearsal, again bool, now time.Time) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, old := range l.rows {
		if now.Sub(old.Result.At) > looseKept {
			delete(l.rows, id)
		}
	}
	for key, t := range l.tries {
		if now.Sub(t.at) > time.Hour {
			delete(l.tries, key)
		}
	}
	if len(l.rows) >= mostLoose || len(l.tries) >= 100*mostLoose {
		return vpn.Refuse(vpn.KindTries, "the rehearsal: many files were rehearsed; try again in "+
			"a quarter of an hour")
	}
	if row.Login != "" {
		if err := l.maySignIn(row, again, now); err != nil {
			return err
		}
		l.tries[tryKey(row)] = tried{at: now}
	}
	l.rows[row.ID] = row
	return nil
}

func tryKey(row api.Rehearsal) string {
	where := row.GatewayID
	if where == "" {
		where = row.Result.Server
	}
	return where + "\n" + row.Login
}

// maySignIn is as Service.maySignIn, for sign-ins by files. The lock is held.
func (l *loose) maySignIn(row api.Rehearsal, again bool, now time.Time) error {
	last, ok := l.tries[tryKey(row)]
	switch {
	case !ok:
		return nil
	case now.Sub(last.at) < signInEvery:
		return tooSoon(row.Login)
	case last.rejected && !again:
		return rejectedBefore()
	}
	return nil
}

// end keeps what a rehearsal came to.
func (l *loose) end(row api.Rehearsal) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rows[row.ID] = row
	if row.Login != "" {
		t := l.tries[tryKey(row)]
		t.rejected = row.Result.CauseID == passwordWrong
		l.tries[tryKey(row)] = t
	}
}

func (l *loose) drop(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.rows, id)
}

// looseRehearsal is one of a file, for who began it.
func (s *Service) looseRehearsal(ctx context.Context, id string) (api.Rehearsal, error) {
	s.loose.mu.Lock()
	defer s.loose.mu.Unlock()
	row, ok := s.loose.rows[id]
	if !ok || row.Operator != actor(ctx) {
		return row, &store.NotFoundError{Noun: "rehearsal", ID: id}
	}
	return row, nil
}

// passwordWrong is the cause of a sign-in that the gateway rejected.
const passwordWrong = "password-wrong"

func tooSoon(login string) error {
	return vpn.Refuse(vpn.KindTries, "the rehearsal: "+login+" signed in less than a minute ago; "+
		"try again in a minute, so that the gateway does not lock the account")
}

func rejectedBefore() error {
	return problem("rehearsal", "/again", "a login that the gateway rejected the last time",
		"a confirmation, because gateways lock accounts after several failures",
		"correct the password, and confirm")
}
