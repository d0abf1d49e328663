package uci

import (
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/ovpn"
	"wardicon/core/vpn"
)

// The form of files in /etc/config (OpenWrt, The UCI system, File syntax): sections with options
// and lists. It is read into the paths that a batch sets.

// packages are the files that say something of a connection.
var packages = []string{"network", "openvpn", "firewall"}

// stanza reads a line of a file; false where it is none.
func (r *reader) stanza(at format.Position, command, rest string) bool {
	r.form = true
	words, err := format.Words(rest, "#", false)
	if err != nil {
		r.Note(format.Unreadable, at, "%s", err)
		return false
	}
	switch {
	case command == "package" && len(words) > 0:
		r.pack = words[0]
	case command == "config" && len(words) > 0:
		if r.pack == "" {
			r.pack = "network"
			if base := filepath.Base(r.file); slices.Contains(packages, base) {
				r.pack = base
			} else if words[0] == "openvpn" {
				r.pack = "openvpn"
			}
		}
		r.sections++
		name := fmt.Sprintf("section%d", r.sections) // one without a name
		if len(words) > 1 {
			name = words[1]
		}
		r.section = r.pack + "." + name
		r.put(at, r.section, words[0], false)
	case len(words) == 2 && r.section != "":
		r.put(at, r.section+"."+words[0], words[1], command == "list")
	default:
		r.Note(format.Unreadable, at, "%s, expected a section, or a name and a value", command)
		return false
	}
	return true
}

// put keeps a value under its path.
func (r *reader) put(at format.Position, path, value string, list bool) {
	at.Path = path
	o := r.set[path]
	switch {
	case o == nil:
		o = &option{at: at, list: list}
		r.set[path] = o
		r.order = append(r.order, path)
	case !list:
		r.Note(format.KeyTwice, at, "%s", path)
		o.values = nil
	}
	o.values = append(o.values, value)
}

// target is the network of a route: in CIDR form, or with a netmask beside it.
func (r *reader) target(key string) string {
	text := r.get(key)
	mask := r.get(strings.TrimSuffix(key, "target") + "netmask")
	if mask == "" || strings.Contains(text, "/") {
		return text
	}
	if m, err := netip.ParseAddr(mask); err == nil && m.Is4() {
		bits := m.As4()
		if ones, size := net.IPMask(bits[:]).Size(); size > 0 {
			return fmt.Sprintf("%s/%d", text, ones)
		}
	}
	return text + "/" + mask
}

// inside reads a tunnel whose options stand in the section itself, underlined where the client has
// hyphens.
func (r *reader) inside(path string) {
	r.taken[path] = true
	var lines []string
	var places []format.Position
	for _, key := range r.order {
		name, ok := strings.CutPrefix(key, path+".")
		if !ok || slices.Contains([]string{"enabled", "config", "username", "password"}, name) {
			continue
		}
		name = strings.ReplaceAll(name, "_", "-")
		r.read[key] = true
		for _, value := range r.set[key].values {
			switch value {
			case "0":
				continue
			case "1":
				if flags[name] {
					value = ""
				}
			}
			lines = append(lines, strings.TrimSpace(name+" "+value))
			places = append(places, r.set[key].at)
		}
	}
	inner := ovpn.Read(r.file, []byte(strings.Join(lines, "\n")), r.beside)
	place := func(p format.Position) format.Position {
		if p.Line > 0 && p.Line <= len(places) && p.File == r.file {
			return places[p.Line-1]
		}
		return r.at(path)
	}
	for _, n := range inner.Notes {
		n.At, n.Fix = place(n.At), nil
		r.Notes = append(r.Notes, n)
	}
	for _, u := range inner.NotCarried {
		r.Left(u.What, place(u.At))
	}
	r.Pieces = append(r.Pieces, inner.Pieces...)
	for _, one := range inner.Connections {
		one.Connection.Scope, one.Connection.Name =
			vpn.ScopeMachine, path[strings.IndexByte(path, '.')+1:]
		if r.get(path+".enabled") == "1" {
			one.Connection.Connect = vpn.Always
		}
		for field, at := range one.Positions {
			one.Positions[field] = place(at)
		}
		r.Add(one)
	}
}

// flags are options of the client that have no value.
var flags = func() map[string]bool {
	all := map[string]bool{}
	for _, name := range strings.Fields(`client tls-client pull nobind persist-key persist-tun
		float mlock remote-random auth-nocache route-nopull auth-user-pass comp-noadapt fast-io
		mute-replay-warnings passtos push-peer-info block-ipv6 bind multihome tls-exit
		single-session`) {
		all[name] = true
	}
	return all
}()
