// Package apple writes and reads Apple configuration profiles (.mobileconfig): XML
// property lists for macOS, iOS and iPadOS. The keys are those of Apple's Device
// Management reference, payload com.apple.vpn.managed.
package apple

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/micromdm/plist"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

const title = "Apple configuration profile"

// Codec is the format.
var Codec = format.Codec{Name: platform.AppleProfile, Title: title, Write: Write, Carried: Carried, Detect: Detect, Read: Read}

type configuration struct {
	Content      []payload `plist:"PayloadContent"`
	Description  string    `plist:"PayloadDescription"`
	DisplayName  string    `plist:"PayloadDisplayName"`
	Identifier   string    `plist:"PayloadIdentifier"`
	Organisation string    `plist:"PayloadOrganization,omitempty"`
	Scope        string    `plist:"PayloadScope"`
	Type         string    `plist:"PayloadType"`
	UUID         string    `plist:"PayloadUUID"`
	Version      int       `plist:"PayloadVersion"`
}

type payload struct {
	DNS         *dns   `plist:"DNS,omitempty"`
	IPSec       ipsec  `plist:"IPSec"`
	IPv4        ipv4   `plist:"IPv4"`
	PPP         ppp    `plist:"PPP"`
	DisplayName string `plist:"PayloadDisplayName"`
	Identifier  string `plist:"PayloadIdentifier"`
	Type        string `plist:"PayloadType"`
	UUID        string `plist:"PayloadUUID"`
	Version     int    `plist:"PayloadVersion"`
	Name        string `plist:"UserDefinedName"`
	VPNType     string `plist:"VPNType"`
}

type dns struct {
	Servers []string `plist:"ServerAddresses,omitempty"`
	Domains []string `plist:"SearchDomains,omitempty"`
}

type ipsec struct {
	Method string `plist:"AuthenticationMethod"`
	Secret []byte `plist:"SharedSecret,omitempty"`
}

type ipv4 struct {
	OverridePrimary int `plist:"OverridePrimary"`
}

type ppp struct {
	Login    string `plist:"AuthName"`
	Password string `plist:"AuthPassword,omitempty"`
	Server   string `plist:"CommRemoteAddress"`
}

// Carried reduces a connection to what the profile says. PPP methods, proposals and
// single routes are Apple's own affair with L2TP/IPsec.
func Carried(c vpn.Connection) vpn.Connection {
	c = format.Ask(c.Clone())
	c.Routes = []string{}
	if c.L2TP != nil {
		c.L2TP = &vpn.L2TPSetting{PSK: c.L2TP.PSK}
	}
	return c
}

// Write makes the profile.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Printable(title, c); err != nil {
		return nil, err
	}
	if c.L2TP == nil {
		return nil, &format.UnfitError{Format: title, Field: vpn.FieldProtocol, Found: "no L2TP/IPsec settings", Expected: "an L2TP/IPsec connection"}
	}
	whole, err := uuid.Parse(c.UUID)
	if err != nil {
		return nil, &format.UnfitError{Format: title, Field: vpn.FieldUUID, Found: "no UUID", Expected: "a UUID (RFC 9562)"}
	}
	p := payload{
		IPSec: ipsec{Method: "SharedSecret", Secret: []byte(c.L2TP.PSK.Reveal())}, PPP: ppp{Login: c.Login, Server: c.Server},
		DisplayName: c.Name, Identifier: c.Identifier + ".l2tp", Type: "com.apple.vpn.managed",
		UUID: strings.ToUpper(uuid.NewSHA1(whole, []byte("l2tp")).String()), Version: 1, Name: c.Name, VPNType: "L2TP",
	}
	if c.Keep == vpn.KeepSaved {
		p.PPP.Password = c.Password.Reveal()
	}
	if c.Tunnel == vpn.TunnelFull {
		p.IPv4.OverridePrimary = 1
	}
	if len(c.DNS)+len(c.Domains) > 0 {
		p.DNS = &dns{Servers: c.DNS, Domains: c.Domains}
	}
	scope := "User"
	if c.Scope == vpn.ScopeMachine {
		scope = "System"
	}
	var out bytes.Buffer
	enc := plist.NewEncoder(&out)
	enc.Indent("\t")
	if err := enc.Encode(configuration{
		Content: []payload{p}, Description: fmt.Sprintf("Connects to %s by L2TP/IPsec.", c.Server), DisplayName: c.Name,
		Identifier: c.Identifier, Organisation: c.Organisation, Scope: scope, Type: "Configuration", UUID: strings.ToUpper(c.UUID), Version: 1,
	}); err != nil {
		return nil, fmt.Errorf("%s: %w", title, err)
	}
	return []format.File{{
		Name: format.FileName(c.Name, ".mobileconfig"), MediaType: "application/x-apple-aspen-config",
		Purpose: "Configuration profile: open it on the device and confirm", Private: true, Content: out.Bytes(),
	}}, nil
}
