package daemons

import (
	_ "embed"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/ovpn"
	"wardicon/core/format/shell"
	"wardicon/core/vpn"
)

// tunnelFolder is where the units of the TLS tunnel's client look for configurations.
const tunnelFolder = "/etc/openvpn/client/"

// names sets name servers and domains while the tunnel is up.
//
//go:embed names.sh
var names string

// tunnel makes the files and scripts of the TLS tunnel on a machine with a service manager.
func tunnel(c vpn.Connection) ([]format.File, error) {
	files, places, ask, err := Tunnel(c, tunnelFolder, true)
	if err != nil {
		return nil, err
	}
	unit := "openvpn-client@" + format.FileName(c.Name, "") + ".service"
	job := shell.Job{
		Connection: c.Name,
		ID:         c.UUID,
		Placements: places,
		Ask:        ask,
		Done:       "The connection is set up.",
		Programs:   []shell.Program{{Name: "openvpn", Packages: "openvpn"}},
		Revoke: []string{
			"if [ -d /run/systemd/system ]; then systemctl stop " + unit +
				" > /dev/null 2>&1 || true; fi",
		},
	}
	if i := c.Identity; c.NeedsIdentity() && i.Enrol != nil {
		files = append(files, enrols(c, *i.Enrol, &job)...)
	}
	if c.Connect == vpn.Always {
		job.Units = append(job.Units, unit)
	}
	files = append(files, withSite(c, &job)...)
	return append(files, shell.Scripts(job, files)...), nil
}

// Tunnel makes the files of a TLS tunnel that stand in a folder: its own file, and the one
// that runs it with the sign-in and, where it is wanted, with what sets its name servers;
// the client by itself only tells of them (openvpn(8), --dhcp-option).
func Tunnel(
	c vpn.Connection,
	folder string,
	hook bool,
) (files []format.File, places []shell.Placement, ask *shell.Ask, err error) {
	bare := c
	bare.LoginBeside = true
	if c.NeedsIdentity() && c.Identity != nil && c.Identity.Enrol != nil {
		at := placesOf(c)
		files, err = ovpn.WriteOwn(bare, ovpn.Own{Certificate: at.certificate, Key: at.key})
	} else {
		files, err = ovpn.Codec.Write(bare)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	name := format.FileName(c.Name, "")
	if ask = asks(c); ask != nil {
		ask.Path = folder + format.FileName(c.Name, ovpn.LoginFile)
	}
	var b strings.Builder
	line := func(parts ...string) { b.WriteString(strings.Join(parts, "") + "\n") }
	line("# name = ", c.Name)
	if c.NeedsPassword() {
		line(loginMark, c.Login)
	}
	if c.Connect == vpn.Always {
		line(alwaysMark)
	}
	line("config ", folder, files[0].Name)
	if c.NeedsPassword() {
		line("auth-user-pass ", folder, format.FileName(c.Name, ovpn.LoginFile))
	}
	if hook {
		script := folder + name + "-names.sh"
		line("script-security 2")
		line(`up "`, script, ` up"`)
		line(`down "`, script, ` down"`)
		line("down-pre")
	}
	files = append(files, format.File{
		Name: format.FileName(
			c.Name,
			".conf",
		),
		MediaType: "text/plain; charset=utf-8",
		Purpose:   "Configuration that starts the tunnel",
		Content:   []byte(b.String()),
	})
	for _, f := range files {
		places = append(places, shell.Placement{File: f.Name, Path: folder + f.Name, Mode: "0600"})
	}
	if hook {
		f := format.File{
			Name: format.FileName(
				c.Name,
				"-names.sh",
			),
			MediaType: "text/x-shellscript; charset=utf-8",
			Purpose:   "Sets the name servers while the tunnel is up",
			Content:   []byte(strings.ReplaceAll(names, "NAME", name)),
		}
		files, places = append(
			files,
			f,
		), append(
			places,
			shell.Placement{File: f.Name, Path: folder + f.Name, Mode: "0755"},
		)
	}
	return files, places, ask, nil
}

// Remarks in the configuration that starts a tunnel.
const (
	loginMark  = "# login = "
	alwaysMark = "# started with the system"
)

// tunnelSays takes over what the configuration beside the tunnel's own file says: with
// whose login, and whether it is always there.
func tunnelSays(c *vpn.Connection, beside format.Beside, stem string) {
	data, ok := beside.Get(stem + ".conf")
	if !ok {
		return
	}
	for line := range strings.SplitSeq(string(data), "\n") {
		if login, ok := strings.CutPrefix(line, loginMark); ok && c.NeedsPassword() {
			c.Login = login
		}
		if line == alwaysMark {
			c.Connect, c.Reconnect = vpn.Always, true
		}
	}
}
