package platform_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

func TestFind(t *testing.T) {
	for _, test := range []struct {
		platform vpn.Platform
		release  string
		exact    bool
		by       string
		support  platform.Support
	}{
		{vpn.Windows, "11", true, "11", platform.BuiltIn},
		{vpn.Windows, "10 22H2", true, "10", platform.BuiltIn},
		{vpn.Windows, "8", false, "7", platform.BuiltIn},
		{vpn.Windows, "12", false, "11", platform.BuiltIn},
		{vpn.MacOS, "10.15.7", true, "10.15", platform.BuiltIn},
		{vpn.MacOS, "10.9", false, "10.11", platform.BuiltIn},
		{vpn.IOS, "19", false, "18", platform.BuiltIn},
		{vpn.Android, "11", true, "11", platform.BuiltIn},
		{vpn.Android, "12", true, "12", platform.Gone},
		{vpn.Android, "17", false, "16", platform.Gone},
		{vpn.Android, "1", false, "4", platform.BuiltIn},
		{vpn.ChromeOS, "131", false, "120", platform.BuiltIn},
		{vpn.DeskPhone, "1", true, "1", platform.Rarely},
	} {
		found, ok := platform.Find(test.platform, test.release)
		if !ok || found.Exact != test.exact || found.By != test.by ||
			found.Ability(vpn.L2TP).Support != test.support {
			t.Errorf(
				"%s %s: by %s, exact %t, %s; expected %s, %t, %s",
				test.platform,
				test.release,
				found.By,
				found.Exact,
				found.Ability(vpn.L2TP).Support,
				test.by,
				test.exact,
				test.support,
			)
		}
	}
	if _, ok := platform.Find("toaster", "1"); ok {
		t.Error("an unknown platform was found")
	}
}

// TestTable holds that every platform is there, every fact has its source, and every
// proposal can be read.
func TestTable(t *testing.T) {
	for _, p := range vpn.Platforms {
		if _, ok := platform.Find(p, "1"); !ok || platform.Title(p) == "" {
			t.Errorf("%s is not in the table", p)
		}
	}
	for _, row := range platform.Table {
		for i, r := range row.Releases {
			if i > 0 && platform.Compare(row.Releases[i-1], r) >= 0 {
				t.Errorf("%s: %s stands before %s", row.Title, row.Releases[i-1], r)
			}
		}
		if len(row.Can) != len(vpn.Protocols) {
			t.Errorf("%s says something of %d protocols only", row.Title, len(row.Can))
		}
		for protocol, a := range row.Can {
			if a.Source == "" || a.Support == "" {
				t.Errorf("%s, %s: no source or no support", row.Title, protocol)
			}
			if protocol == vpn.L2TP && a.Support.Usable() && len(a.PPP) == 0 {
				t.Errorf("%s, %s: usable without a PPP method", row.Title, protocol)
			}
			for _, proposals := range [][]string{a.IKE, a.ESP} {
				if _, err := suite.ParseAll(proposals); err != nil {
					t.Errorf("%s, %s: %v", row.Title, protocol, err)
				}
			}
		}
	}
}

// TestInstead holds what a release is offered in the place of L2TP/IPsec.
func TestInstead(t *testing.T) {
	for release, want := range map[string][]vpn.Protocol{
		"android 14":   {vpn.IKEv2, vpn.TLS},
		"windows 11":   {vpn.IKEv2, vpn.TLS, vpn.SSTP},
		"macos 14":     {vpn.IKEv2, vpn.TLS},
		"desk-phone 1": {vpn.TLS},
		"android 9":    {vpn.IKEv2, vpn.TLS},
	} {
		p, r, _ := strings.Cut(release, " ")
		found, _ := platform.Find(vpn.Platform(p), r)
		if got := found.Instead(vpn.L2TP); !slices.Equal(got, want) {
			t.Errorf("%s: %v, expected %v", release, got, want)
		}
	}
	for release, want := range map[string]platform.Support{
		"macos 10.11":  platform.BuiltIn,
		"macos 10.12":  platform.Gone,
		"ios 9":        platform.BuiltIn,
		"ios 10":       platform.Gone,
		"android 11":   platform.BuiltIn,
		"android 12":   platform.Gone,
		"chromeos 120": platform.Never,
	} {
		p, r, _ := strings.Cut(release, " ")
		if found, _ := platform.Find(vpn.Platform(p), r); found.Ability(vpn.PPTP).Support != want {
			t.Errorf(
				"PPTP on %s is %s, expected %s",
				release,
				found.Ability(vpn.PPTP).Support,
				want,
			)
		}
	}
}

// TestFacts holds what each block of the table says of each protocol, and in which file it
// is brought to the device: a change there is meant, never a slip.
func TestFacts(t *testing.T) {
	for first, want := range map[string][5]string{ // ikev2, tls, sstp, l2tp, pptp
		"windows 7": {"built in: phone-book", "with a client: ovpn ovpn-folder",
			"built in: phone-book", "built in: phone-book", "built in: phone-book"},
		"windows 8.1": {"built in: powershell phone-book", "with a client: ovpn " +
			"ovpn-folder", "built in: powershell phone-book", "built in: powershell phone-book",
			"built in: powershell phone-book"},
		"windows 10": {"built in: powershell windows-xml phone-book", "with a client: ovpn " +
			"ovpn-folder", "built in: powershell phone-book", "built in: powershell windows-xml " +
			"phone-book", "built in: powershell windows-xml phone-book"},
		"macos 10.11": {"built in: apple", "with a client: ovpn ovpn-folder", "never:",
			"built in: apple", "built in: apple"},
		"macos 11": {"built in: apple", "with a client: ovpn ovpn-folder", "never:",
			"built in: apple", "gone:"},
		"ios 8": {"built in: apple", "with a client: ovpn ovpn-folder", "never:",
			"built in: apple", "built in: apple"},
		"ios 15": {"built in: apple", "with a client: ovpn ovpn-folder", "never:",
			"built in: apple", "gone:"},
		"ipados 15": {"built in: apple", "with a client: ovpn ovpn-folder", "never:",
			"built in: apple", "gone:"},
		"android 4": {"with a client: sswan", "with a client: ovpn ovpn-folder", "never:",
			"built in:", "built in:"},
		"android 11": {"built in:", "with a client: ovpn ovpn-folder", "never:", "built in:",
			"built in:"},
		"android 12": {"built in:", "with a client: ovpn ovpn-folder", "never:", "gone:",
			"gone:"},
		"chromeos 100": {"built in: onc", "built in: onc", "never:", "built in: onc", "never:"},
		"linux-desktop 1.10": {"with the plugin: keyfile", "with the plugin: keyfile ovpn " +
			"ovpn-folder", "with the plugin: keyfile", "with the plugin: keyfile",
			"with the plugin: keyfile"},
		"linux 5": {"with packages: daemons", "with packages: daemons ovpn ovpn-folder",
			"with packages: daemons", "with packages: daemons", "with packages: daemons"},
		"openwrt 19.07": {"with packages: daemons", "with packages: uci ovpn ovpn-folder",
			"with packages: uci", "with packages: uci", "with packages: uci"},
		"desk-phone 1": {"never:", "often: ovpn-phone", "never:", "rarely:", "never:"},
	} {
		name, release, _ := strings.Cut(first, " ")
		found, ok := platform.Find(vpn.Platform(name), release)
		if !ok || !found.Exact {
			t.Errorf("%s is not in the table", first)
		}
		for i, p := range []vpn.Protocol{vpn.IKEv2, vpn.TLS, vpn.SSTP, vpn.L2TP, vpn.PPTP} {
			a := found.Ability(p)
			got := string(a.Support) + ":"
			for _, f := range a.Formats {
				got += " " + string(f)
			}
			if got != want[i] {
				t.Errorf("%s, %s: %q, expected %q", first, p, got, want[i])
			}
		}
	}
}

// TestWays holds which proofs a platform has for IKEv2, and what that asks of an offer.
func TestWays(t *testing.T) {
	for release, want := range map[string][]vpn.IKEv2Auth{
		"windows 11":   {vpn.IKEv2EAPTLS, vpn.IKEv2Certificate, vpn.IKEv2MSCHAPv2},
		"android 14":   {vpn.IKEv2MSCHAPv2, vpn.IKEv2Certificate, vpn.IKEv2PSK},
		"android 9":    {vpn.IKEv2MSCHAPv2, vpn.IKEv2EAPTLS, vpn.IKEv2Certificate},
		"desk-phone 1": nil,
	} {
		p, r, _ := strings.Cut(release, " ")
		found, _ := platform.Find(vpn.Platform(p), r)
		got := slices.Sorted(slices.Values(found.Ability(vpn.IKEv2).IKEv2))
		if slices.Sort(want); !slices.Equal(got, want) {
			t.Errorf("%s: %v, expected %v", release, got, want)
		}
	}
}

// TestEndings: the days are those of the makers' own pages.
func TestEndings(t *testing.T) {
	for _, c := range []struct {
		platform     vpn.Platform
		release, day string
		lost         []vpn.Protocol
	}{
		{vpn.Windows, "7", "2020-01-14", nil},
		{vpn.Windows, "10 22H2", "2026-10-13", nil},
		{vpn.Windows, "11", "", nil},
		{vpn.Windows, "100", "", nil},
		{vpn.LinuxDesktop, "Ubuntu  22.04.5", "2027-04-30", nil},
		{vpn.Linux, "debian 12", "2028-06-30", nil},
		{vpn.MacOS, "10.11", "", []vpn.Protocol{vpn.PPTP}},
		{vpn.Android, "11", "", []vpn.Protocol{vpn.L2TP, vpn.PPTP}},
		{vpn.Android, "15", "", nil},
	} {
		day, known := platform.Ending(c.platform, c.release)
		if got := day.Format(time.DateOnly); known != (c.day != "") || known && got != c.day {
			t.Errorf("%s %s: %s", c.platform, c.release, got)
		}
		if lost := platform.Losses(c.platform, c.release); !slices.Equal(lost, c.lost) {
			t.Errorf("%s %s loses %v", c.platform, c.release, lost)
		}
	}
}
