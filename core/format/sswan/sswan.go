// Package sswan writes and reads the profiles of the strongSwan client for Android
// (.sswan): JSON, for IKEv2 on releases that do not have it, or not as it is wanted.
package sswan

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/tree"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = ".sswan profile"

var protocols = []vpn.Protocol{vpn.IKEv2}

// Codec is the format.
var Codec = format.Codec{Name: platform.SSwan, Title: title, Protocols: protocols, Write: Write, Carried: Carried, Detect: Detect, Read: Read}

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

var kinds = map[vpn.IKEv2Auth]string{vpn.IKEv2MSCHAPv2: "ikev2-eap", vpn.IKEv2EAPTLS: "ikev2-eap-tls", vpn.IKEv2Certificate: "ikev2-cert"}

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
		return nil, &format.UnfitError{Format: title, Field: vpn.FieldAuth, Found: string(s.Auth), Expected: "eap-mschapv2, eap-tls or certificate"}
	}
	p := profile{UUID: strings.ToLower(c.UUID), Name: c.Name, Type: kind, Remote: remote{Address: c.Server, ID: s.RemoteID}, DNS: strings.Join(c.DNS, " ")}
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
	files := []format.File{{
		Name: format.FileName(c.Name, ".sswan"), MediaType: "application/vnd.strongswan.profile", Private: true,
		Purpose: "Profile: open it with the strongSwan client", Content: out.Bytes(),
	}}
	if !passphrase.IsZero() {
		files = append(files, format.File{
			Name: format.FileName(c.Name, "-passphrase.txt"), MediaType: "text/plain; charset=utf-8", Private: true,
			Purpose: "Passphrase that the client prompts for when it imports the certificate", Content: []byte(passphrase.Reveal() + "\n"),
		})
	}
	return files, nil
}

// Detect tells a profile by its name or its kind.
func Detect(name string, data []byte) bool {
	return strings.EqualFold(filepath.Ext(name), ".sswan") || bytes.Contains(data[:min(len(data), 4096)], []byte(`"ikev2-`))
}

var (
	topKeys    = []string{"uuid", "name", "type", "remote", "local", "ike-proposal", "esp-proposal", "dns-servers", "split-tunneling", "mtu", "nat-keepalive", "ipv6-transport", "proxy-server", "tls-min"}
	remoteKeys = []string{"addr", "port", "id", "cert", "certreq", "revocation"}
	localKeys  = []string{"eap_id", "id", "p12", "rsa-pss", "shared_secret"}
	splitKeys  = []string{"subnets", "excluded", "block-ipv4", "block-ipv6", "apps", "excluded-apps"}
)

// Read takes a profile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &tree.Walker{File: name}
	root := r.Object(data)
	if root == nil {
		return r.Reading
	}
	settle(r, root, beside, strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)))
	return r.Reading
}

// networks reads the networks of a split tunnel: an array, or one text with blanks between.
func networks(r *tree.Walker, split *tree.Node) []string {
	if v := split.Get("subnets"); v != nil && v.Kind == "string" {
		return append([]string{}, strings.Fields(v.Text)...)
	}
	return r.List(split, "subnets")
}

func settle(r *tree.Walker, root *tree.Node, beside format.Beside, stem string) {
	remote, local, split := root.Get("remote"), root.Get("local"), root.Get("split-tunneling")
	r.Known(root, topKeys)
	r.Known(remote, remoteKeys)
	r.Known(local, localKeys)
	r.Known(split, splitKeys)
	s := &vpn.IKEv2Setting{RemoteID: r.Text(remote, "id"), LocalID: r.Text(local, "id"), IKE: proposal(r, root, "ike-proposal"), ESP: proposal(r, root, "esp-proposal")}
	c := vpn.Connection{
		Protocol: vpn.IKEv2, Name: r.Text(root, "name"), UUID: strings.ToUpper(r.Text(root, "uuid")), Server: r.Text(remote, "addr"), PasswordMode: vpn.PasswordPrompted, Scope: vpn.ScopePerson,
		Tunnel: vpn.TunnelFull, Routes: networks(r, split), DNS: append([]string{}, strings.Fields(r.Text(root, "dns-servers"))...), Domains: []string{}, IKEv2: s,
	}
	if text := r.Text(root, "ike-proposal"); len(s.IKE) == 1 {
		if p, err := suite.Parse(text); err == nil && p.LacksPRF() {
			r.Note(format.PRFMissing, r.At(root, root, "ike-proposal"), "%s", text)
		}
	}
	kind := r.Text(root, "type")
	for auth, name := range kinds {
		if name == kind {
			s.Auth = auth
		}
	}
	if s.Auth == "" {
		r.Note(format.KeyMalformed, r.At(root, root, "type"), "the type %q, expected ikev2-eap, ikev2-eap-tls or ikev2-cert", kind)
	}
	if len(c.Routes) > 0 {
		c.Tunnel = vpn.TunnelSplit
	}
	if v := split.Get("block-ipv6"); v != nil && v.Kind == "true" {
		c.IPv6 = vpn.IPv6Refused
	}
	if s.Auth.NeedsPassword() {
		c.Login = r.Text(local, "eap_id")
	}
	if _, err := uuid.Parse(c.UUID); err != nil {
		r.Note(format.KeyMalformed, r.At(root, root, "uuid"), "uuid is not a UUID")
	}
	if text := r.Text(remote, "cert"); text != "" {
		der, err := base64.StdEncoding.DecodeString(text)
		if err == nil {
			c.Authority = r.Anchored(string(pki.Encode(der)), r.At(root, remote, "cert"))
		} else {
			r.Note(format.KeyMalformed, r.At(root, remote, "cert"), "cert is not base64")
		}
	}
	if text := r.Text(local, "p12"); text != "" {
		at := r.At(root, local, "p12")
		der, err := base64.StdEncoding.DecodeString(text)
		pass, told := beside.Get(stem + "-passphrase.txt")
		switch {
		case err != nil:
			r.Note(format.KeyMalformed, at, "p12 is not base64")
		case !told:
			r.Note(format.NotYetRead, at, "a PKCS#12 identity whose passphrase is prompted for")
		default:
			if c.Identity, err = r.Unpacked(der, secret.New(strings.TrimSpace(string(pass)))); err != nil {
				r.Note(format.KeyMalformed, at, "%s", err)
			} else {
				r.Note(format.SecretClear, at, "a private key under a passphrase")
			}
		}
	}
	var apart []vpn.Field
	if c.Identity == nil { // chosen in the app, or taken in apart
		apart = []vpn.Field{vpn.FieldIdentity}
	}
	positions := map[vpn.Field]format.Position{}
	for field, w := range map[vpn.Field]struct {
		in  *tree.Node
		key string
	}{
		vpn.FieldName: {root, "name"}, vpn.FieldServer: {remote, "addr"}, vpn.FieldLogin: {local, "eap_id"}, vpn.FieldPassword: {local, "eap_id"}, vpn.FieldAuth: {root, "type"}, vpn.FieldIKE: {root, "ike-proposal"},
		vpn.FieldESP: {root, "esp-proposal"}, vpn.FieldRemoteID: {remote, "id"}, vpn.FieldLocalID: {local, "id"}, vpn.FieldAuthority: {remote, "cert"}, vpn.FieldIdentity: {local, "p12"},
		vpn.FieldRoutes: {split, "subnets"}, vpn.FieldTunnel: {root, "split-tunneling"}, vpn.FieldDNS: {root, "dns-servers"}, vpn.FieldProtocol: {root, "type"},
	} {
		positions[field] = r.At(root, w.in, w.key)
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: apart})
}

func proposal(r *tree.Walker, root *tree.Node, key string) []string {
	text := r.Text(root, key)
	if text == "" {
		return []string{}
	}
	p, err := suite.Parse(text)
	if err != nil {
		r.Note(format.KeyMalformed, r.At(root, root, key), "%s", err)
		return []string{}
	}
	return []string{p.String()}
}
