package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/pquerna/otp/hotp"
	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"

	"wardicon/core/secret"
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
	ErrSignIn     = errors.New("name, password or code is wrong")
	ErrCodeWanted = errors.New("a code of the second factor is wanted; send it with name and password")
	ErrNoSession  = errors.New("not signed in, or the session has ended; sign in first")
	ErrMustChange = errors.New("the password is somebody else's choice: change it first")
	ErrMustEnrol  = errors.New("a second factor is demanded here: set it up first (wardicon second-factor on, or the page Your sign-in)")
)

// BusyError says that too many tries were made.
type BusyError struct{ Wait time.Duration }

func (e *BusyError) Error() string {
	return fmt.Sprintf("too many tries; wait %d seconds", int(e.Wait.Seconds())+1)
}

// Entry is what somebody signs in with. From is the caller's address; tries are counted for it and for
// the name.
type Entry struct {
	Name     string
	Password secret.Text
	Code     string // of the second factor
	From     string
	Token    bool // for a program, in the place of a cookie
}

// SignIn checks what somebody signs in with and opens a session.
func (s *Service) SignIn(ctx context.Context, e Entry) (bearer string, session store.Session, err error) {
	for _, key := range []string{"from " + e.From, "name " + strings.ToLower(e.Name)} {
		if err := s.throttle(key); err != nil {
			return "", session, err
		}
	}
	o, err := s.store.Read().OperatorByName(ctx, e.Name)
	var none *store.NotFoundError
	if err != nil && !errors.As(err, &none) {
		return "", session, err
	}
	// An unknown name costs as much time as a wrong password.
	if !passwordFits(o.Password, e.Password) || o.Disabled {
		return "", session, s.refuseEntry(ctx, o.ID, e.From, ErrSignIn)
	}
	if o.SecondFactor && e.Code == "" {
		return "", session, ErrCodeWanted
	}
	session = store.Session{Operator: o.Operator}
	session.Kind, session.Expires, session.Origin = "cookie", s.now().Add(cookieLife), e.From
	if e.Token {
		session.Kind, session.Expires = "token", s.now().Add(tokenLife)
	}
	bearer = newBearer()
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if o.SecondFactor {
			if err := s.takeCode(ctx, tx, o.ID, e.Code, false); err != nil {
				return err
			}
		}
		return errors.Join(tx.AddSession(ctx, bearer, &session), tx.NoteSignIn(ctx, o.ID), deed(AsRole(ctx, o.Name, o.Role), tx, "sign in", "operator", o.ID, session.Kind+" from "+e.From))
	})
	if errors.Is(err, ErrSignIn) {
		return "", session, s.refuseEntry(ctx, o.ID, e.From, ErrSignIn)
	}
	if err != nil {
		return "", session, err
	}
	session.Role = o.Role
	session.Operator.MustEnrol, err = s.mustEnrol(ctx, o.SecondFactor)
	return bearer, session, err
}

func newBearer() string { return "wi_" + rand.Text() + rand.Text() }

// refuseEntry logs a try that was refused.
func (s *Service) refuseEntry(ctx context.Context, operatorID, from string, why error) error {
	return errors.Join(why, s.store.Write(ctx, func(tx *store.Tx) error {
		return deed(ctx, tx, "sign-in refused", "operator", operatorID, "from "+from)
	}))
}

// Steps of the second factor (RFC 6238 §5.2): thirty seconds, one to either side for clocks that differ.
const (
	factorStep  = 30
	factorDrift = 1
)

// takeCode takes a code of the second factor, each one once.
func (s *Service) takeCode(ctx context.Context, tx *store.Tx, operatorID, code string, pending bool) error {
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

// Session finds who a bearer belongs to. What a token may do is no more than what its operator may.
func (s *Service) Session(ctx context.Context, bearer string) (store.Session, error) {
	session, err := s.store.Read().Session(ctx, bearer)
	var none *store.NotFoundError
	if errors.As(err, &none) || err == nil && session.Operator.Disabled {
		return session, ErrNoSession
	}
	if err != nil {
		return session, err
	}
	last := session.Created
	if session.Used != nil {
		last = *session.Used
	}
	if session.Kind == "cookie" && s.now().Sub(last) > idleLife {
		return session, errors.Join(ErrNoSession, s.store.Write(ctx, func(tx *store.Tx) error { return tx.EndSession(ctx, session.ID, session.Operator.ID) }))
	}
	if session.Operator.MustEnrol, err = s.mustEnrol(ctx, session.Operator.SecondFactor); err != nil {
		return session, err
	}
	if session.Role = lesser(session.Role, session.Operator.Role); session.Used == nil || s.now().Sub(*session.Used) > time.Minute {
		err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.UseSession(ctx, session.ID) })
	}
	return session, err
}

// mustEnrol tells whether an operator has to set a second factor up before anything else.
func (s *Service) mustEnrol(ctx context.Context, has bool) (bool, error) {
	o, err := s.store.Read().Organisation(ctx)
	return o.Factors && !has, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, session store.Session) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.EndSession(ctx, session.ID, session.Operator.ID), deed(ctx, tx, "sign out", "operator", session.Operator.ID, ""))
	})
}

// Pace of tries: how many at once, and how long until one more.
var (
	doorPace = pace{10, 5 * time.Second}
	codePace = pace{5, time.Minute} // a code has only six digits
)

type pace struct {
	burst int
	every time.Duration
}

// throttle counts a try at the door.
func (s *Service) throttle(key string) error { return s.throttled(key, doorPace) }

func (s *Service) throttled(key string, p pace) error {
	s.signIn.Lock()
	defer s.signIn.Unlock()
	limit, ok := s.signIn.limits[key]
	if !ok {
		if len(s.signIn.limits) > 10_000 {
			clear(s.signIn.limits)
		}
		limit = rate.NewLimiter(rate.Every(p.every), p.burst)
		s.signIn.limits[key] = limit
	}
	if r := limit.ReserveN(s.now(), 1); r.DelayFrom(s.now()) > 0 {
		wait := r.DelayFrom(s.now())
		r.CancelAt(s.now())
		return &BusyError{wait}
	}
	return nil
}

// Cost of hashing a password (RFC 9106 §4, second choice).
const (
	hashTime, hashMemory, hashLanes = 3, 64 << 10, 2
	hashSalt, hashLength            = 16, 32
)

func hashPassword(password secret.Text) string {
	salt := make([]byte, hashSalt)
	_, _ = rand.Read(salt)
	sum := argon2.IDKey([]byte(password.Reveal()), salt, hashTime, hashMemory, hashLanes, hashLength)
	return base64.RawStdEncoding.EncodeToString(append(salt, sum...))
}

func passwordFits(encoded string, password secret.Text) bool {
	data, err := base64.RawStdEncoding.DecodeString(encoded)
	known := err == nil && len(data) == hashSalt+hashLength
	if !known {
		data = make([]byte, hashSalt+hashLength)
	}
	sum := argon2.IDKey([]byte(password.Reveal()), data[:hashSalt], hashTime, hashMemory, hashLanes, hashLength)
	return subtle.ConstantTimeCompare(sum, data[hashSalt:]) == 1 && known
}
