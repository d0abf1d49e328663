package all_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

func plainSample() vpn.Connection {
	c := format.Bare(sample(vpn.L2TP))
	c.Routes, c.Login = []string{"10.20.0.0/16"}, "a_fjell@crew"
	return c
}

// written makes the first file of a format, or fails.
func written(t *testing.T, name string, c vpn.Connection) string {
	t.Helper()
	for _, codec := range all.Codecs {
		if string(codec.Name) == name {
			files, err := codec.Write(c)
			if err != nil {
				t.Fatal(err)
			}
			return string(files[0].Content)
		}
	}
	t.Fatalf("no format %s", name)
	return ""
}

// TestKeyfileText holds the keyfile to the letter: NetworkManager and its plugin read
// these keys and no others.
func TestKeyfileText(t *testing.T) {
	want := `[connection]
id=Skerry Line Norrvik
uuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11
type=vpn
autoconnect=false

[vpn]
service-type=org.freedesktop.NetworkManager.l2tp
gateway=norrvik.skerryline.example
user=a_fjell@crew
password-flags=0
user-auth-type=password
refuse-eap=yes
refuse-mschap=yes
refuse-chap=yes
refuse-pap=yes
ipsec-enabled=yes
machine-auth-type=psk
ipsec-psk-flags=0
ipsec-ike=aes256-sha2_256-modp2048
ipsec-esp=aes256-sha2_256

[vpn-secrets]
ipsec-psk=0sa2V5
password=pw

[ipv4]
method=auto
dns=10.20.0.53;
dns-search=inside.skerryline.example;
route1=10.20.0.0/16
never-default=true

[ipv6]
method=ignore
never-default=true
`
	if got := written(t, "keyfile", plainSample()); got != want {
		t.Errorf("written is\n%s", got)
	}
}

// TestScriptText holds the block of data of the install script to the letter, and the
// script to Windows's ways: byte order mark, CR LF, no variable in the data.
func TestScriptText(t *testing.T) {
	c := plainSample()
	c.Name, c.L2TP.PSK = "Skerry's ‘Norrvik’", secret.New("$(calc)`n'; Remove-Item C:\\ #")
	got := written(t, "powershell", c)
	want := `$Connection = @{
    Id               = '6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11'
    Organisation     = 'Skerry Line'
    Name             = 'Skerry''s ‘‘Norrvik’’'
    Tunnel           = 'L2tp'
    ServerAddress    = 'norrvik.skerryline.example'
    PreSharedKey     = '$(calc)` + "`" + `n''; Remove-Item C:\ #'
    Authorities      = @()
    Identity         = ''
    Passphrase       = ''
    Thumbprints      = @()
    PersonIdentity   = $false
    Authentication   = @('MSChapv2')
    Eap              = ''
    Encryption       = 'Required'
    Algorithms       = @('AES256', 'SHA256128', 'AES256', 'SHA256', 'Group14', 'None')
    Login            = 'a_fjell@crew'
    Remember         = $true
    Password         = 'pw'
    AllUsers         = $true
    SplitTunnel      = $true
    Routes           = @('10.20.0.0/16')
    DnsServers       = @('10.20.0.53')
    Domains          = @('inside.skerryline.example')
    GatewayBehindNat = $true
    AtSignIn         = $false
    DemandDomains    = @()
    TrustedSuffixes  = @()
    ProxyScript      = ''
    ProxyServer      = ''
    ProxyBypass      = @()
}
`
	if !strings.Contains(got, strings.ReplaceAll(want, "\n", "\r\n")) {
		t.Errorf("written is\n%s", got)
	}
	if !strings.HasPrefix(got, "\ufeff#") ||
		strings.Count(got, "\n") != strings.Count(got, "\r\n") {
		t.Error("byte order mark or line ends are not Windows's")
	}
	for _, cmdlet := range []string{"Add-VpnConnection ", "Set-VpnConnection ",
		"Add-VpnConnectionRoute", "Remove-VpnConnectionRoute", "Set-Service",
		"AssumeUDPEncapsulationContextOnSendRule", "RasSetCredentialsW", "Compare-Object",
		"Add-DnsClientNrptRule"} {
		if !strings.Contains(got, cmdlet) {
			t.Errorf("the script does not use %s", cmdlet)
		}
	}
	if strings.Contains(got, "Invoke-Expression") {
		t.Error("the script evaluates text")
	}
	codec, _ := all.ByName("powershell")
	files, err := codec.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	if removal := string(
		files[1].Content,
	); strings.Contains(removal, "calc") || strings.Contains(removal, "'pw'") ||
		files[1].Private {
		t.Error("the removal script holds a secret")
	}
}

// TestAppleText holds the profile to the keys and types of Apple's reference.
func TestAppleText(t *testing.T) {
	got := written(t, "apple", plainSample())
	for _, want := range []string{
		"<key>PayloadType</key>\n\t<string>Configuration</string>",
		"<key>PayloadScope</key>\n\t<string>System</string>",
		"<key>PayloadUUID</key>\n\t<string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string>",
		"<key>PayloadIdentifier</key>\n\t<string>example.skerryline.vpn.p-1</string>",
		"<key>PayloadType</key>\n\t\t\t<string>com.apple.vpn.managed</string>",
		"<key>VPNType</key>\n\t\t\t<string>L2TP</string>",
		"<key>SharedSecret</key>\n\t\t\t\t<data>a2V5</data>",
		"<key>AuthenticationMethod</key>\n\t\t\t\t<string>SharedSecret</string>",
		"<key>OverridePrimary</key>\n\t\t\t\t<integer>0</integer>",
		"<key>AuthName</key>\n\t\t\t\t<string>a_fjell@crew</string>",
		"<key>AuthPassword</key>\n\t\t\t\t<string>pw</string>",
		"<key>CommRemoteAddress</key>\n\t\t\t\t<string>norrvik.skerryline.example</string>",
		"<key>PayloadVersion</key>\n\t<integer>1</integer>",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("not in the profile: %q", want)
		}
	}
	c := plainSample()
	c.PasswordMode, c.Tunnel, c.Scope = vpn.PasswordPrompted, vpn.TunnelFull, vpn.ScopePerson
	got = written(t, "apple", c)
	for _, want := range []string{"<string>User</string>", "<integer>1</integer>\n\t\t\t</dict>"} {
		if !strings.Contains(got, want) {
			t.Errorf("not in the profile: %q", want)
		}
	}
	if strings.Contains(got, "AuthPassword") {
		t.Error("a password that is prompted for is in the profile")
	}
}

// TestRefusedByName gives writers values that they cannot carry.
func TestRefusedByName(t *testing.T) {
	for _, test := range []struct {
		format string
		field  vpn.Field
		change func(*vpn.Connection)
	}{
		{"apple", vpn.FieldUUID, func(c *vpn.Connection) { c.UUID = "x" }},
		{"apple", vpn.FieldProtocol, func(c *vpn.Connection) { c.L2TP = nil }},
		{"apple", vpn.FieldPSK, func(c *vpn.Connection) { c.L2TP.PSK = secret.New("a\x01") }},
		{"keyfile", vpn.FieldProtocol, func(c *vpn.Connection) { c.L2TP = nil }},
		{"keyfile", vpn.FieldDNS, func(c *vpn.Connection) { c.DNS = []string{"dns.example"} }},
		{"keyfile", vpn.FieldRoutes, func(c *vpn.Connection) { c.Routes = []string{"10.0.0.0;1"} }},
		{"keyfile", vpn.FieldIKE,
			func(c *vpn.Connection) { c.L2TP.IKE = []string{"aes256,evil=1"} }},
		{"keyfile", vpn.FieldESP, func(c *vpn.Connection) { c.L2TP.ESP = []string{"x"} }},
		{"keyfile", vpn.FieldLogin,
			func(c *vpn.Connection) { c.Login = "a\ngateway=evil.example" }},
		{"powershell", vpn.FieldProtocol, func(c *vpn.Connection) { c.L2TP = nil }},
		{"powershell", vpn.FieldPPP,
			func(c *vpn.Connection) { c.L2TP.PPP = []suite.PPPMethod{suite.MSCHAP} }},
		{"powershell", vpn.FieldLogin,
			func(c *vpn.Connection) { c.Login = strings.Repeat("😀", 129) }},
		{"powershell", vpn.FieldPassword,
			func(c *vpn.Connection) { c.Password = secret.New(strings.Repeat("x", 257)) }},
	} {
		c := plainSample()
		test.change(&c)
		i := slices.IndexFunc(
			all.Codecs,
			func(codec format.Codec) bool { return string(codec.Name) == test.format },
		)
		_, err := all.Codecs[i].Write(c)
		unfit, ok := err.(*format.UnfitError)
		if !ok || unfit.Field != test.field || unfit.Expected == "" ||
			strings.Contains(err.Error(), "xxx") {
			t.Errorf("%s: %v, expected a refusal of %s", test.format, err, test.field)
			continue
		}
		s := check.Sound()
		if f := check.Unfit(
			s,
			unfit,
		); f.Rule != check.CodeUnfit || f.Severity != vpn.Error || f.Place == nil ||
			!strings.Contains(f.Found, unfit.Expected) {
			t.Errorf("%s as a finding: %+v", test.format, f)
		}
	}
}

// TestForeignFiles reads files as other tools write them.
func TestForeignFiles(t *testing.T) {
	keyfile := func(lines ...string) string {
		return "[connection]\nid=Norrvik\nuuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11\ntype=vpn\n\n" +
			"[vpn]\nservice-type=org.freedesktop.NetworkManager.l2tp\nipsec-enabled=yes\n" +
			"gateway=n.example\n" + strings.Join(
			lines,
			"\n",
		) + "\n"
	}
	profile := func(vpnPart string) string {
		return `<?xml version="1.0" encoding="UTF-8"?><!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd"><plist version="1.0"><dict>
<key>PayloadType</key><string>Configuration</string><key>PayloadUUID</key><string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string>
<key>PayloadContent</key><array><dict><key>PayloadType</key><string>com.apple.vpn.managed</string>` + vpnPart + `</dict></array></dict></plist>`
	}
	for _, test := range []struct {
		name, file, data string
		show             func(vpn.Connection) string
		want             string
	}{
		{"key where older plugins keep it", "a.nmconnection", keyfile("ipsec-psk=plain key"),
			func(c vpn.Connection) string { return c.L2TP.PSK.Reveal() }, "plain key"},
		{"key in base64", "a.nmconnection", keyfile("[vpn-secrets]", "ipsec-psk=0sa2V5"),
			func(c vpn.Connection) string { return c.L2TP.PSK.Reveal() }, "key"},
		{"no password", "a.nmconnection", keyfile(),
			func(c vpn.Connection) string { return string(c.PasswordMode) }, "asked"},
		{"password with escapes", "a.nmconnection", keyfile("[vpn-secrets]", `password=\s\\n;#`),
			func(c vpn.Connection) string { return c.Password.Reveal() }, ` \n;#`},
		{"blanks around the equals sign", "a.nmconnection", keyfile("user =  ada"),
			func(c vpn.Connection) string { return c.Login }, "ada"},
		{"comments and CR LF", "a.nmconnection",
			strings.ReplaceAll(keyfile("# user=eve", "user=ada"), "\n",
				"\r\n"), func(c vpn.Connection) string {
				return c.Login + c.Server
			}, "adan.example"},
		{"routes with next hop and metric", "a.nmconnection",
			keyfile("[ipv4]", "never-default=true", "route1=10.1.0.0/16,10.0.0.1,50",
				"route2=10.2.0.0/16"), func(c vpn.Connection) string {
				return fmt.Sprint(c.Routes)
			}, "[10.1.0.0/16 10.2.0.0/16]"},
		{"DNS of both families", "a.nmconnection",
			keyfile("[ipv4]", "dns=10.0.0.1;10.0.0.2;", "[ipv6]",
				"dns=2001:db8::1;"), func(c vpn.Connection) string {
				return fmt.Sprint(c.DNS)
			}, "[10.0.0.1 10.0.0.2 2001:db8::1]"},
		{"full tunnel unless told", "a.nmconnection", keyfile(),
			func(c vpn.Connection) string { return string(c.Tunnel) }, "full"},
		{"for one user", "a.nmconnection", strings.Replace(keyfile(),
			"type=vpn", "type=vpn\npermissions=user:ada:;", 1), func(c vpn.Connection) string {
			return string(c.Scope)
		}, "person"},
		{"all PPP methods unless refused", "a.nmconnection",
			keyfile("refuse-pap=yes", "refuse-eap=true"), func(c vpn.Connection) string {
				return fmt.Sprint(c.L2TP.PPP)
			}, "[mschapv2 mschap chap]"},
		{"two proposals", "a.nmconnection", keyfile("ipsec-ike=aes256-sha256-modp2048, " +
			"aes128-sha1-modp2048!"), func(c vpn.Connection) string {
			return fmt.Sprint(c.L2TP.IKE)
		}, "[aes256-sha256-modp2048 aes128-sha1-modp2048]"},

		{"minimal", "a.mobileconfig", profile(`<key>VPNType</key><string>L2TP</string>`),
			func(c vpn.Connection) string {
				return c.Server + string(c.Tunnel) + string(c.PasswordMode)
			}, "splitasked"},
		{"override as a boolean", "a.mobileconfig",
			profile(`<key>VPNType</key><string>L2TP</string><key>IPv4</key><dict><key>` +
				`OverridePrimary</key><true/></dict>`),
			func(c vpn.Connection) string { return string(c.Tunnel) }, "full"},
		{"base64 over several lines", "a.mobileconfig",
			profile("<key>VPNType</key><string>L2TP</string><key>IPSec</key><dict><key>SharedSecret</key><data>\n\ta2\n\tV5\n</data></dict>"), func(c vpn.Connection) string { return c.L2TP.PSK.Reveal() }, "key"},
		{"entities of XML", "a.mobileconfig",
			profile(`<key>VPNType</key><string>L2TP</string><key>PPP</key><dict><key>` +
				`AuthName</key><string>a&amp;b&#x20;c<![CDATA[<d>]]></string></dict>`),
			func(c vpn.Connection) string { return c.Login }, "a&b c<d>"},
		{"the last of two", "a.mobileconfig",
			profile(`<key>VPNType</key><string>L2TP</string><key>UserDefinedName</key><string>` +
				`one</string><key>UserDefinedName</key><string>two</string>`),
			func(c vpn.Connection) string { return c.Name }, "two"},
		{"byte order mark", "a.mobileconfig", "\ufeff" +
			profile(`<key>VPNType</key><string>L2TP</string><key>UserDefinedName</key><string>`+
				`x</string>`), func(c vpn.Connection) string { return c.Name }, "x"},
		{"by its content", "download",
			profile(`<key>VPNType</key><string>L2TP</string><key>UserDefinedName</key><string>` +
				`x</string>`), func(c vpn.Connection) string { return c.Name }, "x"},
	} {
		t.Run(test.name, func(t *testing.T) {
			r := all.Read(test.file, []byte(test.data), nil)
			if len(r.Connections) != 1 {
				t.Fatalf("%d connections, notes %v", len(r.Connections), r.Notes)
			}
			if got := test.show(r.Connections[0].Connection); got != test.want {
				t.Errorf("read %q, expected %q", got, test.want)
			}
		})
	}
}

// TestMisshapen reads files with values of a wrong kind: each is remarked at its place
// and nothing is taken for something else.
func TestMisshapen(t *testing.T) {
	profile := func(part string) string {
		return `<plist><dict><key>PayloadType</key><string>Configuration</string><key>` +
			`PayloadUUID</key><string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string><key>` +
			`PayloadContent</key><array><dict><key>PayloadType</key><string>` +
			`com.apple.vpn.managed</string><key>VPNType</key><string>L2TP</string>` + part +
			`</dict></array></dict></plist>`
	}
	keyfile := func(lines ...string) string {
		return "[connection]\nuuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11\ntype=vpn\n[vpn]\n" +
			"service-type=org.freedesktop.NetworkManager.l2tp\n" + strings.Join(
			lines,
			"\n",
		) + "\n"
	}
	for _, test := range []struct {
		file, data string
		kind       format.NoteKind
		path       string
	}{
		{"a.mobileconfig", profile(`<key>PPP</key><dict><key>AuthName</key><integer>7</integer>` +
			`</dict>`), format.KeyMalformed, "PayloadContent[0].PPP.AuthName"},
		{"a.mobileconfig", profile(`<key>IPSec</key><dict><key>SharedSecret</key><string>` +
			`key</string></dict>`), format.KeyMalformed, "PayloadContent[0].IPSec.SharedSecret"},
		{"a.mobileconfig", profile(`<key>IPSec</key><dict><key>SharedSecret</key><data>/w==</data>` +
			`</dict>`), format.KeyMalformed, "PayloadContent[0].IPSec.SharedSecret"},
		{"a.mobileconfig", profile(`<key>DNS</key><dict><key>ServerAddresses</key><string>` +
			`10.0.0.1</string></dict>`), format.KeyMalformed,
			"PayloadContent[0].DNS.ServerAddresses"},
		{"a.mobileconfig", profile(`<key>DNS</key><dict><key>ServerAddresses</key><array><true/>` +
			`</array></dict>`), format.KeyMalformed, "PayloadContent[0].DNS.ServerAddresses[0]"},
		{"a.mobileconfig", profile(`<key>IPv4</key><dict><key>OverridePrimary</key><string>` +
			`yes</string></dict>`), format.KeyMalformed, "PayloadContent[0].IPv4.OverridePrimary"},
		{"a.mobileconfig", profile(`<key>Servr</key><string>x</string>`), format.KeyUnknown,
			"PayloadContent[0].Servr"},
		{"a.mobileconfig", strings.Replace(profile(""), ">L2TP<", ">VPN<", 1), format.NotYetRead,
			"PayloadContent[0].VPNType"},
		{"a.mobileconfig", strings.Replace(profile(""), "6F1F6D3A", "6F1F", 1), format.KeyMalformed,
			"PayloadUUID"},
		{"a.mobileconfig", `<plist><array/></plist>`, format.Unreadable, ""},
		{"a.mobileconfig", `<plist><dict><key>a</key></dict></plist>`, format.Unreadable, ""},
		{"a.mobileconfig", `<plist><dict><string>a</string></dict></plist>`, format.Unreadable, ""},
		{"a.mobileconfig", `<plist><dict/></plist><plist/>`, format.Unreadable, ""},
		{"a.mobileconfig", `<plist><blob/></plist>`, format.Unreadable, ""},
		{"a.mobileconfig", `<html/>`, format.Unreadable, ""},
		{"a.mobileconfig", "0\x82\x01\x00signed", format.Unreadable, ""},
		{"a.mobileconfig", strings.Repeat("<", 9<<20), format.Unreadable, ""},
		{"a.mobileconfig", `<plist><array>` + strings.Repeat("<true/>", 100_001) +
			`</array></plist>`, format.Unreadable, ""},

		{"a.nmconnection", keyfile("ipsec-enabled=perhaps"), format.OptionValue,
			"vpn.ipsec-enabled"},
		{"a.nmconnection", keyfile("ipsec-enabled=yes", "refuse-pap=sometimes"),
			format.OptionValue, "vpn.refuse-pap"},
		{"a.nmconnection", keyfile("ipsec-enabled=yes", "ipsec-ike=aes256-nonsense"),
			format.KeyMalformed, "vpn.ipsec-ike"},
		{"a.nmconnection", keyfile("ipsec-enabled=yes", "[vpn-secrets]", "ipsec-psk=0s***"),
			format.KeyMalformed, "vpn-secrets.ipsec-psk"},
		{"a.nmconnection", keyfile("ipsec-enabled=yes", "[ipv4]", "route1=everywhere"),
			format.KeyMalformed, "ipv4.route1"},
		{"a.nmconnection", keyfile("ipsec-enabled=yes", `user=a\`), format.KeyMalformed,
			"vpn.user"},
		{"a.nmconnection", keyfile("ipsec-enabled=yes", "[extra]", "x=1"), format.KeyUnknown, ""},
		{"a.nmconnection", keyfile("[vpn]", "user=x"), format.KeyTwice, ""},
		{"a.nmconnection", strings.Replace(keyfile(), "type=vpn", "type=wifi", 1), format.Unrelated,
			"connection.type"},
		{"a.nmconnection", strings.Replace(keyfile(), ".l2tp", ".other", 1), format.NotYetRead,
			"vpn.service-type"},
		{"a.nmconnection", "[connection", format.Unreadable, ""},
		{"a.nmconnection", "[connection]\nid=a\x00b", format.Unreadable, ""},
		{"a.nmconnection", "[connection]\nid=" + strings.Repeat("x", 70_000), format.Unreadable,
			""},
		{"a.nmconnection", strings.Repeat("\n", 10_001), format.Unreadable, ""},
		{"a.nmconnection", "\xff\xfe[connection]", format.Unreadable, ""},
	} {
		r := all.Read(test.file, []byte(test.data), nil)
		i := slices.IndexFunc(
			r.Notes,
			func(n format.Note) bool {
				return n.Kind == test.kind &&
					(test.path == "" || n.At.Path == test.path)
			},
		)
		if i < 0 {
			t.Errorf(
				"%.120q: notes %v, expected %s at %q",
				test.data,
				r.Notes,
				test.kind,
				test.path,
			)
		} else if r.Notes[i].At.Line == 0 || r.Notes[i].Found == "" {
			t.Errorf("%.120q: %+v has no place or no words", test.data, r.Notes[i])
		}
	}
}

// TestScriptReader reads blocks of data that were tampered with.
func TestScriptReader(t *testing.T) {
	whole := written(t, "powershell", plainSample())
	for _, test := range []struct {
		old, new string
		kind     format.NoteKind
	}{
		{"'pw'", `"$(calc)"`, format.Unreadable},
		{"'pw'", "$env:TEMP", format.Unreadable},
		{"'pw'", "'pw' + 'x'", format.Unreadable},
		{"'pw'", "'pw", format.Unreadable},
		{"= $true", "= $null", format.Unreadable},
		{"@('MSChapv2')", "@('MSChapv2'; calc)", format.Unreadable},
		{"@('MSChapv2')", "@('Hope')", format.KeyMalformed},
		{"@('MSChapv2')", "'MSChapv2'", format.KeyMalformed},
		{"    Login            = 'a_fjell@crew'\r\n",
			"    Login            = 'a'\r\n    Login    " +
				"        = 'b'\r\n", format.KeyTwice},
		{"    Login ", "    Logon ", format.KeyUnknown},
		{"\r\n}\r\n", "\r\n    X = 'y'\r\n}\r\ncalc\r\n", format.ScriptChanged},
		{"#Requires -RunAsAdministrator", "calc", format.ScriptChanged},
		{"\ufeff", "", format.KeyMalformed},
		{"Write-Host 'The connection is set up", "Write-Host 'All is set up", format.ScriptChanged},
	} {
		if !strings.Contains(whole, test.old) {
			t.Fatalf("%q is not in the script", test.old)
		}
		r := all.Read("a.ps1", []byte(strings.Replace(whole, test.old, test.new, 1)), nil)
		if !slices.ContainsFunc(r.Notes, func(n format.Note) bool { return n.Kind == test.kind }) {
			t.Errorf(
				"%q in the place of %q: notes %v, expected %s",
				test.new,
				test.old,
				r.Notes,
				test.kind,
			)
		}
	}
}

func TestFileName(t *testing.T) {
	for name, want := range map[string]string{
		"Skerry Line Norrvik": "skerry-line-norrvik.x",
		"../../etc/passwd":    "etc-passwd.x",
		"漢字":                  "connection.x",
		"":                    "connection.x",
		"--":                  "connection.x",
		strings.Repeat("ab ", 100): strings.TrimSuffix(strings.Repeat("ab-", 20), "-") +
			".x",
		"CON":    "connection-con.x",
		"a\x00b": "a-b.x",
	} {
		if got := format.FileName(name, ".x"); got != want {
			t.Errorf("%q gives %q, expected %q", name, got, want)
		}
	}
}
