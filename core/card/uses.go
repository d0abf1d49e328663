package card

import (
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// use is how a person connects on one platform, and how the connection is removed. From
// is the first release that it holds for.
type use struct {
	platform vpn.Platform
	from     string
	connect  []string
	remove   []string
}

// uses lists the platforms, oldest release first; the last is for all others.
var uses = []use{
	{
		vpn.Windows,
		"7",
		[]string{
			"Click the network symbol beside the clock, choose the connection and press Connect.",
		},
		[]string{"In the list of network adapters, delete the connection."},
	},
	{
		vpn.Windows,
		"8.1",
		[]string{
			"Click the network symbol beside the clock, then VPN, choose the connection and " +
				"press Connect.",
		},
		[]string{
			"Run the removal script in the same way, or delete the connection in Settings, " +
				"Network & Internet, VPN.",
		},
	},
	{
		vpn.MacOS,
		"10.11",
		[]string{
			"Open the VPN menu in the menu bar, or VPN in the settings, and switch the " +
				"connection on.",
		},
		[]string{
			"In the settings under Profiles, remove the profile; or remove the VPN configuration " +
				"made by hand.",
		},
	},
	{
		vpn.IOS,
		"8",
		[]string{"Open Settings and switch VPN on. The sign VPN appears at the top of the screen."},
		[]string{
			"In Settings, General, VPN & Device Management, remove the profile or the " +
				"configuration.",
		},
	},
	{
		vpn.Android,
		"4",
		[]string{
			"In the same list of VPNs, tap the connection and press Connect. A key appears at " +
				"the top of the screen.",
		},
		[]string{"In the list of VPNs, tap the wheel beside the connection and choose Forget."},
	},
	{
		vpn.ChromeOS,
		"1",
		[]string{"Click the clock, then VPN, and choose the connection."},
		[]string{"In Settings, Network, VPN, choose the connection and press Forget."},
	},
	{
		vpn.LinuxDesktop,
		"1",
		[]string{
			"Choose the connection in the network menu, or type: nmcli connection up followed by " +
				"its name.",
		},
		[]string{
			"Run the removal script, or type: sudo nmcli connection delete followed by its name.",
		},
	},
	{
		"",
		"",
		[]string{
			"Bring the connection up as the manual says, and look for an address on the tunnel's " +
				"interface.",
		},
		[]string{
			"Run the removal script where there is one; else remove the connection and its " +
				"secrets from the configuration.",
		},
	},
}

// clients are the same for programs that take a file where the system has no such
// tunnel of its own.
var clients = map[platform.Format]use{
	platform.OVPN: {
		connect: []string{
			"Open the client program, choose the connection and switch it on.",
		},
		remove: []string{"In the client program, delete the profile; then delete the file."},
	},
	platform.SSwan: {
		connect: []string{
			"Open the strongSwan app and tap the profile.",
		},
		remove: []string{
			"In the app, keep the profile pressed and choose to delete it; then delete the file.",
		},
	},
}

// fileSteps are the steps for a format. Words in ‹› are labels of values on the card, and
// what stands in braces is left out where the card has no such value.
func fileSteps(f platform.Format, p vpn.Platform, a platform.Ability) []string {
	switch f {
	case platform.AppleProfile:
		if p == vpn.MacOS {
			return []string{
				"Double-click the configuration profile.",
				"Open the system's settings, find “Profiles” and choose the profile that waits " +
					"there.",
				"Compare the organisation and press Install. Type your Mac's own password when " +
					"asked.",
				"{When you are asked for an account or a login, type ‹Login›.}",
			}
		}
		return []string{
			"Open the configuration profile on the device, from Mail, Files or the browser, and " +
				"allow it to be loaded.",
			"Open Settings. Near the top, tap the entry for the profile that was loaded.",
			"Compare the organisation, tap Install and type the device's passcode.",
			"{When you are asked for an account or a login, type ‹Login›.}",
		}
	case platform.PowerShell:
		return []string{
			"Save both scripts on the computer, for example in the folder Downloads.",
			"Open PowerShell as administrator: right-click the Start button and choose the entry " +
				"with (Admin).",
			"Allow this one window to run the script: Set-ExecutionPolicy -Scope Process " +
				"-ExecutionPolicy Bypass",
			"Change to the folder (cd) and run the install script by typing .\\ and its name.",
			"Wait for the line that says the connection was compared with what was meant. If it " +
				"asks for a restart, restart once.",
			"Delete the install script: secrets stand in it. Keep the removal script.",
			"{When Windows asks for the sign-in, type ‹Login› and the password.}",
		}
	case platform.PhoneBook:
		return []string{
			"Save the phone book and both scripts on the computer, for example in the folder " +
				"Downloads.",
			"Allow this one window to run the script: Set-ExecutionPolicy -Scope Process " +
				"-ExecutionPolicy Bypass",
			"Open PowerShell as administrator, change to the folder (cd) and run the install " +
				"script by typing .\\ and its name. If it asks for a restart, restart once.",
			"Delete the install script: secrets stand in it. Keep the removal script.",
			"{Press Connect, type ‹Login› and the password.}",
		}
	case platform.WindowsXML:
		return []string{
			"Give the file to the management of devices as ProfileXML; the connection then " +
				"appears by itself.",
			"{When Windows asks for the sign-in, type ‹Login› and the password.}",
		}
	case platform.Keyfile:
		return []string{
			plugin(a),
			"In a terminal, in the folder of the files, run the install script: sudo sh, and the " +
				"script's name.",
			"Delete your copies of the files: secrets stand in them. Keep the removal script.",
			"{When you are asked for the sign-in, type ‹Login› and the password.}",
		}
	case platform.Daemons, platform.UCI:
		step := "Put the files into one folder on the machine and run the install script there " +
			"as root: sh, and the script's name."
		return []string{
			needs(a, "See to it that the machine has what the connection needs: it %s."),
			step,
			"Delete the copies of the files: secrets stand in them. Keep the removal script.",
			"{Sign in as ‹Login›.}",
		}
	case platform.OVPN, platform.OVPNFolder:
		steps := []string{
			"Open the file on the device, and let the client program take it in. Delete the file " +
				"afterwards: keys stand in it.",
			"{When you are asked for the sign-in, type ‹Login› and the password.}",
		}
		if f == platform.OVPNFolder {
			steps[0] = "Keep the file and those next to it in one folder, and import the one " +
				"that ends in .ovpn into the client program."
		}
		if a.Support == platform.Client {
			return append(
				[]string{
					"Get a client program for .ovpn files from the device's own store, from the " +
						"publisher that your administrator names.",
				},
				steps...)
		}
		return steps
	case platform.PhoneOVPN:
		return []string{
			"Open the phone's own page in a browser of the same network, and sign in there as " +
				"the phone's administrator.",
			"In the settings of the network, find the VPN, upload the file and switch the VPN on.",
			"Restart the phone. It must show the sign of the VPN before it registers.",
			"Let the phone use TCP for SIP, or a keep-alive of 15 seconds and less: calls over " +
				"UDP are lost behind a router that forgets.",
		}
	case platform.SSwan:
		return []string{
			"Get the app strongSwan from the device's own store.",
			"Open the file on the device with the app and press Import. Delete the file " +
				"afterwards.",
			"{When you are asked for a user name, it is ‹Login›.}",
		}
	case platform.ONC:
		return []string{
			"In the browser open the page chrome://network, then the tab for importing, and " +
				"choose the file.",
			"Delete the file: secrets stand in it.",
			"{When you are asked for the sign-in, type ‹Login› and the password.}",
		}
	}
	return nil
}

// plugin is the step that gets what a desktop lacks.
func plugin(a platform.Ability) string {
	if a.Note == "" {
		return "See to it that NetworkManager is there."
	}
	return needs(a, "From your distribution, install what is missing: the connection %s.")
}

// noted separates a step from the note of the platform table that stands for its %s.
const noted = "\x00"

// needs is a step about what a platform lacks.
func needs(a platform.Ability, step string) string { return step + noted + a.Note }

// trust is how a person lets a device believe an authority.
func trust(p vpn.Platform) []string {
	switch p {
	case vpn.Windows:
		return []string{
			"Open ‹Authority file›, press “Install Certificate”, choose the local computer, and " +
				"as store the trusted root authorities. In a person's own store it does not " +
				"count.",
		}
	case vpn.MacOS:
		return []string{
			"Open ‹Authority file› with Keychain Access, put it into the keychain System, open " +
				"it there and set it to be trusted always.",
		}
	case vpn.IOS:
		return []string{
			"Open ‹Authority file› on the device, install it under Settings, and switch it on in " +
				"General, About, Certificate Trust Settings.",
		}
	case vpn.Android:
		return []string{
			"In Settings, under Security, choose to install a certificate from storage, as a VPN " +
				"certificate or as a CA certificate, and take ‹Authority file›.",
		}
	case vpn.ChromeOS:
		return []string{
			"In the browser open chrome://certificate-manager, tab Authorities, import " +
				"‹Authority file› and trust it for identifying websites.",
		}
	}
	return []string{"Let the device trust ‹Authority file› for this connection."}
}

// own is how a person takes the device's certificate in.
func own(p vpn.Platform) []string {
	switch p {
	case vpn.Windows:
		return []string{
			"Open ‹Certificate file›, choose the local computer, and type ‹Passphrase of the " +
				"file›.",
		}
	case vpn.Android:
		return []string{
			"In the same place install ‹Certificate file› as VPN and app user certificate, with " +
				"‹Passphrase of the file›.",
		}
	}
	return []string{"Open ‹Certificate file› on the device and type ‹Passphrase of the file›."}
}
