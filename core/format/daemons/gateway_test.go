package daemons

import (
	"reflect"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

func everyOffer() vpn.Gateway {
	psk := secret.New(`kelp 4497 "Harbor" \ $`)
	return vpn.Gateway{
		Name: "North Quay", Address: "north.skerryline.example", Addresses: []string{"192.0.2.7"},
		Pool: []string{"10.99.0.0/22"}, Routes: []string{"10.20.0.0/16"},
		DNS: []string{"10.20.0.53"}, Announced: []string{"10.50.0.0/16"},
		Domains: []string{"inside.skerryline.example"},
		Offers: vpn.Offers{
			IKEv2: &vpn.IKEv2Offer{
				Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2, vpn.IKEv2PSK}, PSK: &psk,
				RemoteID: "ike.skerryline.example", LocalID: "crew",
				IKE: []string{"aes256-sha256-ecp256"}, ESP: []string{"aes256gcm16-ecp256"},
				IKEv2Options: vpn.IKEv2Options{
					IKELifetime: 480, ChildLifetime: 60, DPD: 45, NoMOBIKE: true, NoFragmentation: true,
				},
			},
			L2TP: &vpn.L2TPOffer{
				Auth: []vpn.MachineAuth{vpn.MachinePSK}, PSK: &psk,
				PPP: []suite.PPPMethod{suite.MSCHAPv2, suite.PAP},
				IKE: []string{"aes256-sha256-modp2048"}, ESP: []string{"aes256-sha256"},
			},
			PPTP: &vpn.PPTPOffer{
				PPP: []suite.PPPMethod{suite.MSCHAPv2}, MPPE: []suite.MPPE{"128"},
				PPTPOptions: vpn.PPTPOptions{Stateful: true},
			},
			TLS: &vpn.TLSOffer{
				Remotes: []vpn.Remote{
					{Port: 1194, Transport: vpn.UDP}, {Port: 443, Transport: vpn.TCP},
				},
				Auth: []vpn.TLSAuth{vpn.TLSPassword}, Ciphers: []string{"AES-256-GCM"},
				TLSOptions: vpn.TLSOptions{Digest: "SHA256", MinTLS: "1.2", Keepalive: 20},
			},
		},
	}
}

var twoUsers = []User{
	{"a_fjell@crew.example", secret.New("dune-45-Tangerine")},
	{`CREW\b_lind`, secret.New(`two words "and" a \ # sign`)},
}

func configuration(t testing.TB, g vpn.Gateway) []format.File {
	t.Helper()
	made, err := Gateway(Side{
		Gateway: g, Users: func(vpn.Protocol) []User { return twoUsers },
		Hash: func(string, secret.Text) (string, error) { return "$6$salt$hash", nil },
	})
	if err != nil {
		t.Fatal(err)
	}
	return made.Files
}

// TestReadGateway writes the configuration of a gateway that offers everything and reads it: what is
// on record comes back, and users with it.
func TestReadGateway(t *testing.T) {
	want := everyOffer()
	got := ReadGateway(configuration(t, want))
	for name, pair := range map[string][2]any{
		"IKEv2":      {got.Gateway.Offers.IKEv2, want.Offers.IKEv2},
		"L2TP":       {got.Gateway.Offers.L2TP, want.Offers.L2TP},
		"PPTP":       {got.Gateway.Offers.PPTP, want.Offers.PPTP},
		"addresses":  {got.Gateway.Addresses, want.Addresses},
		"routes":     {got.Gateway.Routes, want.Routes},
		"DNS":        {got.Gateway.DNS, want.DNS},
		"domains":    {got.Gateway.Domains, want.Domains},
		"announced":  {got.Gateway.Announced, want.Announced},
		"ciphers":    {got.Gateway.Offers.TLS.Ciphers, want.Offers.TLS.Ciphers},
		"parameters": {got.Gateway.Offers.TLS.TLSOptions, want.Offers.TLS.TLSOptions},
		"ways":       {got.Gateway.Offers.TLS.Auth, want.Offers.TLS.Auth},
	} {
		if !reflect.DeepEqual(pair[0], pair[1]) {
			t.Errorf("%s: %+v, expected %+v", name, pair[0], pair[1])
		}
	}
	if len(got.Gateway.Offers.TLS.Remotes) != 2 || len(got.Gateway.Pool) != 5 {
		t.Errorf("remotes %v, pools %v", got.Gateway.Offers.TLS.Remotes, got.Gateway.Pool)
	}
	for _, u := range twoUsers {
		if !slices.ContainsFunc(got.Users, func(o User) bool {
			return o.Login == u.Login && o.Password.Equal(u.Password)
		}) {
			t.Errorf("%s is not among the users", u.Login)
		}
	}
	if len(got.Unread) > 0 {
		t.Errorf("not read: %v", got.Unread)
	}
}

// FuzzReadGateway reads files of a gateway that anybody may have written.
func FuzzReadGateway(f *testing.F) {
	for _, file := range configuration(f, everyOffer()) {
		f.Add(file.Name, string(file.Content))
	}
	f.Add("swanctl.conf", "connections { a : b { pools = x } b { local { auth = psk } } }")
	f.Add("pptpd.conf", "remoteip 10.0.0.2-300\nlocalip 10\noption x\n")
	f.Add("xl2tpd.conf", "[lns default]\nip range = 10.0.0.9-10.0.0.1\npppoptfile = \n")
	f.Add("server.conf", "tls-server\ncert\nca\ntls-crypt\ntls-auth\nserver 10.0.0.0\npush\nport\n")
	f.Fuzz(func(t *testing.T, name, text string) {
		got := ReadGateway([]format.File{{Name: name, Content: []byte(text)}})
		if len(got.Unread) > maxUnread || len(got.Users) > maxUsers {
			t.Errorf("%d remarks, %d users", len(got.Unread), len(got.Users))
		}
		for _, p := range got.Gateway.Pool {
			if strings.Contains(p, "invalid") {
				t.Errorf("the pool %s", p)
			}
		}
	})
}
