package suite

import (
	"cmp"
	"fmt"
	"strings"
)

// WindowsSuite is one IKE and one child proposal in the constants of Windows (reference
// of Set-VpnConnectionIPsecConfiguration): for children cipher, transform and PFS group,
// for IKE encryption, integrity and group.
type WindowsSuite struct {
	Cipher, Transform, Encryption, Integrity, Group, PFS string
}

// CarryError says which of two proposals a dialect has no names for.
type CarryError struct {
	Child    bool
	Proposal string
}

func (e *CarryError) Error() string { return fmt.Sprintf("%s has no names there", e.Proposal) }

// ToWindows writes two proposals, which must be sound, in the constants of Windows. With
// an AEAD cipher in IKE the integrity names the pseudo-random function.
func ToWindows(ike, esp string) (WindowsSuite, error) {
	names := Closed[WindowsDialect]
	i, _ := Parse(ike)
	i = i.ForIKE()
	e, _ := Parse(esp)
	switch {
	case !names.IKE.Carries(i):
		return WindowsSuite{}, &CarryError{false, i.String()}
	case !names.ESP.Carries(e):
		return WindowsSuite{}, &CarryError{true, e.String()}
	}
	return WindowsSuite{
		Cipher:     names.ESP[e.Encryption],
		Transform:  cmp.Or(names.ESP[e.Integrity], names.ESP[e.Encryption]),
		Encryption: names.IKE[i.Encryption],
		Integrity: cmp.Or(
			names.IKE[i.Integrity],
			names.IKE[i.PRF],
		),
		Group: cmp.Or(names.IKE[i.Group], "None"),
		PFS:   cmp.Or(names.ESP[e.Group], "None"),
	}, nil
}

// FromWindows reads two proposals from the constants of Windows. Constants that are none
// come back in unknown.
func FromWindows(w WindowsSuite) (ike, esp []string, unknown []string) {
	names := Closed[WindowsDialect]
	own := func(d Dialect, kind Kind, v string) string {
		if v = strings.TrimSpace(
			v,
		); v == "" || v == "None" ||
			kind == Integrity && strings.HasPrefix(v, "GCM") {
			return ""
		}
		name, ok := d.Own(kind, v)
		if !ok {
			unknown = append(unknown, v)
		}
		return name
	}
	i := Proposal{
		Encryption: own(names.IKE, Encryption, w.Encryption),
		Group:      own(names.IKE, Group, w.Group),
	}
	if i.aead() {
		i.PRF = own(names.IKE, PRF, w.Integrity)
	} else {
		i.Integrity = own(names.IKE, Integrity, w.Integrity)
	}
	e := Proposal{
		Encryption: own(names.ESP, Encryption, w.Cipher),
		Integrity:  own(names.ESP, Integrity, w.Transform),
		Group:      own(names.ESP, Group, w.PFS),
	}
	if e.aead() {
		e.Integrity = ""
	}
	if i.Encryption == "" || e.Encryption == "" {
		return []string{}, []string{}, unknown
	}
	return []string{i.String()}, []string{e.String()}, unknown
}
