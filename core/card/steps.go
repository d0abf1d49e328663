package card

import "wardicon/core/vpn"

// guide is what a person does on one platform. Words in ‹› are labels of values on
// the card; what stands in braces is left out where the card has no such value, and a
// step that begins with "full:" or "split:" is for that tunnel only. From is the first
// release that the guide is for.
type guide struct {
	platform vpn.Platform
	from     string
	file     []string // with the parcel's file; empty where there is none
	hand     []string // typed by hand
	connect  []string
	remove   []string
}

// guides lists the steps, oldest release first within a platform.
var guides = []guide{
	{
		platform: vpn.Windows, from: "7",
		hand: []string{
			"Open the Control Panel, then Network and Sharing Center, then “Set up a new connection or network”.",
			"Choose “Connect to a workplace”, then “Use my Internet connection (VPN)”.",
			"Type ‹Server address› and ‹Connection name›. Tick “Don't connect now”.",
			"Type ‹Login›{ and ‹Password›}. Leave the domain empty.",
			"Open the properties of the new connection, tab Security. As type choose “Layer 2 Tunneling Protocol with IPsec (L2TP/IPsec)”.",
			"Press “Advanced settings”, choose the preshared key and type ‹Pre-shared key›.",
			"Allow only the protocol ‹Sign-in method›.",
			"split:On the tab Networking open the properties of IPv4, press Advanced and untick the default gateway on the remote network. Then, in a command window of an administrator, type for each network of ‹Routes›: route -p add, the network, mask, its mask, and the gateway's inside address.",
		},
		connect: []string{"Click the network symbol beside the clock, choose the connection and press Connect."},
		remove:  []string{"In the list of network adapters, delete the connection."},
	},
	{
		platform: vpn.Windows, from: "8.1",
		file: []string{
			"Save both scripts on the computer, for example in the folder Downloads.",
			"Open PowerShell as administrator: right-click the Start button and choose the entry with (Admin).",
			"Allow this one window to run the script: Set-ExecutionPolicy -Scope Process -ExecutionPolicy Bypass",
			"Change to the folder (cd) and run the install script by typing .\\ and its name.",
			"Wait for the line that says the connection was compared with what was meant. If it asks for a restart, restart once.",
			"Delete the install script: the pre-shared key stands in it. Keep the removal script.",
		},
		hand: []string{
			"Open Settings, then Network & Internet, then VPN, then “Add VPN”.",
			"As provider choose “Windows (built-in)”, as type “L2TP/IPsec with pre-shared key”.",
			"Type ‹Connection name›, ‹Server address› and ‹Pre-shared key›.",
			"As type of sign-in choose “User name and password”; type ‹Login›{ and ‹Password›}.",
			"Save. Then open the adapter's properties, tab Security, and allow only ‹Sign-in method›.",
			"split:In PowerShell type: Set-VpnConnection -SplitTunneling $true, with -Name and ‹Connection name›; then for each network of ‹Routes›: Add-VpnConnectionRoute, with -ConnectionName and -DestinationPrefix.",
		},
		connect: []string{"Click the network symbol beside the clock, then VPN, choose the connection and press Connect."},
		remove:  []string{"Run the removal script in the same way, or delete the connection in Settings, Network & Internet, VPN."},
	},
	{
		platform: vpn.MacOS, from: "10.11",
		file: []string{
			"Double-click the configuration profile.",
			"Open the system's settings, find “Profiles” and choose the profile that waits there.",
			"Compare the organisation and press Install. Type your Mac's own password when asked.",
		},
		hand: []string{
			"Open the system's settings, then Network, and add a VPN configuration of type L2TP over IPSec.",
			"Type ‹Connection name›, ‹Server address› and ‹Login› (account name).",
			"Under authentication{ type ‹Password› as password, and} type ‹Pre-shared key› as shared secret. Leave the group name empty.",
			"full:In the options, tick the entry that sends all traffic over the connection.",
			"split:In the options, leave the entry that sends all traffic over the connection off.",
			"{On the page DNS, add ‹DNS servers›}{ and, as search domains, ‹Inside domains›}.",
		},
		connect: []string{"Open the VPN menu in the menu bar, or VPN in the settings, and switch the connection on."},
		remove:  []string{"In the settings under Profiles, remove the profile; or remove the VPN configuration made by hand."},
	},
	{
		platform: vpn.IOS, from: "8",
		file: []string{
			"Open the configuration profile on the device, from Mail, Files or the browser, and allow it to be loaded.",
			"Open Settings. Near the top, tap the entry for the profile that was loaded.",
			"Compare the organisation, tap Install and type the device's passcode.",
		},
		hand: []string{
			"Open Settings, then General, then VPN, and add a configuration. As type choose L2TP.",
			"As description type ‹Connection name›, as server ‹Server address›, as account ‹Login›.",
			"Leave RSA SecurID off.{ Type ‹Password› as password.} As secret type ‹Pre-shared key›.",
			"full:Switch “Send All Traffic” on. Save.",
			"split:Switch “Send All Traffic” off. Save.",
		},
		connect: []string{"Open Settings and switch VPN on. The sign VPN appears at the top of the screen."},
		remove:  []string{"In Settings, General, VPN & Device Management, remove the profile or the configuration."},
	},
	{
		platform: vpn.Android, from: "4",
		hand: []string{
			"Open Settings. Under Network (on some phones: Connections, More connections) choose VPN, then the plus sign.",
			"As name type ‹Connection name›. As type choose L2TP/IPSec PSK.",
			"As server address type ‹Server address›.",
			"Leave L2TP secret and IPSec identifier empty. As IPSec pre-shared key type ‹Pre-shared key›.",
			"split:Open the advanced options and type ‹Routes› as forwarding routes.",
			"{Open the advanced options and type ‹DNS servers› as DNS servers}{, and ‹Inside domains› as DNS search domains}.",
			"As user name type ‹Login›{, as password ‹Password›}. Save.",
		},
		connect: []string{"In the same list of VPNs, tap the connection and press Connect. A key appears at the top of the screen."},
		remove:  []string{"In the list of VPNs, tap the wheel beside the connection and choose Forget."},
	},
	{
		platform: vpn.ChromeOS, from: "1",
		hand: []string{
			"Open Settings, then Network, then “Add connection” and the built-in VPN.",
			"As service name type ‹Connection name›, as provider type choose L2TP/IPsec, as authentication the pre-shared key.",
			"Type ‹Server address›, ‹Login›{, ‹Password›} and ‹Pre-shared key›. Leave the group name empty.",
		},
		connect: []string{"Click the clock, then VPN, and choose the connection."},
		remove:  []string{"In Settings, Network, VPN, choose the connection and press Forget."},
	},
	{
		platform: vpn.LinuxDesktop, from: "1",
		file: []string{
			"Install NetworkManager's plugin for L2TP from your distribution (package network-manager-l2tp, and -gnome for its window).",
			"In a terminal, in the folder of the file: sudo install -m 600 -o root -g root FILE /etc/NetworkManager/system-connections/",
			"Let NetworkManager read it: sudo nmcli connection reload",
			"Delete your copy of the file: the pre-shared key stands in it.",
		},
		hand: []string{
			"Install NetworkManager's plugin for L2TP with its window from your distribution.",
			"Open the network settings, add a VPN and choose L2TP.",
			"Type ‹Connection name›, ‹Server address› as gateway, ‹Login›{ and ‹Password›}.",
			"In the IPsec settings switch IPsec on and type ‹Pre-shared key›{, ‹IKE proposals› as phase 1 algorithms}{ and ‹ESP proposals› as phase 2 algorithms}.",
			"In the PPP settings allow only ‹Sign-in method›.",
			"split:On the page IPv4, add ‹Routes› and tick the entry that uses the connection only for resources on its network.",
			"{On the page IPv4, add ‹DNS servers›}{ and the search domains ‹Inside domains›}.",
		},
		connect: []string{"Choose the connection in the network menu, or type: nmcli connection up followed by its name."},
		remove:  []string{"Type: sudo nmcli connection delete followed by its name."},
	},
	{
		platform: "", from: "",
		hand: []string{
			"Add an L2TP/IPsec connection (IKEv1 main mode, transport mode) with the values below, as the device's own manual says.",
			"Call it ‹Connection name›. IPsec protects UDP port 1701 to ‹Server address›, with ‹Pre-shared key›{, the IKE proposals ‹IKE proposals›}{ and the ESP proposals ‹ESP proposals›}.",
			"PPP signs in with ‹Login›{ and ‹Password›}, by ‹Sign-in method› only.",
			"full:Send everything through it.",
			"split:Send only ‹Routes› through it.",
			"{Ask ‹DNS servers›}{ for names in ‹Inside domains›}.",
		},
		connect: []string{"Bring the connection up as the manual says, and look for an address on the tunnel's interface."},
		remove:  []string{"Remove the connection and its secrets from the configuration."},
	},
}
