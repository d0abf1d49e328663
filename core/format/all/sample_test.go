package all_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"strings"
	"sync"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// certified is a made-up authority and a device's certificate by it, in PEM form.
var certified = sync.OnceValues(func() (authority string, identity vpn.Identity) {
	make := func(name string, ca bool, parent *x509.Certificate,
		signer *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			panic(err)
		}
		t := &x509.Certificate{
			SerialNumber: big.NewInt(
				7,
			),
			Subject:               pkix.Name{CommonName: name},
			NotBefore:             time.Unix(1.7e9, 0),
			NotAfter:              time.Unix(4e9, 0),
			BasicConstraintsValid: true,
			IsCA:                  ca,
			DNSNames:              []string{"engine1.skerryline.example"},
		}
		if parent == nil {
			parent, signer = t, key
		}
		der, err := x509.CreateCertificate(rand.Reader, t, parent, key.Public(), signer)
		if err != nil {
			panic(err)
		}
		c, err := x509.ParseCertificate(der)
		if err != nil {
			panic(err)
		}
		return c, key
	}
	root, rootKey := make("Skerry Line Root", true, nil, nil)
	issuing, issuingKey := make("Skerry Line Issuing", true, root, rootKey)
	leaf, key := make("engine1", false, issuing, issuingKey)
	text, err := pki.KeyPEM(key)
	if err != nil {
		panic(err)
	}
	return pki.Bundle(
			root,
			issuing,
		), vpn.Identity{
			Certificate: pki.Bundle(leaf, issuing),
			Key:         text,
		}
})

var staticKey = vpn.StaticKeyBegin + "\n" + strings.Repeat(
	"6acef03f62675b4b1bbd03e53b187727\n",
	16,
) + vpn.StaticKeyEnd + "\n"

// clientKey is a client key for tls-crypt-v2, as the daemon's own tool made it.
const clientKeyBody = "Zm9yIHRlc3RzIG9ubHksIG5vIHJlYWwga2V5ISBmb3IgdGVzdHMgb25seSwgbm8gcmVhbCBrZXkhIGZv"

var clientKey = vpn.ClientKeyBegin + "\n" + strings.Repeat(
	clientKeyBody+"\n",
	6,
) + vpn.ClientKeyEnd + "\n"

// sample is a connection by one protocol with something in every field.
func sample(p vpn.Protocol) vpn.Connection {
	authority, identity := certified()
	c := vpn.Connection{
		Name:         "Skerry Line Norrvik",
		UUID:         "6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11",
		Identifier:   "example.skerryline.vpn.p-1",
		Organisation: "Skerry Line",
		Protocol:     p,
		Server:       "norrvik.skerryline.example",
		Login:        "a_fjell@crew",
		Password:     secret.New("pw"),
		PasswordMode: vpn.PasswordSaved,
		Scope:        vpn.ScopeMachine,
		Tunnel:       vpn.TunnelSplit,
		Routes:       []string{"2001:db8:20::/48", "10.20.0.0/16"},
		DNS:          []string{"10.20.0.53"},
		Domains:      []string{"inside.skerryline.example"},
		IPv6:         vpn.IPv6Carried,
		Connect:      vpn.OnDemand,
		Reconnect:    true,
		Unmetered:    true,
		Proxy: &vpn.Proxy{
			Script: "http://proxy.skerryline.example/p.pac",
			Bypass: []string{"*.local"},
		},
		Demand: &vpn.Demand{
			Networks:  []string{"Skerry Line office"},
			Suffixes:  []string{"office.skerryline.example"},
			Domains:   []string{"inside.skerryline.example"},
			Probe:     "https://timetable.inside.skerryline.example/",
			Interface: "wifi",
		},
	}
	switch p {
	case vpn.L2TP:
		c.L2TP = &vpn.L2TPSetting{
			Auth:      vpn.MachinePSK,
			PSK:       secret.New("key"),
			PPP:       []suite.PPPMethod{suite.MSCHAPv2},
			IKE:       []string{"aes256-sha256-modp2048"},
			ESP:       []string{"aes256-sha256"},
			BehindNAT: true,
		}
	case vpn.IKEv2:
		c.Authority, c.Identity = authority, &identity
		c.IKEv2 = &vpn.IKEv2Setting{
			Auth:     vpn.IKEv2MSCHAPv2,
			RemoteID: "norrvik.skerryline.example",
			LocalID:  "engine1.skerryline.example",
			IKE:      []string{"aes256-sha256-ecp256", "aes128-sha256-modp2048"},
			ESP:      []string{"aes256gcm16-ecp256"},
			IKEv2Options: vpn.IKEv2Options{
				IKELifetime:     480,
				ChildLifetime:   60,
				DPD:             60,
				NoMOBIKE:        true,
				NoFragmentation: true,
			},
		}
	case vpn.PPTP:
		c.PPTP = &vpn.PPTPSetting{
			PPP:         []suite.PPPMethod{suite.MSCHAPv2},
			MPPE:        []suite.MPPE{"128"},
			PPTPOptions: vpn.PPTPOptions{Stateful: true},
		}
	case vpn.SSTP:
		c.Authority = authority
		c.SSTP = &vpn.SSTPSetting{
			Port:       8443,
			PPP:        []suite.PPPMethod{suite.MSCHAPv2},
			ServerName: "sstp.skerryline.example",
		}
	case vpn.TLS:
		c.Authority, c.Identity = authority, &identity
		c.TLS = &vpn.TLSSetting{
			Remotes: []vpn.Remote{
				{Address: "norrvik.skerryline.example", Port: 1194, Transport: vpn.UDP},
				{Address: "198.51.100.8", Port: 443, Transport: vpn.TCP},
			},
			Auth: vpn.TLSCertificatePassword,
			Control: &vpn.ControlWrap{
				Kind:      vpn.ControlAuth,
				Direction: "1",
				Key:       secret.New(staticKey),
			},
			Ciphers: []string{"AES-256-GCM", "AES-128-GCM"},
			TLSOptions: vpn.TLSOptions{
				Digest:     "SHA256",
				MinTLS:     "1.2",
				ServerName: "norrvik.skerryline.example",
				Keepalive:  20,
			},
		}
	}
	return c
}

// ways lists connections by every protocol and every way in which a client proves
// itself, with its name in the table of docs/formats.md.
func ways() map[string]vpn.Connection {
	authority, identity := certified()
	list := map[string]vpn.Connection{}
	for _, p := range []vpn.Protocol{vpn.PPTP, vpn.SSTP} {
		list[string(p)+" password"] = sample(p)
	}
	for _, a := range vpn.MachineAuths {
		c := sample(vpn.L2TP)
		c.L2TP.Auth, c.L2TP.PSK = a, secret.New("kelp-4497-Harbor-mizzen")
		if a == vpn.MachineCertificate {
			c.Authority, c.Identity, c.L2TP.PSK = authority, &identity, secret.Text{}
		}
		list["l2tp "+string(a)] = c
	}
	aggressive := sample(vpn.L2TP)
	aggressive.L2TP.PSK = secret.New("kelp-4497-Harbor-mizzen")
	aggressive.L2TP.Aggressive, aggressive.L2TP.Group = true, "crew"
	list["l2tp psk, aggressive"] = aggressive
	for _, a := range vpn.IKEv2Auths {
		c := sample(vpn.IKEv2)
		if c.IKEv2.Auth = a; a == vpn.IKEv2PSK {
			c.IKEv2.PSK, c.Authority = secret.New("kelp-4497-Harbor-mizzen"), ""
		}
		c.IKEv2.EAPOnly = a == vpn.IKEv2EAPTLS
		list["ikev2 "+string(a)] = c
	}
	for _, a := range vpn.TLSAuths {
		c := sample(vpn.TLS)
		c.TLS.Auth = a
		list["tls "+string(a)] = c
	}
	for kind, key := range map[vpn.ControlKind]string{
		vpn.ControlCrypt:   staticKey,
		vpn.ControlCryptV2: clientKey,
	} {
		c := sample(vpn.TLS)
		c.TLS.Control = &vpn.ControlWrap{Kind: kind, Key: secret.New(key)}
		list["tls, control "+string(kind)] = c
	}
	return list
}
