package plan_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// everything is an input whose gateway offers every protocol, by login and password.
func everything() plan.Input {
	in := input()
	in.Gateway.Offers.IKEv2 = &vpn.IKEv2Offer{
		Auth: []vpn.IKEv2Auth{vpn.IKEv2EAPTLS, vpn.IKEv2MSCHAPv2},
		IKE:  []string{"aes256-sha256-modp2048"},
		ESP:  []string{"aes256-sha256-modp2048"},
	}
	in.Gateway.Offers.TLS = &vpn.TLSOffer{
		Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
		Auth:    []vpn.TLSAuth{vpn.TLSCertificate, vpn.TLSPassword},
		Ciphers: []string{"BF-CBC", "AES-256-GCM"},
	}
	in.Gateway.Offers.SSTP = &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}}
	in.Gateway.Offers.PPTP = &vpn.PPTPOffer{
		PPP:  []suite.PPPMethod{suite.MSCHAPv2},
		MPPE: []suite.MPPE{"128", "40"},
	}
	return in
}

// TestProtocols changes what stands in the way of one protocol and looks which is taken,
// and why the others are not.
func TestProtocols(t *testing.T) {
	only := func(o *vpn.Offers, keep vpn.Protocol) {
		whole := *o
		*o = vpn.Offers{}
		switch keep {
		case vpn.IKEv2:
			o.IKEv2 = whole.IKEv2
		case vpn.L2TP:
			o.L2TP = whole.L2TP
		case vpn.TLS:
			o.TLS = whole.TLS
		}
	}
	on := func(p vpn.Platform, release string) func(*plan.Input) {
		return func(in *plan.Input) { in.Device.Platform, in.Device.Release = p, release }
	}
	for _, test := range []struct {
		name   string
		change func(*plan.Input)
		taken  vpn.Protocol
		works  bool
		passed string // one of the reasons
	}{
		{"strongest first", func(*plan.Input) {}, vpn.IKEv2, true, "TLS tunnel: lower in the " +
			"order of preference"},
		{"order of the pattern",
			func(in *plan.Input) {
				in.Pattern.Protocols = []vpn.Protocol{vpn.SSTP, vpn.IKEv2}
			}, vpn.SSTP, true, "IKEv2: lower in the order"},
		{"preference over pattern", func(in *plan.Input) {
			in.Pattern.Protocols = []vpn.Protocol{vpn.SSTP}
			in.Profile.Preferences.Protocol = vpn.TLS
		}, vpn.TLS, true, ""},
		{"gone", func(in *plan.Input) {
			on(vpn.Android, "14")(in)
			in.Pattern.Protocols = []vpn.Protocol{vpn.L2TP, vpn.TLS}
		}, vpn.TLS, true, "Android 14 does not support L2TP/IPsec for new connections"},
		{"never", func(in *plan.Input) {
			on(vpn.MacOS, "14")(in)
			in.Pattern.Protocols = []vpn.Protocol{vpn.SSTP, vpn.IKEv2}
		}, vpn.IKEv2, true, "macOS 14 does not support SSTP"},
		{"removed", func(in *plan.Input) {
			on(vpn.IOS, "17")(in)
			in.Pattern.Protocols = []vpn.Protocol{vpn.PPTP, vpn.TLS}
		}, vpn.TLS, true, "iOS 17 no longer supports PPTP: removed with iOS 10"},
		{"not offered", func(in *plan.Input) { in.Gateway.Offers.IKEv2 = nil }, vpn.TLS, true,
			"Norrvik does not offer it"},
		{"no key on record", func(in *plan.Input) {
			in.Gateway.Offers.L2TP.PSK = nil
			in.Pattern.Protocols = []vpn.Protocol{vpn.L2TP, vpn.SSTP}
		}, vpn.SSTP, true, "no pre-shared key on record"},
		{"no certificate", func(in *plan.Input) { in.Gateway.Offers.IKEv2.Auth = []vpn.IKEv2Auth{vpn.IKEv2Certificate} }, vpn.TLS, true, "d has no certificate"},
		{"nothing shared to prove by", func(in *plan.Input) {
			on(vpn.Windows, "11")(in)
			in.Gateway.Offers.IKEv2.Auth = []vpn.IKEv2Auth{vpn.IKEv2PSK}
		}, vpn.TLS, true, "no common authentication method"},
		{"client's own proposals not taken", func(in *plan.Input) {
			on(vpn.Android, "14")(in)
			in.Gateway.Offers.IKEv2.IKE = []string{"3des-sha1-modp1024"}
		}, vpn.TLS, true, "sends no IKE proposal that Norrvik accepts"},
		{"file cannot carry it", func(in *plan.Input) {
			on(vpn.ChromeOS, "140")(in)
			key := secret.New(vpn.StaticKeyBegin)
			in.Gateway.Offers.TLS.ControlKey = &vpn.ControlKey{Kind: vpn.ControlCrypt, Key: &key}
			in.Gateway.Offers.L2TP.ESP = []string{"aes128-sha1"}
			in.Gateway.Offers.L2TP.IKE = []string{"aes128-sha1-modp2048"}
			in.Pattern.Protocols = []vpn.Protocol{vpn.TLS, vpn.L2TP}
		}, vpn.L2TP, true, "Open Network Configuration, field control_key"},
		{"only one, and it lacks something", func(in *plan.Input) {
			only(&in.Gateway.Offers, vpn.IKEv2)
			in.Gateway.Offers.IKEv2.Auth = []vpn.IKEv2Auth{vpn.IKEv2Certificate}
		}, vpn.IKEv2, false, "Norrvik does not offer it"},
		{"only one, and the device never had it",
			func(in *plan.Input) {
				on(vpn.DeskPhone, "1")(in)
				only(&in.Gateway.Offers,
					vpn.IKEv2)
			}, vpn.IKEv2, false, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			in := everything()
			test.change(&in)
			p := plan.Make(in)
			if p.Connection.Protocol != test.taken || p.Works() != test.works {
				t.Errorf(
					"taken is %s (works %t, lacking %q), expected %s",
					p.Connection.Protocol,
					p.Works(),
					p.Lacking,
					test.taken,
				)
			}
			if told := sentence(p.Passed); !strings.Contains(told, test.passed) {
				t.Errorf("passed over: %s, expected %q", told, test.passed)
			}
			if p.Works() && !p.Connection.Settings() {
				t.Error("the settings of the protocol are missing")
			}
		})
	}
}

// TestWishes holds what becomes of a pattern's preferences on devices that can do more or less,
// and which file is taken for it.
func TestWishes(t *testing.T) {
	for _, test := range []struct {
		name       string
		platform   vpn.Platform
		release    string
		pattern    vpn.Pattern
		preference vpn.Preferences
		format     platform.Format
		connect    vpn.Connect
		unmet      string // fields
	}{
		{"nothing wanted", vpn.Windows, "11", vpn.Pattern{}, vpn.Preferences{}, platform.PowerShell,
			"", ""},
		{"at sign-in", vpn.Windows, "11", vpn.Pattern{Connect: vpn.AtSignIn}, vpn.Preferences{},
			platform.PowerShell, vpn.AtSignIn, ""},
		{"always, which only device management knows", vpn.Windows, "11",
			vpn.Pattern{Connect: vpn.Always}, vpn.Preferences{}, platform.WindowsXML, vpn.Always,
			""},
		{"another file by preference", vpn.Windows, "11", vpn.Pattern{Connect: vpn.Always},
			vpn.Preferences{Format: "powershell"}, platform.PowerShell, "", "connect"},
		{"a file that is not for the device", vpn.Windows, "11", vpn.Pattern{},
			vpn.Preferences{Format: "onc"}, platform.PowerShell, "", ""},
		{"on demand without a condition", vpn.IOS, "17", vpn.Pattern{Connect: vpn.OnDemand},
			vpn.Preferences{}, platform.AppleProfile, vpn.Always, "demand"},
		{"on demand by network", vpn.IOS, "17", vpn.Pattern{
			Connect:   vpn.OnDemand,
			Demand:    vpn.Demand{Networks: []string{"home"}},
			Reconnect: true,
		}, vpn.Preferences{},
			platform.AppleProfile, vpn.OnDemand, ""},
		{"on demand, for L2TP/IPsec", vpn.IOS, "17",
			vpn.Pattern{
				Connect:   vpn.OnDemand,
				Demand:    vpn.Demand{Networks: []string{"home"}},
				Protocols: []vpn.Protocol{vpn.L2TP},
			}, vpn.Preferences{}, platform.AppleProfile, "",
			"connect"},
		{"manual setup", vpn.Android, "14", vpn.Pattern{
			Connect: vpn.Always,
			Proxy:   vpn.Proxy{Server: "p.example:8080"},
		}, vpn.Preferences{}, platform.ByHand, "",
			"connect proxy"},
		{"IPv6 refused", vpn.Linux, "6", vpn.Pattern{
			IPv6:      vpn.IPv6Refused,
			Tunnel:    vpn.TunnelFull,
			Protocols: []vpn.Protocol{vpn.TLS},
		}, vpn.Preferences{},
			platform.Daemons, "", ""},
		{"IPv6 refused where nothing says so", vpn.LinuxDesktop, "1.42",
			vpn.Pattern{
				IPv6:   vpn.IPv6Refused,
				Tunnel: vpn.TunnelFull,
			}, vpn.Preferences{}, platform.Keyfile, "", "ipv6"},
		{"IPv6 carried", vpn.LinuxDesktop, "1.42", vpn.Pattern{IPv6: vpn.IPv6Carried},
			vpn.Preferences{}, platform.Keyfile, "", ""},
		{"not metered", vpn.MacOS, "14", vpn.Pattern{Unmetered: true}, vpn.Preferences{},
			platform.AppleProfile, "", "unmetered"},
	} {
		t.Run(test.name, func(t *testing.T) {
			in := everything()
			in.Device.Platform, in.Device.Release, in.Pattern, in.Profile.Preferences =
				test.platform, test.release, test.pattern, test.preference
			in.Pattern.Normalise()
			p := plan.Make(in)
			var unmet []string
			for _, u := range p.Unmet {
				unmet = append(unmet, string(u.Field))
			}
			if p.Format != test.format || p.Connection.Connect != test.connect ||
				strings.Join(unmet, " ") != test.unmet {
				t.Errorf(
					"%q, connects %q, unmet %v; expected %q, %q, %q",
					p.Format,
					p.Connection.Connect,
					unmet,
					test.format,
					test.connect,
					test.unmet,
				)
			}
		})
	}
}

// TestPatternChoices holds that a pattern's values go before the gateway's, and a
// profile's before both.
func TestPatternChoices(t *testing.T) {
	in := everything()
	in.Gateway.Place.City = "Norrvik"
	in.Pattern = vpn.Pattern{
		Name:     "crew",
		Routes:   []string{"10.77.0.0/16"},
		DNS:      []string{"10.77.0.53"},
		Domains:  []string{"crew.example"},
		Password: vpn.PasswordPrompted,
		Scope:    vpn.ScopePerson,
		Naming:   "{organisation} {city} {protocol}{nothing}",
	}
	in.Pattern.Naming = "{organisation} {city} {protocol}"
	c := plan.Make(in).Connection
	if !slices.Equal(c.Routes, in.Pattern.Routes) || !slices.Equal(c.DNS, in.Pattern.DNS) ||
		!slices.Equal(c.Domains, in.Pattern.Domains) ||
		c.PasswordMode != vpn.PasswordPrompted ||
		c.Scope != vpn.ScopePerson ||
		c.Name != "Skerry Line Norrvik IKEv2" {
		t.Errorf("%+v", c)
	}
	in.Profile.Preferences = vpn.Preferences{
		Name:     "Mine",
		Tunnel:   vpn.TunnelFull,
		Password: vpn.PasswordSaved,
		Scope:    vpn.ScopeMachine,
	}
	c = plan.Make(in).Connection
	if c.Name != "Mine" || c.Tunnel != vpn.TunnelFull || len(c.Routes) != 0 ||
		c.PasswordMode != vpn.PasswordSaved ||
		c.Scope != vpn.ScopeMachine {
		t.Errorf("%+v", c)
	}
}

// TestFileWithoutProposals plans a file that leaves Windows to its own proposals: what is
// planned is what Windows sends, whatever could be set by another file.
func TestFileWithoutProposals(t *testing.T) {
	in := everything()
	in.Device.Platform, in.Device.Release = vpn.Windows, "11"
	for _, test := range []struct {
		format platform.Format
		ike    string // offered
		set    string
		chosen string
	}{
		{platform.PowerShell, "aes256-sha256-modp2048", "aes256-sha256-modp2048",
			"aes256-sha256-modp2048"},
		{platform.PhoneBook, "aes256-sha256-modp2048", "", "none"},
		{platform.PhoneBook, "aes256-sha256-modp1024", "", "aes256-sha256-modp1024"},
	} {
		in.Profile.Preferences = vpn.Preferences{Protocol: vpn.IKEv2, Format: string(test.format)}
		in.Gateway.Offers.IKEv2 = &vpn.IKEv2Offer{
			Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
			IKE:  []string{test.ike},
			ESP:  []string{"aes256-sha1"},
		}
		p := plan.Make(in)
		said := ""
		for _, c := range p.Choices {
			if c.Field == vpn.FieldIKE {
				said += c.Value
			}
		}
		if got := strings.Join(
			p.Connection.IKEv2.IKE,
			" ",
		); p.Format != test.format || got != test.set ||
			said != test.chosen {
			t.Errorf(
				"%s with %s: sets %q and says %q, expected %q and %q",
				test.format,
				test.ike,
				got,
				said,
				test.set,
				test.chosen,
			)
		}
	}
	in.Profile.Preferences = vpn.Preferences{
		Protocol: vpn.IKEv2,
		Format:   string(platform.PhoneBook),
		Password: vpn.PasswordSaved,
	}
	p := plan.Make(in)
	if p.Connection.PasswordMode != vpn.PasswordPrompted ||
		!slices.ContainsFunc(
			p.Unmet,
			func(u plan.Unmet) bool { return u.Field == vpn.FieldPasswordMode },
		) {
		t.Errorf(
			"a password that was to be saved: %s, unmet %v",
			p.Connection.PasswordMode,
			p.Unmet,
		)
	}
}

func at(latitude, longitude float64) vpn.Place {
	return vpn.Place{Latitude: &latitude, Longitude: &longitude}
}

// TestLeads chooses gateways: by the list, by distance, by share of the load, and all.
func TestLeads(t *testing.T) {
	bergen, oslo, poleNorth := at(60.39, 5.32), at(59.91, 10.75), at(90, 0)
	if km, ok := plan.Distance(bergen, oslo); !ok || km < 300 || km > 312 {
		t.Errorf("%.0f km between the two places, expected 305", km)
	}
	if km, _ := plan.Distance(at(0, 179.5), at(0, -179.5)); km < 110 || km > 112 {
		t.Errorf("%.0f km across the date line, expected 111", km)
	}
	if km, _ := plan.Distance(poleNorth, at(-90, 120)); km < 20014 || km > 20016 {
		t.Errorf("%.0f km from pole to pole", km)
	}
	gateway := func(name string, p vpn.Place, share int) vpn.Gateway {
		g := everything().Gateway
		g.ID, g.Name, g.Place, g.LoadShare = "gw-"+name, name, p, share
		return g
	}
	bad := gateway("bad", bergen, 0)
	bad.Offers = vpn.Offers{}
	for _, test := range []struct {
		name   string
		choice vpn.Choice
		person vpn.Place
		list   []vpn.Gateway
		want   string
		reason string
	}{
		{"first of the list", vpn.ChooseListed, oslo,
			[]vpn.Gateway{gateway("b", bergen, 0),
				gateway("o", oslo, 0)}, "b", "the first of the list"},
		{"first that works", vpn.ChooseListed, oslo, []vpn.Gateway{bad, gateway("o", oslo, 0)}, "o",
			"that the device can use"},
		{"nearest", vpn.ChooseNearest, oslo, []vpn.Gateway{gateway("b", bergen, 0),
			gateway("o", oslo, 0)}, "o", "nearest usable gateway to Ada, 0 km"},
		{"nearest that works", vpn.ChooseNearest, bergen, []vpn.Gateway{bad, gateway("o", oslo, 0)},
			"o", "305 km"},
		{"nearest without a place", vpn.ChooseNearest, vpn.Place{},
			[]vpn.Gateway{gateway("b", bergen, 0), gateway("o", oslo, 0)}, "b", "is not on record"},
		{"a gateway without a place comes last", vpn.ChooseNearest, oslo,
			[]vpn.Gateway{gateway("n", vpn.Place{}, 0), gateway("b", bergen, 0)}, "b", "nearest"},
		{"fastest", vpn.ChooseFastest, oslo, []vpn.Gateway{gateway("o", oslo, 0),
			gateway("b", bergen, 0)}, "b", "fastest from the location of Ada: 12 ms, median of 7 " +
			"measurements from Oslo"},
		{"fastest that works", vpn.ChooseFastest, oslo, []vpn.Gateway{bad, gateway("o", oslo, 0)},
			"o", "without a measured response time near Ada"},
		{"fastest, none measured", vpn.ChooseFastest, oslo,
			[]vpn.Gateway{gateway("x", bergen, 0),
				gateway("o", oslo, 0)}, "o", "no response times were measured near Ada: nearest"},
		{"each", vpn.ChooseEach, oslo, []vpn.Gateway{bad, gateway("o", oslo, 0)}, "bad o",
			"one profile for each"},
		{"none works", vpn.ChooseListed, oslo, []vpn.Gateway{bad}, "bad", "no gateway can be used"},
		{"none at all", vpn.ChooseListed, oslo, nil, "", ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			in := everything()
			in.Person.Place, in.Pattern.Gateways = test.person, test.choice
			if !strings.Contains(test.name, "none measured") {
				in.Times = map[string]plan.AnswerTime{
					"gw-b": {Milliseconds: 12, From: "Oslo", Count: 7},
				}
			}
			leads, why := plan.Leads(in, test.list)
			var names []string
			for _, l := range leads {
				names = append(names, l.Gateway.Name)
				if !strings.Contains(l.Reason, test.reason) {
					t.Errorf("reason %q, expected %q", l.Reason, test.reason)
				}
			}
			if strings.Join(names, " ") != test.want || (why == "") == (len(leads) == 0) {
				t.Errorf("%v (%q), expected %s", names, why, test.want)
			}
		})
	}

	in := everything()
	in.Pattern.Gateways, in.Pattern.Fallback = vpn.ChooseListed, true
	if leads, _ := plan.Leads(
		in,
		[]vpn.Gateway{bad, gateway("o", oslo, 0), gateway("b", bergen, 0)},
	); len(leads) != 2 || leads[1].Gateway.Name != "b" ||
		!strings.Contains(leads[1].Reason, "when o does not respond") {
		t.Errorf("with a second gateway it leads to %v", leads)
	}

	// Of those equally near each gets its share, and a device stays where it is when
	// another gateway goes.
	near := []vpn.Gateway{
		gateway("one", oslo, 3),
		gateway("two", at(59.92, 10.76), 1),
		gateway("three", at(59.90, 10.74), 0),
	}
	count := map[string]int{}
	for i := range 500 {
		in := everything()
		in.Person.Place, in.Pattern.Gateways, in.Device.ID = oslo, vpn.ChooseNearest, fmt.Sprintf(
			"de-%d",
			i,
		)
		leads, _ := plan.Leads(in, near)
		name := leads[0].Gateway.Name
		count[name]++
		if fewer, _ := plan.Leads(in, near[:2]); name != "three" && fewer[0].Gateway.Name != name {
			t.Fatalf(
				"de-%d moves from %s to %s although its gateway stays",
				i,
				name,
				fewer[0].Gateway.Name,
			)
		}
	}
	if count["one"] < 260 || count["one"] > 340 || count["two"] < 60 || count["three"] < 60 {
		t.Errorf("shares are %v, expected about 300, 100 and 100", count)
	}
}

// sentence joins the reasons of protocols that were passed over.
func sentence(list []plan.Passed) string {
	var parts []string
	for _, p := range list {
		parts = append(parts, p.Protocol.Title()+": "+p.Reason)
	}
	return strings.Join(parts, "; ")
}

// TestSetManually holds what an operator settles for one profile against pattern and records.
func TestSetManually(t *testing.T) {
	for _, test := range []struct {
		name        string
		preferences vpn.Preferences
		field       vpn.Field
		want        string // of the choice
		unmet       string
	}{
		{"a password although there is a certificate",
			vpn.Preferences{
				Protocol: vpn.IKEv2,
				Auth:     "eap-mschapv2",
			}, vpn.FieldAuth, "login and password, EAP-MSCHAPv2", ""},
		{"the certificate", vpn.Preferences{Protocol: vpn.IKEv2, Auth: "certificate"},
			vpn.FieldAuth, "device certificate", ""},
		{"TCP alone", vpn.Preferences{Protocol: vpn.TLS, Transport: vpn.TCP}, vpn.FieldRemotes,
			" tcp ", ""},
		{"networks of its own", vpn.Preferences{Routes: []string{"10.99.0.0/16"}}, vpn.FieldRoutes,
			"10.99.0.0/16", ""},
		{"name servers of its own", vpn.Preferences{DNS: []string{"10.99.0.53"}}, vpn.FieldDNS,
			"10.99.0.53", ""},
		{"always, without a pattern", vpn.Preferences{Protocol: vpn.IKEv2, Connect: vpn.Always},
			vpn.FieldConnect, "always", ""},
		{"on demand without a condition", vpn.Preferences{
			Protocol: vpn.IKEv2,
			Connect:  vpn.OnDemand,
		}, vpn.FieldConnect, "always", "demand"},
	} {
		t.Run(test.name, func(t *testing.T) {
			in := everything()
			in.Device.Platform, in.Device.Release = vpn.Linux, "debian 12"
			in.Gateway.Offers.TLS.Remotes = []vpn.Remote{
				{Port: 1194, Transport: vpn.UDP},
				{Port: 443, Transport: vpn.TCP},
			}
			in.Gateway.Offers.IKEv2.Auth = vpn.IKEv2Auths
			in.Profile.Preferences = test.preferences
			p := plan.Make(in)
			i := slices.IndexFunc(
				p.Choices,
				func(c plan.Choice) bool { return c.Field == test.field },
			)
			if i < 0 || !strings.Contains(p.Choices[i].Value, test.want) ||
				p.Choices[i].Origin != plan.ByOperator {
				t.Errorf("%+v, expected %q by the operator", p.Choices, test.want)
			}
			var unmet []string
			for _, u := range p.Unmet {
				unmet = append(unmet, string(u.Field))
			}
			if strings.Join(unmet, " ") != test.unmet {
				t.Errorf("unmet %v, expected %q", p.Unmet, test.unmet)
			}
			if test.preferences.Transport == vpn.TCP &&
				(len(p.Connection.TLS.Remotes) != 1 ||
					p.Connection.TLS.Remotes[0].Transport != vpn.TCP) {
				t.Errorf("remotes %v", p.Connection.TLS.Remotes)
			}
		})
	}
}

// TestSignInByOffer holds that each offer's own form of login goes before the gateway's.
func TestSignInByOffer(t *testing.T) {
	for protocol, want := range map[vpn.Protocol]string{vpn.IKEv2: "a_fjell@crew.skerryline.example", vpn.SSTP: `CREW\a_fjell`, vpn.L2TP: "a_fjell"} {
		in := everything()
		in.Device.Platform, in.Device.Release = vpn.Windows, "11"
		in.Gateway.Offers.IKEv2.Auth = []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2}
		in.Gateway.SignIn = vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"}
		in.Gateway.SignIns = map[vpn.Protocol]vpn.SignIn{
			vpn.SSTP: {Form: vpn.RealmSlashLogin, Realm: "CREW"},
			vpn.L2TP: {},
		}
		in.Profile.Preferences = vpn.Preferences{Protocol: protocol}
		in.Accounts = []vpn.Account{{Login: "a_fjell"}}
		if p := plan.Make(in); p.Connection.Login != want {
			t.Errorf("%s: %s, expected %s", protocol, p.Connection.Login, want)
		}
	}
}

// TestFallback holds when a second gateway stands in the same file, and when it needs a
// connection of its own.
func TestFallback(t *testing.T) {
	with := func(change func(*vpn.TLSOffer)) func(*plan.Input) {
		return func(in *plan.Input) {
			o := *in.Fallback.Offers.TLS
			change(&o)
			in.Fallback.Offers.TLS = &o
		}
	}
	other := secret.New("another key")
	for _, test := range []struct {
		name   string
		change func(*plan.Input)
		apart  string
	}{
		{"the same", func(*plan.Input) {}, ""},
		{"another protocol", func(in *plan.Input) { in.Profile.Preferences.Protocol = vpn.L2TP },
			"a file for L2TP/IPsec holds only one gateway"},
		{"no tunnel there", func(in *plan.Input) { in.Fallback.Offers.TLS = nil },
			"Tallholm offers no TLS tunnel"},
		{"another authority", with(func(o *vpn.TLSOffer) { o.Authority = "other" }), "CA"},
		{"another name", with(func(o *vpn.TLSOffer) { o.ServerName = "tallholm.example" }),
			"name in the gateway's certificate"},
		{"another key", with(func(o *vpn.TLSOffer) { o.ControlKey = &vpn.ControlKey{Kind: vpn.ControlCrypt, Key: &other} }), "control-channel key"},
		{"other networks", func(in *plan.Input) { in.Fallback.Routes = []string{"10.30.0.0/16"} },
			"networks behind it"},
		{"an account for the first alone",
			func(in *plan.Input) { in.Accounts[0].GatewayIDs = []string{in.Gateway.ID} }, "account"},
	} {
		t.Run(test.name, func(t *testing.T) {
			in := everything()
			in.Profile.Preferences.Protocol, in.Profile.Preferences.Auth = vpn.TLS, string(
				vpn.TLSPassword,
			)
			in.Gateway.Offers.TLS.ServerName, in.Gateway.Offers.TLS.Auth =
				"gateways.example", []vpn.TLSAuth{
					vpn.TLSPassword,
				}
			second := in.Gateway
			second.ID, second.Name, second.Address = "gw-2", "Tallholm", "tallholm.example"
			in.Fallback = &second
			if test.change(&in); in.Profile.Preferences.Protocol == vpn.L2TP {
				in.Profile.Preferences.Auth = ""
			}
			p := plan.Make(in)
			i := slices.IndexFunc(
				p.Choices,
				func(c plan.Choice) bool { return c.Field == vpn.FieldFallback },
			)
			if i < 0 || !strings.Contains(p.Apart, test.apart) ||
				(p.Apart == "") != (test.apart == "") {
				t.Fatalf("apart: %q, expected %q; %v", p.Apart, test.apart, p.Choices)
			}
			if test.apart == "" {
				last := p.Connection.TLS.Remotes[len(p.Connection.TLS.Remotes)-1]
				if last.Address != "tallholm.example" ||
					p.Connection.TLS.Remotes[0].Address != in.Gateway.Address {
					t.Errorf("the remotes are %v", p.Connection.TLS.Remotes)
				}
			}
		})
	}
	in := everything()
	in.Second = "Norrvik"
	if p := plan.Make(in); !strings.HasSuffix(p.Connection.Name, " (2)") {
		t.Errorf("the second connection is called %s", p.Connection.Name)
	}
}
