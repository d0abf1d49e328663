package all_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/vpn"
)

// TestElsewhere reads files as other hands and other tools write them.
func TestElsewhere(t *testing.T) {
	authority, identity := certified()
	static := staticKey
	ovpn := func(lines ...string) string {
		return "client\ndev tun\n" + strings.Join(lines, "\n") +
			"\n"
	}
	onc := func(part string) string {
		return `{"Type":"UnencryptedConfiguration","NetworkConfigurations":[{"GUID":"{6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11}","Name":"N","Type":"VPN","VPN":{"Host":"n.example",` + part + `}}]}`
	}
	swan := func(lines ...string) string {
		return "connections {\n n {\n  version = 2\n  remote_addrs = n.example\n" + strings.Join(
			lines,
			"\n",
		) + "\n  children {\n   c {\n    remote_ts = 10.1.0.0/16,10.2.0.0/16 # two\n   }\n  }\n " +
			"}\n}\n"
	}
	book := func(lines ...string) string {
		return "; of a " +
			"laptop\r\n[Norrvik]\r\nType=2\r\nVpnStrategy=5\r\nPhoneNumber=n.example\r\n" +
			"MEDIA=rastapi\r\n" + strings.Join(
			lines,
			"\r\n",
		) + "\r\n"
	}
	for _, test := range []struct {
		name, file, data string
		beside           []format.File
		show             func(vpn.Connection) any
		want             string
	}{
		{"port and protocol apart", "a.ovpn", ovpn("remote n.example",
			"port 443", "proto tcp-client"), nil, func(c vpn.Connection) any {
			return c.TLS.Remotes
		}, "[{n.example 443 tcp}]"},
		{"the registered port", "a.ovpn", ovpn("remote n.example"), nil,
			func(c vpn.Connection) any { return c.TLS.Remotes }, "[{n.example 1194 udp}]"},
		{"several remotes", "a.ovpn", ovpn("proto udp6",
			"remote a.example 1", "remote b.example 2 tcp4-client"), nil,
			func(c vpn.Connection) any {
				return c.TLS.Remotes
			}, "[{a.example 1 udp} {b.example 2 " +
				"tcp}]"},
		{"remarks of both kinds", "a.ovpn", "# Norrvik\n; old\n" + ovpn("remote n.example 443 # "+
			"here"), nil, func(c vpn.Connection) any { return c.TLS.Remotes[0].Port }, "443"},
		{"authority beside", "a.ovpn", ovpn("remote n.example", "ca keys/ca.crt"),
			[]format.File{{
				Name: "ca.crt",
				Content: []byte("a remark\n" +
					authority),
			}}, func(c vpn.Connection) any {
				return c.Authority == authority
			}, "true"},
		{"certificate and key beside", "a.ovpn", ovpn("remote n.example",
			`cert "C:\\keys\\c.crt"`, "key c.key", "auth-user-pass"), []format.File{
			{
				Name:    "c.crt",
				Content: []byte(identity.Certificate),
			},
			{Name: "c.key", Content: []byte(identity.Key.Reveal())},
		},
			func(c vpn.Connection) any { return c.TLS.Auth }, "certificate-password"},
		{"key with its direction", "a.ovpn", ovpn("remote n.example", "tls-auth ta.key 1"),
			[]format.File{{
				Name: "ta.key",
				Content: []byte("#\n# 2048 bit\n#\n" +
					static),
			}}, func(c vpn.Connection) any { return c.TLS.Control.Direction }, "1"},
		{"login in a file", "a.ovpn", ovpn("remote n.example", "auth-user-pass login.txt"),
			[]format.File{{
				Name:    "login.txt",
				Content: []byte("ada\r\npw word\r\n"),
			}}, func(c vpn.Connection) any {
				return c.Login + "/" + c.Password.Reveal()
			}, "ada/pw word"},
		{"routes of both families", "a.ovpn", ovpn("remote n.example", "route 10.1.0.0 "+
			"255.255.0.0", "route 10.2.3.4", "route-ipv6 2001:db8::/32"), nil,
			func(c vpn.Connection) any { return c.Routes }, "[10.1.0.0/16 10.2.3.4/32 " +
				"2001:db8::/32]"},
		{"everything through it", "a.ovpn", ovpn("remote n.example", "redirect-gateway def1 ipv6 "+
			"bypass-dhcp"), nil, func(c vpn.Connection) any {
			return fmt.Sprint(c.Tunnel, " ", c.IPv6)
		}, "full carried"},
		{"old names of ciphers", "a.ovpn", ovpn("remote n.example",
			"cipher BF-CBC", "ns-cert-type server"), nil, func(c vpn.Connection) any {
			return c.TLS.Ciphers
		}, "[BF-CBC]"},

		{"two networks and a remark", "a.conf", swan(), nil,
			func(c vpn.Connection) any { return c.Routes }, "[10.1.0.0/16 10.2.0.0/16]"},
		{"its own name without ours", "a.conf", swan(), nil,
			func(c vpn.Connection) any { return c.Name }, "n"},
		{"hours and days", "a.conf", swan("  rekey_time = 4h",
			"  dpd_delay = 2m", "  local {", "   auth = eap-mschapv2", "  }"), nil,
			func(c vpn.Connection) any {
				return fmt.Sprint(c.IKEv2.IKELifetime,
					c.IKEv2.DPD)
			}, "240 120"},
		{"proposals by other names", "a.conf", swan("  proposals = "+
			"aes256-sha2_256-modp2048,default", "  local {", "   auth = psk", "  }"), nil,
			func(c vpn.Connection) any { return c.IKEv2.IKE }, "[aes256-sha256-modp2048]"},
		{"a plain secret", "a.conf", swan("  local {", "   auth = psk", "  }") +
			"secrets {\n ike-1 {\n  secret = \"a \\\"b\\\" # c\"\n }\n}\n", nil,
			func(c vpn.Connection) any { return c.IKEv2.PSK.Reveal() }, `a "b" # c`},
		{"the secret of its own gateway", "a.conf", swan("  local {", "   auth = psk", "  }") +
			"secrets {\n ike-1 {\n  id = m.example\n  secret = other\n }\n ike-2 {\n  id-1 = " +
			"n.example\n  secret = mine\n }\n}\n", nil, func(c vpn.Connection) any {
			return c.IKEv2.PSK.Reveal()
		}, "mine"},
		{"the secret of nobody else", "a.conf", swan("  local {", "   auth = psk", "  }") +
			"secrets {\n ike-1 {\n  id = m.example\n  secret = other\n }\n}\n", nil,
			func(c vpn.Connection) any { return c.IKEv2.PSK.IsZero() }, "true"},

		{"bare words", "a.uci", "set network.v=interface\nset network.v.proto=pptp\nset " +
			"network.v.server=n.example\nset network.v.username=ada\n", nil,
			func(c vpn.Connection) any {
				return c.Name + " " + c.Login + " " +
					string(c.Tunnel)
			}, "v ada full"},
		{"quotes of both kinds", "a.uci", "set network.v=interface\nset " +
			"network.v.proto=\"pptp\"\nset network.v.password='it'\\''s'\" $x\"\n", nil,
			func(c vpn.Connection) any { return c.Password.Reveal() }, "it's $x"},
		{"another port of SSTP", "a.uci",
			"set network.v=interface\nset network.v.proto=sstp\nset " +
				"network.v.server=n.example:8443\n", nil, func(c vpn.Connection) any {
				return fmt.Sprint(c.Server, " ", c.SSTP.Port)
			}, "n.example 8443"},

		{"one proposal", "a.sswan",
			`{"uuid":"6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11","name":"N","type":"ikev2-eap","remote":{"addr":"n.example"},"ike-proposal":"aes256gcm16-prfsha384-ecp384"}`, nil, func(c vpn.Connection) any { return c.IKEv2.IKE }, "[aes256gcm16-prfsha384-ecp384]"},
		{"networks in one text", "a.sswan",
			`{"uuid":"6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11","name":"N","type":"ikev2-eap","remote":{"addr":"n.example"},"split-tunneling":{"subnets":"10.1.0.0/16 10.2.0.0/16"}}`, nil, func(c vpn.Connection) any { return c.Routes }, "[10.1.0.0/16 10.2.0.0/16]"},

		{"L2TP with its key", "a.onc",
			onc(`"Type":"L2TP-IPsec","L2TP":{"Username":"ada"},"IPsec":{"AuthenticationType":"PSK","IKEVersion":1,"PSK":"key"}`), nil, func(c vpn.Connection) any { return c.Login + c.L2TP.PSK.Reveal() }, "adakey"},
		{"extra hosts", "a.onc",
			onc(`"Type":"OpenVPN","OpenVPN":{"Port":443,"Proto":"tcp","ExtraHosts":["m.example"],"UserAuthenticationType":"Password","Username":"ada"}`), nil, func(c vpn.Connection) any { return c.TLS.Remotes }, "[{n.example 443 tcp} {m.example 443 tcp}]"},

		{"the last port wins", "a.pbk", book("Device=WAN Miniport (SSTP)", "Port=VPN0-1"), nil,
			func(c vpn.Connection) any {
				return fmt.Sprint(c.Protocol,
					" ", c.SSTP.Port, " ", c.Tunnel)
			}, "sstp 443 split"},
		{"servers of names that are not in use", "a.pbk",
			book("IpNameAssign=1", "IpDnsAddress=10.0.0.1"), nil, func(c vpn.Connection) any {
				return c.DNS
			}, "[]"},

		{"device management", "a.xml",
			"<VPNProfile><ProfileName>N</ProfileName><NativeProfile><Servers>n.example</Servers><NativeProtocolType>L2tp</NativeProtocolType><L2tpPsk>k&amp;y</L2tpPsk><Authentication><UserMethod>MSChapv2</UserMethod></Authentication></NativeProfile></VPNProfile>", nil, func(c vpn.Connection) any { return fmt.Sprint(c.L2TP.PSK.Reveal(), " ", c.Tunnel, " ", c.L2TP.PPP) }, "k&y full [mschapv2]"},
	} {
		t.Run(test.file+"/"+test.name, func(t *testing.T) {
			r := all.Read(test.file, []byte(test.data), format.Files(test.beside))
			if len(r.Connections) != 1 {
				t.Fatalf("%d connections, notes %v", len(r.Connections), r.Notes)
			}
			if got := fmt.Sprint(test.show(r.Connections[0].Connection)); got != test.want {
				t.Errorf("read %s, expected %s; notes %v", got, test.want, r.Notes)
			}
		})
	}
}

// TestElsewhereBroken reads what other hands got wrong: each is remarked with its line.
func TestElsewhereBroken(t *testing.T) {
	for _, test := range []struct {
		file, data string
		kind       format.NoteKind
		line       int
		found      string
	}{
		{"a.ovpn", "client\n", format.Unreadable, 1, "no remote"},
		{"a.ovpn", "client\nremote n.example 99999\n", format.KeyMalformed, 2, "up to 65535"},
		{"a.ovpn", "client\nremote n.example\n<ca>\nx\n", format.BlockOpen, 3, "ca"},
		{"a.ovpn", "client\nremote n.example\n<ca>\nx\n</ca>\n", format.KeyMalformed, 0,
			"certificate"},
		{"a.ovpn", "client\nremote n.example\nca gone.crt\n", format.FileMissing, 3, "gone.crt"},
		{"a.ovpn", "client\nremote n.example\nup /bin/calc\n", format.RunsProgram, 3, "up"},
		{"a.ovpn", "client\nremote n.example\nroute-up \"/bin/calc 1\"\n", format.RunsProgram, 3,
			"route-up"},
		{"a.ovpn", "client\nremote n.example\ncomp-lzo\n", format.TunnelCompressed, 3, "comp-lzo"},
		{"a.ovpn", "client\nremote n.example\nfrobnicate 1\n", format.OptionUnknown, 3,
			"frobnicate"},
		{"a.ovpn", "client\nremote n.example\nroute 10.0.0.0 255.0.255.0\n", format.KeyMalformed, 3,
			"no mask"},
		{"a.ovpn", "client\nremote n.example\nroute vpn_gateway\n", format.KeyMalformed, 3,
			"an address and a mask"},
		{"a.ovpn", "client\nremote n.example\nroute-ipv6 10.0.0.0\n", format.KeyMalformed, 3,
			"CIDR"},
		{"a.ovpn", "client\nremote n.example \"443\n", format.Unreadable, 2, "quote"},
		{"a.ovpn", "client\nremote n.example\n<tls-auth>\nabc\n</tls-auth>\n",
			format.ControlMalformed, 0, "control channel"},

		{"a.conf", "connections {\n n {\n", format.CutShort, 3, "does not end"},
		{"a.conf", "connections {\n}\n}\n", format.Unreadable, 3, "without a section"},
		{"a.conf", "connections {\n n {\n  version\n }\n}\n", format.Unreadable, 3, "key = value"},
		{"a.conf", "connections {\n}\n", format.Unreadable, 1, "no connection"},
		{"a.conf", "connections {\n" + strings.Repeat("a {\n", 20), format.Unreadable, 10,
			"deeper"},
		{"a.conf", "connections {\n n {\n  version = 2\n  version = 1\n }\n}\n", format.KeyTwice, 4,
			"version"},
		{"a.conf", "connections {\n n {\n  proposals = aes256-rot13\n }\n}\n", format.KeyMalformed,
			3, "rot13"},
		{"a.conf", "connections {\n n {\n  dpd_delay = soon\n }\n}\n", format.KeyMalformed, 3,
			"30s"},
		{"a.conf", "connections {\n n {\n  local {\n   auth = hope\n  }\n }\n}\n",
			format.KeyMalformed, 4, "hope"},
		{"a.conf", "connections {\n n {\n  remote_addrs = \"n.example\n }\n}\n",
			format.KeyMalformed, 3, "quote"},
		{"a.conf", "connections {\n n {\n  version = 1\n }\n}\n", format.NotYetRead, 3, "without L2TP"},
		{"a.conf", "connections {\n n {\n  children {\n   a {\n    mode = tunnel\n   }\n   b " +
			"{\n    mode = tunnel\n   }\n  }\n }\n}\n", format.NotYetRead, 2, "2 children"},

		{"a.uci", "rm -rf /\n", format.Unreadable, 1, "expected set"},
		{"a.uci", "set network.v\n", format.Unreadable, 1, "without a value"},
		{"a.uci", "set network.v='x' ; reboot\n", format.Unreadable, 1, "after the value"},
		{"a.uci", "set network.v='x\n", format.Unreadable, 1, "quote"},
		{"a.uci", "set system.v=led\n", format.Unreadable, 1, "no interface"},
		{"a.uci", "set network.v=interface\nset network.v.proto=dhcp\n", format.Unrelated, 2,
			"dhcp"},
		{"a.uci", "set network.v=interface\nset network.v.proto=pptp\nset network.v.proto=sstp\n",
			format.KeyTwice, 3, "proto"},
		{"a.uci", "set network.v=interface\nset network.v.proto=l2tp\n", format.FileMissing, 2,
			"a.conf"},
		{"a.uci", "set network.v=interface\nset network.v.proto=pptp\nset " +
			"network.v.pppd_options='require-mppe-512'\n", format.OptionUnknown, 3, "mppe-512"},
		{"a.uci", "set openvpn.v=openvpn\nset openvpn.v.config='/etc/v.ovpn'\n", format.FileMissing,
			2, "v.ovpn"},

		{"a.sswan", `[]`, format.Unreadable, 1, "array at the top"},
		{"a.sswan", "{\"type\":\"ikev2-eap\",\n\"name\":7}", format.KeyMalformed, 2, "integer"},
		{"a.sswan", "{\"type\":\"ikev9\",\"name\":\"n\"}", format.KeyMalformed, 0, "ikev9"},
		{"a.sswan", "{\"type\":\"ikev2-eap\",\n\"colour\":\"red\"}", format.KeyUnknown, 2,
			"colour"},

		{"a.onc", `{"Type":"EncryptedConfiguration","Ciphertext":"x"}`, format.NotYetRead, 1,
			"under a passphrase"},
		{"a.onc", `{"NetworkConfigurations":{}}`, format.KeyMalformed, 1, "no array"},
		{"a.onc", "{\"NetworkConfigurations\":[\n{\"Type\":\"WiFi\"}]}", format.Unrelated, 2,
			"WiFi"},
		{"a.onc", "{\"NetworkConfigurations\":[\n" +
			"{\"Type\":\"VPN\",\"GUID\":\"x\",\"VPN\":{\"Type\":\"WireGuard\"}}]}",
			format.NotYetRead, 2, "WireGuard"},
		{"a.onc", "{\"Certificates\":[{\"GUID\":\"{1}\",\"X509\":\"***\"}],\"NetworkConfigurations\":[]}", format.KeyMalformed, 1, "not base64"},
		{"a.onc", "{\"Certificates\":[{\"GUID\":\"{1}\",\"PKCS12\":\"AAAA\"}],\"NetworkConfigurations\":[]}", format.KeyMalformed, 1, ""},

		{"a.pbk", "[N\n", format.Unreadable, 1, "neither an entry"},
		{"a.pbk", "[N]\nType=2\nType=1\n", format.KeyTwice, 3, "Type"},
		{"a.pbk", "[N]\nType=two\n", format.KeyMalformed, 2, "expected a number"},
		{"a.pbk", "[N]\nType=1\nMEDIA=serial\n", format.Unrelated, 1, "type 1"},
		{"a.pbk", "[N]\nType=2\nVpnStrategy=2\n", format.SeveralProtocols, 3, "PPTP first"},
		{"a.pbk", "[N]\nType=2\nVpnStrategy=7\nGuid=xyz\nCustomAuthKey=26\n", format.KeyMalformed,
			4, "32 hexadecimal"},

		{"a.xml", "<VPNProfile/>", format.NotYetRead, 1, "without NativeProfile"},
		{"a.xml", "<VPNProfile>\n<NativeProfile/><Colour/></VPNProfile>", format.KeyUnknown, 2,
			"Colour"},
		{"a.xml", "<VPNProfile><NativeProfile>\n" +
			"<RoutingPolicyType>Some</RoutingPolicyType></NativeProfile></VPNProfile>",
			format.KeyMalformed, 2, "ForceTunnel"},
		{"a.xml", "<VPNProfile><NativeProfile/><AlwaysOn>perhaps</AlwaysOn></VPNProfile>",
			format.KeyMalformed, 1, "true or false"},
		{"a.xml", "<VPNProfile><NativeProfile/>\n<NativeProfile/></VPNProfile>", format.KeyTwice, 2,
			"NativeProfile"},
		{"a.xml", "<VPNProfile><NativeProfile/><Route><Address>10.0.0.0</Address><PrefixSize>99</PrefixSize></Route></VPNProfile>", format.KeyMalformed, 1, "prefix size"},
		{"a.xml", "<!DOCTYPE x><VPNProfile/>", format.Unreadable, 1, "document type"},
	} {
		r := all.Read(test.file, []byte(test.data), nil)
		i := slices.IndexFunc(r.Notes, func(n format.Note) bool {
			return n.Kind == test.kind && strings.Contains(n.Found, test.found) &&
				(test.line == 0 || n.At.Line == test.line)
		})
		if i < 0 {
			t.Errorf(
				"%s %.100q: notes %v, expected %s at line %d about %q",
				test.file,
				test.data,
				r.Notes,
				test.kind,
				test.line,
				test.found,
			)
		}
		for _, n := range r.Notes {
			if n.At.File == "" || n.At.Line == 0 {
				t.Errorf("%s %.100q: %v has no place", test.file, test.data, n)
			}
		}
	}
}
