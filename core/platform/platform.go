// Package platform knows what each release of each operating system or device can
// do by itself. The facts are data, each row with its source.
package platform

import (
	"strconv"
	"strings"

	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Support says how a release comes to a protocol.
type Support string

// The kinds of support.
const (
	BuiltIn  Support = "built in"
	Plugin   Support = "with the plugin"
	Packages Support = "with packages"
	Client   Support = "with a client" // a separate program takes the file
	Often    Support = "often"
	Rarely   Support = "rarely"
	Gone     Support = "gone"  // earlier releases had it
	Never    Support = "never" // no release has had it
)

// Usable tells whether a connection can be made with it at all.
func (s Support) Usable() bool {
	return s == BuiltIn || s == Plugin || s == Packages || s == Client || s == Often
}

// Format names the kind of file that a release takes; empty where a person types.
type Format string

// The formats.
const (
	AppleProfile Format = "apple"
	PowerShell   Format = "powershell"
	WindowsXML   Format = "windows-xml"
	PhoneBook    Format = "phone-book"
	Keyfile      Format = "keyfile"
	Daemons      Format = "daemons"
	OVPN         Format = "ovpn"
	OVPNFolder   Format = "ovpn-folder"
	PhoneOVPN    Format = "ovpn-phone"
	SSwan        Format = "sswan"
	ONC          Format = "onc"
	UCI          Format = "uci"
	ByHand       Format = ""
)

// Ability is what one release can do with one protocol. Unconfirmed marks facts
// that could not be tried where Wardicon is made.
type Ability struct {
	Support Support `json:"support"`
	Note    string  `json:"note,omitempty"`
	// files that it takes, the best first; none where a person types
	Formats []Format `json:"formats"`
	// L2TP/IPsec: how the machine proves itself
	Machine []vpn.MachineAuth `json:"machine"`
	IKEv2   []vpn.IKEv2Auth   `json:"ikev2"` // IKEv2: how the client proves itself
	// TLS tunnel: how the client proves itself
	TLS []vpn.TLSAuth `json:"tls"`
	// methods that can be used, strongest first
	PPP          []suite.PPPMethod `json:"ppp"`
	MPPE         []suite.MPPE      `json:"mppe"`          // PPTP: strengths that can be used
	IKE          []string          `json:"ike"`           // built-in proposals, in the order sent
	ESP          []string          `json:"esp"`           // built-in child proposals
	SetProposals bool              `json:"set_proposals"` // IKE and ESP can be set by the file
	OneProposal  bool              `json:"one_proposal"`  // only one of each can be set
	Dialect      suite.DialectName `json:"dialect,omitempty"`
	// single networks can be sent through the tunnel
	SplitRoutes bool `json:"split_routes"`
	// internal DNS servers can be set by the file
	SetDNS bool `json:"set_dns"`
	// opens only the old encryption of PKCS#12
	OldPacking bool `json:"old_packing"`
	// a gateway behind NAT needs a setting on the device
	NATSetting bool `json:"nat_setting"`
	// nothing asks for a password when it connects
	CannotAsk bool `json:"cannot_ask"`
	// .ovpn: the sign-in may stand inside the file (2.6 and later)
	LoginInside bool `json:"login_inside"`
	// .ovpn: the sign-in may stand in a file beside
	LoginBeside bool `json:"login_beside"`
	// the password can be stored by the file
	SavePassword bool `json:"save_password"`
	// kinds of certificate keys that it can use; empty where they are not limited
	KeyKinds []string `json:"key_kinds"`
	Going    string   `json:"going,omitempty"` // what was announced of its end
	// a connection can be made for all who use the device
	MachineWide bool   `json:"machine_wide"`
	Source      string `json:"source"`
	Unconfirmed bool   `json:"unconfirmed"`
}

// Row is one line of the table: releases that behave alike.
type Row struct {
	Platform vpn.Platform             `json:"platform"`
	Title    string                   `json:"title"`
	Releases []string                 `json:"releases"` // oldest first
	Can      map[vpn.Protocol]Ability `json:"can"`
}

// Format is the file that the release takes first; empty where a person types.
func (a Ability) Format() Format {
	if len(a.Formats) == 0 {
		return ByHand
	}
	return a.Formats[0]
}

// Found is the answer to a question for one release.
type Found struct {
	Row   Row
	Title string // platform and the release that was asked for
	Exact bool   // false: judged by the nearest older release, or the oldest known
	By    string // the release that it was judged by
}

// Ability returns what the release can do with a protocol; Never where the table
// says nothing.
func (f Found) Ability(p vpn.Protocol) Ability {
	if a, ok := f.Row.Can[p]; ok {
		return a
	}
	return Ability{Support: Never, Source: "practice"}
}

// InstallAsks tells whether the install script asks for a password that is not in the files.
func (a Ability) InstallAsks() bool {
	return a.CannotAsk && len(a.Formats) > 0 && (a.Formats[0] == Daemons || a.Formats[0] == UCI)
}

// Find looks a release up. A release that is not in the table is judged by the
// nearest older one; one older than all, by the oldest. ok is false for a platform
// that is unknown.
func Find(p vpn.Platform, release string) (found Found, ok bool) {
	if own, known := translated(p, release); known {
		found, ok = Find(p, own)
		found.Title = Title(p) + ", " + strings.TrimSpace(release)
		return found, ok
	}
	nearest := -1
	for i := range Table {
		if Table[i].Platform != p {
			continue
		}
		for _, known := range Table[i].Releases {
			if after, begins := strings.CutPrefix(release, known); begins &&
				(after == "" || after[0] == '.' || after[0] == ' ') {
				return Found{Table[i], Title(p) + " " + release, true, known}, true
			}
		}
	}
	for i := range Table {
		if Table[i].Platform != p {
			continue
		}
		for _, known := range Table[i].Releases {
			if nearest < 0 || Compare(known, release) <= 0 {
				nearest, found.By = i, known
			}
		}
	}
	if nearest < 0 {
		return found, false
	}
	return Found{Table[nearest], Title(p) + " " + release, false, found.By}, true
}

// Instead lists the protocols that the release can be connected with, but for one: the
// best first.
func (f Found) Instead(of vpn.Protocol) []vpn.Protocol {
	var list []vpn.Protocol
	for _, p := range vpn.Protocols {
		if p != of && p != vpn.PPTP &&
			f.Ability(p).Support.Usable() { // PPTP is nothing to recommend
			list = append(list, p)
		}
	}
	return list
}

// Compare orders releases by the numbers in them: 10.9 stands before 10.15.
func Compare(a, b string) int {
	x, y := numbers(a), numbers(b)
	for i := range max(len(x), len(y)) {
		var n, m int
		if i < len(x) {
			n = x[i]
		}
		if i < len(y) {
			m = y[i]
		}
		if n != m {
			return n - m
		}
	}
	return 0
}

func numbers(release string) []int {
	var list []int
	for _, part := range strings.FieldsFunc(release,
		func(r rune) bool { return r < '0' || r > '9' }) {
		n, _ := strconv.Atoi(part)
		list = append(list, n)
	}
	return list
}

// Title is the platform's name for readers.
func Title(p vpn.Platform) string {
	return map[vpn.Platform]string{
		vpn.Windows:      "Windows",
		vpn.MacOS:        "macOS",
		vpn.IOS:          "iOS",
		vpn.IPadOS:       "iPadOS",
		vpn.Android:      "Android",
		vpn.ChromeOS:     "ChromeOS",
		vpn.LinuxDesktop: "Linux desktop",
		vpn.Linux:        "Linux without desktop",
		vpn.OpenWrt:      "OpenWrt",
		vpn.DeskPhone:    "Desk phone",
	}[p]
}
