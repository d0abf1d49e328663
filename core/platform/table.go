package platform

import (
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Proposals that clients send by themselves for L2TP/IPsec (IKEv1 main mode), in
// the order sent.
var (
	windowsIKE = []string{"aes256-sha1-ecp384", "aes128-sha1-ecp256", "aes256-sha1-modp2048", "3des-sha1-modp2048", "3des-sha1-modp1024"}
	windowsESP = []string{"aes256-sha1", "aes128-sha1", "3des-sha1"}
	appleIKE   = []string{
		"aes256-sha256-modp2048", "aes256-sha1-modp2048", "aes256-sha512-modp2048", "aes256-sha256-modp1536", "aes256-sha1-modp1536",
		"aes256-sha256-modp1024", "aes256-sha1-modp1024", "aes128-sha1-modp1024", "3des-sha1-modp1024",
	}
	appleESP   = []string{"aes256-sha256", "aes256-sha1", "aes128-sha256", "aes128-sha1", "3des-sha1"}
	androidIKE = []string{"aes256-sha384-modp1024", "aes256-sha256-modp1024", "aes256-sha1-modp1024", "aes128-sha1-modp1024", "3des-sha1-modp1024"}
	androidESP = []string{"aes256-sha384", "aes256-sha256", "aes256-sha1", "aes128-sha1", "3des-sha1"}
	chromeIKE  = []string{"aes128-sha256-modp3072", "aes128-sha1-modp2048", "3des-sha1-modp1536", "3des-sha1-modp1024"}
	chromeESP  = []string{"aes128gcm16", "aes128-sha256", "aes128-sha1", "3des-sha1"}
)

const (
	windowsSource = "Microsoft: VpnClient cmdlets reference; support article 926179 (NAT traversal)"
	appleSource   = "Apple: Device Management, VPN payload reference"
	androidSource = "Android Open Source Project: VPN settings and release notes of Android 12"
	chromeSource  = "Chromium OS: Open Network Configuration specification"
	networkSource = "NetworkManager: nm-settings-keyfile(5) and the documentation of its L2TP plugin"
)

func windows() Ability {
	return Ability{
		Support: BuiltIn, Format: PowerShell, PPP: []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.CHAP, suite.PAP},
		IKE: windowsIKE, ESP: windowsESP, SplitRoutes: true, SetDNS: true, NATSetting: true, SavePassword: true, MachineWide: true,
		Source: windowsSource, Unconfirmed: true,
	}
}

func apple() Ability {
	return Ability{
		Support: BuiltIn, Format: AppleProfile, PPP: []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		IKE: appleIKE, ESP: appleESP, SetDNS: true, SavePassword: true, Source: appleSource, Unconfirmed: true,
	}
}

func android() Ability {
	return Ability{
		Support: BuiltIn, PPP: []suite.PPPMethod{suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		IKE: androidIKE, ESP: androidESP, SplitRoutes: true, SetDNS: true, SavePassword: true, Source: androidSource, Unconfirmed: true,
	}
}

func l2tp(a Ability, changes ...func(*Ability)) map[vpn.Protocol]Ability {
	for _, change := range changes {
		change(&a)
	}
	return map[vpn.Protocol]Ability{vpn.L2TP: a}
}

func machineWide(a *Ability) { a.MachineWide = true }

// Table lists all releases, oldest first within a platform.
var Table = []Row{
	{vpn.Windows, "Windows 7", []string{"7"}, l2tp(windows(), func(a *Ability) {
		a.Format, a.SetDNS, a.Note = ByHand, false, "its PowerShell has no VPN cmdlets"
		a.IKE = []string{"aes256-sha1-modp2048", "3des-sha1-modp2048", "3des-sha1-modp1024"}
	})},
	{vpn.Windows, "Windows 8.1 to 11", []string{"8.1", "10", "11"}, l2tp(windows())},
	{vpn.MacOS, "macOS", []string{
		"10.11", "10.12", "10.13", "10.14", "10.15", "11", "12", "13", "14", "15", "26",
	}, l2tp(apple(), machineWide)},
	{vpn.IOS, "iOS", []string{
		"8", "9", "10", "11", "12", "13", "14", "15", "16", "17", "18", "26",
	}, l2tp(apple())},
	{vpn.IPadOS, "iPadOS", []string{"13", "14", "15", "16", "17", "18", "26"}, l2tp(apple())},
	{vpn.Android, "Android 4 to 11", []string{"4", "5", "6", "7", "8", "9", "10", "11"}, l2tp(android())},
	{vpn.Android, "Android 12 and later", []string{"12", "13", "14", "15", "16"}, map[vpn.Protocol]Ability{vpn.L2TP: {
		Support: Gone, Note: "new connections cannot be made; only connections made before the upgrade live on", Source: androidSource,
	}}},
	{vpn.ChromeOS, "ChromeOS", []string{"100", "120", "140"}, l2tp(Ability{
		Support: BuiltIn, PPP: []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.CHAP, suite.PAP}, IKE: chromeIKE, ESP: chromeESP,
		SavePassword: true, Source: chromeSource, Unconfirmed: true,
	})},
	{vpn.LinuxDesktop, "Linux desktop (NetworkManager)", []string{"1.10", "1.20", "1.30", "1.36", "1.42", "1.46", "1.50"}, l2tp(Ability{
		Support: Plugin, Format: Keyfile, Note: "needs the L2TP plugin of NetworkManager",
		PPP:          []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		SetProposals: true, SplitRoutes: true, SetDNS: true, SavePassword: true, MachineWide: true, Source: networkSource,
	})},
	{vpn.Linux, "Linux without desktop", []string{"5", "6"}, l2tp(Ability{
		Support: Packages, Note: "needs an IKE daemon, an L2TP daemon and pppd",
		PPP:          []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		SetProposals: true, SplitRoutes: true, SetDNS: true, SavePassword: true, MachineWide: true, Source: "pppd(8), swanctl.conf(5), xl2tpd.conf(5)",
	})},
	{vpn.OpenWrt, "OpenWrt", []string{"19.07", "21.02", "22.03", "23.05", "24.10"}, l2tp(Ability{
		Support: Packages, Note: "needs the packages for IPsec and L2TP", PPP: []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		SetProposals: true, SplitRoutes: true, SetDNS: true, SavePassword: true, MachineWide: true, Source: "OpenWrt: network configuration reference",
	})},
	{vpn.DeskPhone, "Desk phone", []string{"1"}, map[vpn.Protocol]Ability{vpn.L2TP: {
		Support: Rarely, Note: "few models can; look for it in the phone's own manual", Source: "practice", Unconfirmed: true,
	}}},
}
