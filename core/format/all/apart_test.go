package all_test

import (
	"fmt"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
)

// TestApart holds what of a connection may stand elsewhere than in its file, so that nobody
// misses it there.
func TestApart(t *testing.T) {
	const swan = "connections {\n n {\n  version = 2\n  remote_addrs = n.example\n  local {\n   " +
		"auth = %s\n  }\n  children {\n   c {\n   }\n  }\n }\n}\n"
	authority, identity := certified()
	beside := []format.File{
		{Name: "a.pem", Content: []byte(identity.Certificate)},
		{Name: "root.pem", Content: []byte(authority)},
	}
	book := func(strategy int, more string) string {
		return fmt.Sprintf(
			"[N]\nType=2\nVpnStrategy=%d\nPhoneNumber=n.example\nMEDIA=rastapi\n%s\n",
			strategy,
			more,
		)
	}
	onc := func(ipsec string) string {
		return `{"Type":"UnencryptedConfiguration","NetworkConfigurations":[{"GUID":"{6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11}","Name":"N","Type":"VPN","VPN":{"Host":"n.example","Type":"IKEv2","IPsec":{"IKEVersion":2,` + ipsec + `}}}]}`
	}
	sswan := func(more string) string {
		return `{"uuid":"6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11","name":"N","remote":{"addr":"n.example"},` + more + `}`
	}
	apple := func(inside, more string) string {
		return `<plist version="1.0"><dict><key>PayloadType</key><string>Configuration</string><key>PayloadUUID</key><string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string><key>PayloadContent</key><array><dict>
<key>PayloadType</key><string>com.apple.vpn.managed</string><key>VPNType</key><string>IKEv2</string><key>IKEv2</key><dict><key>RemoteAddress</key><string>n.example</string>` + inside + `</dict></dict>` + more + `</array></dict></plist>`
	}
	certificate := `<key>AuthenticationMethod</key><string>Certificate</string><key>` +
		`PayloadCertificateUUID</key><string>7F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string>`
	closed := `<dict><key>PayloadType</key><string>com.apple.security.pkcs12</string><key>` +
		`PayloadUUID</key><string>7F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string><key>` +
		`PayloadContent</key><data>MAUCAQMwAA==</data></dict>`
	for _, test := range []struct {
		name, file, data string
		apart            string
		missing          bool // told as a file that did not come along
	}{
		{"a phone book has no secrets", "a.pbk", book(3, "IpSecFlags=1"), "identity psk routes",
			false},
		{"a VPN profile has no certificates", "a.xml",
			"<VPNProfile><ProfileName>N</ProfileName><NativeProfile><Servers>n.example</Servers><NativeProtocolType>Ikev2</NativeProtocolType><Authentication><MachineMethod>Certificate</MachineMethod></Authentication></NativeProfile></VPNProfile>", "identity", false},
		{"an app chooses its certificate", "a.sswan", sswan(`"type":"ikev2-cert"`), "identity",
			false},
		{"a certificate under a passphrase", "a.sswan",
			sswan(`"type":"ikev2-cert","local":{"p12":"MAA="}`), "identity", false},
		{"looked for on the device", "a.onc",
			onc(`"AuthenticationType":"Cert","ClientCertType":"Pattern","ClientCertPattern":{}`),
			"identity", false},
		{"named and not there", "a.onc",
			onc(`"AuthenticationType":"Cert","ClientCertType":"Ref","ClientCertRef":"{x}"`), "",
			true},
		{"routes come from the gateway", "a.mobileconfig",
			apple(`<key>AuthenticationMethod</key><string>None</string><key>`+
				`ExtendedAuthEnabled</key><integer>1</integer>`, ""), "routes", false},
		{"whose passphrase is asked for", "a.mobileconfig", apple(certificate, closed),
			"routes identity", false},
		{"a payload that is not there", "a.mobileconfig", apple(certificate, ""), "routes", true},
		{"secrets in a file of their own", "a.conf", fmt.Sprintf(swan, "psk"), "psk password", false},
		{"keys in a folder of their own", "a.conf", fmt.Sprintf(swan, "pubkey\n   certs = a.pem"),
			"identity psk password", false},
		{"secrets of somebody else", "a.conf", fmt.Sprintf(swan, "psk") +
			"secrets {\n ike-x {\n  id = m.example\n  secret = x\n }\n}\n", "", false},
		{"nothing", "a.ovpn", "client\nremote n.example\nremote-cert-tls server\n", "", false},
	} {
		t.Run(test.file+"/"+test.name, func(t *testing.T) {
			r := all.Read(test.file, []byte(test.data), format.Files(beside))
			if len(r.Connections) != 1 {
				t.Fatalf("%d connections, notes %v", len(r.Connections), r.Notes)
			}
			var names []string
			for _, f := range r.Connections[0].Apart {
				names = append(names, string(f))
			}
			if got := strings.Join(names, " "); got != test.apart {
				t.Errorf("elsewhere may be %q, expected %q", got, test.apart)
			}
			missing := false
			for _, n := range r.Notes {
				missing = missing || n.Kind == format.FileMissing
			}
			if missing != test.missing {
				t.Errorf("told as missing: %t", missing)
			}
		})
	}
}
