package uci

import (
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// TestFile reads files of /etc/config as a router has them: sections without names, routes with
// netmasks, and a tunnel whose options stand in its section.
func TestFile(t *testing.T) {
	network := Read("network", []byte("\nconfig interface 'loopback'\n\toption device 'lo'\n"+
		"\toption proto 'static'\n\n"+
		"config interface 'crew'\n\toption proto 'sstp'\n\toption server 'brattvik.example:8443'\n"+
		"\toption username \"a_fjell\"\n\toption defaultroute '0'\n\tlist dns '10.50.0.53'\n"+
		"\tlist dns '10.50.0.54'\n\n"+
		"config route\n\toption interface 'crew'\n\toption target '10.50.0.0'\n\toption netmask "+
		"'255.255.0.0'\n\n"+
		"config route 'more'\n\toption interface crew\n\toption target 10.51.0.0/16\n"), nil)
	if len(network.Connections) != 1 {
		t.Fatalf("%+v", network)
	}
	c := network.Connections[0].Connection
	if c.Server != "brattvik.example" || c.SSTP.Port != 8443 || c.Login != "a_fjell" ||
		c.Tunnel != vpn.TunnelSplit ||
		!slices.Equal(c.Routes, []string{"10.50.0.0/16", "10.51.0.0/16"}) ||
		!slices.Equal(c.DNS, []string{"10.50.0.53", "10.50.0.54"}) {
		t.Errorf("%+v %+v", c, c.SSTP)
	}
	if at := network.Connections[0].Positions[vpn.FieldServer]; at.Line != 8 ||
		at.Path != "network.crew.server" {
		t.Errorf("the server stands at %v", at)
	}

	tunnel := Read("openvpn", []byte("config openvpn 'tallholm'\n\toption enabled '1'\n\toption "+
		"client '1'\n"+
		"\toption dev 'tun'\n\tlist remote 'tallholm.example 1194'\n\tlist remote "+
		"'brattvik.example 443 tcp'\n"+
		"\toption remote_cert_tls 'server'\n\toption nobind '1'\n\toption persist_tun '0'\n"+
		"\toption frobnicate 'x'\n"), nil)
	if len(tunnel.Connections) != 1 {
		t.Fatalf("%+v", tunnel)
	}
	one := tunnel.Connections[0]
	if x := one.Connection; x.Name != "tallholm" || x.Connect != vpn.Always ||
		len(x.TLS.Remotes) != 2 ||
		x.TLS.Remotes[1].Port != 443 || x.Tunnel != vpn.TunnelPushed {
		t.Errorf("%+v %+v", x, x.TLS)
	}
	for _, n := range tunnel.Notes {
		if n.Kind == format.OptionUnknown && n.At.Line != 10 || n.Kind == format.Unreadable {
			t.Errorf("%+v", n)
		}
	}

	shell := "uci set network.crew=interface\nuci -q set network.crew.proto='pptp'\n" +
		"uci set network.crew.server=\"brattvik.example\"\nuci commit network\n"
	if r := Read("crew.txt", []byte(shell), nil); !Detect("crew.txt", []byte(shell)) ||
		len(r.Connections) != 1 || r.Connections[0].Connection.Server != "brattvik.example" ||
		!slices.Equal(r.Connections[0].Connection.PPTP.MPPE, []suite.MPPE{"128"}) {
		t.Errorf("as a shell runs it: %+v", r)
	}

	// A router without a connection is no broken file.
	bare := Read("network", []byte("config interface 'lan'\n\toption proto 'static'\n"), nil)
	if len(bare.Connections) > 0 || len(bare.Notes) != 1 ||
		bare.Notes[0].Kind != format.NotYetRead {
		t.Errorf("%+v", bare)
	}
	for _, broken := range []string{"config\n", "option a b\n", "config interface 'a\n",
		"config interface a\n\toption x\n"} {
		if r := Read("network", []byte(broken), nil); len(r.Notes) == 0 ||
			r.Notes[0].Kind != format.Unreadable {
			t.Errorf("%q: %+v", strings.TrimSpace(broken), r.Notes)
		}
	}
}
