package all_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/google/go-cmp/cmp"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
)

// letters holds files letter for letter, so that no key changes its name, its place or its
// spelling unseen: what the reader gives back would not tell, as it has the same belief.
// [PEM] and [DER] stand for certificates and keys, which are others in each run.
var letters = []struct{ way, format, file, text string }{
	{
		"tls certificate-password",
		"ovpn",
		"skerry-line-norrvik.ovpn",
		`setenv FRIENDLY_NAME "Skerry Line Norrvik"
setenv UV_ID 6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11
setenv UV_ORGANISATION "Skerry Line"
client
dev tun
remote norrvik.skerryline.example 1194 udp
remote 198.51.100.8 443 tcp
connect-timeout 10
nobind
persist-tun
resolv-retry infinite
verb 3
keepalive 20 80
remote-cert-tls server
verify-x509-name norrvik.skerryline.example name
tls-version-min 1.2
ignore-unknown-option data-ciphers
data-ciphers AES-256-GCM:AES-128-GCM
cipher AES-256-GCM
auth SHA256
pull-filter ignore "redirect-gateway"
route 10.20.0.0 255.255.0.0
route-ipv6 2001:db8:20::/48
dhcp-option DNS 10.20.0.53
dhcp-option DOMAIN inside.skerryline.example
<ca>
[PEM]
</ca>
<cert>
[PEM]
</cert>
<key>
[PEM]
</key>
<tls-auth>
[PEM]
</tls-auth>
key-direction 1
<auth-user-pass>
a_fjell@crew
pw
</auth-user-pass>
`,
	},
	{"ikev2 eap-mschapv2", "daemons", "skerry-line-norrvik.conf", `# name = Skerry Line Norrvik
# uuid = 6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11
connections {
	skerry-line-norrvik {
		remote_addrs = norrvik.skerryline.example
		version = 2
		vips = 0.0.0.0, ::
		proposals = aes256-sha256-ecp256, aes128-sha256-modp2048
		mobike = no
		fragmentation = no
		dpd_delay = 60s
		rekey_time = 480m
		local {
			auth = eap-mschapv2
			id = "engine1.skerryline.example"
			eap_id = "a_fjell@crew"
		}
		remote {
			auth = pubkey
			id = "norrvik.skerryline.example"
			cacerts = skerry-line-norrvik-ca1.pem, skerry-line-norrvik-ca2.pem
		}
		children {
			skerry-line-norrvik {
				remote_ts = 2001:db8:20::/48, 10.20.0.0/16
				rekey_time = 60m
				esp_proposals = aes256gcm16-ecp256
				start_action = trap
				dpd_action = restart
				close_action = start
			}
		}
	}
}
secrets {
	eap-skerry-line-norrvik {
		id = "a_fjell@crew"
		secret = 0scHc=
	}
}
`},
	{"l2tp psk", "daemons", "skerry-line-norrvik.conf", `# name = Skerry Line Norrvik
# uuid = 6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11
connections {
	skerry-line-norrvik {
		remote_addrs = norrvik.skerryline.example
		version = 1
		proposals = aes256-sha256-modp2048
		dpd_delay = 30s
		local {
			auth = psk
		}
		remote {
			auth = psk
		}
		children {
			skerry-line-norrvik {
				mode = transport
				local_ts = dynamic[udp/1701]
				remote_ts = dynamic[udp/1701]
				esp_proposals = aes256-sha256
				start_action = trap
				dpd_action = restart
				close_action = start
			}
		}
	}
}
secrets {
	ike-skerry-line-norrvik {
		secret = 0sa2VscC00NDk3LUhhcmJvci1taXp6ZW4=
	}
}
`},
	{"l2tp psk", "daemons", "skerry-line-norrvik-l2tp.conf", `; begin skerry-line-norrvik
[lac skerry-line-norrvik]
lns = norrvik.skerryline.example
pppoptfile = /etc/ppp/options.skerry-line-norrvik
length bit = yes
redial = yes
redial timeout = 15
; end skerry-line-norrvik
`},
	{"l2tp psk", "daemons", "skerry-line-norrvik-ppp.conf", `# name = Skerry Line Norrvik
# uuid = 6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11
user "a_fjell@crew"
password "pw"
noauth
refuse-eap
refuse-mschap
refuse-chap
refuse-pap
ipparam skerry-line-norrvik
mtu 1400
usepeerdns
nodefaultroute
persist
maxfail 0
lcp-echo-interval 30
lcp-echo-failure 4
`},
	{"pptp password", "uci", "skerry-line-norrvik.uci", `set network.w6f1f6d3a=interface
set network.w6f1f6d3a.proto='pptp'
set network.w6f1f6d3a.title='Skerry Line Norrvik'
set network.w6f1f6d3a.uuid='6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11'
set network.w6f1f6d3a.server='norrvik.skerryline.example'
set network.w6f1f6d3a.username='a_fjell@crew'
set network.w6f1f6d3a.password='pw'
set network.w6f1f6d3a.auto='0'
set network.w6f1f6d3a.defaultroute='0'
set network.w6f1f6d3a.ipv6='1'
set network.w6f1f6d3a.peerdns='0'
add_list network.w6f1f6d3a.dns='10.20.0.53'
add_list network.w6f1f6d3a.dns_search='inside.skerryline.example'
set network.w6f1f6d3a.pppd_options='refuse-eap refuse-mschap refuse-chap refuse-pap require-mppe-128 mppe-stateful'
set network.w6f1f6d3a_r1=route
set network.w6f1f6d3a_r1.interface='w6f1f6d3a'
set network.w6f1f6d3a_r1.target='10.20.0.0/16'
set network.w6f1f6d3a_r2=route6
set network.w6f1f6d3a_r2.interface='w6f1f6d3a'
set network.w6f1f6d3a_r2.target='2001:db8:20::/48'
set firewall.w6f1f6d3a=zone
set firewall.w6f1f6d3a.name='w6f1f6d3a'
add_list firewall.w6f1f6d3a.network='w6f1f6d3a'
set firewall.w6f1f6d3a.input='REJECT'
set firewall.w6f1f6d3a.output='ACCEPT'
set firewall.w6f1f6d3a.forward='REJECT'
set firewall.w6f1f6d3a.masq='1'
set firewall.w6f1f6d3a.mtu_fix='1'
set firewall.w6f1f6d3a_lan=forwarding
set firewall.w6f1f6d3a_lan.src='lan'
set firewall.w6f1f6d3a_lan.dest='w6f1f6d3a'
commit network
commit firewall
`},
	{"tls certificate-password", "keyfile", "skerry-line-norrvik.nmconnection", `[connection]
id=Skerry Line Norrvik
uuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11
type=vpn
autoconnect=false

[vpn]
service-type=org.freedesktop.NetworkManager.openvpn
persistent=true
connection-type=password-tls
dev=tun
remote=norrvik.skerryline.example:1194:udp, 198.51.100.8:443:tcp
username=a_fjell@crew
password-flags=0
ca=/etc/NetworkManager/vpn/skerry-line-norrvik-ca.pem
cert=/etc/NetworkManager/vpn/skerry-line-norrvik-cert.pem
key=/etc/NetworkManager/vpn/skerry-line-norrvik-key.pem
cert-pass-flags=4
ta=/etc/NetworkManager/vpn/skerry-line-norrvik-control.key
ta-dir=1
data-ciphers=AES-256-GCM:AES-128-GCM
auth=SHA256
tls-version-min=1.2
remote-cert-tls=server
verify-x509-name=name:norrvik.skerryline.example
ping=20
ping-restart=80

[vpn-secrets]
password=pw

[ipv4]
method=auto
dns=10.20.0.53;
dns-search=inside.skerryline.example;
route1=10.20.0.0/16
never-default=true

[ipv6]
method=auto
route1=2001:db8:20::/48
never-default=true

[proxy]
method=1
pac-url=http://proxy.skerryline.example/p.pac
`},
	{"ikev2 eap-mschapv2", "sswan", "skerry-line-norrvik.sswan", `{
  "uuid": "6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11",
  "name": "Skerry Line Norrvik",
  "type": "ikev2-eap",
  "remote": {
    "addr": "norrvik.skerryline.example",
    "id": "norrvik.skerryline.example",
    "cert": "[DER]"
  },
  "local": {
    "eap_id": "a_fjell@crew",
    "id": "engine1.skerryline.example"
  },
  "ike-proposal": "aes256-sha256-ecp256",
  "esp-proposal": "aes256gcm16-ecp256",
  "dns-servers": "10.20.0.53",
  "split-tunneling": {
    "subnets": [
      "2001:db8:20::/48",
      "10.20.0.0/16"
    ]
  }
}
`},
	{"tls password", "onc", "skerry-line-norrvik.onc", `{
  "Type": "UnencryptedConfiguration",
  "NetworkConfigurations": [
    {
      "GUID": "{6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11}",
      "Name": "Skerry Line Norrvik",
      "Type": "VPN",
      "NameServersConfigType": "Static",
      "StaticIPConfig": {
        "NameServers": [
          "10.20.0.53"
        ],
        "SearchDomains": [
          "inside.skerryline.example"
        ]
      },
      "ProxySettings": {
        "Type": "PAC",
        "PAC": "http://proxy.skerryline.example/p.pac",
        "ExcludeDomains": [
          "*.local"
        ]
      },
      "VPN": {
        "AutoConnect": false,
        "Host": "norrvik.skerryline.example",
        "Type": "OpenVPN",
        "OpenVPN": {
          "Auth": "SHA256",
          "Cipher": "AES-256-GCM",
          "ClientCertType": "None",
          "KeyDirection": "1",
          "Password": "pw",
          "Port": 1194,
          "Proto": "udp",
          "RemoteCertTLS": "server",
          "SaveCredentials": true,
          "ServerCARefs": [
            "[GUID]",
            "[GUID]"
          ],
          "TLSAuthContents": "[PEM]\n",
          "UserAuthenticationType": "Password",
          "Username": "a_fjell@crew",
          "VerifyX509": {
            "Name": "norrvik.skerryline.example",
            "Type": "name"
          }
        }
      }
    }
  ],
  "Certificates": [
    {
      "GUID": "[GUID]",
      "Type": "Authority",
      "X509": "[DER]"
    },
    {
      "GUID": "[GUID]",
      "Type": "Authority",
      "X509": "[DER]"
    }
  ]
}
`},
	{"sstp password", "phone-book", "skerry-line-norrvik.pbk", `[Skerry Line Norrvik]
Encoding=1
Type=2
VpnStrategy=5
DataEncryption=256
Guid=3A6D1F6FA5250C5B9D650C6A2E1B7A11
AuthRestrictions=512
IpPrioritizeRemote=0
IpNameAssign=2
IpDnsAddress=10.20.0.53
IpDnsSuffix=inside.skerryline.example
RedialOnLinkFailure=1

MEDIA=rastapi
Port=VPN1-0
Device=WAN Miniport (SSTP)

DEVICE=vpn
PhoneNumber=norrvik.skerryline.example:8443
`},
	{"l2tp psk", "windows-xml", "skerry-line-norrvik.xml", `<VPNProfile>
  <ProfileName>Skerry Line Norrvik</ProfileName>
  <DnsSuffix>inside.skerryline.example</DnsSuffix>
  <NativeProfile>
    <Servers>norrvik.skerryline.example</Servers>
    <NativeProtocolType>L2tp</NativeProtocolType>
    <L2tpPsk>kelp-4497-Harbor-mizzen</L2tpPsk>
    <RoutingPolicyType>SplitTunnel</RoutingPolicyType>
    <Authentication>
      <UserMethod>MSChapv2</UserMethod>
    </Authentication>
    <CryptographySuite>
      <AuthenticationTransformConstants>SHA256128</AuthenticationTransformConstants>
      <CipherTransformConstants>AES256</CipherTransformConstants>
      <EncryptionMethod>AES256</EncryptionMethod>
      <IntegrityCheckMethod>SHA256</IntegrityCheckMethod>
      <DHGroup>Group14</DHGroup>
      <PfsGroup>None</PfsGroup>
    </CryptographySuite>
    <DisableClassBasedDefaultRoute>true</DisableClassBasedDefaultRoute>
  </NativeProfile>
  <Route>
    <Address>2001:db8:20::</Address>
    <PrefixSize>48</PrefixSize>
  </Route>
  <Route>
    <Address>10.20.0.0</Address>
    <PrefixSize>16</PrefixSize>
  </Route>
  <DomainNameInformation>
    <DomainName>.inside.skerryline.example</DomainName>
    <DnsServers>10.20.0.53</DnsServers>
  </DomainNameInformation>
  <DomainNameInformation>
    <DomainName>.inside.skerryline.example</DomainName>
    <AutoTrigger>true</AutoTrigger>
  </DomainNameInformation>
  <TrustedNetworkDetection>office.skerryline.example</TrustedNetworkDetection>
  <AlwaysOn>false</AlwaysOn>
  <RememberCredentials>true</RememberCredentials>
  <Proxy>
    <AutoConfigUrl>http://proxy.skerryline.example/p.pac</AutoConfigUrl>
  </Proxy>
</VPNProfile>
`},
}
var (
	pemBlock = regexp.MustCompile(
		`(?s)(-----BEGIN [A-Za-z0-9 ]+-----.*?-----END [A-Za-z0-9 ]+-----(\\n|\n)?)+`,
	)
	derText  = regexp.MustCompile(`MII[A-Za-z0-9+/=]{60,}`)
	guidText = regexp.MustCompile(`\{[0-9a-f]{8}-[0-9a-f-]{27}\}`)
)

func TestLetters(t *testing.T) {
	list := ways()
	for _, test := range letters {
		t.Run(test.format+"/"+test.file, func(t *testing.T) {
			c := list[test.way]
			codec, _ := all.ByName(platform.Format(test.format))
			files, err := codec.Write(c)
			if err != nil {
				t.Fatal(err)
			}
			i := slices.IndexFunc(files, func(f format.File) bool { return f.Name == test.file })
			if i < 0 {
				t.Fatalf("no such file among %d", len(files))
			}
			got := strings.ReplaceAll(string(files[i].Content), "\r\n", "\n")
			got = derText.ReplaceAllString(pemBlock.ReplaceAllString(got, "[PEM]$2"), "[DER]")
			got = guidText.ReplaceAllStringFunc(got, func(g string) string {
				if strings.EqualFold(g, "{"+c.UUID+"}") {
					return g
				}
				return "[GUID]"
			})
			if d := cmp.Diff(test.text, got); d != "" {
				t.Error(d)
			}
		})
	}
}
