package connect

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"
	"software.sslmate.com/src/go-pkcs12"
)

// windows is what the cmdlets of a Windows change and read, as their reference describes
// them: parameters with their types, which of them go together, and which are refused.
type windows struct {
	user, signedIn string // who runs the script, and who sits at the computer
	connections    map[string]*vpnConnection
	registry       map[string]map[string]any // by key, in small letters
	stores         map[string][]*windowsCertificate
	services       map[string]string
	nrpt           []*table
	tasks          map[string]*table
	files          map[string][]byte
	credentials    map[string]credential
	said           []string
	tls            string // what web requests are limited to
	web            func(*tls.Certificate) *http.Client
	ahead          time.Duration // of its clock
	pending        []pendingKey
}

type credential struct {
	user, password, psk string
	everybody           bool
}

type windowsCertificate struct {
	leaf  *x509.Certificate
	chain []*x509.Certificate
	key   any
	where string // store of the key: machine or user
}

func (c *windowsCertificate) thumbprint() string { return fmt.Sprintf("%X", sha1.Sum(c.leaf.Raw)) }

func (c *windowsCertificate) object() *table {
	return newTable("certificate", "Thumbprint", c.thumbprint(), "Subject", c.leaf.Subject.String(),
		"Issuer", c.leaf.Issuer.String(), "NotAfter", newTable("date", "Ticks", c.leaf.NotAfter), "own", c)
}

// vpnConnection is one connection of the operating system.
type vpnConnection struct {
	name, server, tunnel, encryption, psk, eap, suffix string
	auth                                               []string
	split, remember, everybody                         bool
	routes, ipsec                                      []string
	demand                                             []*table
	trusted                                            []string
	proxy                                              string
}

func newWindows(user, signedIn string) *windows {
	return &windows{
		user:        user,
		signedIn:    signedIn,
		connections: map[string]*vpnConnection{},
		stores:      map[string][]*windowsCertificate{},
		services:    map[string]string{"IKEEXT": "Manual", "PolicyAgent": "Manual"},
		registry: map[string]map[string]any{
			`hklm:\software\wardicon\connections`:                 {},
			`hklm:\system\currentcontrolset\services\policyagent`: {"start": 3},
			`hklm:\system\currentcontrolset\services\ikeext`:      {"start": 3},
		},
		tasks:       map[string]*table{},
		files:       map[string][]byte{},
		credentials: map[string]credential{},
	}
}

// find looks a connection up: those of everybody and those of one person are two lists.
func (w *windows) find(name any, everybody any) (*vpnConnection, error) {
	key := fmt.Sprintf("%v/%s", truth(everybody), strings.ToLower(text(name)))
	if c := w.connections[key]; c != nil {
		return c, nil
	}
	return nil, fmt.Errorf(
		"VPN connection %q was not found in the phone book (all users: %v)",
		text(name),
		truth(everybody),
	)
}

// parameters of the cmdlets: names with their types. s text, l texts, w switch, b truth,
// n number, o anything, e(a,b) one of, m(a,b) some of; an exclamation mark: required.
var parameters = map[string]string{
	"add-vpnconnection": "name!s serveraddress!s " +
		"tunneltype:e(Pptp,L2tp,Sstp,Ikev2,Automatic) " +
		"encryptionlevel:e(NoEncryption,Optional,Required,Maximum,Custom) " +
		"authenticationmethod:m(Pap,Chap,MSChapv2,Eap,MachineCertificate) eapconfigxmlstream:o " +
		"l2tppsk:s splittunneling:w rememberredential:w remembercredential:w alluserconnection:w " +
		"force:w passthru:w dnssuffix:s idledisconnectseconds:n usewinlogoncredential:w " +
		"warningaction:s",
	"set-vpnconnection": "name!s serveraddress:s " +
		"tunneltype:e(Pptp,L2tp,Sstp,Ikev2,Automatic) " +
		"encryptionlevel:e(NoEncryption,Optional,Required,Maximum,Custom) " +
		"authenticationmethod:m(Pap,Chap,MSChapv2,Eap,MachineCertificate) eapconfigxmlstream:o " +
		"l2tppsk:s splittunneling:b remembercredential:b alluserconnection:w force:w passthru:w " +
		"dnssuffix:s idledisconnectseconds:n usewinlogoncredential:b warningaction:s",
	"get-vpnconnection":    "name:l alluserconnection:w erroraction:s",
	"remove-vpnconnection": "name!l alluserconnection:w force:w passthru:w",
	"new-eapconfiguration": "usewinlogoncredential:w tls:w ttls:w peap:w " +
		"usercertificate:w verifyserveridentity:w enablenap:w fastreconnect:b " +
		"tunneledeapauthmethod:o tunnlednoneapauthmethod:s",
	"set-vpnconnectionipsecconfiguration": "connectionname!s " +
		"authenticationtransformconstants!e(MD596,SHA196,SHA256128,GCMAES128,GCMAES192,GCMAES256,None) ciphertransformconstants!e(DES,DES3,AES128,AES192,AES256,GCMAES128,GCMAES192,GCMAES256,None) dhgroup!e(None,Group1,Group2,Group14,ECP256,ECP384,Group24) encryptionmethod!e(DES,DES3,AES128,AES192,AES256,GCMAES128,GCMAES256) integritycheckmethod!e(MD5,SHA1,SHA256,SHA384) pfsgroup!e(None,PFS1,PFS2,PFS2048,ECP256,ECP384,PFSMM,PFS24) alluserconnection:w force:w passthru:w",
	"add-vpnconnectionroute": "connectionname!s destinationprefix!s " +
		"routemetric:n alluserconnection:w passthru:w",
	"remove-vpnconnectionroute": "connectionname!s destinationprefix!s " +
		"alluserconnection:w passthru:w",
	"add-vpnconnectiontriggerdnsconfiguration": "connectionname!s dnssuffix!s dnsipaddress:l " +
		"force:w passthru:w",
	"remove-vpnconnectiontriggerdnsconfiguration": "connectionname!s dnssuffix!l force:w " +
		"passthru:w",
	"add-vpnconnectiontriggertrustednetwork": "connectionname!s dnssuffix!l force:w " +
		"passthru:w",
	"remove-vpnconnectiontriggertrustednetwork": "connectionname!s dnssuffix!l force:w " +
		"passthru:w",
	"get-vpnconnectiontrigger": "connectionname!s erroraction:s",
	"set-vpnconnectionproxy": "connectionname!s autodetect:w " +
		"autoconfigurationscript:s proxyserver:s bypassproxyforlocal:w exceptionprefix:l " +
		"passthru:w",
	"get-dnsclientnrptrule": "name:s",
	"add-dnsclientnrptrule": "namespace!l nameservers:l comment:s " +
		"displayname:s",
	"remove-dnsclientnrptrule": "name!s force:w",
	"get-scheduledtask":        "taskname:l erroraction:s",
	"unregister-scheduledtask": "taskname:l confirm:w",
	"register-scheduledtask": "taskname!s action!o trigger:o principal:o " +
		"settings:o user:s force:w",
	"start-scheduledtask":      "taskname!s",
	"get-scheduledtaskinfo":    "taskname!s",
	"new-scheduledtaskaction":  "execute!s argument:s workingdirectory:s",
	"new-scheduledtasktrigger": "atlogon:w atstartup:w user:s daily:w at:s randomdelay:o",
	"new-scheduledtaskprincipal": "userid:s groupid:s " +
		"logontype:e(None,Password,S4U,Interactive,Group,ServiceAccount,InteractiveOrPassword) " +
		"runlevel:e(Limited,Highest)",
	"new-scheduledtasksettingsset": "allowstartifonbatteries:w " +
		"dontstopifgoingonbatteries:w startwhenavailable:w restartcount:n restartinterval:o " +
		"executiontimelimit:o",
	"new-timespan": "minutes:n seconds:n start:o end:o",
	"get-date":     "",
	"certreq.exe":  "f:w q:w new!s",
	"invoke-webrequest": "uri!s method:e(Get,Post,Put) contenttype:s body:o headers:o certificate:o " +
		"usebasicparsing:w timeoutsec:n",
	"get-ciminstance": "classname!s",
	"get-wmiobject":   "class!s",
	"new-object":      "typename:s comobject:s argumentlist:o",
	"new-item":        "path!s itemtype:e(Directory,File) force:w",
	"new-itemproperty": "path!s name!s value:o " +
		"propertytype:e(String,DWord,Binary,MultiString) force:w",
	"set-itemproperty": "path!s name!s value:o",
	"get-item":         "path!s",
	"get-childitem":    "path!s",
	"test-path":        "path:s literalpath:s",
	"remove-item":      "path!s recurse:w force:w deletekey:w",
	"set-service": "name!s " +
		"startuptype:e(Automatic,Manual,Disabled)",
	"start-service":  "name!s",
	"join-path":      "path!s childpath!s",
	"split-path":     "path!s leaf:w parent:w",
	"write-host":     "",
	"write-warning":  "",
	"compare-object": "referenceobject!o differenceobject!o",
	"add-type":       "namespace!s name!s memberdefinition!s",
	"set-strictmode": "version!s",
	"start-sleep":    "seconds!n",
	"rasdial.exe":    "",
	"icacls.exe":     "",
}

// signature finds how a parameter of a cmdlet is declared.
func signature(cmdlet, name string) (kind string, required, known bool) {
	for field := range strings.FieldsSeq(parameters[strings.ToLower(cmdlet)]) {
		if rest, ok := strings.CutPrefix(field, name+":"); ok {
			return rest, false, true
		}
		if rest, ok := strings.CutPrefix(field, name+"!"); ok {
			return rest, true, true
		}
	}
	return "", false, false
}

func (w *windows) isSwitch(cmdlet, name string) bool {
	kind, _, _ := signature(cmdlet, name)
	return kind == "w"
}

// bind holds what a script gives to what the cmdlet takes.
func bind(cmdlet string, in map[string]any) error {
	declared, known := parameters[strings.ToLower(cmdlet)]
	if !known {
		return errors.New("there is no such cmdlet")
	}
	for name, v := range in {
		kind, _, ok := signature(cmdlet, name)
		if !ok {
			return fmt.Errorf("a parameter cannot be found that matches the name %q", name)
		}
		if err := suits(kind, v); err != nil {
			return fmt.Errorf("the parameter %s: %w", name, err)
		}
	}
	for field := range strings.FieldsSeq(declared) {
		if name, _, ok := strings.Cut(field, "!"); ok {
			if v, given := in[name]; !given || v == nil || text(v) == "" && name != "value" {
				return fmt.Errorf("the parameter %s is mandatory", name)
			}
		}
	}
	return nil
}

func suits(kind string, v any) error {
	one := func(v any, list string) error {
		for choice := range strings.SplitSeq(strings.TrimSuffix(list, ")"), ",") {
			if strings.EqualFold(choice, text(v)) {
				return nil
			}
		}
		return fmt.Errorf("%q is none of %s", text(v), list)
	}
	switch {
	case kind == "w" || kind == "b":
		if _, ok := v.(bool); !ok {
			return fmt.Errorf("%v is not a truth value", v)
		}
	case kind == "n":
		if _, ok := v.(int); !ok {
			return fmt.Errorf("%v is not a number", v)
		}
	case kind == "s":
		switch v.(type) {
		case string, int, typed:
		default:
			return fmt.Errorf("%T is not a text", v)
		}
	case strings.HasPrefix(kind, "e("):
		return one(v, kind[2:])
	case strings.HasPrefix(kind, "m("):
		for _, part := range spread(v) {
			if err := one(part, kind[2:]); err != nil {
				return err
			}
		}
	}
	return nil
}

// fits are the combinations that a connection takes (reference of Add-VpnConnection).
func (c *vpnConnection) fits() error {
	has := func(m string) bool { return slices.Contains(c.auth, m) }
	switch {
	case c.psk != "" && c.tunnel != "L2tp" && c.tunnel != "Automatic":
		return errors.New("a pre-shared key can be set for L2TP only")
	case has("MachineCertificate") && c.tunnel != "Ikev2":
		return errors.New("the authentication method MachineCertificate is for IKEv2 only")
	case c.tunnel == "Ikev2" && (len(c.auth) != 1 || !has("Eap") && !has("MachineCertificate")):
		return errors.New("IKEv2 takes Eap or MachineCertificate, and nothing else")
	case has("Eap") && len(c.auth) > 1:
		return errors.New("Eap cannot be combined with another method")
	case c.eap != "" && !has("Eap"):
		return errors.New("an EAP configuration needs the method Eap")
	case has("Eap") && c.eap == "":
		return errors.New("the method Eap needs an EAP configuration")
	case c.encryption == "Maximum" && (has("Pap") || has("Chap")) && c.tunnel == "Pptp":
		return errors.New("PAP and CHAP make no keys for encryption")
	case c.encryption == "Required" && (has("Pap") || has("Chap")) && !has("MSChapv2"):
		return errors.New("PAP and CHAP alone cannot have the encryption level Required")
	}
	return nil
}

func (c *vpnConnection) object() *table {
	routes := []any{}
	for _, r := range c.routes {
		routes = append(routes, newTable("route", "DestinationPrefix", r))
	}
	auth := []any{}
	for _, a := range c.auth {
		auth = append(auth, a)
	}
	policy := newTable("policy")
	if len(c.ipsec) == 6 {
		policy = newTable("policy", "DHGroup", c.ipsec[4])
	}
	return newTable(
		"connection",
		"Name",
		c.name,
		"ServerAddress",
		c.server,
		"TunnelType",
		c.tunnel,
		"SplitTunneling",
		c.split,
		"AuthenticationMethod",
		auth,
		"Routes",
		routes,
		"IPSecCustomPolicy",
		policy,
		"ConnectionStatus",
		"Disconnected",
	)
}

// settle takes the settings of Add- or Set-VpnConnection.
func (w *windows) settle(c *vpnConnection, in map[string]any) error {
	for name, to := range map[string]*string{
		"serveraddress":   &c.server,
		"tunneltype":      &c.tunnel,
		"encryptionlevel": &c.encryption,
		"l2tppsk":         &c.psk,
		"dnssuffix":       &c.suffix,
	} {
		if v, ok := in[name]; ok {
			*to = text(v)
		}
	}
	if v, ok := in["eapconfigxmlstream"]; ok {
		c.eap = text(v)
	}
	if v, ok := in["authenticationmethod"]; ok {
		c.auth = nil
		for _, one := range spread(v) {
			c.auth = append(c.auth, text(one))
		}
	}
	c.split, c.remember = truth(in["splittunneling"]), truth(in["remembercredential"])
	return c.fits()
}

// cmdlet runs one.
func (w *windows) cmdlet(name string, in map[string]any, positional, carried []any) ([]any, error) {
	if err := bind(name, in); err != nil {
		return nil, err
	}
	everybody, connection := in["alluserconnection"], in["connectionname"]
	key := func(v any) string { return strings.ToLower(text(v)) }
	switch strings.ToLower(name) {
	case "add-vpnconnection":
		if c, _ := w.find(in["name"], everybody); c != nil {
			return nil, errors.New("a connection of that name exists already")
		}
		c := &vpnConnection{name: text(in["name"]), everybody: truth(everybody)}
		if strings.ContainsAny(c.name, `\/:*?"<>|`) {
			return nil, fmt.Errorf("the name %q has a sign that names cannot have", c.name)
		}
		w.connections[fmt.Sprintf("%v/%s", c.everybody, key(c.name))] = c
		return nil, w.settle(c, in)
	case "set-vpnconnection":
		c, err := w.find(in["name"], everybody)
		if err != nil {
			return nil, err
		}
		return nil, w.settle(c, in)
	case "get-vpnconnection":
		c, err := w.find(in["name"], everybody)
		if err != nil {
			return nil, err
		}
		return []any{c.object()}, nil
	case "remove-vpnconnection":
		c, err := w.find(in["name"], everybody)
		if err != nil {
			return nil, err
		}
		delete(w.connections, fmt.Sprintf("%v/%s", c.everybody, key(c.name)))
	case "new-eapconfiguration":
		kind := "MSChapv2"
		if truth(in["tls"]) {
			kind = "Tls"
		} else if truth(in["usercertificate"]) {
			return nil, errors.New("UserCertificate is for Tls only")
		}
		return []any{newTable("eap", "EapConfigXmlStream", kind)}, nil
	case "set-vpnconnectionipsecconfiguration":
		c, err := w.find(connection, everybody)
		if err != nil {
			return nil, err
		}
		if c.tunnel != "Ikev2" && c.tunnel != "L2tp" && c.tunnel != "Automatic" {
			return nil, errors.New("algorithms can be set for IKEv2 and L2TP only")
		}
		c.ipsec = []string{
			text(in["ciphertransformconstants"]),
			text(in["authenticationtransformconstants"]),
			text(in["encryptionmethod"]),
			text(in["integritycheckmethod"]),
			text(in["dhgroup"]),
			text(in["pfsgroup"]),
		}
		if strings.HasPrefix(c.ipsec[0], "GCM") != strings.HasPrefix(c.ipsec[1], "GCM") ||
			strings.HasPrefix(c.ipsec[0], "GCM") && c.ipsec[0] != c.ipsec[1] {
			return nil, errors.New("with GCM cipher and authentication transform must be the same")
		}
	case "add-vpnconnectionroute", "remove-vpnconnectionroute":
		c, err := w.find(connection, everybody)
		if err != nil {
			return nil, err
		}
		route := text(in["destinationprefix"])
		if p, err := netip.ParsePrefix(route); err != nil || p != p.Masked() {
			return nil, fmt.Errorf("%q is no network", route)
		}
		c.routes = slices.DeleteFunc(c.routes, func(r string) bool { return r == route })
		if strings.HasPrefix(strings.ToLower(name), "add") {
			c.routes = append(c.routes, route)
		}
	case "add-vpnconnectiontriggerdnsconfiguration",
		"add-vpnconnectiontriggertrustednetwork",
		"remove-vpnconnectiontriggerdnsconfiguration",
		"remove-vpnconnectiontriggertrustednetwork",
		"get-vpnconnectiontrigger",
		"set-vpnconnectionproxy":
		return w.personal(strings.ToLower(name), in)
	case "get-dnsclientnrptrule":
		list := []any{}
		for _, r := range w.nrpt {
			list = append(list, r)
		}
		return list, nil
	case "add-dnsclientnrptrule":
		w.nrpt = append(
			w.nrpt,
			newTable(
				"rule",
				"Name",
				fmt.Sprintf("rule%d", len(w.nrpt)),
				"Comment",
				text(in["comment"]),
				"Namespace",
				text(in["namespace"]),
				"NameServers",
				in["nameservers"],
			),
		)
	case "remove-dnsclientnrptrule":
		w.nrpt = slices.DeleteFunc(
			w.nrpt,
			func(r *table) bool { return r.values["name"] == text(in["name"]) },
		)
	case "set-service", "start-service":
		if w.services[text(in["name"])] == "" {
			return nil, fmt.Errorf("cannot find the service %q", text(in["name"]))
		}
		if v, ok := in["startuptype"]; ok {
			w.services[text(in["name"])] = text(v)
		}
	case "get-ciminstance", "get-wmiobject":
		return []any{newTable("computer", "UserName", any(w.signedIn))}, nil
	case "new-object":
		if (in["typename"] == nil) == (in["comobject"] == nil) {
			return nil, errors.New("the parameter set cannot be resolved: a type or a COM object")
		}
		if in["comobject"] != nil {
			return w.enrolment(text(in["comobject"]))
		}
		return w.object(text(in["typename"]), spread(in["argumentlist"]))
	case "join-path":
		return []any{text(in["path"]) + `\` + text(in["childpath"])}, nil
	case "split-path":
		i := strings.LastIndex(text(in["path"]), `\`)
		if truth(in["leaf"]) {
			return []any{text(in["path"])[i+1:]}, nil
		}
		return []any{text(in["path"])[:i]}, nil
	case "write-host", "write-warning":
		w.said = append(w.said, text(positional))
	case "compare-object":
		return compare(spread(in["referenceobject"]), spread(in["differenceobject"])), nil
	case "add-type", "set-strictmode", "start-sleep", "rasdial.exe", "icacls.exe":
	case "new-timespan":
		if in["start"] == nil {
			return []any{newTable("span")}, nil
		}
		from, to := in["start"].(*table).values["ticks"].(time.Time), in["end"].(*table).values["ticks"].(time.Time)
		return []any{newTable("span", "Days", int(to.Sub(from).Hours()/24))}, nil
	case "get-date":
		return []any{newTable("date", "Ticks", time.Now().Add(w.ahead))}, nil
	case "certreq.exe":
		return nil, w.request(text(in["new"]), text(positional[0]))
	case "invoke-webrequest":
		return w.ask(in)
	default:
		if out, done, err := w.tasking(strings.ToLower(name), in, carried); done {
			return out, err
		}
		return w.item(strings.ToLower(name), in)
	}
	return nil, nil
}

// personal are the cmdlets that know a person's own connections only.
func (w *windows) personal(name string, in map[string]any) ([]any, error) {
	c, err := w.find(in["connectionname"], false)
	if err != nil {
		return nil, err
	}
	suffixes := spread(in["dnssuffix"])
	switch name {
	case "add-vpnconnectiontriggerdnsconfiguration":
		c.demand = append(
			c.demand,
			newTable(
				"entry",
				"DnsSuffix",
				text(in["dnssuffix"]),
				"DnsIPAddress",
				in["dnsipaddress"],
			),
		)
	case "remove-vpnconnectiontriggerdnsconfiguration":
		c.demand = slices.DeleteFunc(
			c.demand,
			func(e *table) bool { return slices.Contains(suffixes, e.values["dnssuffix"]) },
		)
	case "add-vpnconnectiontriggertrustednetwork":
		if len(c.demand) == 0 {
			return nil, errors.New("the connection has no trigger")
		}
		for _, s := range suffixes {
			c.trusted = append(c.trusted, text(s))
		}
	case "remove-vpnconnectiontriggertrustednetwork":
		c.trusted = slices.DeleteFunc(
			c.trusted,
			func(s string) bool { return slices.Contains(suffixes, any(s)) },
		)
	case "set-vpnconnectionproxy":
		c.proxy = text(in["autoconfigurationscript"]) + text(in["proxyserver"])
	default:
		if len(c.demand) == 0 {
			return nil, errors.New("the connection has no trigger")
		}
		entries, trusted := []any{}, []any{}
		for _, e := range c.demand {
			entries = append(entries, e)
		}
		for _, s := range c.trusted {
			trusted = append(trusted, s)
		}
		return []any{newTable("trigger", "DnsConfig", entries, "TrustedNetwork", trusted)}, nil
	}
	return nil, nil
}

func compare(a, b []any) []any {
	var out []any
	for _, pair := range [][2][]any{{a, b}, {b, a}} {
		for _, v := range pair[0] {
			if !slices.ContainsFunc(pair[1], func(o any) bool { return alike(o, v) }) {
				out = append(out, newTable("difference", "InputObject", v))
			}
		}
	}
	return out
}

// tasking are the cmdlets of the task scheduler.
func (w *windows) tasking(
	name string,
	in map[string]any,
	carried []any,
) (out []any, done bool, err error) {
	task := strings.ToLower(text(in["taskname"]))
	switch name {
	case "get-scheduledtask", "get-scheduledtaskinfo", "start-scheduledtask":
		t := w.tasks[task]
		if t == nil {
			return nil, true, errors.New("there is no such task")
		}
		if name == "start-scheduledtask" {
			return nil, true, w.runTask(t)
		}
		return []any{t}, true, nil
	case "unregister-scheduledtask":
		for _, v := range carried {
			task = strings.ToLower(text(v.(*table).values["taskname"]))
			delete(w.tasks, task)
		}
		delete(w.tasks, task)
		return nil, true, nil
	case "register-scheduledtask":
		if in["principal"] == nil {
			return nil, true, errors.New(
				"without a principal the task runs as the one who registers it",
			)
		}
		w.tasks[task] = newTable(
			"task",
			"TaskName",
			text(in["taskname"]),
			"Action",
			in["action"],
			"Principal",
			in["principal"],
			"Settings",
			in["settings"],
			"Trigger",
			in["trigger"],
			"State",
			"Ready",
			"LastTaskResult",
			0,
		)
		return nil, true, nil
	case "new-scheduledtaskprincipal":
		if (in["userid"] == nil) == (in["groupid"] == nil) ||
			in["groupid"] != nil && in["logontype"] != nil {
			return nil, true, errors.New("the parameter set cannot be resolved: a user or a group")
		}
		fallthrough
	case "new-scheduledtaskaction", "new-scheduledtasktrigger", "new-scheduledtasksettingsset":
		t := newTable("part")
		for k, v := range in {
			t.values[k] = v
		}
		return []any{t}, true, nil
	}
	return nil, false, nil
}

// runTask does what the task with a person's certificate does: it runs as that person.
func (w *windows) runTask(t *table) error {
	p := t.values["principal"].(*table)
	var data, passphrase []byte
	for path, content := range w.files {
		if strings.HasSuffix(path, ".p12") {
			data = content
		} else if strings.HasSuffix(path, ".p12.txt") {
			passphrase = content
		}
	}
	c, err := openP12(data, string(passphrase), "user "+text(p.values["userid"]))
	if err != nil {
		return err
	}
	store := "CurrentUser/My/" + text(p.values["userid"])
	w.stores[store] = append(w.stores[store], c)
	return nil
}

func openP12(data []byte, passphrase, where string) (*windowsCertificate, error) {
	key, leaf, chain, err := pkcs12.DecodeChain(data, passphrase)
	if err != nil {
		return nil, err
	}
	return &windowsCertificate{leaf, chain, key, where}, nil
}

// item are the cmdlets of files and of the registry.
func (w *windows) item(name string, in map[string]any) ([]any, error) {
	path := strings.ToLower(text(in["path"]) + text(in["literalpath"]))
	if own, ok := strings.CutPrefix(path, `hkcu:\`); ok { // each has their own
		path = `hkcu:\` + strings.ToLower(w.user) + `\` + own
	}
	entry := w.registry[path]
	isRegistry := strings.HasPrefix(path, "hklm:") || strings.HasPrefix(path, "hkcu:")
	for prefix, store := range map[string]string{
		`cert:\localmachine\my`: "LocalMachine/My", `cert:\currentuser\my`: "CurrentUser/My/" + w.user,
	} {
		if print, ok := strings.CutPrefix(path, prefix); ok {
			return w.certificates(name, store, strings.TrimPrefix(print, `\`), truth(in["deletekey"]))
		}
	}
	switch name {
	case "test-path":
		_, file := w.files[path]
		for p := range w.files { // a folder
			file = file || strings.HasPrefix(p, path+`\`)
		}
		return []any{entry != nil || file}, nil
	case "new-item":
		if isRegistry && entry == nil {
			w.registry[path] = map[string]any{}
		}
		// Whoever signs in may make folders there, stays the owner, and gives back what is taken away.
		if !isRegistry && strings.HasPrefix(path, `c:\programdata\`) {
			return nil, fmt.Errorf("%s may be somebody's already, who knows the connection", path)
		}
		return []any{newTable("item")}, nil
	case "get-item":
		if entry == nil {
			return nil, fmt.Errorf("cannot find %s", path)
		}
		return []any{w.key(path)}, nil
	case "get-childitem":
		list := []any{}
		for p := range w.registry {
			if rest, ok := strings.CutPrefix(p, path+`\`); ok && !strings.Contains(rest, `\`) {
				list = append(list, w.key(p))
			}
		}
		return list, nil
	case "new-itemproperty", "set-itemproperty":
		value := strings.ToLower(text(in["name"]))
		if entry == nil {
			return nil, fmt.Errorf("cannot find %s", path)
		}
		if _, there := entry[value]; there && name == "new-itemproperty" && !truth(in["force"]) {
			return nil, fmt.Errorf("the property %s exists already", value)
		}
		if _, number := in["value"].(int); !number && alike(in["propertytype"], "DWord") {
			return nil, fmt.Errorf("%v is no number", in["value"])
		}
		entry[value] = in["value"]
		return []any{newTable("property")}, nil
	case "remove-item":
		delete(w.registry, path)
		for p := range w.files {
			if strings.HasPrefix(p, path) {
				delete(w.files, p)
			}
		}
		return nil, nil
	}
	return nil, errors.New("is not known to the test")
}

func (w *windows) key(path string) *table {
	o := newTable("key")
	o.call = func(method string, args []any) (any, error) {
		switch method {
		case "getvalue":
			return w.registry[path][strings.ToLower(text(args[0]))], nil
		case "getvaluenames":
			list := []any{}
			for name := range w.registry[path] {
				if rest, ok := strings.CutPrefix(name, "certificate "); ok { // as it was written
					part := strings.Fields(rest)
					name = "Certificate " + map[string]string{
						"localmachine": "LocalMachine",
						"currentuser":  "CurrentUser",
					}[part[0]] + " " +
						map[string]string{"root": "Root", "ca": "CA", "my": "My"}[part[1]] + " " +
						strings.ToUpper(
							part[2],
						)
				}
				list = append(list, name)
			}
			return list, nil
		}
		return nil, fmt.Errorf("a registry key has no method %s", method)
	}
	return o
}

// object makes a .NET object.
func (w *windows) object(kind string, args []any) ([]any, error) {
	switch strings.ToLower(kind) {
	case "security.cryptography.x509certificates.x509certificate2":
		data, ok := args[0].([]byte)
		if !ok {
			return nil, errors.New("a certificate is made of bytes")
		}
		var c *windowsCertificate
		if len(args) > 1 {
			where := "machine"
			if !strings.Contains(text(args[2]), "MachineKeySet") {
				where = "user " + w.user
			}
			opened, err := openP12(data, text(args[1]), where)
			if err != nil {
				return nil, err
			}
			c = opened
		} else {
			leaf, err := x509.ParseCertificate(data)
			if err != nil {
				return nil, err
			}
			c = &windowsCertificate{leaf: leaf}
		}
		return []any{c.object()}, nil
	case "security.cryptography.x509certificates.x509certificate2collection":
		o := newTable("collection", "Items", []any{})
		o.call = func(_ string, args []any) (any, error) {
			p, err := pkcs7.Parse(args[0].([]byte))
			if err != nil {
				return nil, err
			}
			list := []any{}
			for _, c := range p.Certificates {
				list = append(list, (&windowsCertificate{leaf: c}).object())
			}
			o.values["items"] = list
			return nil, nil
		}
		return []any{o}, nil
	case "security.cryptography.x509certificates.x509store":
		name := text(args[1]) + "/" + text(args[0])
		if strings.HasPrefix(name, "CurrentUser") {
			name += "/" + w.user
		}
		return []any{w.store(name)}, nil
	case "security.principal.windowsprincipal":
		o := newTable("principal")
		o.call = func(string, []any) (any, error) { return true, nil }
		return []any{o}, nil
	case "wardicon.signin+credentials":
		return []any{
			newTable("credentials", "Size", 0, "Mask", 0, "User", "", "Password", "", "Domain", ""),
		}, nil
	}
	return nil, fmt.Errorf("the type %s is not known to the test", kind)
}

func (w *windows) store(name string) *table {
	o := newTable("store", "Certificates", []any{})
	o.call = func(method string, args []any) (any, error) {
		switch method {
		case "open":
			list := []any{}
			for _, c := range w.stores[name] {
				list = append(list, c.object())
			}
			o.values["certificates"] = list
		case "add":
			w.stores[name] = append(
				w.stores[name],
				args[0].(*table).values["own"].(*windowsCertificate),
			)
		case "remove":
			gone := args[0].(*table).values["own"].(*windowsCertificate)
			w.stores[name] = slices.DeleteFunc(
				w.stores[name],
				func(c *windowsCertificate) bool { return c == gone },
			)
		case "close":
		default:
			return nil, fmt.Errorf("a store has no method %s", method)
		}
		return nil, nil
	}
	return o
}

// static calls a method of a type.
func (w *windows) static(n *node, kind, method string, args []any) (any, error) {
	switch strings.ToLower(kind) + "." + method {
	case "convert.frombase64string":
		return base64.StdEncoding.DecodeString(text(args[0]))
	case "convert.tobase64string":
		b, _ := args[0].([]byte)
		return base64.StdEncoding.EncodeToString(b), nil
	case "security.cryptography.sha256.create":
		o := newTable("hash")
		o.call = func(_ string, args []any) (any, error) {
			sum := sha256.Sum256(args[0].([]byte))
			return sum[:], nil
		}
		return o, nil
	case "bitconverter.tostring":
		return fmt.Sprintf("%X", args[0].([]byte)), nil
	case "security.principal.windowsidentity.getcurrent":
		return newTable("identity", "Name", w.user), nil
	case "runtime.interopservices.marshal.sizeof":
		return 1060, nil
	case "io.file.writeallbytes":
		w.files[strings.ToLower(text(args[0]))] = args[1].([]byte)
		return nil, nil
	case "io.file.writealltext":
		w.files[strings.ToLower(text(args[0]))] = []byte(text(args[1]))
		return nil, nil
	case "io.file.readalllines":
		list := []any{}
		for line := range strings.SplitSeq(strings.TrimSuffix(string(w.files[strings.ToLower(text(args[0]))]), "\r\n"), "\r\n") {
			list = append(list, line)
		}
		return list, nil
	case "io.file.writealllines":
		var lines []string
		for _, v := range spread(args[1]) {
			lines = append(lines, text(v)+"\r\n")
		}
		w.files[strings.ToLower(text(args[0]))] = []byte(strings.Join(lines, ""))
		return nil, nil
	case "text.encoding.unicode":
		return newTable("encoding"), nil
	case "wardicon.signin.rassetcredentialsw":
		o := args[2].(*table)
		name := strings.ToLower(text(args[1]))
		if book := text(args[0]); book != "" &&
			!strings.EqualFold(book, `C:\ProgramData\Microsoft\Network\Connections\Pbk\rasphone.pbk`) {
			return 621, nil // ERROR_CANNOT_OPEN_PHONEBOOK
		}
		c := w.credentials[name]
		if mask := o.values["mask"].(int); mask == 16 {
			c.psk = text(o.values["password"])
		} else {
			c.user, c.password, c.everybody = text(
				o.values["user"],
			), text(
				o.values["password"],
			), mask&8 != 0
		}
		w.credentials[name] = c
		return 0, nil
	}
	return nil, wrong(n, "[%s]::%s is not known to the test", kind, method)
}
