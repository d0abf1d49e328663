// Package simulate holds stand-ins for what surrounds Wardicon.
package simulate

import (
	"fmt"

	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// Device is a stand-in for a device that installs a parcel: it reads a file as the
// real one would, and refuses what is not for it or not sound.
type Device struct {
	Platform  vpn.Platform
	Release   string
	Installed map[string]vpn.Connection // by the connection's UUID
}

// NewDevice makes a device without any connection.
func NewDevice(p vpn.Platform, release string) *Device {
	return &Device{Platform: p, Release: release, Installed: map[string]vpn.Connection{}}
}

// Install takes a file. Installing it again replaces the connection of the same UUID.
func (d *Device) Install(name string, content []byte) (vpn.Connection, error) {
	found, ok := platform.Find(d.Platform, d.Release)
	if !ok {
		return vpn.Connection{}, fmt.Errorf("no platform %q", d.Platform)
	}
	wanted := found.Ability(vpn.L2TP).Format
	codec, ok := all.ByName(wanted)
	if !ok {
		return vpn.Connection{}, fmt.Errorf("%s takes no file", found.Title)
	}
	if !codec.Detect(name, content) {
		return vpn.Connection{}, fmt.Errorf("%s: %s takes a %s", name, found.Title, codec.Title)
	}
	reading := codec.Read(name, content)
	for _, n := range reading.Notes {
		if n.Kind != "secret-in-clear" {
			return vpn.Connection{}, fmt.Errorf("%s: %s (%s)", n.At, n.Found, n.Kind)
		}
	}
	if len(reading.Connections) != 1 {
		return vpn.Connection{}, fmt.Errorf("%s: %d connections, expected one", name, len(reading.Connections))
	}
	c := reading.Connections[0].Connection
	for uuid, other := range d.Installed {
		if uuid != c.UUID && other.Name == c.Name {
			return c, fmt.Errorf("%s: another connection is called %q", name, c.Name)
		}
	}
	d.Installed[c.UUID] = c
	return c, nil
}
