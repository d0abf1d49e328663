package sswan

import (
	"bytes"
	"encoding/base64"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/tree"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Detect tells a profile by its name or its kind.
func Detect(name string, data []byte) bool {
	return strings.EqualFold(filepath.Ext(name), ".sswan") ||
		bytes.Contains(data[:min(len(data), 4096)], []byte(`"ikev2-`))
}

// Keys as the client's import reads them (strongSwan documentation, Android VPN client profiles).
var (
	topKeys = []string{
		"uuid", "name", "type", "remote", "local", "ike-proposal", "esp-proposal", "dns-servers",
		"split-tunneling", "apps", "excluded-apps", "mtu", "nat-keepalive", "ipv6-transport",
		"proxy-server",
	}
	remoteKeys = []string{"addr", "port", "id", "cert", "certreq", "revocation"}
	localKeys  = []string{"eap_id", "id", "p12", "rsa-pss", "shared_secret"}
	splitKeys  = []string{"subnets", "excluded", "block-ipv4", "block-ipv6"}
	idle       = tree.Idle{
		"port=500": assumed, "certreq=1": assumed, "crl=1": assumed, "ocsp=1": assumed,
		"strict=0": assumed, "rsa-pss=0": assumed, "block-ipv4=0": assumed, "block-ipv6=0": assumed,
		"ipv6-transport=0": assumed,
	}
)

const assumed = "what the client assumes"

// others are kinds that a connection has no place for.
var others = []string{"ikev2-cert-eap", "ikev2-byod-eap"}

// Read takes a profile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &tree.Walker{File: name}
	root := r.Object(data)
	if root == nil {
		return r.Reading
	}
	settle(r, root, beside, strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)))
	r.Account(root, idle)
	return r.Reading
}

// several reads an array, or one text with blanks between.
func several(r *tree.Walker, around *tree.Node, key string) []string {
	if v := around.Get(key); v != nil && v.Kind == "string" {
		return append([]string{}, strings.Fields(v.Text)...)
	}
	return r.List(around, key)
}

// networks reads the networks of a split tunnel: in CIDR form, or single addresses. What a network
// cannot be, such as a range, is left.
func networks(r *tree.Walker, split *tree.Node) []string {
	list := []string{}
	for _, text := range several(r, split, "subnets") {
		if _, err := netip.ParsePrefix(text); err == nil {
			list = append(list, text)
			continue
		}
		if a, err := netip.ParseAddr(text); err == nil {
			list = append(list, netip.PrefixFrom(a, a.BitLen()).String())
			continue
		}
		at := r.At(split, split, "subnets")
		from, to, ranged := strings.Cut(text, "-")
		a, err := netip.ParseAddr(strings.TrimSpace(from))
		b, err2 := netip.ParseAddr(strings.TrimSpace(to))
		if !ranged || err != nil || err2 != nil || b.Less(a) {
			r.Note(format.KeyMalformed, at, "subnets has %q, expected a network in CIDR form", text)
			continue
		}
		r.Left("subnets "+text, at)
	}
	return list
}

func settle(r *tree.Walker, root *tree.Node, beside format.Beside, stem string) {
	remote, local, split := root.Get("remote"), root.Get("local"), root.Get("split-tunneling")
	r.Known(root, topKeys)
	r.Known(remote, remoteKeys)
	r.Known(remote.Get("revocation"), []string{"crl", "ocsp", "strict"})
	r.Known(local, localKeys)
	r.Known(split, splitKeys)
	s := &vpn.IKEv2Setting{
		RemoteID: r.Text(remote, "id"),
		LocalID:  r.Text(local, "id"),
		IKE:      proposal(r, root, "ike-proposal"),
		ESP:      proposal(r, root, "esp-proposal"),
	}
	c := vpn.Connection{
		Protocol:     vpn.IKEv2,
		Name:         r.Text(root, "name"),
		UUID:         strings.ToUpper(r.Text(root, "uuid")),
		Server:       r.Text(remote, "addr"),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelFull,
		Routes:       networks(r, split),
		DNS:          several(r, root, "dns-servers"),
		Domains:      []string{},
		IKEv2:        s,
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
	if slices.Contains(others, kind) {
		r.Note(format.NotYetRead, r.At(root, root, "type"), "the type %q", kind)
		r.Leave(root, "a connection of the type "+kind)
		return
	}
	if s.Auth == "" {
		r.Note(
			format.KeyMalformed,
			r.At(root, root, "type"),
			"the type %q, expected ikev2-eap, ikev2-eap-tls or ikev2-cert",
			kind,
		)
	}
	// What lies outside these bounds the app passes over (documentation of VPN profiles).
	for _, one := range []struct {
		in          *tree.Node
		key         string
		least, most int
	}{{remote, "port", 1, 65535}, {root, "mtu", 1280, 1500}, {root, "nat-keepalive", 10, 1200}} {
		v := one.in.Get(one.key)
		if v == nil {
			continue
		}
		if n, err := strconv.Atoi(strings.TrimSpace(v.Text)); err != nil || n < one.least ||
			n > one.most {
			r.Note(
				format.KeyMalformed,
				v.At,
				"%s %s, expected %d to %d",
				one.key,
				v.Text,
				one.least,
				one.most,
			)
		}
		if one.key != "port" || v.Text != "500" {
			r.Left(one.key+" "+v.Text, v.At)
		}
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
			if c.Identity, err = r.Unpacked(
				der,
				secret.New(strings.TrimSpace(string(pass))),
			); err != nil {
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
		vpn.FieldName:      {root, "name"},
		vpn.FieldServer:    {remote, "addr"},
		vpn.FieldLogin:     {local, "eap_id"},
		vpn.FieldPassword:  {local, "eap_id"},
		vpn.FieldAuth:      {root, "type"},
		vpn.FieldIKE:       {root, "ike-proposal"},
		vpn.FieldESP:       {root, "esp-proposal"},
		vpn.FieldRemoteID:  {remote, "id"},
		vpn.FieldLocalID:   {local, "id"},
		vpn.FieldAuthority: {remote, "cert"},
		vpn.FieldIdentity:  {local, "p12"},
		vpn.FieldRoutes:    {split, "subnets"},
		vpn.FieldTunnel:    {root, "split-tunneling"},
		vpn.FieldDNS:       {root, "dns-servers"},
		vpn.FieldProtocol:  {root, "type"},
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
