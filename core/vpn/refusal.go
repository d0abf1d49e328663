package vpn

// Kind tells errors that a caller can do something about apart: it is the last part of the type of
// the problem document (RFC 9457) that a client of the API gets, and decides its status.
type Kind string

// The kinds.
const (
	KindInvalid    Kind = "invalid"
	KindNotFound   Kind = "not-found"
	KindChanged    Kind = "changed-meanwhile"
	KindQuery      Kind = "query"
	KindInUse      Kind = "in-use"
	KindBlocked    Kind = "blocked"
	KindNoRecord   Kind = "not-on-record"
	KindOnRecord   Kind = "on-record"
	KindDamaged    Kind = "damaged"
	KindDiskFull   Kind = "storage-full"
	KindLocked     Kind = "storage-locked"
	KindDisk       Kind = "storage-device"
	KindToken      Kind = "token-away"
	KindTries      Kind = "too-many-tries"
	KindSignIn     Kind = "sign-in"
	KindCode       Kind = "code-wanted"
	KindPasskey    Kind = "passkey-wanted"
	KindRole       Kind = "role"
	KindConfirm    Kind = "confirm"
	KindApproval   Kind = "approval"
	KindMustChange Kind = "must-change"
	KindSetUpDone  Kind = "set-up-done"
	KindExpired    Kind = "link"
)

// Refusal is an error of a kind that needs no more than its words.
type Refusal struct {
	kind Kind
	text string
}

// Refuse makes a refusal. The text says what is to be done.
func Refuse(kind Kind, text string) error { return &Refusal{kind, text} }

func (r *Refusal) Error() string { return r.text }

// Kind tells the kind.
func (r *Refusal) Kind() Kind { return r.kind }
