package card

import "wardicon/core/vpn"

// hand is what a person types on one platform for one protocol. Words in ‹› are labels
// of values on the card; what stands in braces is left out where the card has no such
// value, and a step that begins with "full:" or "split:" is for that tunnel only. From
// is the first release that the steps are for. An empty platform is for all others.
type hand struct {
	platform vpn.Platform
	from     string
	protocol vpn.Protocol
	steps    []string
}

// The steps that return.
var (
	windows7Begin = []string{
		"Open the Control Panel, then Network and Sharing Center, then “Set up a new connection " +
			"or network”.",
		"Choose “Connect to a workplace”, then “Use my Internet connection (VPN)”.",
		"Type ‹Server address›{ and, after a colon, ‹Port›}, and ‹Connection name›. Tick “Don't " +
			"connect now”.",
		"{Type ‹Login›}{ and ‹Password›}{. Leave the domain empty; the login is ‹Login› whole}.",
	}
	windows7End = "split:On the tab Networking open the properties of IPv4, press Advanced and " +
		"untick the default gateway on the remote network. Then, in a command window of an " +
		"administrator, type for each network of {‹Routes›}: route -p add, the network, mask, " +
		"its mask, and the gateway's inner address."
	windowsIPsec = []string{
		"{Open a command window as administrator and type ‹Command for the services›.}",
		"{In the same window type ‹Command for the gateway behind NAT›, and restart the computer " +
			"once before you connect.}",
	}
	windowsBegin  = "Open Settings, then Network & Internet, then VPN, then “Add VPN”."
	windowsSignIn = "{As type of sign-in choose “User name and password”; type ‹Login›}{ and " +
		"‹Password›}{. Save; then open the adapter's properties, tab Security, and allow only " +
		"‹Sign-in method›}."
	windowsEnd = "split:In PowerShell type: Set-VpnConnection -SplitTunneling $true, with " +
		"-Name and ‹Connection name›{; then for each network of ‹Routes›: " +
		"Add-VpnConnectionRoute, with -ConnectionName and -DestinationPrefix}."
	androidBegin = "Open Settings. Under Network (on some phones: Connections, More connections) " +
		"choose VPN, then the plus sign."
	androidEnd = []string{
		"split:{Open the advanced options and type ‹Routes› as forwarding routes.}",
		"{Open the advanced options and type ‹DNS servers› as DNS servers}{, and ‹Internal " +
			"domains› as DNS search domains}.",
		"As user name type ‹Login›{, as password ‹Password›}. Save.",
	}
	networkEnd = []string{
		"split:{On the page IPv4, add ‹Routes› and tick the entry that uses the connection only " +
			"for resources on its network.}",
		"{On the page IPv4, add ‹DNS servers›}{ and the search domains ‹Internal domains›}.",
	}
	otherEnd = []string{
		"full:Send everything through it.",
		"split:{Send only ‹Routes› through it.}",
		"{Ask ‹DNS servers›}{ for names in ‹Internal domains›}.",
	}
	macEnd = []string{
		"full:In the options, tick the entry that sends all traffic over the connection.",
		"split:In the options, leave the entry that sends all traffic over the connection off.",
		"{On the page DNS, add ‹DNS servers›}{ and, as search domains, ‹Internal domains›}.",
		"Press Apply before you connect: what was typed counts only then.",
	}
	iosEnd = []string{
		"full:Switch “Send All Traffic” on. Save.",
		"split:Switch “Send All Traffic” off. Save.",
	}
)

func join(parts ...any) []string {
	var list []string
	for _, p := range parts {
		switch p := p.(type) {
		case string:
			list = append(list, p)
		case []string:
			list = append(list, p...)
		}
	}
	return list
}

// hands lists the steps; within a platform and protocol the oldest release first.
var hands = []hand{
	{
		vpn.Windows,
		"7",
		vpn.L2TP,
		join(
			windows7Begin,
			"Open the properties of the new connection, tab Security. As type choose “Layer 2 "+
				"Tunneling Protocol with IPsec (L2TP/IPsec)”.",
			"{Press “Advanced settings”, choose the preshared key and type ‹Pre-shared key›.}",
			"{Allow only the protocol ‹Sign-in method›.}",
			windowsIPsec,
			windows7End,
		),
	},
	{
		vpn.Windows,
		"7",
		vpn.PPTP,
		join(
			windows7Begin,
			"Open the properties of the new connection, tab Security. As type choose “Point to "+
				"Point Tunneling Protocol (PPTP)”.",
			"As data encryption choose the strongest that gives {‹Encryption›}.",
			"{Allow only the protocol ‹Sign-in method›.}",
			windows7End,
		),
	},
	{
		vpn.Windows,
		"7",
		vpn.SSTP,
		join(
			windows7Begin,
			"Open the properties of the new connection, tab Security. As type choose “Secure "+
				"Socket Tunneling Protocol (SSTP)”.",
			"{Allow only the protocol ‹Sign-in method›.}",
			windows7End,
		),
	},
	{
		vpn.Windows,
		"7",
		vpn.IKEv2,
		join(
			windows7Begin,
			"Open the properties of the new connection, tab Security. As type choose “IKEv2”.",
			"{Choose EAP, and as its kind the secured password (EAP-MSCHAP v2), for ‹Login›.}",
			windows7End,
		),
	},
	{
		vpn.Windows,
		"8.1",
		vpn.L2TP,
		join(
			windowsBegin,
			"As provider choose “Windows (built-in)”, as type “L2TP/IPsec with pre-shared key”, "+
				"or with certificate.",
			"Type ‹Connection name›, ‹Server address›{ and ‹Pre-shared key›}.",
			windowsSignIn,
			windowsIPsec,
			windowsEnd,
		),
	},
	{
		vpn.Windows,
		"8.1",
		vpn.PPTP,
		join(
			windowsBegin,
			"As provider choose “Windows (built-in)”, as type “Point to Point Tunneling Protocol "+
				"(PPTP)”.",
			"Type ‹Connection name› and ‹Server address›.",
			windowsSignIn,
			"{On the same tab Security let it need encryption of ‹Encryption›.}",
			windowsEnd,
		),
	},
	{
		vpn.Windows,
		"8.1",
		vpn.SSTP,
		join(
			windowsBegin,
			"As provider choose “Windows (built-in)”, as type “Secure Socket Tunneling Protocol "+
				"(SSTP)”.",
			"Type ‹Connection name› and ‹Server address›{, a colon and ‹Port›}.",
			windowsSignIn,
			windowsEnd,
		),
	},
	{
		vpn.Windows,
		"8.1",
		vpn.IKEv2,
		join(
			windowsBegin,
			"As provider choose “Windows (built-in)”, as type “IKEv2”.",
			"Type ‹Connection name› and ‹Server address›.",
			"{As type of sign-in choose “User name and password”; type ‹Login›}{ and ‹Password›}.",
			"{In PowerShell, set the algorithms with Set-VpnConnectionIPsecConfiguration to ‹IKE "+
				"proposals›}{ and ‹ESP proposals›}.",
			windowsEnd,
		),
	},

	{
		vpn.MacOS,
		"10.11",
		vpn.L2TP,
		join(
			"Open the system's settings, then Network, and add a VPN configuration of type L2TP "+
				"over IPSec.",
			"Type ‹Connection name›, ‹Server address› and ‹Login› (account name).",
			"Under authentication{ type ‹Password› as password, and}{ type ‹Pre-shared key› as "+
				"shared secret}{, and ‹Group name› as group name}.",
			macEnd,
		),
	},
	{
		vpn.MacOS,
		"10.11",
		vpn.PPTP,
		join(
			"Open the system's settings, then Network, and add a VPN configuration of type PPTP.",
			"Type ‹Connection name›, ‹Server address› and ‹Login› (account name).",
			"{As encryption choose ‹Encryption› at most.}",
			"{Under authentication type ‹Password›.}",
			macEnd,
		),
	},
	{
		vpn.MacOS,
		"10.11",
		vpn.IKEv2,
		join(
			"Open the system's settings, then Network, and add a VPN configuration of type IKEv2.",
			"Type ‹Connection name› and ‹Server address›.",
			"As remote ID type ‹Remote identity›.{ As local ID type ‹Local identity›.}",
			"without Local identity:Leave the local ID empty.",
			"{Under authentication choose the user name and type ‹Login›}{ and ‹Password›}.",
			"{Under authentication choose none, then the shared secret, and type ‹Pre-shared "+
				"key›.}",
			macEnd[2:],
		),
	},
	{
		vpn.IOS,
		"8",
		vpn.L2TP,
		join(
			"Open Settings, then General, then VPN, and add a configuration. As type choose L2TP.",
			"As description type ‹Connection name›, as server ‹Server address›, as account "+
				"‹Login›.",
			"Leave RSA SecurID off.{ Type ‹Password› as password.}{ As secret type ‹Pre-shared "+
				"key›.}{ As group name type ‹Group name›.}",
			iosEnd,
		),
	},
	{
		vpn.IOS,
		"8",
		vpn.PPTP,
		join(
			"Open Settings, then General, then VPN, and add a configuration. As type choose PPTP.",
			"As description type ‹Connection name›, as server ‹Server address›, as account "+
				"‹Login›.",
			"Leave RSA SecurID off.{ Type ‹Password› as password.}{ As encryption level choose "+
				"the one for ‹Encryption›.}",
			iosEnd,
		),
	},
	{
		vpn.IOS,
		"8",
		vpn.IKEv2,
		join(
			"Open Settings, then General, then VPN, and add a configuration. As type choose IKEv2.",
			"As description type ‹Connection name›, as server ‹Server address›, as remote ID "+
				"‹Remote identity›.",
			"{As local ID type ‹Local identity›.}",
			"without Local identity:Leave the local ID empty.",
			"{As user authentication choose the user name; type ‹Login›}{ and ‹Password›}.",
			"{As user authentication choose none; switch the certificate off and type ‹Pre-shared "+
				"key› as secret.}",
		),
	},

	{
		vpn.Android,
		"4",
		vpn.L2TP,
		join(
			androidBegin,
			"As name type ‹Connection name›. As type choose L2TP/IPSec{ PSK, for ‹Pre-shared "+
				"key›}.",
			"As server address type ‹Server address›.",
			"{Leave L2TP secret empty. As IPSec identifier type ‹Group name›.}",
			"{As IPSec pre-shared key type ‹Pre-shared key›. Leave the L2TP secret empty.}",
			androidEnd,
		),
	},
	{
		vpn.Android,
		"4",
		vpn.PPTP,
		join(
			androidBegin,
			"As name type ‹Connection name›. As type choose PPTP.",
			"As server address type ‹Server address›. Let PPP encryption (MPPE) be on{: "+
				"‹Encryption›}.",
			androidEnd,
		),
	},
	{
		vpn.Android,
		"4",
		vpn.IKEv2,
		[]string{
			"In the client program add a VPN profile. As server type ‹Server address›.",
			"{As type choose the one with a user name; as user name type ‹Login›}{, as password " +
				"‹Password›}{. As user certificate choose the one from ‹Certificate file›}.",
			"{Choose the CA certificate from ‹Authority file› yourself, in the place of the " +
				"automatic choice.}",
			"Open the advanced settings: as server identity type ‹Remote identity›{, as client " +
				"identity ‹Local identity›}. As profile name type ‹Connection name›. Save.",
		},
	},
	{
		vpn.Android,
		"11",
		vpn.IKEv2,
		join(
			androidBegin,
			"As name type ‹Connection name›. As type choose IKEv2/IPSec{ MSCHAPv2, for ‹Login›}{ "+
				"PSK, for ‹Pre-shared key›}.",
			"As server address type ‹Server address›.",
			"{As IPSec identifier type ‹Local identity›.}",
			"{As IPSec pre-shared key type ‹Pre-shared key›.}",
			"{As IPSec CA certificate choose the one from ‹Authority file›.}",
			"{As IPSec user certificate choose the one from ‹Certificate file›.}",
			"{As user name type ‹Login›}{, as password ‹Password›}. Save.",
		),
	},

	{
		vpn.ChromeOS,
		"1",
		vpn.L2TP,
		join(
			"Open Settings, then Network, then “Add connection” and the built-in VPN.",
			"As service name type ‹Connection name›, as provider type choose L2TP/IPsec.",
			"Type ‹Server address›, ‹Login›{, ‹Password›}{ and ‹Pre-shared key›}{, and the group "+
				"name ‹Group name›}.",
		),
	},
	{
		vpn.ChromeOS,
		"1",
		vpn.IKEv2,
		join(
			"Open Settings, then Network, then “Add connection” and the built-in VPN.",
			"As service name type ‹Connection name›, as provider type choose IPsec (IKEv2).",
			"Type ‹Server address›, as remote identity ‹Remote identity›{, as local identity "+
				"‹Local identity›}.",
			"{Choose user name and password; type ‹Login›}{ and ‹Password›}.",
			"{Choose the pre-shared key and type ‹Pre-shared key›.}",
		),
	},

	{
		vpn.LinuxDesktop,
		"1",
		vpn.L2TP,
		join(
			"Install NetworkManager's plugin for L2TP with its window from your distribution.",
			"Open the network settings, add a VPN and choose L2TP.",
			"Type ‹Connection name›, ‹Server address› as gateway, ‹Login›{ and ‹Password›}.",
			"In the IPsec settings switch IPsec on{ and type ‹Pre-shared key›}{, ‹Group name› as "+
				"group name}{, ‹IKE proposals› as phase 1 algorithms}{ and ‹ESP proposals› as "+
				"phase 2 algorithms}.",
			"{In the PPP settings allow only ‹Sign-in method›.}",
			networkEnd,
		),
	},
	{
		vpn.LinuxDesktop,
		"1",
		vpn.IKEv2,
		join(
			"Install NetworkManager's plugin for strongSwan with its window from your "+
				"distribution.",
			"Open the network settings, add a VPN and choose IPsec/IKEv2 (strongswan).",
			"Type ‹Connection name›, ‹Server address›{, and as identity of the gateway ‹Remote "+
				"identity›}.",
			"{Choose EAP and type ‹Login›}{ and ‹Password›}.",
			"{Choose the pre-shared key and type ‹Pre-shared key›}{ with the identity ‹Local "+
				"identity›}.",
			"Request an inner IP address.{ Turn on custom algorithms: ‹IKE proposals›}{ and ‹ESP "+
				"proposals›}.",
			networkEnd,
		),
	},
	{
		vpn.LinuxDesktop,
		"1",
		vpn.PPTP,
		join(
			"Install NetworkManager's plugin for PPTP with its window from your distribution.",
			"Open the network settings, add a VPN and choose PPTP.",
			"Type ‹Connection name›, ‹Server address› as gateway, ‹Login›{ and ‹Password›}.",
			"{In the advanced settings allow only ‹Sign-in method›}{ and use MPPE with "+
				"‹Encryption›}.",
			networkEnd,
		),
	},
	{
		vpn.LinuxDesktop,
		"1",
		vpn.SSTP,
		join(
			"Install NetworkManager's plugin for SSTP with its window from your distribution.",
			"Open the network settings, add a VPN and choose SSTP.",
			"Type ‹Connection name›, ‹Server address› as gateway{ with a colon and ‹Port›}, "+
				"‹Login›{ and ‹Password›}.",
			"{In the advanced settings allow only ‹Sign-in method›.}",
			networkEnd,
		),
	},

	{
		"",
		"",
		vpn.L2TP,
		join(
			"Add an L2TP/IPsec connection (IKEv1, transport mode) with the values below, as the "+
				"device's own manual says.",
			"Call it ‹Connection name›. IPsec protects UDP port 1701 to ‹Server address›{, with "+
				"‹Pre-shared key›}{, the group name ‹Group name›}{, the IKE proposals ‹IKE "+
				"proposals›}{ and the ESP proposals ‹ESP proposals›}.",
			"PPP signs in with ‹Login›{ and ‹Password›}{, by ‹Sign-in method› only}.",
			otherEnd,
		),
	},
	{
		"",
		"",
		vpn.IKEv2,
		join(
			"Add an IKEv2 connection with the values below, as the device's own manual says.",
			"Call it ‹Connection name›. It leads to ‹Server address›, whose identity is ‹Remote "+
				"identity›.",
			"{The device's own identity is ‹Local identity›.}",
			"{It signs in by EAP-MSCHAPv2 with ‹Login›}{ and ‹Password›}.",
			"{Both ends prove themselves by ‹Pre-shared key›.}",
			"{IKE takes ‹IKE proposals›}{, children take ‹ESP proposals›}.",
			otherEnd,
		),
	},
	{
		"",
		"",
		vpn.PPTP,
		join(
			"Add a PPTP connection with the values below, as the device's own manual says.",
			"Call it ‹Connection name›. It leads to ‹Server address›, TCP port 1723 and protocol "+
				"47 (GRE).",
			"PPP signs in with ‹Login›{ and ‹Password›}{, by ‹Sign-in method› only}{, with MPPE "+
				"of ‹Encryption›}.",
			otherEnd,
		),
	},
	{
		"",
		"",
		vpn.SSTP,
		join(
			"Add an SSTP connection with the values below, as the device's own manual or its "+
				"client program says.",
			"Call it ‹Connection name›. It leads to ‹Server address›{, TCP port ‹Port›}.",
			"PPP signs in with ‹Login›{ and ‹Password›}{, by ‹Sign-in method› only}.",
			otherEnd,
		),
	},
	{
		"",
		"",
		vpn.TLS,
		join(
			"Add a connection of the TLS tunnel with the values below, in its client program, as "+
				"that program's manual says.",
			"Call it ‹Connection name›. It tries, in this order, ‹Remotes›.",
			"{It signs in with ‹Login›}{ and ‹Password›}.",
			"{Data ciphers are ‹Data ciphers›}{, the digest is ‹Digest›}.",
			"{The gateway's certificate must have the name ‹Name in the certificate›.}",
			"A control-channel key, where the gateway has one, is too long to be typed: take the "+
				"file for it.",
			otherEnd,
		),
	},
}
