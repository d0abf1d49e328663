package powershell

import (
	"maps"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/vpn"
)

// cmdlet is a command that says something of connections, with its parameters: those in the order
// of their positions first. Microsoft's reference of the modules VpnClient, DnsClient and PKI has
// them.
type cmdlet struct {
	positional int
	parameters []string
	switches   []string
}

var vpnSwitches = []string{"AllUserConnection", "PassThru", "Force", "AsJob", "WhatIf", "Confirm"}

var cmdlets = map[string]cmdlet{
	"add-vpnconnection": {2, []string{
		"Name", "ServerAddress", "TunnelType", "EncryptionLevel", "AuthenticationMethod", "L2tpPsk",
		"EapConfigXmlStream", "DnsSuffix", "IdleDisconnectSeconds", "ServerList",
		"CustomConfiguration",
		"PlugInApplicationID", "MachineCertificateEKUFilter", "MachineCertificateIssuerFilter",
		"ThrottleLimit",
		"CimSession",
	}, append([]string{"SplitTunneling", "RememberCredential", "UseWinlogonCredential"},
		vpnSwitches...)},
	"set-vpnconnection": {2, []string{
		"Name", "ServerAddress", "TunnelType", "EncryptionLevel", "AuthenticationMethod", "L2tpPsk",
		"EapConfigXmlStream", "DnsSuffix", "IdleDisconnectSeconds", "ServerList",
		"CustomConfiguration",
		"SplitTunneling", "RememberCredential", "UseWinlogonCredential",
		"MachineCertificateEKUFilter",
		"MachineCertificateIssuerFilter", "ThrottleLimit", "CimSession",
	}, vpnSwitches},
	"set-vpnconnectionipsecconfiguration": {1, []string{
		"ConnectionName", "AuthenticationTransformConstants", "CipherTransformConstants", "DHGroup",
		"EncryptionMethod", "IntegrityCheckMethod", "PfsGroup", "ThrottleLimit", "CimSession",
	}, append([]string{"RevertToDefault"}, vpnSwitches...)},
	"add-vpnconnectionroute": {2, []string{
		"ConnectionName", "DestinationPrefix", "RouteMetric", "ThrottleLimit", "CimSession",
	}, vpnSwitches},
	"add-vpnconnectiontriggerdnsconfiguration": {3, []string{
		"ConnectionName", "DnsSuffix", "DnsIPAddress", "ThrottleLimit", "CimSession",
	}, vpnSwitches},
	"add-vpnconnectiontriggertrustednetwork": {2, []string{
		"ConnectionName", "DnsSuffix", "ThrottleLimit", "CimSession",
	}, vpnSwitches},
	"add-vpnconnectiontriggerapplication": {2, []string{
		"ConnectionName", "ApplicationID", "ThrottleLimit", "CimSession",
	}, vpnSwitches},
	"set-vpnconnectionproxy": {1, []string{
		"ConnectionName", "AutoConfigurationScript", "ProxyServer", "ExceptionPrefix",
		"ThrottleLimit",
		"CimSession",
	}, append([]string{"AutoDetect", "BypassProxyForLocal"}, vpnSwitches...)},
	"new-eapconfiguration": {0, []string{
		"TunnledEapAuthMethod", "TunnledNonEapAuthMethod",
	}, []string{"Tls", "Peap", "Ttls", "VerifyServerIdentity", "UseWinlogonCredential",
		"UserCertificate", "FastReconnect"}},
	"add-dnsclientnrptrule": {1, []string{
		"Namespace", "NameServers", "Comment", "DisplayName", "GpoName", "Server",
	}, append([]string{"DnsSecEnable", "DAEnable"}, vpnSwitches...)},
	"import-pfxcertificate": {1, []string{"FilePath", "CertStoreLocation", "Password"},
		[]string{"Exportable"}},
	"import-certificate": {1, []string{"FilePath", "CertStoreLocation"}, nil},
}

// parameter completes a name as PowerShell does: by any beginning that fits one parameter alone.
func (c cmdlet) parameter(name string) (full string, isSwitch, ok bool) {
	if strings.EqualFold(name, "ConnectionName") && slices.Contains(c.parameters, "Name") {
		return "Name", false, true // an alias
	}
	if strings.EqualFold(name, "Name") && slices.Contains(c.parameters, "ConnectionName") {
		return "ConnectionName", false, true
	}
	var fits []string
	for _, p := range slices.Concat(c.parameters, c.switches) {
		if strings.EqualFold(p, name) {
			fits = []string{p}
			break
		}
		if len(p) >= len(name) && strings.EqualFold(p[:len(name)], name) {
			fits = append(fits, p)
		}
	}
	if len(fits) != 1 {
		return name, false, false
	}
	return fits[0], slices.Contains(c.switches, fits[0]), true
}

// command reads a command with its arguments, and does what it says to the drafts.
func (f *foreign) command() known {
	t := f.take()
	name := strings.ToLower(t.text)
	if i := strings.LastIndexByte(name, '\\'); i >= 0 { // VpnClient\Add-VpnConnection
		name = name[i+1:]
	}
	c, recognised := cmdlets[name]
	bound := map[string]known{}
	position := 0
	var words []string
	for !f.ends() {
		a := f.peek()
		switch {
		case a.kind == dash:
			f.take()
			p, bind := strings.CutSuffix(a.text, ":")
			full, isSwitch, ok := c.parameter(p)
			words = append(words, "-"+p)
			if recognised && !ok && !common(p) {
				f.r.Note(format.KeyMalformed, a.at, "%s has no parameter -%s", t.text, p)
			}
			next := f.peek()
			switch {
			case isSwitch && !bind, !isSwitch && (f.ends() || next.kind == dash && !bind):
				bound[full] = known{kind: 'f', text: "true", at: a.at}
			default:
				v := f.argument()
				if v.at.Line == 0 {
					v.at = next.at
				}
				bound[full] = v
				words = append(words, v.text)
			}
		case a.kind == splat:
			f.take()
			for key, v := range f.variables[a.text].hash {
				full, _, ok := c.parameter(key)
				if recognised && !ok && !common(key) {
					f.r.Note(format.KeyMalformed, v.at, "%s has no parameter -%s", t.text, key)
				}
				bound[full] = v
			}
			if recognised && f.variables[a.text].kind != 'h' {
				bound["@"+a.text] = known{at: a.at}
			}
		case a.kind == sign && a.text == "{":
			f.take()
			f.statements()
			f.take()
		default:
			v := f.argument()
			if v.kind == 't' {
				words = append(words, v.text)
			}
			for position < c.positional {
				p := c.parameters[position]
				if position++; bound[p].at.Line == 0 {
					bound[p] = v
					break
				}
			}
		}
	}
	if strings.Contains(strings.Join(words, " "), "AssumeUDPEncapsulationContextOnSendRule") &&
		slices.Contains(words, "2") {
		f.nat = true
	}
	if !recognised && slices.Contains(runners, name) {
		f.r.Note(format.RunsProgram, t.at, "%s", t.text)
	}
	if !recognised {
		return known{at: t.at}
	}
	return f.do(t, name, bound)
}

// runners run a text, which may come from anywhere.
var runners = []string{"iex", "invoke-expression"}

// common tells the parameters that every command has (about_CommonParameters).
func common(name string) bool {
	for _, p := range []string{
		"ErrorAction", "EA", "WarningAction", "WA", "Verbose", "Debug", "ErrorVariable",
		"OutVariable",
		"InformationAction", "OutBuffer", "PipelineVariable", "ProgressAction", "WarningVariable",
		"InformationVariable",
	} {
		if strings.EqualFold(p, name) {
			return true
		}
	}
	return false
}

// argument reads a value of a command: one, or several with commas.
func (f *foreign) argument() known {
	return f.listed(f.glued(), f.glued)
}

// glued reads one argument: what stands without blanks between belongs together, such as 10.0.0.0/8
// or $net/16.
func (f *foreign) glued() known {
	v := f.single()
	for !f.ends() && f.peek().glue && !f.is(",") && f.peek().kind != dash {
		v = joined(v, f.single())
	}
	return v
}

// of finds the draft that a command is about; the only one where its name is not known.
func (f *foreign) of(name known) *draft {
	for _, d := range f.made {
		if name.kind == 't' && strings.EqualFold(d.name, name.text) || name.kind == 0 &&
			len(f.made) == 1 {
			return d
		}
	}
	return nil
}

// parts are the values of a draft that parameters set, with the kind of each.
var parts = map[string]struct {
	key  string
	kind byte
}{
	"ServerAddress":        {"ServerAddress", 't'},
	"TunnelType":           {"Tunnel", 't'},
	"EncryptionLevel":      {"Encryption", 't'},
	"AuthenticationMethod": {"Authentication", 'l'},
	"L2tpPsk":              {"PreSharedKey", 't'},
	"SplitTunneling":       {"SplitTunnel", 'f'},
	"RememberCredential":   {"Remember", 'f'},
	"AllUserConnection":    {"AllUsers", 'f'},
}

func (f *foreign) do(t token, name string, bound map[string]known) known {
	if name == "new-eapconfiguration" {
		v := known{kind: 'e', text: "MSChapv2", at: t.at}
		for _, method := range []string{"Tls", "Peap", "Ttls"} {
			if bound[method].flag() {
				v.text = method
			}
		}
		f.account(name, bound)
		return v
	}
	d := f.of(bound["ConnectionName"])
	f.account(name, bound)
	for _, made := range f.made { // another may be on the device already
		if at := bound["ConnectionName"]; d == nil && at.kind == 't' &&
			format.OneApart(strings.ToLower(at.text), strings.ToLower(made.name)) {
			f.r.Note(
				format.KeyMalformed,
				at.at,
				"-ConnectionName %q, expected %q",
				at.text,
				made.name,
			)
		}
	}
	prefixes := bound["DestinationPrefix"]
	for _, v := range append(slices.Clone(prefixes.list), prefixes) {
		if _, err := netip.ParsePrefix(v.text); err != nil && v.kind == 't' {
			f.r.Note(
				format.KeyMalformed,
				v.at,
				"-DestinationPrefix %q, expected a network in CIDR form",
				v.text,
			)
		}
	}
	switch name {
	case "add-vpnconnection", "set-vpnconnection":
		f.seen = true
		// Scripts change a connection where it is there, and add it otherwise: that is one.
		d = f.of(bound["Name"])
		if d == nil || name == "add-vpnconnection" && !d.changed {
			d = &draft{name: bound["Name"].text, at: t.at, values: map[string]value{}}
			d.changed = name == "set-vpnconnection"
			f.set(d, "Name", 't', bound["Name"])
			f.made = append(f.made, d)
		}
		f.connection(d, bound)
	case "set-vpnconnectionipsecconfiguration":
		if d == nil || bound["RevertToDefault"].flag() {
			break
		}
		list := known{kind: 'l', at: t.at}
		for _, p := range []string{
			"CipherTransformConstants", "AuthenticationTransformConstants", "EncryptionMethod",
			"IntegrityCheckMethod", "DHGroup", "PfsGroup",
		} {
			list.list = append(list.list, bound[p])
		}
		f.set(d, "Algorithms", 'l', list)
	case "add-vpnconnectionroute":
		f.more(d, "Routes", bound["DestinationPrefix"])
	case "add-vpnconnectiontriggerdnsconfiguration":
		f.more(d, "DemandDomains", bound["DnsSuffix"])
		f.more(d, "DnsServers", bound["DnsIPAddress"])
	case "add-vpnconnectiontriggertrustednetwork":
		f.more(d, "TrustedSuffixes", bound["DnsSuffix"])
	case "set-vpnconnectionproxy":
		if d != nil {
			f.set(d, "ProxyScript", 't', bound["AutoConfigurationScript"])
			f.set(d, "ProxyServer", 't', bound["ProxyServer"])
			f.more(d, "ProxyBypass", bound["ExceptionPrefix"])
		}
	default:
		f.r.Left(t.text+" "+
			bound["FilePath"].text+bound["ApplicationID"].text+bound["Namespace"].text, t.at)
	}
	return known{at: t.at}
}

func (f *foreign) connection(d *draft, bound map[string]known) {
	for p, v := range bound {
		if part, ok := parts[p]; ok {
			f.set(d, part.key, part.kind, v)
			continue
		}
		switch p {
		case "Name", "Force", "PassThru", "AsJob", "WhatIf", "Confirm", "ThrottleLimit":
		case "EapConfigXmlStream":
			if v.kind == 'e' {
				d.values["Eap"] = value{kind: 't', text: v.text, at: v.at}
			} else {
				f.r.Left("-EapConfigXmlStream", v.at)
				d.values["Eap"] = value{kind: 't', text: "MSChapv2", at: v.at}
			}
		case "PlugInApplicationID":
			d.lost = "a client of its own (-PlugInApplicationID)"
		default:
			if strings.HasPrefix(p, "@") {
				d.lost = "$" + p[1:] + ", which only a run would tell"
				continue
			}
			if v.kind == 'f' && !v.flag() || common(p) ||
				p == "IdleDisconnectSeconds" && v.text == "0" {
				continue // as it is anyway
			}
			f.r.Left(format.Shown("-"+p, v.text), v.at)
		}
	}
}

// used are the parameters of each command that say something of a connection here, beside those
// that connection reads.
var used = map[string][]string{
	"set-vpnconnectionipsecconfiguration": {
		"CipherTransformConstants", "AuthenticationTransformConstants", "EncryptionMethod",
		"IntegrityCheckMethod", "DHGroup", "PfsGroup", "RevertToDefault",
	},
	"add-vpnconnectionroute":                   {"DestinationPrefix"},
	"add-vpnconnectiontriggerdnsconfiguration": {"DnsSuffix", "DnsIPAddress"},
	"add-vpnconnectiontriggertrustednetwork":   {"DnsSuffix"},
	"set-vpnconnectionproxy": {
		"AutoConfigurationScript", "ProxyServer", "ExceptionPrefix",
	},
	"new-eapconfiguration": {"Tls", "Peap", "Ttls", "VerifyServerIdentity"},
}

// account tells of the other parameters of a command that was understood.
func (f *foreign) account(name string, bound map[string]known) {
	list, understood := used[name]
	for _, p := range slices.Sorted(maps.Keys(bound)) {
		v := bound[p]
		switch {
		case !understood, v.at.Line == 0, slices.Contains(list, p), common(p),
			slices.Contains(vpnSwitches, p), p == "ConnectionName", p == "ThrottleLimit":
		case v.kind == 'f' && !v.flag():
		default:
			f.r.Left(format.Shown("-"+p, v.text), v.at)
		}
	}
}

// set keeps a value; one that is not known is said.
func (f *foreign) set(d *draft, key string, kind byte, v known) {
	if v.at.Line == 0 && v.kind == 0 {
		return // not given
	}
	at := v.at
	at.Path = key
	one := value{kind: kind, at: at}
	switch kind {
	case 'f':
		one.flag = v.flag()
	case 'l':
		list, ok := v.strings()
		if !ok {
			d.lost = key
			return
		}
		one.list = list
	default:
		if v.kind != 't' {
			d.lost = key
			return
		}
		one.text = v.text
	}
	d.values[key] = one
}

// more adds to a list of a draft.
func (f *foreign) more(d *draft, key string, v known) {
	list, ok := v.strings()
	switch {
	case v.at.Line == 0:
		return // not given
	case d == nil || !ok:
		f.r.Left(key+", which only a run would tell", v.at)
		return
	}
	one := d.values[key]
	if one.at.Line == 0 {
		one.at = v.at
		one.at.Path = key
	}
	one.kind, one.list = 'l', append(one.list, list...)
	d.values[key] = one
}

// finish completes a draft as the cmdlets do, and adds its connection.
func (f *foreign) finish(d *draft) {
	if d.lost != "" {
		f.r.Note(format.NotYetRead, d.at, "a connection whose %s only a run would tell", d.lost)
		if d.lost != "PreSharedKey" && d.lost != "Domains" {
			return
		}
	}
	tunnel := d.values["Tunnel"]
	for _, known := range []string{"Pptp", "L2tp", "Sstp", "Ikev2"} {
		if strings.EqualFold(tunnel.text, known) {
			tunnel.text = known
		}
	}
	if tunnel.text == "" || strings.EqualFold(tunnel.text, "Automatic") {
		if d.values["PreSharedKey"].text == "" {
			f.r.Note(format.NotYetRead, d.at,
				"a connection that tries every protocol (TunnelType "+
					"Automatic)")
			return
		}
		tunnel = value{kind: 't', text: "L2tp", at: d.at}
	}
	d.values["Tunnel"] = tunnel
	methodsOf := d.values["Authentication"]
	for i, m := range methodsOf.list {
		for _, known := range []string{"Pap", "Chap", "MSChapv2", "Eap", "MachineCertificate"} {
			if strings.EqualFold(m, known) {
				methodsOf.list[i] = known
			}
		}
	}
	if len(methodsOf.list) == 0 {
		methodsOf = value{kind: 'l', list: []string{"MSChapv2"}, at: d.at}
		if tunnel.text == "Ikev2" {
			methodsOf.list = []string{"Eap"}
		}
	}
	d.values["Authentication"] = methodsOf
	if _, ok := d.values["Eap"]; !ok && slices.Contains(methodsOf.list, "Eap") {
		d.values["Eap"] = value{kind: 't', text: "MSChapv2", at: methodsOf.at}
	}
	level := d.values["Encryption"]
	if word := strings.ToLower(level.text); word != "" && !slices.Contains(strings.Fields(
		"noencryption optional required maximum custom"), word) {
		f.r.Note(format.KeyMalformed, level.at, "-EncryptionLevel %s, expected Required or Maximum",
			level.text)
	}
	if strings.EqualFold(level.text, "Optional") ||
		strings.EqualFold(level.text, "NoEncryption") {
		f.r.Note(format.EncryptionOptional, level.at, "-EncryptionLevel %s", level.text)
	}
	if f.nat {
		d.values["GatewayBehindNat"] = value{kind: 'f', flag: true, at: d.at}
	}
	at := d.at
	at.Path = "Add-VpnConnection"
	located := settle(f.r, d.values, at)
	// Certificates are in the system's stores; login and password are typed when it connects first.
	located.Apart = []vpn.Field{vpn.FieldAuthority, vpn.FieldIdentity, vpn.FieldLogin,
		vpn.FieldPassword}
	f.r.Add(located)
}
