package platform

import (
	"strings"

	"wardicon/core/vpn"
)

// distribution is a release of a Linux distribution with the versions that count here: of
// NetworkManager for a desktop, of the kernel without one. Sources: the distributions' own
// package indexes.
type distribution struct{ name, manager, kernel string }

var distributions = []distribution{
	{
		"debian 10",
		"1.10",
		"4",
	},
	{"debian 11", "1.30", "5"},
	{"debian 12", "1.42", "6"},
	{"debian 13", "1.50", "6"},
	{
		"ubuntu 18.04",
		"1.10",
		"4",
	},
	{"ubuntu 20.04", "1.20", "5"},
	{"ubuntu 22.04", "1.36", "5"},
	{"ubuntu 24.04", "1.46", "6"},
	{
		"fedora 39",
		"1.42",
		"6",
	},
	{"fedora 40", "1.46", "6"},
	{"fedora 41", "1.50", "6"},
	{"fedora 42", "1.50", "6"},
	{
		"rhel 8",
		"1.36",
		"4",
	},
	{"rhel 9", "1.46", "5"},
	{"rhel 10", "1.50", "6"},
	{"opensuse leap 15", "1.36", "5"},
	{"mint 21", "1.36", "5"},
	{"mint 22", "1.46", "6"},
}

// translated finds the release of the table that a distribution's release stands for.
func translated(p vpn.Platform, release string) (own string, known bool) {
	if p != vpn.LinuxDesktop && p != vpn.Linux {
		return "", false
	}
	name := strings.ToLower(strings.Join(strings.Fields(release), " "))
	for _, d := range distributions {
		if name == d.name || strings.HasPrefix(name, d.name+".") {
			if p == vpn.Linux {
				return d.kernel, true
			}
			return d.manager, true
		}
	}
	return "", false
}
