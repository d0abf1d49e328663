package service

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pquerna/otp/hotp"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// How long sessions live.
const (
	cookieLife = 12 * time.Hour
	idleLife   = time.Hour // of a console that nobody uses (NIST SP 800-63B-4 §2.2.3)
	tokenLife  = 90 * 24 * time.Hour
)

// Errors of signing in.
var (
	ErrSignIn     = vpn.Refuse(vpn.KindSignIn, "name, password or code is wrong")
	ErrCodeWanted = vpn.Refuse(
		vpn.KindCode,
		"a code of the second factor is wanted; send it with name and password",
	)
	ErrNoSession = vpn.Refuse(
		vpn.KindSignIn,
		"not signed in, or the session has expired; sign in first",
	)
	ErrMustChange = vpn.Refuse(
		vpn.KindMustChange,
		"the password is somebody else's choice: change it first",
	)
	ErrConfirm = vpn.Refuse(
		vpn.KindConfirm,
		"this wants your password once more, and a code of your second factor where you have one: "+
			"confirm that it is you",
	)
	ErrProgram = vpn.Refuse(
		vpn.KindRole,
		"a program's token is not enough for this: sign in yourself",
	)
	ErrElsewhere = vpn.Refuse(
		vpn.KindRole,
		"this token is bound to other networks than the one that you come from",
	)
	ErrMustEnrol = vpn.Refuse(
		vpn.KindMustChange,
		"a second factor is demanded here: set it up first (wardicon me second-factor on, or the "+
			"page Your sign-in)",
	)
)

// BusyError says that too many tries were made.
type BusyError struct{ Wait time.Duration }

func (e *BusyError) Error() string {
	return fmt.Sprintf("too many tries; wait %d seconds", int(e.Wait.Seconds())+1)
}

// Kind tells the kind of the error.
func (e *BusyError) Kind() vpn.Kind { return vpn.KindTries }

// Entry is what somebody signs in with. From is the caller's address; tries are counted for it and
// for the name.
type Entry struct {
	Name     string
	Password secret.Text
	Code     string // of the second factor
	From     string
	Client   string // how the program calls itself
	Device   string // the mark of a device that has signed in before
	Token    bool   // for a program, in the place of a cookie
	Passkey  []byte // what a browser says of one, in the place of name and password
}

// SignIn checks what somebody signs in with and opens a session. A device that has signed in before
// by the same name has an allowance of its own, so that nobody keeps its operator out by trying
// elsewhere.
func (s *Service) SignIn(
	ctx context.Context,
	e Entry,
) (bearer string, session store.Session, err error) {
	if e.Passkey != nil {
		return s.signInByPasskey(ctx, e)
	}
	o, err := s.store.Read().OperatorByName(ctx, e.Name)
	var none *store.NotFoundError
	var tampered *store.TamperedError
	if errors.As(err, &tampered) {
		s.log.ErrorContext(ctx, "an operator is kept out", "error", err)
		o = store.Operator{}
	} else if err != nil && !errors.As(err, &none) {
		return "", session, err
	}
	known := s.knownDevice(e.Device, o)
	if err := s.admitted(e, known); err != nil {
		return "", session, err
	}
	leave, err := s.hashing.enter(ctx, source(e.From), known != "")
	if err != nil {
		return "", session, err
	}
	// An unknown name costs as much time as a wrong password.
	fits := passwordFits(o.Password, e.Password)
	leave()
	if !fits || o.Disabled {
		return "", session, s.refuseEntry(ctx, o.ID, e, "wrong name or password", ErrSignIn)
	}
	if o.SecondFactor && e.Code == "" {
		return "", session, s.refuseEntry(ctx, o.ID, e, "right password, no code", ErrCodeWanted)
	}
	if o.Passkeys && !o.SecondFactor {
		return "", session, s.refuseEntry(ctx, o.ID, e, "right password, no passkey", ErrPasskeyWanted)
	}
	before := o.Password
	if hashOutdated(before) {
		o.Password = hashPassword(e.Password)
	}
	bearer, session, err = s.openSession(ctx, o, e, func(tx *store.Tx) error {
		if o.SecondFactor {
			if err := s.takeCode(ctx, tx, o.ID, e.Code, false); err != nil {
				return err
			}
		}
		return rehash(ctx, tx, o, before)
	})
	if errors.Is(err, ErrSignIn) {
		err = s.refuseEntry(ctx, o.ID, e, "right password, wrong code", ErrSignIn)
	}
	return bearer, session, err
}

// rehash keeps a password as it is hashed by now, unless it was changed meanwhile.
func rehash(ctx context.Context, tx *store.Tx, o store.Operator, before string) error {
	if o.Password == before {
		return nil
	}
	now, err := tx.Operator(ctx, o.ID)
	if err != nil || now.Password != before {
		return err
	}
	now.Password = o.Password
	return tx.PutOperator(ctx, now)
}

// openSession opens a session for an operator who has proven who they are; last is what is still to
// be proven, in the transaction that does it.
func (s *Service) openSession(
	ctx context.Context,
	o store.Operator,
	e Entry,
	last func(*store.Tx) error,
) (
	bearer string, session store.Session, err error,
) {
	session = store.Session{Operator: o.Operator}
	session.Kind, session.Expires = "cookie", s.now().Add(cookieLife)
	session.Origin, session.Client = e.From, cut(e.Client, mostClient)
	if e.Token {
		session.Kind, session.Expires = "token", s.now().Add(tokenLife)
	}
	bearer = newBearer()
	how := session.Kind
	if e.Passkey != nil {
		how += " by passkey"
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			last(tx),
			tx.AddSession(ctx, bearer, &session),
			tx.NoteSignIn(ctx, o.ID),
			audit(AsRole(ctx, o.Name, o.Role), tx, "sign in", "operator", o.ID, how+" from "+e.From),
		)
	})
	if err != nil {
		return "", session, err
	}
	session.Role, session.Device = o.Role, s.markDevice(o)
	session.Operator.MustEnrol, err = s.mustEnrol(ctx, o.Operator)
	return bearer, session, err
}

// admitted counts a try: for a known device by itself, else for name and address.
func (s *Service) admitted(e Entry, known string) error {
	if known != "" {
		return s.throttle("device " + known)
	}
	if err := s.throttleFrom(e.From); err != nil {
		return err
	}
	return s.throttle("name " + strings.ToLower(e.Name))
}

// Marks of known devices: how long they count, and how long names of clients may be.
const (
	deviceLife = 365 * 24 * time.Hour
	mostClient = 200
)

// markDevice makes the mark that lets a device be known again: an identifier, when it ends, and a
// digest of both that the operator's password goes into. Another password ends it.
func (s *Service) markDevice(o store.Operator) string {
	id, end := rand.Text()[:16], strconv.FormatInt(s.now().Add(deviceLife).Unix(), 10)
	return id + "." + end + "." + hex.EncodeToString(
		s.store.Prove("known device", id, end, o.ID, o.Password),
	)
}

// knownDevice finds the identifier of a mark that counts for an operator; empty where it does not.
func (s *Service) knownDevice(mark string, o store.Operator) string {
	parts := strings.Split(mark, ".")
	if len(parts) != 3 || o.ID == "" {
		return ""
	}
	digest, err := hex.DecodeString(parts[2])
	end, wrong := strconv.ParseInt(parts[1], 10, 64)
	if err != nil || wrong != nil || s.now().Unix() > end ||
		!hmac.Equal(digest, s.store.Prove("known device", parts[0], parts[1], o.ID, o.Password)) {
		return ""
	}
	return parts[0]
}

func newBearer() string { return "wi_" + rand.Text() + rand.Text() }

// refuseEntry logs a try that was refused.
func (s *Service) refuseEntry(
	ctx context.Context,
	operatorID string,
	e Entry,
	what string,
	why error,
) error {
	s.refusals.Add(1)
	return errors.Join(why, s.store.Write(ctx, func(tx *store.Tx) error {
		return audit(ctx, tx, "sign-in refused", "operator", operatorID, what+", from "+e.From)
	}))
}

// Steps of the second factor (RFC 6238 §5.2): thirty seconds, one to either side for clocks that
// differ.
const (
	factorStep  = 30
	factorDrift = 1
)

// takeCode takes a code of the second factor, each one once.
func (s *Service) takeCode(
	ctx context.Context,
	tx *store.Tx,
	operatorID, code string,
	pending bool,
) error {
	if err := s.throttled("code "+operatorID, codePace); err != nil {
		return err
	}
	key, err := tx.Factor(ctx, operatorID, pending)
	if err != nil {
		return err
	}
	now := s.now().Unix() / factorStep
	for step := now - factorDrift; step <= now+factorDrift; step++ {
		if hotp.Validate(code, uint64(step), key.Reveal()) {
			if fresh, err := tx.TakeStep(ctx, operatorID, step); err != nil || fresh {
				return err
			}
		}
	}
	return ErrSignIn
}

// Caller is who uses a session: its address, and how the program calls itself.
type Caller struct{ Address, Client string }

// Session finds who a bearer belongs to. What a token may do is no more than what its operator may.
// A console's session is bound to the program that opened it, a token to its networks where it has
// some.
func (s *Service) Session(ctx context.Context, bearer string, by Caller) (store.Session, error) {
	session, err := s.store.Read().Session(ctx, bearer)
	var none *store.NotFoundError
	var tampered *store.TamperedError
	if errors.As(err, &tampered) {
		s.log.ErrorContext(ctx, "a session does not count", "error", err)
	}
	if errors.As(err, &none) || errors.As(err, &tampered) ||
		err == nil && session.Operator.Disabled {
		return store.Session{}, ErrNoSession
	}
	if err != nil {
		return session, err
	}
	if len(session.Addresses) > 0 && !within(session.Addresses, by.Address) {
		return session, ErrElsewhere
	}
	if session.Kind == "cookie" && session.Client != cut(by.Client, mostClient) {
		return session, errors.Join(ErrNoSession, s.store.Write(ctx, func(tx *store.Tx) error {
			return errors.Join(
				tx.EndSession(ctx, session.ID, session.Operator.ID),
				audit(
					As(ctx, session.Operator.Name),
					tx,
					"end",
					"session",
					session.ID,
					"another program used it, from "+by.Address,
				),
			)
		}))
	}
	last := session.Created
	if session.Used = s.used.last(session.ID, session.Used); session.Used != nil {
		last = *session.Used
	}
	if session.Kind == "cookie" && s.now().Sub(last) > idleLife {
		return session, errors.Join(
			ErrNoSession,
			s.store.Write(
				ctx,
				func(tx *store.Tx) error {
					return tx.EndSession(ctx,
						session.ID, session.Operator.ID)
				},
			),
		)
	}
	if session.Operator.MustEnrol, err = s.mustEnrol(ctx, session.Operator); err != nil {
		return session, err
	}
	session.Role = lesser(session.Role, session.Operator.Role)
	s.used.note(session.ID, s.now())
	return session, nil
}

// within tells whether an address is in one of some networks.
func within(networks []string, address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(networks, func(v string) bool {
		p, err := netip.ParsePrefix(v)
		return err == nil && p.Contains(a.Unmap().WithZone(""))
	})
}

// confirmLife is how long it counts that somebody has proven who they are.
const confirmLife = 5 * time.Minute

// Confirmed tells whether whoever uses a session has proven just now who they are. A program's
// token cannot.
func (s *Service) Confirmed(session store.Session) error {
	if session.Name != "" {
		return ErrProgram
	}
	if s.now().Sub(session.Confirmed) > confirmLife {
		return ErrConfirm
	}
	return nil
}

// Sparing counts what a session is shown of secrets. A few parcels are daily work; for more,
// whoever uses it proves who they are, and a program's token has to be bound to networks.
func (s *Service) Sparing(session store.Session) error {
	if len(session.Addresses) > 0 || session.Name == "" && s.Confirmed(session) == nil ||
		s.throttled("shown "+session.ID, shownPace) == nil {
		return nil
	}
	return s.Confirmed(session)
}

// Confirm has whoever uses a session prove who they are, by password and, where there is one, a
// code of the second factor: what a stolen session alone must not do is allowed for a few minutes.
func (s *Service) Confirm(
	ctx context.Context,
	session store.Session,
	password secret.Text,
	code string,
) error {
	o, err := s.proven(ctx, session, "/password", password)
	if err != nil {
		return err
	}
	if o.SecondFactor && code == "" {
		return ErrCodeWanted
	}
	if o.Passkeys && !o.SecondFactor {
		return ErrPasskeyWanted
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if o.SecondFactor {
			if err := s.takeCode(ctx, tx, o.ID, code, false); err != nil {
				return err
			}
		}
		return errors.Join(
			tx.ConfirmSession(ctx, session.ID),
			audit(ctx, tx, "confirm", "session", session.ID, ""),
		)
	})
	if errors.Is(err, ErrSignIn) {
		return problem(
			"operator",
			"/code",
			"another code",
			"the six digits that the device shows now, each once",
			"type the next one",
		)
	}
	return err
}

// mustEnrol tells whether an operator has to set a second factor up before anything else.
func (s *Service) mustEnrol(ctx context.Context, of api.Operator) (bool, error) {
	o, err := s.store.Read().Organisation(ctx)
	return o.Factors && !of.SecondFactor && !of.Passkeys && !of.Provider, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, session store.Session) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.EndSession(ctx, session.ID, session.Operator.ID),
			audit(ctx, tx, "sign out", "operator", session.Operator.ID, ""),
		)
	})
}
