package check

import (
	"fmt"

	"wardicon/core/format"
	"wardicon/core/vpn"
)

// phoneLimit is what the smallest desk phones take of one file, in bytes.
const phoneLimit = 16 << 10

// tunnelRules look at client files of the TLS tunnel.
var tunnelRules = []Rule{
	fileRule(format.RoleUnchecked, "Server usage of the gateway's certificate is not checked", vpn.Warning,
		"Any client of the same authority can pose as the gateway.", "Add remote-cert-tls server.", "openvpn(8), option remote-cert-tls",
		"a .ovpn file without remote-cert-tls", "one with remote-cert-tls server"),
	fileRule(format.CheckSwitchedOff, "Verification of the gateway's certificate is disabled", vpn.Error,
		"Anybody on the way can pose as the gateway and take the password.", "Switch the check on, and bring the authority's certificate.", "RFC 9525 §6",
		"ignore-cert-warn=yes in a keyfile", "ignore-cert-warn=no"),
	fileRule(format.ControlMalformed, "Control-channel key is malformed", vpn.Error,
		"The client refuses to start.", "Take the key again from the gateway, with its first and last line.", "openvpn(8), options tls-auth and tls-crypt",
		"a key cut in half", "a key of 16 lines between its marks"),
	fileRule(format.ControlTwice, "Two kinds of control-channel key at once", vpn.Error,
		"The client takes one of them, and the gateway may want the other.", "Keep the one that the gateway wants.", "openvpn(8)",
		"tls-auth and tls-crypt in one file", "tls-crypt alone"),
	fileRule(format.BlockOpen, "Inline block is not closed", vpn.Error,
		"Everything after it is swallowed; the client refuses the file.", "Add the closing mark where the block ends.", "openvpn(8), inline file support",
		"<ca> without </ca>", "a block with both marks"),
	fileRule(format.BlockEmpty, "Inline block is empty", vpn.Error,
		"The client finds no certificate or key there.", "Put the content in, or remove the block.", "openvpn(8), inline file support",
		"<ca></ca>", "a block with a certificate"),
	fileRule(format.DirectiveOutdated, "Directive is no longer supported by current clients", vpn.Warning,
		"Current clients refuse the file or ignore the line.", "Replace it by what came after it.", "openvpn(8), deprecated options",
		"ns-cert-type server", "remote-cert-tls server"),
	fileRule(format.RunsProgram, "File runs a program on the device", vpn.Error,
		"Whoever wrote the file decides what runs on the device, mostly with an administrator's rights.", "Remove the line, unless you wrote it yourself and know what it does.", "openvpn(8), script security",
		"up /tmp/x.sh in a .ovpn file", "a file without such lines"),
	fileRule(format.DeviceTap, "Layer-2 tunnel (tap)", vpn.Warning,
		"Phones, tablets and many other clients cannot make a tap device.", "Let gateway and client use dev tun.", "openvpn(8), option dev",
		"dev tap", "dev tun"),
	fileRule(format.TunnelCompressed, "Compression inside the tunnel", vpn.Warning,
		"How well traffic can be compressed tells what is in it.", "Remove the line on both sides.", "CVE-2018-9336 (VORACLE); openvpn(8), option compress",
		"comp-lzo", "no compression"),
	fileRule(format.RoutesConflict, "Contradictory routes", vpn.Warning,
		"One line sends everything through the tunnel, another takes it back; which one counts is hard to see.", "Decide for one of them.", "openvpn(8), options redirect-gateway and route-nopull",
		"redirect-gateway beside route-nopull", "redirect-gateway alone"),
	fileRule(format.DNSIgnored, "DNS option is ignored by clients", vpn.Note,
		"Internal names do not resolve although the file seems to care for it.", "Use dhcp-option DNS and DOMAIN.", "openvpn(8), option dhcp-option",
		"dhcp-option NBDD", "dhcp-option DNS"),
	{
		Code: "phone-file-large", Title: "File is too large for a desk phone", Severity: vpn.Warning, Fields: []vpn.Field{vpn.FieldFile},
		Why: "Many phones cut the file off or refuse it.", Fix: "Use keys on P-256, and leave out certificates that the phone does not need.", Source: "practice",
		Bad:  Example{"a file of 40 kB for a phone", func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1"); s.Size = 40 << 10 }},
		Good: Example{"one of 6 kB", func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1"); s.Size = 6 << 10 }},
		look: func(s *Subject) []Hit {
			if s.phone() && s.Size > phoneLimit {
				return []Hit{{Field: vpn.FieldFile, Found: fmt.Sprintf("%d bytes, more than %d", s.Size, phoneLimit)}}
			}
			return nil
		},
	},
	{
		Code: "phone-file-pieces", Title: "Several files for a device that accepts only one", Severity: vpn.Error, Fields: []vpn.Field{vpn.FieldFile},
		Why: "The phone has no place for a second file and cannot find the keys.", Fix: "Put certificates and keys inside the file.", Source: "practice",
		Bad:  Example{"a phone's file that names ca.pem", func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1"); s.Pieces = []string{"ca.pem"} }},
		Good: Example{"a file with everything inside", func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1") }},
		look: func(s *Subject) []Hit {
			if s.phone() && len(s.Pieces) > 0 {
				return []Hit{{Field: vpn.FieldFile, Found: fmt.Sprintf("it needs %s beside it", s.Pieces[0])}}
			}
			return nil
		},
	},
}

func (s *Subject) phone() bool { return s.Release != nil && s.Release.Row.Platform == vpn.DeskPhone }
