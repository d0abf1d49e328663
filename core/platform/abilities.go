package platform

import (
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Proposals that clients send by themselves, in the order sent: for L2TP/IPsec (IKEv1
// main mode) and for IKEv2.
var (
	windowsIKE = []string{
		"aes256-sha1-ecp384",
		"aes128-sha1-ecp256",
		"aes256-sha1-modp2048",
		"3des-sha1-modp2048",
		"3des-sha1-modp1024",
	}
	windowsESP  = []string{"aes256-sha1", "aes128-sha1", "3des-sha1"}
	windowsIKE2 = []string{
		"aes256-sha1-modp1024",
		"aes256-sha256-modp1024",
		"aes256-sha384-modp1024",
		"3des-sha1-modp1024",
	}
	windowsESP2 = []string{"aes256-sha1", "aes128-sha1", "3des-sha1"}
	appleIKE    = []string{
		"aes256-sha256-modp2048",
		"aes256-sha1-modp2048",
		"aes256-sha512-modp2048",
		"aes256-sha256-modp1536",
		"aes256-sha1-modp1536",
		"aes256-sha256-modp1024",
		"aes256-sha1-modp1024",
		"aes128-sha1-modp1024",
		"3des-sha1-modp1024",
	}
	appleESP = []string{
		"aes256-sha256",
		"aes256-sha1",
		"aes128-sha256",
		"aes128-sha1",
		"3des-sha1",
	}
	appleIKE2 = []string{
		"aes256-sha256-modp2048",
		"aes256-sha256-ecp256",
		"aes256-sha256-modp1536",
		"aes128-sha1-modp1024",
		"3des-sha1-modp1024",
	}
	androidIKE = []string{
		"aes256-sha384-modp1024",
		"aes256-sha256-modp1024",
		"aes256-sha1-modp1024",
		"aes128-sha1-modp1024",
		"3des-sha1-modp1024",
	}
	androidESP = []string{
		"aes256-sha384",
		"aes256-sha256",
		"aes256-sha1",
		"aes128-sha1",
		"3des-sha1",
	}
	androidIKE2 = []string{
		"aes256gcm16-modp4096",
		"aes256gcm16-curve25519",
		"aes256gcm16-modp3072",
		"aes256-sha256-modp4096",
		"aes256-sha256-curve25519",
		"aes256-sha256-modp3072",
		"aes256-sha256-modp2048",
	}
	androidESP2 = []string{
		"aes256gcm16",
		"aes128gcm16",
		"chacha20poly1305",
		"aes256-sha256",
		"aes128-sha256",
	}
	chromeIKE = []string{
		"aes128-sha256-modp3072",
		"aes128-sha1-modp2048",
		"3des-sha1-modp1536",
		"3des-sha1-modp1024",
	}
	chromeESP = []string{"aes128gcm16", "aes128-sha256", "aes128-sha1", "3des-sha1"}
)

const (
	windowsSource = "Microsoft: VpnClient cmdlets reference; support article 926179 (NAT traversal)"
	appleSource   = "Apple: Device Management, VPN payload reference"
	androidSource = "Android Open Source Project: VPN settings and release notes of Android 11 " +
		"and 12"
	chromeSource = "Chromium OS: Open Network Configuration specification"
	clientSource = "practice: the protocol is no part of the system; a client program takes the " +
		"file"
	networkSource = "NetworkManager: nm-settings-keyfile(5) and the documentation of its VPN " +
		"plugins"
	linuxSource   = "pppd(8), swanctl.conf(5), xl2tpd.conf(5), openvpn(8)"
	openwrtSource = "OpenWrt: network configuration reference"
)

var (
	allPPP  = []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP}
	linkPPP = []suite.PPPMethod{suite.MSCHAPv2, suite.MSCHAP, suite.CHAP, suite.PAP}
)

// Kinds of certificate keys, as the systems' references list them for IPsec.
var (
	windowsKeys = []string{"RSA", "ECDSA256", "ECDSA384"}
	appleKeys   = []string{"RSA", "ECDSA256", "ECDSA384", "ECDSA521"}
	androidKeys = []string{"RSA"}
)

// windowsGoing is what was announced in 2024 of the two oldest protocols.
const windowsGoing = "deprecated since October 2024: coming releases of Windows Server no longer " +
	"answer it"

// five are the abilities of one release, one for each protocol.
type five map[vpn.Protocol]Ability

// with changes one ability in a copy.
func (f five) with(p vpn.Protocol, change func(*Ability)) five {
	n := five{}
	for k, v := range f {
		n[k] = v
	}
	a := n[p]
	change(&a)
	n[p] = a
	return n
}

// every changes every ability that can be used.
func (f five) every(change func(*Ability)) five {
	for p, a := range f {
		if a.Support.Usable() {
			f = f.with(p, change)
		}
	}
	return f
}

// gone says that releases from one on no longer have a protocol.
func (f five) gone(p vpn.Protocol, note string) five {
	return f.with(p, func(a *Ability) {
		*a = Ability{Support: Gone, Note: note, Source: a.Source, Unconfirmed: a.Unconfirmed}
	})
}

// client is the TLS tunnel by a separate program.
func client(formats ...Format) Ability {
	return Ability{
		Support:      Client,
		Note:         "a client program takes the file",
		Formats:      formats,
		TLS:          vpn.TLSAuths,
		SplitRoutes:  true,
		SetDNS:       true,
		SavePassword: true,
		Source:       clientSource,
		Unconfirmed:  true,
	}
}

func never(
	source string,
) Ability {
	return Ability{Support: Never, Source: source, Unconfirmed: true}
}

func windows() five {
	base := Ability{
		Support:      BuiltIn,
		Formats:      []Format{PowerShell, PhoneBook},
		PPP:          []suite.PPPMethod{suite.EAP, suite.MSCHAPv2, suite.CHAP, suite.PAP},
		SplitRoutes:  true,
		SetDNS:       true,
		SavePassword: true,
		MachineWide:  true,
		Source:       windowsSource,
		Unconfirmed:  true,
	}
	l2tp, ikev2, pptp := base, base, base
	l2tp.Machine, l2tp.IKE, l2tp.ESP, l2tp.NATSetting =
		vpn.MachineAuths, windowsIKE, windowsESP, true
	// by the same cmdlet as IKEv2
	l2tp.SetProposals, l2tp.OneProposal, l2tp.Dialect = true, true, suite.WindowsDialect
	ikev2.PPP, ikev2.IKEv2 = nil, []vpn.IKEv2Auth{
		vpn.IKEv2EAPTLS,
		vpn.IKEv2Certificate,
		vpn.IKEv2MSCHAPv2,
	}
	ikev2.IKE, ikev2.ESP, ikev2.SetProposals, ikev2.OneProposal, ikev2.Dialect =
		windowsIKE2, windowsESP2, true, true, suite.WindowsDialect
	ikev2.Note = "the built-in proposals reach only group 2; better ones are set explicitly"
	pptp.MPPE = suite.MPPEs
	l2tp.KeyKinds, ikev2.KeyKinds = windowsKeys, windowsKeys
	return five{
		vpn.L2TP:  l2tp,
		vpn.IKEv2: ikev2,
		vpn.PPTP:  pptp,
		vpn.SSTP:  base,
		vpn.TLS:   client(OVPN, OVPNFolder),
	}.with(
		vpn.TLS,
		loginBeside,
	)
}

// windowsXML adds the file of device management, which Windows 10 brought. It does not
// know SSTP.
func windowsXML(f five) five {
	for _, p := range []vpn.Protocol{vpn.L2TP, vpn.IKEv2, vpn.PPTP} {
		f = f.with(p, func(a *Ability) { a.Formats = []Format{PowerShell, WindowsXML, PhoneBook} })
	}
	return f
}

// windows7 has no cmdlets: its connections stand in a phone book, or are typed.
func windows7() five {
	f := windows().every(func(a *Ability) {
		if a.Support == BuiltIn {
			a.Formats, a.SetDNS, a.SplitRoutes, a.SavePassword, a.Note = []Format{
				PhoneBook,
			}, false, false, false, "its PowerShell has no VPN cmdlets; a phone book takes no "+
				"secrets"
		}
		a.OldPacking = true
	})
	return f.with(vpn.L2TP, func(a *Ability) {
		a.IKE = []string{"aes256-sha1-modp2048", "3des-sha1-modp2048", "3des-sha1-modp1024"}
		a.SetProposals, a.OneProposal, a.Dialect = false, false, ""
	}).with(vpn.IKEv2, func(a *Ability) {
		a.SetProposals, a.OneProposal, a.Dialect =
			false, false, ""
	})
}

func apple() five {
	base := Ability{
		Support:      BuiltIn,
		Formats:      []Format{AppleProfile},
		SetDNS:       true,
		SavePassword: true,
		Source:       appleSource,
		Unconfirmed:  true,
	}
	l2tp, ikev2, pptp := base, base, base
	l2tp.PPP, l2tp.IKE, l2tp.ESP, l2tp.Machine = allPPP, appleIKE, appleESP, []vpn.MachineAuth{
		vpn.MachineCertificate,
		vpn.MachinePSK,
	}
	ikev2.IKEv2, ikev2.IKE, ikev2.ESP = vpn.IKEv2Auths, appleIKE2, appleESP
	ikev2.SetProposals, ikev2.OneProposal, ikev2.Dialect = true, true, suite.AppleDialect
	pptp.PPP, pptp.MPPE = linkPPP, []suite.MPPE{"128", "40"}
	l2tp.KeyKinds, ikev2.KeyKinds = appleKeys, appleKeys
	return five{
		vpn.L2TP:  l2tp,
		vpn.IKEv2: ikev2,
		vpn.PPTP:  pptp,
		vpn.SSTP:  never(appleSource),
		vpn.TLS:   client(OVPN, OVPNFolder),
	}
}

func loginBeside(a *Ability) { a.LoginBeside = true }

func oldPacking(a *Ability) { a.OldPacking = true }

func machineWide(a *Ability) { a.MachineWide = true }

func android() five {
	base := Ability{
		Support:      BuiltIn,
		PPP:          linkPPP,
		SplitRoutes:  true,
		SetDNS:       true,
		SavePassword: true,
		Source:       androidSource,
		Unconfirmed:  true,
	}
	l2tp, pptp := base, base
	l2tp.IKE, l2tp.ESP, l2tp.Machine = androidIKE, androidESP, vpn.MachineAuths
	pptp.MPPE = []suite.MPPE{"128"}
	ikev2 := Ability{
		Support:      Client,
		Note:         "a client program takes the file",
		Formats:      []Format{SSwan},
		IKEv2:        []vpn.IKEv2Auth{vpn.IKEv2EAPTLS, vpn.IKEv2Certificate, vpn.IKEv2MSCHAPv2},
		SetProposals: true,
		SplitRoutes:  true,
		SetDNS:       true,
		Source:       "strongSwan: VPN profile files of its Android client",
		Unconfirmed:  true,
	}
	return five{
		vpn.L2TP:  l2tp,
		vpn.IKEv2: ikev2,
		vpn.PPTP:  pptp,
		vpn.SSTP:  never(androidSource),
		vpn.TLS:   client(OVPN, OVPNFolder),
	}
}

// android11 has IKEv2 built in; a person types it, or the client takes a file.
func android11() five {
	return android().with(vpn.IKEv2, func(a *Ability) {
		*a = Ability{
			Support:      BuiltIn,
			Note:         "by MS-CHAPv2, pre-shared key or RSA certificate",
			IKEv2:        []vpn.IKEv2Auth{vpn.IKEv2Certificate, vpn.IKEv2MSCHAPv2, vpn.IKEv2PSK},
			IKE:          androidIKE2,
			ESP:          androidESP2,
			SavePassword: true,
			KeyKinds:     androidKeys,
			Source:       androidSource,
			Unconfirmed:  true,
		}
	})
}

func chrome() five {
	base := Ability{
		Support:      BuiltIn,
		Formats:      []Format{ONC},
		SavePassword: true,
		Source:       chromeSource,
		Unconfirmed:  true,
	}
	l2tp, ikev2, tls := base, base, base
	l2tp.PPP, l2tp.IKE, l2tp.ESP, l2tp.Machine = []suite.PPPMethod{
		suite.EAP,
		suite.MSCHAPv2,
		suite.CHAP,
		suite.PAP,
	}, chromeIKE, chromeESP, vpn.MachineAuths
	ikev2.IKEv2, ikev2.IKE, ikev2.ESP = []vpn.IKEv2Auth{
		vpn.IKEv2Certificate,
		vpn.IKEv2MSCHAPv2,
		vpn.IKEv2PSK,
	}, androidIKE2, chromeESP
	tls.TLS = vpn.TLSAuths
	return five{
		vpn.L2TP:  l2tp,
		vpn.IKEv2: ikev2,
		vpn.PPTP:  never(chromeSource),
		vpn.SSTP:  never(chromeSource),
		vpn.TLS:   tls,
	}
}

func desktop() five {
	base := Ability{
		Support:      Plugin,
		Formats:      []Format{Keyfile},
		SplitRoutes:  true,
		SetDNS:       true,
		SavePassword: true,
		MachineWide:  true,
		Source:       networkSource,
	}
	l2tp, ikev2, pptp, sstp, tls := base, base, base, base, base
	l2tp.Note, l2tp.PPP, l2tp.Machine, l2tp.SetProposals = "needs the L2TP plugin of "+
		"NetworkManager", allPPP, vpn.MachineAuths, true
	ikev2.Note, ikev2.IKEv2, ikev2.SetProposals =
		"needs the strongSwan plugin of NetworkManager", vpn.IKEv2Auths, true
	pptp.Note, pptp.PPP, pptp.MPPE =
		"needs the PPTP plugin of NetworkManager", allPPP, []suite.MPPE{
			"128",
			"40",
		}
	sstp.Note, sstp.PPP = "needs the SSTP plugin of NetworkManager", allPPP
	tls.Note, tls.TLS, tls.Formats =
		"needs the OpenVPN plugin of NetworkManager", vpn.TLSAuths, []Format{
			Keyfile,
			OVPN,
			OVPNFolder,
		}
	return five{vpn.L2TP: l2tp, vpn.IKEv2: ikev2, vpn.PPTP: pptp, vpn.SSTP: sstp, vpn.TLS: tls}
}

func linux() five {
	base := Ability{
		Support:      Packages,
		Formats:      []Format{Daemons},
		CannotAsk:    true,
		SplitRoutes:  true,
		SetDNS:       true,
		SavePassword: true,
		MachineWide:  true,
		Source:       linuxSource,
		Unconfirmed:  true,
	}
	l2tp, ikev2, pptp, sstp, tls := base, base, base, base, base
	l2tp.Note, l2tp.PPP, l2tp.Machine, l2tp.SetProposals = "needs an IKE daemon, an L2TP daemon "+
		"and pppd", allPPP, vpn.MachineAuths, true
	ikev2.Note, ikev2.IKEv2, ikev2.SetProposals = "needs an IKE daemon", vpn.IKEv2Auths, true
	pptp.Note, pptp.PPP, pptp.MPPE = "needs pppd with a PPTP client", allPPP, []suite.MPPE{
		"128",
		"40",
	}
	sstp.Note, sstp.PPP = "needs pppd with an SSTP client", allPPP
	tls.Note, tls.TLS, tls.Formats, tls.LoginBeside =
		"needs the client of the TLS tunnel", vpn.TLSAuths, []Format{
			Daemons,
			OVPN,
			OVPNFolder,
		}, true
	return five{vpn.L2TP: l2tp, vpn.IKEv2: ikev2, vpn.PPTP: pptp, vpn.SSTP: sstp, vpn.TLS: tls}
}

func openwrt() five {
	f := linux().every(func(a *Ability) { a.Formats, a.Source = []Format{UCI}, openwrtSource })
	return f.with(vpn.IKEv2, func(a *Ability) { a.Formats = []Format{Daemons} }).
		with(vpn.TLS, func(a *Ability) { a.Formats = []Format{UCI, OVPN, OVPNFolder} }).
		with(vpn.L2TP, func(a *Ability) { a.Note = "needs the packages for IPsec and L2TP" })
}

func deskPhone() five {
	return five{
		vpn.L2TP: {
			Support:     Rarely,
			Note:        "few models can; look for it in the phone's own manual",
			Source:      "practice",
			Unconfirmed: true,
		},
		vpn.IKEv2: never("practice"),
		vpn.PPTP:  never("practice"),
		vpn.SSTP:  never("practice"),
		vpn.TLS: {
			Support:      Often,
			Note:         "one file, no questions asked, a limit of size",
			Formats:      []Format{PhoneOVPN},
			TLS:          vpn.TLSAuths,
			CannotAsk:    true,
			LoginInside:  true,
			SplitRoutes:  true,
			SetDNS:       true,
			SavePassword: true,
			Source:       "practice",
			Unconfirmed:  true,
		},
	}
}
