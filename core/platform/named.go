package platform

import (
	"cmp"
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// systems are names of platforms as inventories have them, in small letters.
var systems = []struct {
	name     string
	platform vpn.Platform
}{
	{"windows", vpn.Windows}, {"win", vpn.Windows}, {"macos", vpn.MacOS}, {"mac os x", vpn.MacOS},
	{"os x", vpn.MacOS}, {"ipados", vpn.IPadOS}, {"ios", vpn.IOS}, {"android", vpn.Android},
	{"chromeos", vpn.ChromeOS}, {"chrome os", vpn.ChromeOS}, {"openwrt", vpn.OpenWrt},
}

// Names lists the platforms for a message.
func Names() string {
	var list []string
	for _, p := range vpn.Platforms {
		list = append(list, string(p))
	}
	return strings.Join(list, ", ")
}

// Named reads a platform and its release as inventories have them, in one text or two: "Windows 11
// Pro". A distribution of Linux is a release of a Linux desktop. ok is false where the name is
// none;
// no name is no platform.
func Named(name, release string) (p vpn.Platform, own string, ok bool) {
	if name == "" {
		return "", release, true
	}
	lower := strings.ToLower(strings.Join(strings.Fields(name), " "))
	if slices.Contains(vpn.Platforms, vpn.Platform(lower)) {
		return vpn.Platform(lower), release, true
	}
	for _, s := range systems {
		rest, begins := strings.CutPrefix(lower, s.name)
		if begins && (rest == "" || rest[0] == ' ') {
			// Editions say nothing of the release: 11 Pro, 15.1 (24B83).
			number, _, _ := strings.Cut(strings.TrimSpace(rest), " ")
			return s.platform, cmp.Or(release, number), true
		}
	}
	whole := strings.TrimSpace(lower + " " + release)
	if _, known := translated(vpn.LinuxDesktop, whole); known {
		return vpn.LinuxDesktop, whole, true
	}
	return "", "", false
}
