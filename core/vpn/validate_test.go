package vpn_test

import (
	"errors"
	"strings"
	"testing"

	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

func gateway() *vpn.Gateway {
	psk := secret.New("kelp-4497")
	g := &vpn.Gateway{
		Name:    "Norrvik",
		Address: "norrvik.skerryline.example",
		Offers: vpn.Offers{
			L2TP: &vpn.L2TPOffer{PSK: &psk, PPP: []suite.PPPMethod{suite.MSCHAPv2}},
		},
	}
	g.Normalise()
	return g
}

// TestRefused gives every field of every noun wrong values: one problem, at that field,
// that says what was found, what was expected and how to fix it.
func TestRefused(t *testing.T) {
	long := strings.Repeat("x", 3000)
	number := 91.0
	zero := 0.0
	for _, test := range []struct {
		name, pointer string
		noun          interface{ Validate() error }
	}{
		{"no name", "/name", with(gateway(), func(g *vpn.Gateway) { g.Name = " " })},
		{"name too long", "/name", with(gateway(), func(g *vpn.Gateway) { g.Name = long })},
		{"name with a line break", "/name", with(gateway(),
			func(g *vpn.Gateway) { g.Name = "a\nb" })},
		{"name not UTF-8", "/name", with(gateway(), func(g *vpn.Gateway) { g.Name = "a\xff" })},
		{"no address", "/address", with(gateway(), func(g *vpn.Gateway) { g.Address = "" })},
		{"scheme", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "https://norrvik.example" })},
		{"path", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "norrvik.example/vpn" })},
		{"port", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "norrvik.example:500" })},
		{"blank", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "norrvik.example " })},
		{"mail address", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "a@norrvik.example" })},
		{"bad number", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "198.51.100.700" })},
		{"international name", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "tällholm.example" })},
		{"label too long", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = strings.Repeat("a", 64) + ".example" })},
		{"quote", "/address", with(gateway(),
			func(g *vpn.Gateway) { g.Address = "norrvik';calc" })},
		{"known address", "/addresses/1", with(gateway(),
			func(g *vpn.Gateway) { g.Addresses = []string{"198.51.100.7", "norrvik"} })},
		{"country", "/place/country", with(gateway(),
			func(g *vpn.Gateway) { g.Place.Country = "Norway" })},
		{"latitude", "/place/latitude", with(gateway(),
			func(g *vpn.Gateway) { g.Place.Latitude, g.Place.Longitude = &number, &number })},
		{"half a place", "/place/latitude", with(gateway(),
			func(g *vpn.Gateway) { g.Place.Longitude = &number })},
		{"form of login", "/sign_in/form", with(gateway(),
			func(g *vpn.Gateway) { g.SignIn = vpn.SignIn{Form: "x", Realm: "y"} })},
		{"realm missing", "/sign_in/realm", with(gateway(),
			func(g *vpn.Gateway) { g.SignIn.Form = vpn.LoginAtRealm })},
		{"domain", "/domains/0", with(gateway(),
			func(g *vpn.Gateway) { g.Domains = []string{"in side"} })},
		{"DNS by name", "/dns/0", with(gateway(),
			func(g *vpn.Gateway) { g.DNS = []string{"dns.example"} })},
		{"route without length", "/routes/0", with(gateway(),
			func(g *vpn.Gateway) { g.Routes = []string{"10.20.0.0"} })},
		{"route too long", "/routes/0", with(gateway(),
			func(g *vpn.Gateway) { g.Routes = []string{"10.20.0.0/33"} })},
		{"pool", "/pool/0", with(gateway(), func(g *vpn.Gateway) { g.Pool = []string{"10-20"} })},
		{"egress", "/egress/0", with(gateway(),
			func(g *vpn.Gateway) { g.Egress = []string{"here"} })},
		{"host", "/hosts/0", with(gateway(),
			func(g *vpn.Gateway) { g.Hosts = []string{"http://x"} })},
		{"too many", "/routes", with(gateway(),
			func(g *vpn.Gateway) { g.Routes = make([]string, 65) })},
		{"note too long", "/note", with(gateway(), func(g *vpn.Gateway) { g.Note = long })},
		{"key with a control character", "/offers/l2tp/psk",
			with(gateway(), func(g *vpn.Gateway) { *g.Offers.L2TP.PSK = secret.New("kelp\x00") })},
		{"the mask as key", "/offers/l2tp/psk", with(gateway(),
			func(g *vpn.Gateway) { *g.Offers.L2TP.PSK = secret.New(secret.Hidden) })},
		{"no PPP method", "/offers/l2tp/ppp", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.L2TP.PPP = nil })},
		{"unknown PPP method", "/offers/l2tp/ppp/0",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.L2TP.PPP = []suite.PPPMethod{"x"} })},
		{"unknown algorithm", "/offers/l2tp/ike/0",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.L2TP.IKE = []string{"aes999-sha256"} })},
		{"two ciphers", "/offers/l2tp/esp/0", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.L2TP.ESP = []string{"aes256-aes128-sha1"} })},

		{"how machines prove themselves", "/offers/l2tp/auth/0",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.L2TP.Auth = []vpn.MachineAuth{"x"} })},
		{"authority", "/offers/l2tp/authority", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.L2TP.Authority = "hello" })},
		{"no way to prove oneself", "/offers/ikev2/auth",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.IKEv2 = &vpn.IKEv2Offer{} })},
		{"unknown way to prove oneself", "/offers/ikev2/auth/0",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.IKEv2 = &vpn.IKEv2Offer{Auth: []vpn.IKEv2Auth{"x"}} })},
		{"lifetime", "/offers/ikev2/ike_lifetime", with(gateway(), func(g *vpn.Gateway) {
			g.Offers.IKEv2 = &vpn.IKEv2Offer{Auth: []vpn.IKEv2Auth{vpn.IKEv2PSK}, IKEv2Options: vpn.IKEv2Options{IKELifetime: -1}}
		})},
		{"child proposal", "/offers/ikev2/esp/0", with(gateway(), func(g *vpn.Gateway) {
			g.Offers.IKEv2 = &vpn.IKEv2Offer{
				Auth: []vpn.IKEv2Auth{vpn.IKEv2PSK},
				ESP:  []string{"rot13"},
			}
		})},
		{"MPPE strength", "/offers/pptp/mppe/0", with(gateway(), func(g *vpn.Gateway) {
			g.Offers.PPTP = &vpn.PPTPOffer{
				PPP:  []suite.PPPMethod{suite.PAP},
				MPPE: []suite.MPPE{"64"},
			}
		})},
		{"SSTP port", "/offers/sstp/port", with(gateway(), func(g *vpn.Gateway) {
			g.Offers.SSTP = &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.PAP}, Port: 70000}
		})},
		{"no remote", "/offers/tls/remotes", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.TLS = tunnel(); g.Offers.TLS.Remotes = nil })},
		{"port of a remote", "/offers/tls/remotes/0/port",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.TLS = tunnel(); g.Offers.TLS.Remotes[0].Port = 0 })},
		{"address of a remote", "/offers/tls/remotes/0/address",
			with(gateway(), func(g *vpn.Gateway) { g.Offers.TLS = tunnel(); g.Offers.TLS.Remotes[0].Address = "a b" })},
		{"data cipher", "/offers/tls/ciphers/0", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.TLS = tunnel(); g.Offers.TLS.Ciphers = []string{"AES"} })},
		{"digest", "/offers/tls/digest", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.TLS = tunnel(); g.Offers.TLS.Digest = "SHA" })},
		{"TLS version", "/offers/tls/min_tls", with(gateway(),
			func(g *vpn.Gateway) { g.Offers.TLS = tunnel(); g.Offers.TLS.MinTLS = "2" })},
		{"control-channel key of another form", "/offers/tls/control_key/key",
			with(gateway(), func(g *vpn.Gateway) {
				key := secret.New("kelp")
				g.Offers.TLS = tunnel()
				g.Offers.TLS.ControlKey = &vpn.ControlKey{Kind: vpn.ControlCrypt, Key: &key}
			})},
		{"kind of control-channel key", "/offers/tls/control_key/kind",
			with(gateway(), func(g *vpn.Gateway) {
				key := secret.New(vpn.StaticKeyBegin + strings.Repeat("00", 256) + vpn.StaticKeyEnd)
				g.Offers.TLS = tunnel()
				g.Offers.TLS.ControlKey = &vpn.ControlKey{Kind: "x", Key: &key}
			})},
		{"no control-channel key", "/offers/tls/control_key/key",
			with(gateway(), func(g *vpn.Gateway) {
				g.Offers.TLS = tunnel()
				g.Offers.TLS.ControlKey = &vpn.ControlKey{Kind: vpn.ControlCrypt}
			})},
		{"announced", "/announced/0", with(gateway(),
			func(g *vpn.Gateway) { g.Announced = []string{"10.50.0.0"} })},
		{"rehearsals", "/rehearsal/every", with(gateway(), func(g *vpn.Gateway) {
			g.Rehearsal.Every = 5
		})},
		{"load share", "/load_share", with(gateway(), func(g *vpn.Gateway) { g.LoadShare = -1 })},
		{"no certificate", "/identity/certificate",
			&vpn.Device{
				Name:     "d",
				PersonID: "x",
				Platform: vpn.IOS,
				Release:  "17",
				Identity: &vpn.DeviceIdentity{},
			}},
		{"place of a person", "/place/latitude", &vpn.Person{
			Name:  "Ada",
			Place: vpn.Place{Latitude: &number, Longitude: &zero},
		}},
		{"protocol twice", "/protocols/1", &vpn.Pattern{
			Name:      "p",
			Protocols: []vpn.Protocol{vpn.TLS, vpn.TLS},
		}},
		{"protocol of a pattern", "/protocols/0", &vpn.Pattern{
			Name:      "p",
			Protocols: []vpn.Protocol{"x"},
		}},
		{"platform of a pattern", "/platforms/0", &vpn.Pattern{
			Name:      "p",
			Platforms: []vpn.Platform{"x"},
		}},
		{"choice of gateways", "/gateways", &vpn.Pattern{Name: "p", Gateways: "best"}},
		{"routes for a full tunnel", "/routes", &vpn.Pattern{
			Name:   "p",
			Tunnel: vpn.TunnelFull,
			Routes: []string{"10.0.0.0/8"},
		}},
		{"IPv6", "/ipv6", &vpn.Pattern{Name: "p", IPv6: "no"}},
		{"when to connect", "/connect", &vpn.Pattern{Name: "p", Connect: "never"}},
		{"probe", "/demand/probe", &vpn.Pattern{
			Name:   "p",
			Demand: vpn.Demand{Probe: "ftp://x.example/"},
		}},
		{"probe with a password", "/demand/probe",
			&vpn.Pattern{Name: "p", Demand: vpn.Demand{Probe: "https://a:b@x.example/"}}},
		{"interface", "/demand/interface", &vpn.Pattern{
			Name:   "p",
			Demand: vpn.Demand{Interface: "wlan0"},
		}},
		{"proxy", "/proxy/server", &vpn.Pattern{
			Name:  "p",
			Proxy: vpn.Proxy{Server: "proxy.example"},
		}},
		{"two proxies", "/proxy/script", &vpn.Pattern{
			Name:  "p",
			Proxy: vpn.Proxy{Server: "proxy.example:1", Script: "http://proxy.example/"},
		}},
		{"naming", "/naming", &vpn.Pattern{Name: "p", Naming: "{organization}"}},
		{"preferred protocol", "/preferences/protocol",
			&vpn.Profile{
				DeviceID:    "d",
				GatewayID:   "g",
				Preferences: vpn.Preferences{Protocol: "x"},
			}},
		{"no name", "/name", &vpn.Person{}},
		{"mail", "/mail", &vpn.Person{Name: "Ada", Mail: "Ada <ada@x.example>"}},
		{"language", "/language", &vpn.Person{Name: "Ada", Language: "English please"}},
		{"group", "/groups/0", &vpn.Person{Name: "Ada", Groups: []string{""}}},

		{"no login", "/login", &vpn.Account{PersonID: "x"}},
		{"login with a line break", "/login", &vpn.Account{PersonID: "x", Login: "a\r\nb"}},
		{"no person", "/person_id", &vpn.Account{Login: "a"}},
		{"realm too long", "/realm", &vpn.Account{PersonID: "x", Login: "a", Realm: long}},

		{"platform", "/platform", &vpn.Device{
			Name:     "d",
			PersonID: "x",
			Platform: "toaster",
			Release:  "1",
		}},
		{"a site behind a phone", "/site", &vpn.Device{
			Name:     "d",
			PersonID: "x",
			Platform: vpn.IOS,
			Release:  "17",
			Site:     &vpn.Site{Networks: []string{"10.50.1.0/24"}},
		}},
		{"a site twice", "/site/networks/1", &vpn.Device{
			Name:     "d",
			PersonID: "x",
			Platform: vpn.Linux,
			Release:  "6",
			Site:     &vpn.Site{Networks: []string{"10.50.1.0/24", "10.50.0.0/16"}},
		}},
		{"a site of everything", "/site/networks/0",
			&vpn.Device{
				Name:     "d",
				PersonID: "x",
				Platform: vpn.Linux,
				Release:  "6",
				Site:     &vpn.Site{Networks: []string{"0.0.0.0/0"}},
			}},
		{"no release", "/release", &vpn.Device{Name: "d", PersonID: "x", Platform: vpn.IOS}},
		{"release", "/release", &vpn.Device{
			Name:     "d",
			PersonID: "x",
			Platform: vpn.IOS,
			Release:  "17;x",
		}},

		{"tunnel", "/preferences/tunnel", &vpn.Profile{
			DeviceID:    "d",
			GatewayID:   "g",
			Preferences: vpn.Preferences{Tunnel: "half"},
		}},
		{"password", "/preferences/password", &vpn.Profile{
			DeviceID:    "d",
			GatewayID:   "g",
			Preferences: vpn.Preferences{Password: "kept"},
		}},
		{"scope", "/preferences/scope", &vpn.Profile{
			DeviceID:    "d",
			GatewayID:   "g",
			Preferences: vpn.Preferences{Scope: "all"},
		}},
		{"no device", "/device_id", &vpn.Profile{GatewayID: "g"}},

		{"domain", "/domain", &vpn.Organisation{Name: "Skerry Line", Domain: "skerry line"}},
	} {
		t.Run(test.pointer+" "+test.name, func(t *testing.T) {
			var problems *vpn.Problems
			if err := test.noun.Validate(); !errors.As(err, &problems) {
				t.Fatalf("accepted (%v)", err)
			}
			if len(problems.List) != 1 {
				t.Fatalf("%d problems, expected one: %v", len(problems.List), problems)
			}
			p := problems.List[0]
			if p.Pointer != test.pointer || p.Found == "" || p.Expected == "" || p.Fix == "" {
				t.Errorf("%+v, expected all parts at %s", p, test.pointer)
			}
			if len(p.String()) > 400 || strings.Contains(p.String(), "kelp") {
				t.Errorf("the message is too long or tells a secret: %s", p)
			}
		})
	}
}

func tunnel() *vpn.TLSOffer {
	return &vpn.TLSOffer{
		Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
		Auth:    []vpn.TLSAuth{vpn.TLSPassword},
	}
}

func with(g *vpn.Gateway, change func(*vpn.Gateway)) *vpn.Gateway {
	change(g)
	return g
}

// TestAccepted holds that what is odd but possible is left to the checks.
func TestAccepted(t *testing.T) {
	for _, address := range []string{"norrvik.example", "norrvik", "norrvik.local.", "198.51.100.7",
		"2001:db8::7", "xn--tllholm-5wa.example", "a_b.example", "10.0.0.1"} {
		if err := with(
			gateway(),
			func(g *vpn.Gateway) { g.Address = address },
		).Validate(); err != nil {
			t.Errorf("%s: %v", address, err)
		}
	}
	if err := with(
		gateway(),
		func(g *vpn.Gateway) { g.Routes = []string{"10.20.3.4/16", "2001:db8::/32"} },
	).Validate(); err != nil {
		t.Error(err)
	}
	for _, login := range []string{"a_fjell ", "a fjell", "скала", "a\u200bb", "x@y"} {
		if err := (&vpn.Account{PersonID: "x", Login: login}).Validate(); err != nil {
			t.Errorf("%q: %v", login, err)
		}
	}
}

func TestJoinLogin(t *testing.T) {
	for _, test := range []struct {
		form  vpn.LoginForm
		realm string
		want  string
	}{
		{vpn.LoginPlain, "crew", "ada"},
		{vpn.LoginAtRealm, "crew", "ada@crew"},
		{vpn.RealmSlashLogin,
			"CREW", `CREW\ada`},
		{vpn.LoginAtRealm, "", "ada"},
	} {
		if got := vpn.JoinLogin(test.form, "ada", test.realm); got != test.want {
			t.Errorf("%s with realm %q: %s, expected %s", test.form, test.realm, got, test.want)
		}
	}
}
