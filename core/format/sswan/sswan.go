// Package sswan writes and reads the profiles of the strongSwan client for Android
// (.sswan): JSON, for IKEv2 on releases that do not have it, or not as it is wanted.
package sswan

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = ".sswan profile"

var protocols = []vpn.Protocol{vpn.IKEv2}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.SSwan,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

type profile struct {
	UUID   string   `json:"uuid"`
	Name   string   `json:"name"`
	Type   string   `json:"type"`
	Remote remote   `json:"remote"`
	Local  *local   `json:"local,omitempty"`
	IKE    string   `json:"ike-proposal,omitempty"`
	ESP    string   `json:"esp-proposal,omitempty"`
	DNS    string   `json:"dns-servers,omitempty"`
	Split  *routing `json:"split-tunneling,omitempty"`
}

type remote struct {
	Address string `json:"addr"`
	ID      string `json:"id,omitempty"`
	Anchor  string `json:"cert,omitempty"`
}

type local struct {
	Login  string `json:"eap_id,omitempty"`
	ID     string `json:"id,omitempty"`
	PKCS12 string `json:"p12,omitempty"`
}

type routing struct {
	Networks  []string `json:"subnets,omitempty"`
	BlockIPv4 bool     `json:"block-ipv4,omitempty"`
	BlockIPv6 bool     `json:"block-ipv6,omitempty"`
}

var kinds = map[vpn.IKEv2Auth]string{
	vpn.IKEv2MSCHAPv2:    "ikev2-eap",
	vpn.IKEv2EAPTLS:      "ikev2-eap-tls",
	vpn.IKEv2Certificate: "ikev2-cert",
}

// Carried reduces a connection to what the profile says: one authority, one proposal of
// each kind, no password, and no time to connect by itself.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Password, c.PasswordMode = secret.Text{}, vpn.PasswordPrompted
	c.Organisation, c.Identifier, c.Scope, c.Domains = "", "", vpn.ScopePerson, []string{}
	if list, err := pki.Certificates(c.Authority); err == nil {
		c.Authority = pki.Bundle(list[0])
	}
	if whole.IPv6 == vpn.IPv6Refused {
		c.IPv6 = vpn.IPv6Refused
	}
	if s := c.IKEv2; s != nil {
		s.IKE, s.ESP = s.IKE[:min(1, len(s.IKE))], s.ESP[:min(1, len(s.ESP))]
		s.IKELifetime, s.ChildLifetime, s.DPD, s.NoMOBIKE, s.NoFragmentation = 0, 0, 0, false, false
		s.EAPOnly = false
	}
	return c
}

// Write makes the profile.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols); err != nil {
		return nil, err
	}
	s := c.IKEv2
	kind, ok := kinds[s.Auth]
	if !ok {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldAuth,
			Found:    string(s.Auth),
			Expected: "eap-mschapv2, eap-tls or certificate",
		}
	}
	p := profile{
		UUID:   strings.ToLower(c.UUID),
		Name:   c.Name,
		Type:   kind,
		Remote: remote{Address: c.Server, ID: s.RemoteID},
		DNS:    strings.Join(c.DNS, " "),
	}
	anchors, err := format.Anchors(title, c)
	if err != nil {
		return nil, err
	}
	if len(anchors) > 0 {
		p.Remote.Anchor = base64.StdEncoding.EncodeToString(anchors[0].Raw)
	}
	l := local{ID: s.LocalID}
	var passphrase secret.Text
	if s.Auth.NeedsPassword() {
		l.Login = c.Login
	} else {
		var data []byte
		if data, passphrase, err = format.Packed(title, c, false); err != nil {
			return nil, err
		}
		l.PKCS12 = base64.StdEncoding.EncodeToString(data)
	}
	if l != (local{}) {
		p.Local = &l
	}
	if len(s.IKE) > 0 {
		q, _ := suite.Parse(s.IKE[0]) // looked at before
		p.IKE = q.ForIKE().String()
	}
	if len(s.ESP) > 0 {
		p.ESP = s.ESP[0]
	}
	r := routing{BlockIPv6: c.IPv6 == vpn.IPv6Refused}
	if c.Tunnel == vpn.TunnelSplit {
		r.Networks = c.Routes
	}
	if len(r.Networks) > 0 || r.BlockIPv6 {
		p.Split = &r
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(p); err != nil {
		return nil, err
	}
	files := []format.File{
		{
			Name: format.FileName(
				c.Name,
				".sswan",
			),
			MediaType: "application/vnd.strongswan.profile",
			Private:   true,
			Purpose:   "Profile: open it with the strongSwan client",
			Content:   out.Bytes(),
		},
	}
	if !passphrase.IsZero() {
		files = append(files, format.File{
			Name: format.FileName(
				c.Name,
				"-passphrase.txt",
			),
			MediaType: "text/plain; charset=utf-8",
			Private:   true,
			Purpose:   "Passphrase that the client prompts for when it imports the certificate",
			Content:   []byte(passphrase.Reveal() + "\n"),
		})
	}
	return files, nil
}
