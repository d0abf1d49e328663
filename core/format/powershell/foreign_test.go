package powershell

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/vpn"
)

// TestForeign reads scripts as administrators write them, in the forms of Microsoft's
// documentation: about_Splatting, about_Parsing, about_Quoting_Rules, about_Foreach, and the
// references of the VpnClient module.
func TestForeign(t *testing.T) {
	const add = "Add-VpnConnection -Name N -ServerAddress n.example -TunnelType L2tp -L2tpPsk " +
		"'kelp-4497' -Force"
	for name, c := range map[string]struct {
		script string
		want   string   // protocol server, tunnel, routes, key
		notes  []string // beside a secret in clear
	}{
		"one line": {add, "L2TP/IPsec n.example full [] kelp-4497", nil},
		"backticks": {strings.ReplaceAll(add, " -", " `\n  -"), "L2TP/IPsec n.example full [] " +
			"kelp-4497", nil},
		"positions and short names": {
			"Add-VpnConnection N n.example -Tunnel L2tp -L2tp 'kelp-4497' -Splitt\n" +
				"Add-VpnConnectionRoute N 10.0.0.0/8", "L2TP/IPsec n.example split [10.0.0.0/8] " +
				"kelp-4497", nil,
		},
		"variables": {
			"$s = 'n' # the host\n$h = \"$s.example\"; $k = 'kelp-' + '4497'\n" +
				"Add-VpnConnection -Name \"$($s)\" -ServerAddress $h -TunnelType \"L2tp\" " +
				"-L2tpPsk $k -SplitTunneling:$false",
			"L2TP/IPsec n.example full [] kelp-4497", nil,
		},
		"splatting": {
			"$a = @{\n  Name = 'N' ; ServerAddress = 'n.example'\n  TunnelType = 'L2tp'\n  " +
				"L2tpPsk = @'\nkelp-4497\n'@\n" +
				"  SplitTunneling = $true }\nif ($true) { Add-VpnConnection @a -PassThru " +
				"-ErrorAction Stop }",
			"L2TP/IPsec n.example split [] kelp-4497", nil,
		},
		"loops": {
			add + "\nforeach ($n in '10.1.0.0/16', '10.2.0.0/16') { Add-VpnConnectionRoute " +
				"-ConnectionName N $n }\n" +
				"@('10.3.0.0/16') | ForEach-Object { Add-VpnConnectionRoute 'N' " +
				"-DestinationPrefix $_ }\n" +
				"Set-VpnConnection N -SplitTunneling $true",
			"L2TP/IPsec n.example split [10.1.0.0/16 10.2.0.0/16 10.3.0.0/16] kelp-4497", nil,
		},
		"defaults of parameters": {
			"<# Crew\n #>\nparam ([string] $Server = 'n.example')\nfunction Go { " +
				strings.Replace(add, "n.example", "$Server", 1) + " }\nGo",
			"L2TP/IPsec n.example full [] kelp-4497", nil,
		},
		"by certificate": {
			"$e = New-EapConfiguration -Tls -VerifyServerIdentity\nAdd-VpnConnection " +
				"-ConnectionName N -ServerAddress " +
				"n.example -TunnelType IKEv2 -AuthenticationMethod Eap -EapConfigXmlStream " +
				"$e.EapConfigXmlStream\n" +
				"Set-VpnConnectionIPsecConfiguration -ConnectionName N " +
				"-AuthenticationTransformConstants GCMAES256 " +
				"-CipherTransformConstants GCMAES256 -DHGroup ECP384 -EncryptionMethod AES256 " +
				"-IntegrityCheckMethod SHA384 " +
				"-PfsGroup ECP384 -Force",
			"IKEv2 n.example full [] ", nil,
		},
		"what a run would tell": {
			"Add-VpnConnection -Name N -ServerAddress (Read-Host 'Server') -TunnelType L2tp " +
				"-L2tpPsk x", "",
			[]string{"part-not-checked"},
		},
		"every protocol": {"Add-VpnConnection -Name N -ServerAddress n.example", "",
			[]string{"part-not-checked"}},
		"no parameter": {
			add + " -Colour blue", "L2TP/IPsec n.example full [] kelp-4497",
			[]string{"key-malformed"},
		},
		"encryption optional": {
			add + " -EncryptionLevel Optional", "L2TP/IPsec n.example full [] kelp-4497",
			[]string{"encryption-optional"},
		},
		"nothing of it": {"Write-Host 'Add-VpnConnection'", "", []string{"part-not-checked"}},
		"in a comment":  {"# " + add, "", []string{"part-not-checked"}},
	} {
		r := Read("a.ps1", []byte(c.script), nil)
		got := ""
		for _, one := range r.Connections {
			x := one.Connection
			got += fmt.Sprintf("%s %s %s %v %s", x.Protocol.Title(), x.Server, x.Tunnel, x.Routes,
				x.PSK().Reveal())
		}
		if got != c.want {
			t.Errorf("%s: read %q, expected %q", name, got, c.want)
		}
		var notes []string
		for _, n := range r.Notes {
			if n.Kind != format.SecretClear {
				notes = append(notes, string(n.Kind))
			}
			if n.At.Line == 0 {
				t.Errorf("%s: %s has no place", name, n.Kind)
			}
		}
		if !slices.Equal(notes, c.notes) {
			t.Errorf("%s: remarked %q, expected %q", name, notes, c.notes)
		}
	}
	r := Read("a.ps1", []byte("\n"+add+"\nSet-ItemProperty -Path "+
		"HKLM:\\SYSTEM\\CurrentControlSet\\Services\\PolicyAgent "+
		"-Name AssumeUDPEncapsulationContextOnSendRule -Value 2"), nil)
	if len(r.Connections) != 1 || !r.Connections[0].Connection.L2TP.BehindNAT ||
		r.Connections[0].Positions[vpn.FieldPSK].Line != 2 ||
		r.Connections[0].Positions[vpn.FieldPSK].Column != 78 {
		t.Errorf("%+v", r.Connections[0].Positions[vpn.FieldPSK])
	}
}

// TestForeignHostile reads scripts that mean harm: each is an answer, and none takes long.
func TestForeignHostile(t *testing.T) {
	for name, script := range map[string]string{
		"blocks in blocks":   strings.Repeat("if (1) {", 100_000),
		"brackets":           "$a = " + strings.Repeat("@(", 100_000),
		"tables in tables":   "$a = " + strings.Repeat("@{a=", 100_000),
		"a text without end": "$a = \"" + strings.Repeat("$(", 100_000),
		"a here-string":      "$a = @\"\n" + strings.Repeat("\"\n", 100_000),
		"commas":             "Add-VpnConnection " + strings.Repeat(",", 100_000),
		"loops in loops": "$a = 1," + strings.Repeat("1,", 200) + "1\n" +
			strings.Repeat("foreach ($x in $a) {", 50) + "Add-VpnConnection a b",
		"growing":               "$a = 'aaaaaaaaaa'\n" + strings.Repeat("$a = \"$a$a\"\n", 60),
		"a comment":             "<#" + strings.Repeat("#", 100_000),
		"a backtick at its end": "Add-VpnConnection `",
	} {
		t.Run(name, func(t *testing.T) {
			r := Read("a.ps1", []byte(script), nil)
			if len(r.Connections) > format.MaxConnections {
				t.Errorf("%d connections", len(r.Connections))
			}
		})
	}
}
