package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"

	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// How long sessions live.
const (
	cookieLife = 12 * time.Hour
	tokenLife  = 90 * 24 * time.Hour
)

// Roles of operators. More than the owner comes with more operators.
const RoleOwner = "owner"

// setup is the first start: a code proves that whoever chooses the owner's password
// can also read the service's own files.
type setup struct {
	sync.Mutex
	code string
}

// Errors of signing in.
var (
	ErrSignIn    = errors.New("name or password is wrong")
	ErrSetUpDone = errors.New("the service is set up already; sign in")
	ErrSetUpCode = errors.New("this is not the set-up code")
	ErrNoSession = errors.New("not signed in, or the session has ended; sign in first")
)

// BusyError says that too many tries were made.
type BusyError struct{ Wait time.Duration }

func (e *BusyError) Error() string {
	return fmt.Sprintf("too many tries; wait %d seconds", int(e.Wait.Seconds())+1)
}

// NeedsSetUp tells whether no owner was made yet.
func (s *Service) NeedsSetUp(ctx context.Context) (bool, error) {
	has, err := s.store.Read().HasOperators(ctx)
	return !has, err
}

// SetUpCode makes the code for the first start.
func (s *Service) SetUpCode() string {
	s.setup.Lock()
	defer s.setup.Unlock()
	s.setup.code = rand.Text()
	return s.setup.code
}

// SetUp makes the owner at the first start.
func (s *Service) SetUp(ctx context.Context, code, name string, password secret.Text) error {
	if err := s.throttle("set-up"); err != nil {
		return err
	}
	s.setup.Lock()
	defer s.setup.Unlock()
	if s.setup.code == "" {
		return ErrSetUpDone
	}
	if subtle.ConstantTimeCompare([]byte(strings.TrimSpace(code)), []byte(s.setup.code)) != 1 {
		return ErrSetUpCode
	}
	if err := s.AddOwner(ctx, name, password); err != nil {
		return err
	}
	s.setup.code = ""
	return nil
}

// AddOwner makes the one owner. It is refused once there is one.
func (s *Service) AddOwner(ctx context.Context, name string, password secret.Text) error {
	var problems []vpn.Problem
	if n := utf8.RuneCountInString(strings.TrimSpace(name)); n < 1 || n > 64 || name != strings.TrimSpace(name) {
		problems = append(problems, vpn.Problem{Pointer: "/name", Found: fmt.Sprintf("%d characters", n), Expected: "1 to 64 characters, no blank at the ends", Mend: "choose a name to sign in with"})
	}
	// NIST SP 800-63B-4 §3.1.1.2: fifteen characters where the password stands alone.
	if n := utf8.RuneCountInString(password.Reveal()); n < 15 || n > 256 {
		problems = append(problems, vpn.Problem{Pointer: "/password", Found: fmt.Sprintf("%d characters", n), Expected: "15 to 256 characters", Mend: "four or five unrelated words are easy to remember"})
	} else if e := secret.Judge(password, name, "wardicon"); e.Bits < 40 {
		problems = append(problems, vpn.Problem{Pointer: "/password", Found: "a password that " + e.Guesses() + " find", Expected: secret.Estimate{Bits: 40}.Guesses() + " or more", Mend: "avoid names, repetitions and rows of keys"})
	}
	if len(problems) > 0 {
		return &vpn.Problems{Object: "owner", List: problems}
	}
	hash := hashPassword(password)
	return s.store.Write(ctx, func(tx *store.Tx) error {
		has, err := tx.HasOperators(ctx)
		if err != nil {
			return err
		}
		if has {
			return ErrSetUpDone
		}
		o := store.Operator{Name: name, Role: RoleOwner, Password: hash}
		return errors.Join(tx.AddOperator(ctx, &o), deed(As(ctx, name), tx, "set up", "operator", o.ID, name))
	})
}

// SignIn checks name and password and opens a session. from is the caller's address;
// tries are counted for it and for the name.
func (s *Service) SignIn(ctx context.Context, name string, password secret.Text, from string, token bool) (bearer string, session store.Session, err error) {
	for _, key := range []string{"from " + from, "name " + strings.ToLower(name)} {
		if err := s.throttle(key); err != nil {
			return "", session, err
		}
	}
	o, err := s.store.Read().OperatorByName(ctx, name)
	var none *store.NotFoundError
	if err != nil && !errors.As(err, &none) {
		return "", session, err
	}
	// An unknown name costs as much time as a wrong password.
	if !passwordFits(o.Password, password) {
		return "", session, errors.Join(ErrSignIn, s.store.Write(ctx, func(tx *store.Tx) error {
			return deed(ctx, tx, "sign-in refused", "operator", o.ID, "from "+from)
		}))
	}
	session = store.Session{Operator: o, Kind: "cookie", Expires: s.now().Add(cookieLife)}
	if token {
		session.Kind, session.Expires = "token", s.now().Add(tokenLife)
	}
	bearer = "wi_" + rand.Text() + rand.Text()
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddSession(ctx, bearer, session); err != nil {
			return err
		}
		return deed(As(ctx, o.Name), tx, "sign in", "operator", o.ID, session.Kind+" from "+from)
	})
	return bearer, session, err
}

// Session finds who a bearer belongs to.
func (s *Service) Session(ctx context.Context, bearer string) (store.Session, error) {
	session, err := s.store.Read().Session(ctx, bearer)
	var none *store.NotFoundError
	if errors.As(err, &none) {
		return session, ErrNoSession
	}
	return session, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, bearer string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.EndSession(ctx, bearer), deed(ctx, tx, "sign out", "operator", "", ""))
	})
}

// throttle lets ten tries through at once and one more every five seconds.
func (s *Service) throttle(key string) error {
	s.signIn.Lock()
	defer s.signIn.Unlock()
	limit, ok := s.signIn.limits[key]
	if !ok {
		if len(s.signIn.limits) > 10_000 {
			clear(s.signIn.limits)
		}
		limit = rate.NewLimiter(rate.Every(5*time.Second), 10)
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
