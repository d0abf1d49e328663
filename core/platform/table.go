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
	clientSource  = "practice: the protocol is no part of the system; a client program takes .ovpn files"
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

// can puts the abilities of a release together: L2TP/IPsec in full, because profiles are
// built for it, and of the others how the release comes to them.
func can(l2tp Ability, others map[vpn.Protocol]Ability, changes ...func(*Ability)) map[vpn.Protocol]Ability {
	for _, change := range changes {
		change(&l2tp)
	}
	all := map[vpn.Protocol]Ability{vpn.L2TP: l2tp}
	for p, a := range others {
		all[p] = a
	}
	return all
}

// others is how a release comes to IKEv2, PPTP, SSTP and TLS, in this order, each as
// support and note.
func others(source string, ikev2, pptp, sstp, tls [2]string) map[vpn.Protocol]Ability {
	list := map[vpn.Protocol]Ability{}
	for p, fact := range map[vpn.Protocol][2]string{vpn.IKEv2: ikev2, vpn.PPTP: pptp, vpn.SSTP: sstp, vpn.TLS: tls} {
		a := Ability{Support: Support(fact[0]), Note: fact[1], Source: source, Unconfirmed: source != networkSource}
		if a.Support == Client {
			a.Source = clientSource
		}
		list[p] = a
	}
	return list
}

// The facts that occur again and again.
var (
	builtIn  = [2]string{string(BuiltIn)}
	client   = [2]string{string(Client), "a client program takes the file"}
	never    = [2]string{string(Never)}
	plugin   = [2]string{string(Plugin), "needs the plugin of NetworkManager"}
	packages = [2]string{string(Packages)}
)

func removed(since string) [2]string { return [2]string{string(Gone), "removed with " + since} }

func machineWide(a *Ability) { a.MachineWide = true }

// Table lists all releases, oldest first within a platform.
var Table = []Row{
	{vpn.Windows, "Windows 7", []string{"7"}, can(windows(), others(windowsSource, builtIn, builtIn, builtIn, client), func(a *Ability) {
		a.Format, a.SetDNS, a.Note = ByHand, false, "its PowerShell has no VPN cmdlets"
		a.IKE = []string{"aes256-sha1-modp2048", "3des-sha1-modp2048", "3des-sha1-modp1024"}
	})},
	{vpn.Windows, "Windows 8.1 to 11", []string{"8.1", "10", "11"}, can(windows(), others(windowsSource,
		[2]string{string(BuiltIn), "the built-in proposals reach only group 2; better ones are set explicitly"}, builtIn, builtIn, client))},
	{vpn.MacOS, "macOS 10.11", []string{"10.11"}, can(apple(), others(appleSource, builtIn, builtIn, never, client), machineWide)},
	{vpn.MacOS, "macOS 10.12 and later", []string{
		"10.12", "10.13", "10.14", "10.15", "11", "12", "13", "14", "15", "26",
	}, can(apple(), others(appleSource, builtIn, removed("macOS 10.12"), never, client), machineWide)},
	{vpn.IOS, "iOS 8 and 9", []string{"8", "9"}, can(apple(), others(appleSource, [2]string{string(BuiltIn), "by file from 8, by hand from 9"}, builtIn, never, client))},
	{vpn.IOS, "iOS 10 and later", []string{
		"10", "11", "12", "13", "14", "15", "16", "17", "18", "26",
	}, can(apple(), others(appleSource, builtIn, removed("iOS 10"), never, client))},
	{vpn.IPadOS, "iPadOS", []string{"13", "14", "15", "16", "17", "18", "26"}, can(apple(), others(appleSource, builtIn, removed("iOS 10"), never, client))},
	{vpn.Android, "Android 4 to 10", []string{"4", "5", "6", "7", "8", "9", "10"}, can(android(), others(androidSource, client, builtIn, never, client))},
	{vpn.Android, "Android 11", []string{"11"}, can(android(), others(androidSource, [2]string{string(BuiltIn), "by MS-CHAPv2, pre-shared key or RSA certificate"}, builtIn, never, client))},
	{vpn.Android, "Android 12 and later", []string{"12", "13", "14", "15", "16"}, can(Ability{
		Support: Gone, Note: "new connections cannot be made; only connections made before the upgrade live on", Source: androidSource, Unconfirmed: true,
	}, others(androidSource, [2]string{string(BuiltIn), "by MS-CHAPv2, pre-shared key or RSA certificate"}, removed("Android 12"), never, client))},
	{vpn.ChromeOS, "ChromeOS", []string{"100", "120", "140"}, can(Ability{
		Support: BuiltIn, PPP: []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.CHAP, suite.PAP}, IKE: chromeIKE, ESP: chromeESP,
		SavePassword: true, Source: chromeSource, Unconfirmed: true,
	}, others(chromeSource, [2]string{string(BuiltIn), "by EAP, pre-shared key or certificate"}, never, never, builtIn))},
	{vpn.LinuxDesktop, "Linux desktop (NetworkManager)", []string{"1.10", "1.20", "1.30", "1.36", "1.42", "1.46", "1.50"}, can(Ability{
		Support: Plugin, Format: Keyfile, Note: "needs the L2TP plugin of NetworkManager",
		PPP:          []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		SetProposals: true, SplitRoutes: true, SetDNS: true, SavePassword: true, MachineWide: true, Source: networkSource,
	}, others(networkSource, plugin, plugin, plugin, plugin))},
	{vpn.Linux, "Linux without desktop", []string{"5", "6"}, can(Ability{
		Support: Packages, Note: "needs an IKE daemon, an L2TP daemon and pppd",
		PPP:          []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		SetProposals: true, SplitRoutes: true, SetDNS: true, SavePassword: true, MachineWide: true, Source: "pppd(8), swanctl.conf(5), xl2tpd.conf(5)", Unconfirmed: true,
	}, others("pppd(8), swanctl.conf(5)", [2]string{string(Packages), "needs an IKE daemon"}, [2]string{string(Packages), "needs pppd with a PPTP client"},
		[2]string{string(Packages), "needs pppd with an SSTP client"}, [2]string{string(Packages), "needs the client of the TLS tunnel"}))},
	{vpn.OpenWrt, "OpenWrt", []string{"19.07", "21.02", "22.03", "23.05", "24.10"}, can(Ability{
		Support: Packages, Note: "needs the packages for IPsec and L2TP", PPP: []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP},
		SetProposals: true, SplitRoutes: true, SetDNS: true, SavePassword: true, MachineWide: true, Source: "OpenWrt: network configuration reference", Unconfirmed: true,
	}, others("OpenWrt: network configuration reference", packages, packages, packages, packages))},
	{vpn.DeskPhone, "Desk phone", []string{"1"}, can(Ability{
		Support: Rarely, Note: "few models can; look for it in the phone's own manual", Source: "practice", Unconfirmed: true,
	}, others("practice", never, never, never, [2]string{string(Often), "one file, no questions asked, a limit of size"}))},
}
