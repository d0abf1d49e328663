// Package simulate holds simulators for what surrounds Wardicon.
package simulate

import (
	"fmt"
	"slices"
	"strings"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// Device is a simulator for a device that installs a parcel: it reads a file as the
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

// Install takes a file, with those that came beside it. Installing it again replaces the
// connection of the same UUID.
func (d *Device) Install(
	name string,
	content []byte,
	beside format.Beside,
) (vpn.Connection, error) {
	found, ok := platform.Find(d.Platform, d.Release)
	if !ok {
		return vpn.Connection{}, fmt.Errorf("no platform %q", d.Platform)
	}
	codec, err := taken(found, name, content)
	if err != nil {
		return vpn.Connection{}, err
	}
	reading := codec.Read(name, content, beside)
	for _, n := range reading.Notes {
		if rule, _ := check.Lookup(string(n.Kind)); rule.Severity != vpn.Note {
			return vpn.Connection{}, fmt.Errorf("%s: %s (%s)", n.At, n.Found, n.Kind)
		}
	}
	if len(reading.Connections) != 1 {
		return vpn.Connection{}, fmt.Errorf(
			"%s: %d connections, expected one",
			name,
			len(reading.Connections),
		)
	}
	c := reading.Connections[0].Connection
	if a := found.Ability(
		c.Protocol,
	); !slices.Contains(a.Formats, codec.Name) &&
		!(codec.Name == platform.OVPN && slices.Contains(a.Formats, platform.PhoneOVPN)) {
		return vpn.Connection{}, fmt.Errorf(
			"%s: %s takes no %s for %s",
			name,
			found.Title,
			codec.Title,
			c.Protocol.Title(),
		)
	}
	for uuid, other := range d.Installed {
		if uuid != c.UUID && other.Name == c.Name {
			return c, fmt.Errorf("%s: another connection is called %q", name, c.Name)
		}
	}
	d.Installed[c.UUID] = c
	return c, nil
}

// taken finds the format by which a release takes a file.
func taken(found platform.Found, name string, content []byte) (format.Codec, error) {
	var titles []string
	for _, codec := range all.Codecs {
		takes := slices.ContainsFunc(vpn.Protocols, func(p vpn.Protocol) bool {
			formats := found.Ability(p).Formats
			return slices.Contains(formats, codec.Name) ||
				codec.Name == platform.OVPN && slices.Contains(formats, platform.PhoneOVPN)
		})
		if takes && codec.Detect(name, content) {
			return codec, nil
		}
		if takes {
			titles = append(titles, codec.Title)
		}
	}
	if len(titles) == 0 {
		return format.Codec{}, fmt.Errorf("%s takes no file", found.Title)
	}
	return format.Codec{}, fmt.Errorf(
		"%s: %s takes %s",
		name,
		found.Title,
		strings.Join(titles, ", "),
	)
}
