package platform

import (
	"slices"
	"strings"
	"time"

	"wardicon/core/vpn"
)

// ending is the day on which a release reaches its end of support, as its makers announced it: from
// then on its devices move to a later one. Apple, Google and the makers of phones announce no such
// days.
type ending struct {
	platforms []vpn.Platform
	release   string
	day       string
}

var (
	windowsOnly = []vpn.Platform{vpn.Windows}
	linuxBoth   = []vpn.Platform{vpn.LinuxDesktop, vpn.Linux}
	routersOnly = []vpn.Platform{vpn.OpenWrt}
)

// Sources: Microsoft's product lifecycle pages (the later day where editions differ; 10 with its
// paid year), Debian's LTS page, Ubuntu's release cycle (standard support), Fedora's schedule, Red
// Hat's life cycle (maintenance), openSUSE's lifetime page, Linux Mint's releases, OpenWrt's
// security page.
var endings = []ending{
	{windowsOnly, "7", "2020-01-14"},
	{windowsOnly, "8.1", "2023-01-10"},
	{windowsOnly, "10", "2026-10-13"},
	{windowsOnly, "11 23H2", "2026-11-10"},
	{windowsOnly, "11 24H2", "2027-10-12"},
	{windowsOnly, "11 25H2", "2028-10-10"},
	{linuxBoth, "debian 10", "2024-06-30"},
	{linuxBoth, "debian 11", "2026-08-31"},
	{linuxBoth, "debian 12", "2028-06-30"},
	{linuxBoth, "debian 13", "2030-06-30"},
	{linuxBoth, "ubuntu 18.04", "2023-05-31"},
	{linuxBoth, "ubuntu 20.04", "2025-05-31"},
	{linuxBoth, "ubuntu 22.04", "2027-04-30"},
	{linuxBoth, "ubuntu 24.04", "2029-04-30"},
	{linuxBoth, "fedora 39", "2024-11-26"},
	{linuxBoth, "fedora 40", "2025-05-13"},
	{linuxBoth, "fedora 41", "2025-12-15"},
	{linuxBoth, "rhel 8", "2029-05-31"},
	{linuxBoth, "rhel 9", "2032-05-31"},
	{linuxBoth, "rhel 10", "2035-05-31"},
	{linuxBoth, "mint 21", "2027-04-30"},
	{linuxBoth, "mint 22", "2029-04-30"},
	{routersOnly, "19.07", "2022-04-30"},
	{routersOnly, "21.02", "2023-05-31"},
	{routersOnly, "22.03", "2024-07-31"},
}

// Ending is the day (UTC) on which a release reaches its end of support; known is false where its
// makers announced none.
func Ending(p vpn.Platform, release string) (day time.Time, known bool) {
	name := strings.ToLower(strings.Join(strings.Fields(release), " "))
	for _, e := range endings {
		after, begins := strings.CutPrefix(name, strings.ToLower(e.release))
		if !begins || after != "" && after[0] != '.' && after[0] != ' ' ||
			!slices.Contains(e.platforms, p) {
			continue
		}
		day, err := time.Parse(time.DateOnly, e.day)
		return day, err == nil
	}
	return day, false
}

// Losses are the protocols that a release can be connected with and the newest release of its
// platform cannot: what its devices lose with an upgrade.
func Losses(p vpn.Platform, release string) (lost []vpn.Protocol) {
	old, ok := Find(p, release)
	if !ok {
		return nil
	}
	newest := old.Row
	for _, row := range Table {
		if row.Platform == p {
			newest = row
		}
	}
	for _, protocol := range vpn.Protocols {
		if old.Ability(protocol).Support.Usable() &&
			!(Found{Row: newest}).Ability(protocol).Support.Usable() {
			lost = append(lost, protocol)
		}
	}
	return lost
}
