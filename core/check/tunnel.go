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
	fileRule(
		format.RoleUnchecked,
		"Server usage of the gateway's certificate is not checked",
		vpn.Warning,
		"Any client with a certificate of the same CA can impersonate the gateway.",
		"Add remote-cert-tls server.",
		"openvpn(8), option remote-cert-tls",
		"a .ovpn file without remote-cert-tls",
		"one with remote-cert-tls server",
	),
	fileRule(
		format.CheckSwitchedOff,
		"Verification of the gateway's certificate is disabled",
		vpn.Error,
		"Anybody on the path can impersonate the gateway and steal the password.",
		"Enable the check, and add the CA certificate.",
		"RFC 9525 §6",
		"ignore-cert-warn=yes in a keyfile",
		"ignore-cert-warn=no",
	),
	fileRule(
		format.ControlMalformed,
		"Control-channel key is malformed",
		vpn.Error,
		"The client refuses to start.",
		"Copy the key from the gateway again, including its first and last line.",
		"openvpn(8), options tls-auth and tls-crypt",
		"a key cut in half",
		"a key of 16 lines between its marks",
	),
	fileRule(
		format.ControlTwice,
		"Two kinds of control-channel key at once",
		vpn.Error,
		"The client uses one of them, and the gateway may expect the other.",
		"Keep the one that the gateway uses.",
		"openvpn(8)",
		"tls-auth and tls-crypt in one file",
		"tls-crypt alone",
	),
	fileRule(
		format.BlockOpen,
		"Inline block is not closed",
		vpn.Error,
		"Everything after it becomes part of the block; the client rejects the file.",
		"Add the closing mark where the block ends.",
		"openvpn(8), inline file support",
		"<ca> without </ca>",
		"a block with both marks",
	),
	fileRule(
		format.BlockEmpty,
		"Inline block is empty",
		vpn.Error,
		"The client finds no certificate or key there.",
		"Add the content, or remove the block.",
		"openvpn(8), inline file support",
		"<ca></ca>",
		"a block with a certificate",
	),
	fileRule(
		format.DirectiveOutdated,
		"Directive is no longer supported by current clients",
		vpn.Warning,
		"Current clients reject the file or ignore the line.",
		"Replace it with its successor.",
		"openvpn(8), deprecated options",
		"ns-cert-type server",
		"remote-cert-tls server",
	),
	unknownOptionRule(),
	fileRule(
		format.OptionConflict,
		"Option does not fit the others",
		vpn.Error,
		"The client refuses to start, or the connection fails.",
		"Remove or correct the line.",
		"openvpn(8); OpenVPN 2.6: Options error",
		"fragment with a remote over TCP",
		"fragment with remotes over UDP",
	),
	fileRule(
		format.OptionValue,
		"Option value is refused by the client",
		vpn.Error,
		"The client refuses the whole file.",
		"Enter a value that the client knows.",
		"openvpn(8); swanctl.conf(5); NetworkManager's plugins",
		"remote-cert-tls gateway",
		"remote-cert-tls server",
	),
	fileRule(
		format.ValueMisread,
		"Value is read differently by the client",
		vpn.Warning,
		"The client reads a number up to the first other character and ignores the rest.",
		"Enter a plain number.",
		"openvpn(8); atoi(3)",
		"reneg-sec 1h",
		"reneg-sec 3600",
	),
	fileRule(
		format.OptionOlder,
		"Older clients refuse the option",
		vpn.Warning,
		"Clients of earlier releases refuse the whole file.",
		"Remove the line, or require a current client.",
		"openvpn(8) of 2.4, 2.5 and 2.6",
		"explicit-exit-notify with a remote over TCP",
		"explicit-exit-notify with remotes over UDP",
	),
	fileRule(
		format.OptionWindows,
		"Option that only Windows clients know",
		vpn.Note,
		"Clients on other systems refuse the whole file.",
		"Write setenv opt in front of it, or use the file on Windows only.",
		"openvpn(8), Windows-specific options",
		"block-outside-dns",
		"setenv opt block-outside-dns",
	),
	fileRule(
		format.RunsProgram,
		"File runs a program on the device",
		vpn.Error,
		"Whoever wrote the file decides what runs on the device, usually with administrator "+
			"rights.",
		"Remove the line, unless you wrote it yourself and know what it does.",
		"openvpn(8), script security",
		"up /tmp/x.sh in a .ovpn file",
		"a file without such lines",
	),
	fileRule(
		format.DeviceTap,
		"Layer-2 tunnel (tap)",
		vpn.Warning,
		"Phones, tablets and many other clients cannot make a tap device.",
		"Use dev tun on gateway and client.",
		"openvpn(8), option dev",
		"dev tap",
		"dev tun",
	),
	fileRule(
		format.TunnelCompressed,
		"Compression inside the tunnel",
		vpn.Warning,
		"The compression ratio leaks information about the traffic.",
		"Remove the line on both sides.",
		"CVE-2018-9336 (VORACLE); openvpn(8), option compress",
		"comp-lzo",
		"no compression",
	),
	fileRule(
		format.RoutesConflict,
		"Contradictory routes",
		vpn.Warning,
		"One line routes everything through the tunnel, another does not; it is unclear which one "+
			"applies.",
		"Keep one of them.",
		"openvpn(8), options redirect-gateway and route-nopull",
		"redirect-gateway beside route-nopull",
		"redirect-gateway alone",
	),
	fileRule(
		format.DNSIgnored,
		"DNS option is ignored by clients",
		vpn.Note,
		"Internal names do not resolve although the file seems to set it up.",
		"Use dhcp-option DNS and DOMAIN.",
		"openvpn(8), option dhcp-option",
		"dhcp-option NBDD",
		"dhcp-option DNS",
	),
	{
		Code:     "phone-file-large",
		Title:    "File is too large for a desk phone",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldFile},
		Why:      "Many phones truncate the file or reject it.",
		Fix:      "Use P-256 keys, and remove certificates that the phone does not need.",
		Source:   "practice",
		Bad: Example{
			"a file of 40 kB for a phone",
			func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1"); s.Size = 40 << 10 },
		},
		Good: Example{
			"one of 6 kB",
			func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1"); s.Size = 6 << 10 },
		},
		run: func(s *Subject) []Hit {
			if s.phone() && s.Size > phoneLimit {
				return []Hit{
					{
						Field: vpn.FieldFile,
						Found: fmt.Sprintf("%d bytes, more than %d", s.Size, phoneLimit),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "phone-file-pieces",
		Title:    "Several files for a device that accepts only one",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldFile},
		Why:      "The phone accepts one file only and cannot find the keys.",
		Fix:      "Embed certificates and keys in the file.",
		Source:   "practice",
		Bad: Example{
			"a phone's file that names ca.pem",
			func(s *Subject) {
				*s = *soundBy(vpn.TLS, vpn.DeskPhone,
					"1")
				s.Pieces = []string{"ca.pem"}
			},
		},
		Good: Example{
			"a file with everything inside",
			func(s *Subject) { *s = *soundBy(vpn.TLS, vpn.DeskPhone, "1") },
		},
		run: func(s *Subject) []Hit {
			if s.phone() && len(s.Pieces) > 0 {
				return []Hit{
					{
						Field: vpn.FieldFile,
						Found: fmt.Sprintf("it needs %s beside it", s.Pieces[0]),
					},
				}
			}
			return nil
		},
	},
}

func (s *Subject) phone() bool {
	return s.Release != nil &&
		s.Release.Row.Platform == vpn.DeskPhone
}

// unknownOptionRule finds options that stop the client; on another system than Windows also those
// that only clients there know.
func unknownOptionRule() Rule {
	r := fileRule(
		format.OptionUnknown,
		"Option is unknown to the client",
		vpn.Error,
		"The client refuses the whole file.",
		"Correct the spelling, or remove the line; setenv opt NAME lets other clients skip it.",
		"openvpn(8); OpenVPN 2.6: Unrecognized option",
		"key-method 2",
		"setenv opt block-outside-dns",
	)
	unknown, foreign := r.run, noted(format.OptionWindows)
	r.run = func(s *Subject) []Hit {
		hits := unknown(s)
		if s.Release != nil && s.Release.Row.Platform != vpn.Windows {
			hits = append(hits, foreign(s)...)
		}
		return hits
	}
	return r
}
