package platform

import "wardicon/core/vpn"

// Table lists all releases, oldest first within a platform.
var Table = complete([]Row{
	{vpn.Windows, "Windows 7", []string{"7"}, windows7()},
	{vpn.Windows, "Windows 8.1", []string{"8.1"}, windows().every(oldPacking)},
	{
		vpn.Windows,
		"Windows 10 and 11",
		[]string{"10", "11"},
		windowsXML(
			windows(),
		).with(vpn.PPTP, going(windowsGoing)).
			with(vpn.L2TP, going(windowsGoing)),
	},
	{
		vpn.MacOS,
		"macOS 10.11",
		[]string{"10.11"},
		apple().every(machineWide).with(vpn.TLS, loginBeside).every(oldPacking),
	},
	{
		vpn.MacOS,
		"macOS 10.12 to 10.15",
		[]string{"10.12", "10.13", "10.14", "10.15"},
		apple().every(machineWide).
			with(vpn.TLS, loginBeside).
			every(oldPacking).
			gone(vpn.PPTP, "removed with macOS 10.12"),
	},
	{
		vpn.MacOS,
		"macOS 11 and later",
		[]string{"11", "12", "13", "14", "15", "26"},
		apple().every(machineWide).
			with(vpn.TLS, loginBeside).
			gone(vpn.PPTP, "removed with macOS 10.12"),
	},
	{
		vpn.IOS,
		"iOS 8 and 9",
		[]string{"8", "9"},
		apple().every(oldPacking).
			with(vpn.IKEv2, func(a *Ability) { a.Note = "by file from 8, by hand from 9" }),
	},
	{
		vpn.IOS,
		"iOS 10 to 14",
		[]string{"10", "11", "12", "13", "14"},
		apple().every(oldPacking).gone(vpn.PPTP, "removed with iOS 10"),
	},
	{
		vpn.IOS,
		"iOS 15 and later",
		[]string{"15", "16", "17", "18", "26"},
		apple().gone(vpn.PPTP, "removed with iOS 10"),
	},
	{
		vpn.IPadOS,
		"iPadOS 13 and 14",
		[]string{"13", "14"},
		apple().every(oldPacking).gone(vpn.PPTP, "removed with iOS 10"),
	},
	{
		vpn.IPadOS,
		"iPadOS 15 and later",
		[]string{"15", "16", "17", "18", "26"},
		apple().gone(vpn.PPTP, "removed with iOS 10"),
	},
	{vpn.Android, "Android 4 to 10", []string{"4", "5", "6", "7", "8", "9", "10"}, android()},
	{vpn.Android, "Android 11", []string{"11"}, android11()},
	{vpn.Android, "Android 12 and later", []string{"12", "13", "14", "15", "16"}, android11().
		gone(vpn.L2TP, "new connections cannot be made; only connections made before the upgrade "+
			"live on").
		gone(vpn.PPTP, "removed with Android 12")},
	{vpn.ChromeOS, "ChromeOS", []string{"100", "120", "140"}, chrome()},
	{
		vpn.LinuxDesktop,
		"Linux desktop (NetworkManager)",
		[]string{"1.10", "1.20", "1.30", "1.36", "1.42", "1.46", "1.50"},
		desktop(),
	},
	{vpn.Linux, "Linux without desktop", []string{"5", "6"}, linux()},
	{vpn.OpenWrt, "OpenWrt", []string{"19.07", "21.02", "22.03", "23.05", "24.10"}, openwrt()},
	{vpn.DeskPhone, "Desk phone", []string{"1"}, deskPhone()},
})

// going notes what was announced of a protocol's end.
func going(what string) func(*Ability) { return func(a *Ability) { a.Going = what } }

// complete gives empty lists their one form.
func complete(rows []Row) []Row {
	for _, r := range rows {
		for p, a := range r.Can {
			fill(&a.Formats)
			fill(&a.Machine)
			fill(&a.IKEv2)
			fill(&a.TLS)
			fill(&a.PPP)
			fill(&a.MPPE)
			fill(&a.IKE)
			fill(&a.ESP)
			fill(&a.KeyKinds)
			r.Can[p] = a
		}
	}
	return rows
}

func fill[T any](list *[]T) {
	if *list == nil {
		*list = []T{}
	}
}
