package card

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// certified is a made-up root, a gateway's certificate and a device's by it, in PEM form.
var certified = sync.OnceValues(func() (authority string, leaves [2]vpn.Identity) {
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	root := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "Skerry Line Root"},
		NotBefore:             time.Unix(1.7e9, 0),
		NotAfter:              time.Unix(4e9, 0),
		BasicConstraintsValid: true,
		IsCA:                  true,
	}
	der, _ := x509.CreateCertificate(rand.Reader, root, root, key.Public(), key)
	root, _ = x509.ParseCertificate(der)
	for i, name := range []string{"norrvik.example", "d.devices.example"} {
		own, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		t := &x509.Certificate{
			SerialNumber: big.NewInt(int64(i) + 2),
			Subject:      pkix.Name{CommonName: name},
			NotBefore:    time.Unix(1.7e9, 0),
			NotAfter:     time.Unix(4e9, 0),
			DNSNames:     []string{name},
		}
		der, _ := x509.CreateCertificate(rand.Reader, t, root, own.Public(), key)
		c, _ := x509.ParseCertificate(der)
		text, err := pki.KeyPEM(own)
		if err != nil {
			panic(err)
		}
		leaves[i] = vpn.Identity{Certificate: pki.Bundle(c), Key: text}
	}
	return pki.Bundle(root), leaves
})

// whole is a gateway that offers everything, and a device that could take it.
func whole(p vpn.Platform, release string) plan.Input {
	authority, leaves := certified()
	in, _ := planned(p, release, nil)
	psk, password := secret.New("kelp-4497-Harbor-mizzen-93"), secret.New("tern-88-Gannet")
	in.Accounts[0].Login, in.Accounts[0].Password = "a_fjell", &password
	in.Device.Identity = &vpn.DeviceIdentity{
		Certificate: leaves[1].Certificate,
		Key:         &leaves[1].Key,
	}
	g := &in.Gateway
	g.Addresses, g.BehindNAT, g.Certificate, g.Pool = []string{
		"198.51.100.7",
	}, true, leaves[0].Certificate, []string{
		"10.99.0.0/24",
	}
	g.Offers = vpn.Offers{
		L2TP: &vpn.L2TPOffer{
			Auth:      vpn.MachineAuths,
			Authority: authority,
			PSK:       &psk,
			PPP:       []suite.PPPMethod{suite.MSCHAPv2, suite.CHAP},
			IKE: []string{
				"aes256-sha256-modp2048",
				"aes256-sha1-modp2048",
				"aes256-sha1-modp1024",
			},
			ESP: []string{"aes256-sha256", "aes256-sha1"},
		},
		IKEv2: &vpn.IKEv2Offer{
			Auth:      vpn.IKEv2Auths,
			Authority: authority,
			PSK:       &psk,
			LocalID:   "crew.example",
			RemoteID:  "vpn.norrvik.example",
			IKE:       []string{"aes256-sha256-ecp256", "aes256-sha256-modp2048"},
			ESP:       []string{"aes256gcm16", "aes256-sha256"},
		},
		PPTP: &vpn.PPTPOffer{
			PPP:  []suite.PPPMethod{suite.MSCHAPv2},
			MPPE: []suite.MPPE{"128", "40"},
		},
		SSTP: &vpn.SSTPOffer{
			PPP:       []suite.PPPMethod{suite.MSCHAPv2},
			Port:      8443,
			Authority: authority,
		},
		TLS: &vpn.TLSOffer{
			Remotes: []vpn.Remote{
				{Port: 1194, Transport: vpn.UDP},
				{Port: 443, Transport: vpn.TCP},
			},
			Auth:      vpn.TLSAuths,
			Authority: authority,
			Ciphers:   []string{"AES-256-GCM"},
			TLSOptions: vpn.TLSOptions{
				Digest:     "SHA256",
				MinTLS:     "1.2",
				ServerName: "norrvik.example",
			},

			ControlKey: &vpn.ControlKey{
				Kind: vpn.ControlCrypt,
				Key: ptr(
					secret.New(
						vpn.StaticKeyBegin + "\n" + strings.Repeat(
							"6acef03f62675b4b1bbd03e53b187727\n",
							16,
						) + vpn.StaticKeyEnd + "\n",
					),
				),
			},
		},
	}
	return in
}

func ptr[T any](v T) *T { return &v }

// parcel is what a device gets: the connection that its files say, what stands in them, and
// the card.
type parcel struct {
	read  vpn.Connection // nothing, where there are no files
	files string
	card  string
	open  Card
	plan  plan.Plan
}

func (p parcel) says(list ...string) bool {
	return !slices.ContainsFunc(list, func(v string) bool { return !strings.Contains(p.card, v) })
}

// holds tells for each field that a plan lists whether files or card hold what was planned.
var holds = map[vpn.Field]func(c vpn.Connection, p parcel) bool{
	vpn.FieldName: func(c vpn.Connection, p parcel) bool {
		return p.read.Name == c.Name ||
			p.says(c.Name)
	},
	vpn.FieldServer: func(c vpn.Connection, p parcel) bool {
		return p.read.Server == c.Server ||
			p.says(c.Server)
	},
	vpn.FieldLogin: func(c vpn.Connection, p parcel) bool {
		return !c.NeedsPassword() || p.read.Login == c.Login || p.says(c.Login)
	},
	vpn.FieldPort: func(c vpn.Connection, p parcel) bool {
		return p.read.SSTP != nil && p.read.SSTP.Port == c.SSTP.Port ||
			p.says(fmt.Sprint(c.SSTP.Port))
	},
	vpn.FieldPasswordMode: func(c vpn.Connection, p parcel) bool {
		if !c.NeedsPassword() || c.PasswordMode == vpn.PasswordPrompted {
			return p.read.Password.IsZero() && !p.typed("Password", "")
		}
		return p.read.Password.Equal(c.Password) || p.typed("Password", c.Password.Reveal())
	},
	vpn.FieldPSK: func(c vpn.Connection, p parcel) bool {
		return p.read.PSK().Equal(c.PSK()) || p.typed("Pre-shared key", c.PSK().Reveal()) ||
			strings.Contains(p.files, c.PSK().Reveal())
	},
	vpn.FieldAuthority: func(c vpn.Connection, p parcel) bool {
		return strings.TrimSpace(p.read.Authority) == strings.TrimSpace(c.Authority) ||
			p.typed("Authority file", "") ||
			strings.Contains(p.files, pemBody(c.Authority))
	},
	vpn.FieldIdentity: func(c vpn.Connection, p parcel) bool {
		return p.read.Identity != nil &&
			strings.Contains(
				p.read.Identity.Certificate,
				strings.TrimSpace(c.Identity.Certificate),
			) ||
			p.typed("Certificate file", "") ||
			strings.Contains(p.files, pemBody(c.Identity.Certificate)) ||
			packed(p.files)
	},
	vpn.FieldLocalID: func(c vpn.Connection, p parcel) bool {
		return p.read.IKEv2 != nil && p.read.IKEv2.LocalID == c.IKEv2.LocalID ||
			p.says(c.IKEv2.LocalID) ||
			derived(p.read, c)
	},
	vpn.FieldRemoteID: func(c vpn.Connection, p parcel) bool {
		if p.plan.Release.Row.Platform == vpn.Windows &&
			c.IKEv2 != nil { // which looks for its own address
			return slices.ContainsFunc(
				p.plan.Choices,
				func(one plan.Choice) bool {
					return one.Field == vpn.FieldRemoteID &&
						one.Value == c.Server
				},
			)
		}
		if c.L2TP != nil {
			return p.read.L2TP != nil && p.read.L2TP.RemoteID == c.L2TP.RemoteID || implied(c)
		}
		return p.read.IKEv2 != nil && p.read.IKEv2.RemoteID == c.IKEv2.RemoteID ||
			p.says(c.IKEv2.RemoteID)
	},
	vpn.FieldNAT: func(c vpn.Connection, p parcel) bool {
		return strings.Contains(p.files+p.card, "AssumeUDPEncapsulationContextOnSendRule")
	},
	vpn.FieldTunnel: func(c vpn.Connection, p parcel) bool {
		return p.read.Tunnel == c.Tunnel ||
			p.read.Protocol == ""
	},
	vpn.FieldRoutes: func(c vpn.Connection, p parcel) bool {
		return same(p.read.Routes, c.Routes) || p.says(c.Routes...)
	},
	vpn.FieldDNS: func(c vpn.Connection, p parcel) bool {
		return same(p.read.DNS, c.DNS) ||
			p.says(c.DNS...)
	},
	vpn.FieldDomains: func(c vpn.Connection, p parcel) bool {
		return same(p.read.Domains, c.Domains) || p.says(c.Domains...)
	},
	vpn.FieldPPP: func(c vpn.Connection, p parcel) bool {
		return slices.Equal(p.read.PPP(), c.PPP()) || p.says(suite.PPPFacts[c.PPP()[0]].Title)
	},
	vpn.FieldMPPE: func(c vpn.Connection, p parcel) bool {
		return p.read.PPTP != nil && slices.Equal(p.read.PPTP.MPPE, c.PPTP.MPPE) ||
			p.says(string(c.PPTP.MPPE[0])+" bits")
	},
	vpn.FieldRemotes: func(c vpn.Connection, p parcel) bool {
		return p.read.TLS != nil && slices.Equal(p.read.TLS.Remotes, c.TLS.Remotes) ||
			p.says(c.TLS.Remotes[0].Address)
	},
	vpn.FieldControl: func(c vpn.Connection, p parcel) bool {
		return p.read.TLS != nil && p.read.TLS.Control != nil &&
			p.read.TLS.Control.Key.Equal(c.TLS.Control.Key)
	},
	vpn.FieldCiphers: func(c vpn.Connection, p parcel) bool {
		return p.read.TLS != nil && slices.Equal(p.read.TLS.Ciphers, c.TLS.Ciphers) ||
			p.says(c.TLS.Ciphers...)
	},
	vpn.FieldServerName: func(c vpn.Connection, p parcel) bool {
		return c.TLS == nil || p.read.TLS != nil && p.read.TLS.ServerName == c.TLS.ServerName ||
			p.says(c.TLS.ServerName)
	},
	vpn.FieldConnect: func(c vpn.Connection, p parcel) bool {
		return p.read.Connect == c.Connect
	},
	vpn.FieldDemand: func(c vpn.Connection, p parcel) bool {
		return demanded(p.read.Demand) == demanded(c.Demand)
	},
	vpn.FieldReconnect: func(c vpn.Connection, p parcel) bool {
		return p.read.Reconnect == c.Reconnect
	},
	vpn.FieldIPv6: func(c vpn.Connection, p parcel) bool { return p.read.IPv6 == c.IPv6 },
	vpn.FieldIKE: func(c vpn.Connection, p parcel) bool {
		want, _ := c.Proposals()
		got, _ := p.read.Proposals()
		return within(got, want) || p.says(want[0])
	},
	vpn.FieldESP: func(c vpn.Connection, p parcel) bool {
		_, want := c.Proposals()
		_, got := p.read.Proposals()
		return within(got, want) || p.says(want[0])
	},
	vpn.FieldScope: func(c vpn.Connection, p parcel) bool {
		return p.read.Protocol == "" || p.read.Scope == c.Scope || p.read.Scope == ""
	},
	vpn.FieldSite: func(c vpn.Connection, p parcel) bool {
		return slices.Equal(p.read.Behind(), c.Behind())
	},
}

// typedToo are the fields that a card for typing holds where the device takes a file as well:
// what else the file says, its own windows have no room for.
var typedToo = []vpn.Field{
	vpn.FieldName,
	vpn.FieldServer,
	vpn.FieldPort,
	vpn.FieldLogin,
	vpn.FieldPasswordMode,
	vpn.FieldPSK,
	vpn.FieldAuthority,
	vpn.FieldIdentity,
	vpn.FieldNAT,
	vpn.FieldRemoteID,
	vpn.FieldLocalID,
}

// unheld are choices that nothing in a parcel has to say.
var unheld = []vpn.Field{vpn.FieldProtocol, vpn.FieldAuth, vpn.FieldAccount, vpn.FieldFormat}

func pemBody(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if len(lines) < 2 {
		return "nothing"
	}
	return lines[1]
}

// inBase64 are long runs of base64, as scripts carry files.
var inBase64 = regexp.MustCompile(`[A-Za-z0-9+/]{400,}={0,2}`)

// packed tells whether a script carries PKCS #12: a sequence that begins with version 3 (RFC 7292
// §4).
func packed(files string) bool {
	for _, run := range inBase64.FindAllString(files, -1) {
		if der, err := base64.StdEncoding.DecodeString(
			run,
		); err == nil && len(der) > 8 && der[0] == 0x30 &&
			bytes.Contains(der[:12], []byte{2, 1, 3}) {
			return true
		}
	}
	return false
}

func same(a, b []string) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(a, b)
}

func demanded(d *vpn.Demand) string {
	if d.Empty() {
		return ""
	}
	return fmt.Sprint(*d)
}

// derived tells that a client takes its identity from its certificate, where the file says none.
func derived(read, c vpn.Connection) bool {
	return c.NeedsIdentity() && (read.IKEv2 == nil || read.IKEv2.LocalID == "")
}

// within tells that a file says some of the proposals, and none besides; a PRF that is the
// integrity algorithm's own may go without saying.
func within(got, want []string) bool {
	if len(want) == 0 {
		return true
	}
	for _, v := range got {
		q, err := suite.Parse(v)
		if err != nil || !slices.ContainsFunc(want, func(w string) bool {
			o, err := suite.Parse(w)
			return err == nil && (o == q || o.ForIKE() == q.ForIKE())
		}) {
			return false
		}
	}
	return len(got) > 0
}

// implied tells that a client knows what the gateway is called by the authority alone.
func implied(vpn.Connection) bool { return true }

// typed tells whether the card has a value to be typed.
func (p parcel) typed(label, text string) bool {
	return slices.ContainsFunc(
		p.open.Values,
		func(v Value) bool { return v.Label == label && (text == "" || v.Text == text) },
	)
}

// TestPlanAndParcel builds every way of every release and holds the parcel to what the plan
// lists: whatever was chosen stands in the files or on the card.
func TestPlanAndParcel(t *testing.T) {
	built := 0
	for _, row := range platform.Table {
		for _, protocol := range vpn.Protocols {
			ability := row.Can[protocol]
			if !ability.Support.Usable() {
				continue
			}
			for _, auth := range authsOf(protocol, ability) {
				for _, kind := range append(slices.Clone(ability.Formats), "") {
					for _, connect := range vpn.Connects {
						in := whole(row.Platform, row.Releases[len(row.Releases)-1])
						in.Profile.Preferences = vpn.Preferences{
							Protocol: protocol,
							Auth:     auth,
							Format:   string(kind),
							Connect:  connect,
							Tunnel:   vpn.TunnelSplit,
							Password: vpn.PasswordSaved,
						}
						if connect == vpn.OnDemand {
							in.Profile.Preferences.Demand = &vpn.Demand{
								Domains: []string{"inside.example"},
							}
						}
						if slices.Contains(vpn.Routers, row.Platform) &&
							!(protocol == vpn.IKEv2 && auth == string(vpn.IKEv2MSCHAPv2)) {
							in.Device.Site = &vpn.Site{Networks: []string{"10.50.1.0/24"}}
						}
						p := plan.Make(in)
						if !p.Works() {
							continue
						}
						built++
						agree(
							t,
							fmt.Sprintf(
								"%s, %s %s, %s, %q",
								row.Title,
								protocol,
								auth,
								kind,
								connect,
							),
							in,
							p,
							kind == "",
						)
					}
				}
			}
		}
	}
	if built < 400 {
		t.Errorf("only %d ways could be built", built)
	}
	t.Logf("%d ways built", built)
}

func authsOf(p vpn.Protocol, a platform.Ability) (list []string) {
	switch p {
	case vpn.IKEv2:
		for _, v := range a.IKEv2 {
			list = append(list, string(v))
		}
	case vpn.TLS:
		for _, v := range a.TLS {
			list = append(list, string(v))
		}
	case vpn.L2TP:
		for _, v := range a.Machine {
			list = append(list, string(v))
		}
	default:
		list = []string{""}
	}
	return list
}

func agree(t *testing.T, of string, in plan.Input, p plan.Plan, byHand bool) {
	t.Helper()
	got := parcel{plan: p}
	var files []format.File
	codec, ok := all.ByName(p.Format)
	if ok && !byHand {
		var err error
		if files, err = codec.Write(p.Connection); err != nil {
			t.Errorf("%s: %v", of, err)
			return
		}
		if codec.Read != nil {
			if reading := codec.Read(
				files[0].Name,
				files[0].Content,
				format.Files(files),
			); len(
				reading.Connections,
			) == 1 {
				got.read = reading.Connections[0].Connection
			}
		}
	} else if more, err := Material(in.Device.Platform, p.Connection); err == nil {
		files = more
	}
	for _, f := range files {
		got.files += string(f.Content)
	}
	got.open = Make(in, p, files, byHand || !ok)
	got.card = strings.ReplaceAll(
		string(got.open.Text()),
		"␣",
		" ",
	) + strings.Join(
		got.open.Files,
		" ",
	)
	for _, c := range p.Choices {
		if slices.Contains(unheld, c.Field) || c.Value == "none" {
			continue
		}
		if byHand && ok && (!slices.Contains(typedToo, c.Field) || p.Connection.TLS != nil) ||
			strings.Contains(c.Reason, "cannot set it") ||
			strings.Contains(c.Reason, "has no field for it") ||
			strings.Contains(c.Reason, "must provide it separately") {
			continue
		}
		look := holds[c.Field]
		if look == nil {
			t.Errorf("%s: nothing is known of how %s is held", of, c.Field)
		} else if !look(p.Connection, got) {
			t.Errorf(
				"%s: the plan lists %s %q, which is in neither the files nor the card",
				of,
				c.Title,
				c.Value,
			)
		}
	}
}
