package daemons

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"fmt"
	"maps"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"wardicon/core/format"
	"wardicon/core/format/ovpn"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// sections is the section that every configuration of the IKE daemon has.
var sections = format.NewSign(`^[ \t]*connections\s*\{`, "connections")

// Detect tells a configuration of the IKE daemon by its first section, a peer of pppd by
// the command below it.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 8192)]
	if bytes.HasPrefix(head, []byte("#!")) { // a script
		return false
	}
	base := filepath.Base(name)
	return sections.In(head) || lacHead.In(head) || lnsHead.In(head) ||
		base == chapSecrets || base == papSecrets || secretsHead.In(head) ||
		pppOption.In(head) || connSection.In(head) &&
		bytes.Contains(head, []byte("conn ")) ||
		secretLine.In(head) ||
		bytes.Contains(head, []byte("\npty ")) ||
		bytes.HasPrefix(head, []byte("pty "))
}

// setting is one value of swanctl.conf with its place.
type setting struct {
	text string
	at   format.Position
}

type reader struct {
	format.Reading
	file    string
	stem    string
	beside  format.Beside
	name    string
	uuid    string
	set     map[string]setting         // by path, such as connections.x.local.auth
	begun   map[string]format.Position // where sections begin, by path
	order   []string                   // names of the connections
	ordered []string                   // values in the order of the file
	path    []string
	secrets bool // there are some
	refs    []reference
	further int  // bytes of further files
	legacy  bool // in the older form: what PPP needs is elsewhere

	inDatabase bool            // certificates are in a database of the daemon's own, on the device
	below      bool            // read for the L2TP daemon's file beside
	read       map[string]bool // values that somebody asked for, by path
}

// Read takes a configuration apart, with the files that belong to it. It always answers;
// what is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	if ovpn.Detect(name, data) {
		r := ovpn.Read(name, data, beside)
		for i := range r.Connections {
			c := &r.Connections[i].Connection
			c.Scope = vpn.ScopeMachine
			stem := strings.TrimSuffix(name, filepath.Ext(name))
			tunnelSays(c, beside, stem)
			site := reader{file: name, stem: stem, beside: beside}
			c.Site = site.site(format.Position{File: stem + siteFile, Line: 1}, false)
			r.Notes = append(r.Notes, site.Notes...)
		}
		return r
	}
	r := &reader{
		file:   name,
		stem:   strings.TrimSuffix(name, filepath.Ext(name)),
		beside: beside,
		set:    map[string]setting{},
		begun:  map[string]format.Position{},
		read:   map[string]bool{},
	}
	switch {
	case !sections.In(data) && connSection.In(data):
		r.stroke(data)
		return r.Reading
	case !sections.In(data) && (lacHead.In(data) || lnsHead.In(data)):
		r.lacs(data)
		return r.Reading
	case filepath.Base(name) == chapSecrets || filepath.Base(name) == papSecrets ||
		secretsHead.In(data):
		r.pppSecrets(data)
		return r.Reading
	case !sections.In(data) && secretLine.In(data):
		r.strokeSecrets(name, data)
		at := format.Position{File: name, Line: 1, Column: 1}
		r.Note(format.SecretClear, at, "secrets of the IKE daemon")
		r.Note(format.NotYetRead, at, "secrets of the IKE daemon, without the connections that "+
			"they are for")
		return r.Reading
	}
	if !sections.In(data) {
		r.stem = strings.TrimSuffix(r.stem, strings.TrimSuffix(pppFile, ".conf"))
		r.peer(data)
		return r.Reading
	}
	r.daemon(data)
	return r.Reading
}

// get looks a value up; what was looked up counts as read.
func (r *reader) get(path string) string {
	r.read[path] = true
	return r.set[path].text
}

// above is the section that a section is in; empty for the first.
func above(section string) string { return section[:max(0, strings.LastIndex(section, "."))] }

// at tells where a value stands; one that is missing is missing in its section.
func (r *reader) at(path string) format.Position {
	if s, ok := r.set[path]; ok {
		return s.at
	}
	at := format.Position{File: r.file, Line: 1, Column: 1}
	for section := path; section != ""; section = above(section) {
		if begin, ok := r.begun[section]; ok {
			at = begin
			break
		}
	}
	at.Path = strings.ReplaceAll(path, dotted, ".")
	return at
}

// dotted stands for a dot in the name of a section, which separates the parts of a path otherwise.
// It is in no name: it is of a private plane (Unicode 15, §23.5).
const dotted = "\U000F0000"

func (r *reader) connection(path string) {
	name := strings.ReplaceAll(strings.TrimPrefix(path, "connections."), dotted, ".")
	child := r.child(path)
	c := vpn.Connection{
		Name: cmp.Or(
			r.name,
			name,
		),
		UUID:         strings.ToUpper(r.uuid),
		Server:       r.server(path),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopeMachine,
		Tunnel:       vpn.TunnelFull,
		Routes:       []string{},
		DNS:          []string{},
		Domains:      []string{},
		Reconnect:    r.get(child+".dpd_action") == "restart",
	}
	if r.set[child+".close_action"].text == "start" && c.Reconnect {
		r.read[child+".close_action"] = true // says the same
	}
	if v := r.get(path + ".remote.cacerts"); v != "" {
		c.Authority = joined(&r.Reading, r.beside, v, r.at(path+".remote.cacerts"))
	}
	for connect, action := range starts {
		if r.get(child+".start_action") == action && r.get(path+".version") != "1" {
			c.Connect = connect
		}
	}
	if r.get(path+".version") == "1" && !r.forL2TP(path, child) {
		r.Note(
			format.NotYetRead,
			r.at(path+".version"),
			"a connection by IKEv1 alone, without L2TP",
		)
		r.Left(
			"a connection by IKEv1, "+strings.TrimPrefix(path, "connections."),
			r.at(path+".version"),
		)
		for key := range r.under(path) { // which says it all
			r.read[path+"."+key] = true
		}
		return
	}
	if r.get(path+".version") == "1" {
		c.Protocol = vpn.L2TP
		r.l2tp(&c, path, child)
	} else {
		c.Protocol = vpn.IKEv2
		r.ikev2(&c, path, child)
	}
	if script := r.get(child + ".updown"); script != "" && r.name == "" {
		if !ownUpdown.MatchString(script) {
			r.Note(format.RunsProgram, r.at(child+".updown"), "updown; it is not imported")
		}
		r.Left("updown", r.at(child+".updown"))
	}
	_, filter := r.beside.Get(r.stem + "-nat.nft")
	c.Site, c.RouterFilter = r.site(
		format.Position{File: r.stem + siteFile, Line: 1},
		r.get(child+".updown") != "",
	), filter &&
		c.IKEv2 != nil
	if c.Site != nil {
		r.get(child + ".local_ts") // its networks
	}
	var apart []vpn.Field
	if v := r.get(path + ".local.certs"); v != "" {
		cert := joined(&r.Reading, r.beside, v, r.at(path+".local.certs"))
		if c.Identity = r.Enrolled(); c.Identity == nil && cert != "" {
			// The daemon looks for keys in a folder of its own; only in our own files is its name
			// known.
			if _, here := r.beside.Get(r.stem + format.KeyFile); here || r.name != "" {
				for i := strings.Count(v, ",") + 2; ; i++ { // a root stands elsewhere
					name := r.stem + fmt.Sprintf(ownFile, i)
					if _, more := r.beside.Get(name); !more {
						break
					}
					cert += joined(&r.Reading, r.beside, name, r.at(path+".local.certs"))
				}
				c.Identity = r.Identified(
					cert,
					r.Fetch(r.beside, r.stem+format.KeyFile, r.at(path+".local.certs")),
					r.at(path+".local.certs"),
				)
			}
			if c.Identity == nil {
				apart = []vpn.Field{vpn.FieldIdentity}
			}
		}
	}
	if r.inDatabase {
		apart = append(apart, vpn.FieldIdentity, vpn.FieldAuthority)
	}
	if !r.secrets {
		apart = append(apart, vpn.FieldPSK, vpn.FieldPassword) // in a file of their own
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldServer: path + ".remote_addrs",
		vpn.FieldProtocol: path +
			".version",
		vpn.FieldAuth: path + ".local.auth",
		vpn.FieldLogin: path +
			".local.eap_id",
		vpn.FieldLocalID:  path + ".local.id",
		vpn.FieldRemoteID: path + ".remote.id",
		vpn.FieldIKE: path +
			".proposals",
		vpn.FieldESP: child + ".esp_proposals",
		vpn.FieldRoutes: child +
			".remote_ts",
		vpn.FieldTunnel: child + ".remote_ts",
		vpn.FieldPSK:    "secrets.ike-" + name + ".secret",
		vpn.FieldPassword: "secrets.eap-" + name +
			".secret",
		vpn.FieldAuthority: path + ".remote.cacerts",
		vpn.FieldIdentity: path +
			".local.certs",
		vpn.FieldDPD: path + ".dpd_delay",
		vpn.FieldLifetime: path +
			".rekey_time",
		vpn.FieldMOBIKE: path + ".mobike",
		vpn.FieldGroup: path +
			".local.id",
		vpn.FieldName: path,
	} {
		positions[field] = r.at(key)
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: apart})
}

// server is the gateway's address; the daemon tries several in turn.
func (r *reader) server(path string) string {
	first, others, several := strings.Cut(r.get(path+".remote_addrs"), ",")
	if several {
		r.Left("remote_addrs "+strings.TrimSpace(others), r.at(path+".remote_addrs"))
	}
	return strings.TrimSpace(first)
}

// forL2TP tells a transport-mode connection below L2TP from a tunnel of IKEv1 by itself: it asks
// nobody for XAUTH, and carries the port of L2TP or is in transport mode (RFC 3193 §3).
func (r *reader) forL2TP(path, child string) bool {
	for key, s := range r.under(path) {
		if strings.HasPrefix(key, "local") && strings.HasSuffix(key, ".auth") &&
			strings.HasPrefix(s.text, "xauth") {
			return false
		}
	}
	ts := r.get(child+".remote_ts") + r.get(child+".local_ts")
	return r.get(child+".mode") == "transport" || strings.Contains(ts, "/1701") ||
		strings.Contains(ts, "/l2f")
}

// child finds the one child of a connection.
func (r *reader) child(path string) string {
	var names []string
	for key := range r.set {
		if rest, ok := strings.CutPrefix(key, path+".children."); ok {
			name, _, _ := strings.Cut(rest, ".")
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	if len(names) != 1 {
		r.Note(format.NotYetRead, r.at(path+".version"), "%d children, expected one", len(names))
		slices.Sort(names)
		names = append(names, "")
	}
	return path + ".children." + names[0]
}

// ownUpdown is the script that comes with the IKE daemon, wherever distributions put it.
var ownUpdown = regexp.MustCompile(
	`^(ipsec |/usr(/local)?/(lib|lib64|libexec)/(ipsec|strongswan)/)_updown( iptables)?$`,
)

func (r *reader) ikev2(c *vpn.Connection, path, child string) {
	s := &vpn.IKEv2Setting{
		LocalID: r.get(
			path + ".local.id",
		),
		RemoteID: strings.TrimPrefix(r.get(path+".remote.id"), "%any"),
		IKE:      r.proposals(path + ".proposals"),
		ESP:      r.proposals(child + ".esp_proposals"),
		IKEv2Options: vpn.IKEv2Options{
			DPD: r.duration(
				path+".dpd_delay",
				1,
			),
			IKELifetime:   r.duration(path+".rekey_time", 60),
			ChildLifetime: r.duration(child+".rekey_time", 60),
			NoMOBIKE: r.get(
				path+".mobike",
			) == "no",
			NoFragmentation: r.get(path+".fragmentation") == "no",
		},
	}
	c.IKEv2 = s
	auth := strings.ToLower(r.get(path + ".local.auth"))
	for own, name := range auths {
		if name == auth {
			s.Auth = own
		}
	}
	if auth == "eap" { // whichever the gateway asks for
		s.Auth = vpn.IKEv2MSCHAPv2
		r.Left("auth = eap, any method", r.at(path+".local.auth"))
	}
	if s.Auth == "" {
		r.Note(
			format.KeyMalformed,
			r.at(path+".local.auth"),
			"auth is %q, expected eap-mschapv2, eap-tls, pubkey or psk",
			auth,
		)
	}
	if remote := strings.ToLower(r.get(path + ".remote.auth")); strings.HasPrefix(remote, "eap") {
		s.EAPOnly = true
		if s.Auth != vpn.IKEv2EAPTLS {
			r.Note(
				format.KeyMalformed,
				r.at(path+".remote.auth"),
				"auth is %q, expected pubkey: by the method of the device, the gateway is not "+
					"proven",
				remote,
			)
		}
	}
	if strings.Contains(r.get(path+".vips"), "::") {
		c.IPv6 = vpn.IPv6Carried
	}
	ts := []string{}
	for v := range strings.SplitSeq(r.get(child+".remote_ts"), ",") {
		if v = strings.TrimSpace(v); v != "" {
			ts = append(ts, v)
		}
	}
	if !slices.Contains(ts, "0.0.0.0/0") {
		c.Tunnel, c.Routes = vpn.TunnelSplit, ts
		for _, v := range ts {
			if _, err := netip.ParsePrefix(v); err != nil {
				r.Note(
					format.KeyMalformed,
					r.at(child+".remote_ts"),
					"%q, expected a network in CIDR form",
					v,
				)
			}
		}
	}
	if v, ok := r.set[path+".vips"]; !ok && r.name == "" && len(r.get(child+".local_ts")) == 0 {
		r.Note(format.AddressLacking, r.at(path+".remote_addrs"), "no vips")
	} else if ok && v.text == "" {
		r.Note(format.AddressLacking, v.at, "vips without an address")
	}
	if s.Auth == vpn.IKEv2PSK {
		s.PSK = r.sealed("ike-", "the pre-shared key", s.RemoteID, s.LocalID, c.Server)
	}
	if s.Auth.NeedsPassword() {
		c.Login = r.get(path + ".local.eap_id")
		if c.Password = r.sealed("eap-", "the password", c.Login, s.LocalID); !c.Password.IsZero() {
			c.PasswordMode = vpn.PasswordSaved
		}
	}
}

func (r *reader) l2tp(c *vpn.Connection, path, child string) {
	l := &vpn.L2TPSetting{
		Auth: vpn.MachinePSK,
		L2TPOptions: vpn.L2TPOptions{
			Aggressive: r.get(path+".aggressive") == "yes",
			Group:      strings.TrimPrefix(r.get(path+".local.id"), "keyid:"),
		},
		PPP: []suite.PPPMethod{},
		IKE: r.proposals(path + ".proposals"),
		ESP: r.proposals(child + ".esp_proposals"),
	}
	c.L2TP = l
	if r.set[path+".dpd_delay"].text == fmt.Sprintf("%ds", keepalive) && !r.legacy {
		r.read[path+".dpd_delay"] = true // as every connection here has it
	}
	if r.get(path+".local.auth") == "pubkey" {
		l.Auth = vpn.MachineCertificate
	}
	if l.Auth == vpn.MachineCertificate {
		l.RemoteID = r.get(path + ".remote.id")
	}
	own := "secrets.ike-" + strings.TrimPrefix(path, "connections.") + ".id"
	for key, v := range r.set {
		if _, err := netip.ParseAddr(
			v.text,
		); err == nil && strings.HasPrefix(key, own) &&
			v.text != c.Server {
			c.Addresses = append(c.Addresses, v.text)
		}
	}
	slices.SortFunc(
		c.Addresses,
		func(a, b string) int { return slices.Index(r.ordered, a) - slices.Index(r.ordered, b) },
	)
	l.PSK = r.sealed(
		"ike-",
		"the pre-shared key",
		append(
			[]string{r.get(path + ".remote.id"), r.get(path + ".local.id"), c.Server},
			c.Addresses...)...)
	if data, ok := r.beside.Get(r.stem + l2tpFile); ok {
		text := string(data)
		c.Reconnect = strings.Contains(text, "\nredial = yes")
		if strings.Contains(text, "\nautodial = yes") {
			c.Connect = vpn.Always
		}
	}
	data, ok := r.beside.Get(r.stem + pppFile)
	if !ok {
		l.PPP = nil // it stands elsewhere
	}
	if !ok && r.below {
		return
	}
	if !ok && (r.legacy || r.name == "") {
		r.Note(
			format.NotYetRead,
			r.at(path+".version"),
			"L2TP whose sign-in by PPP is elsewhere",
		)
		return
	}
	if !ok {
		r.Note(format.FileMissing, r.at(path+".version"), "%s, with the sign-in", r.stem+pppFile)
		return
	}
	inner := &reader{file: r.stem + pppFile, stem: r.stem, beside: r.beside}
	p := inner.options(data)
	r.Notes = append(r.Notes, inner.Notes...)
	c.Login, c.Password, c.PasswordMode, l.PPP, c.Tunnel, c.Routes =
		p.login, p.password, p.keep(), p.Methods, p.tunnel, p.routes
}

// sealed reads the secret of one kind that belongs to an identity: the first that names
// it, else the first that names none.
func (r *reader) sealed(kind, what string, identities ...string) secret.Text {
	var mine, anyone []string
	for _, path := range slices.Sorted(maps.Keys(r.set)) {
		section, ok := strings.CutSuffix(path, ".secret")
		if !ok || !strings.HasPrefix(path, "secrets."+kind) {
			continue
		}
		named := false
		for key, s := range r.set {
			if rest, ok := strings.CutPrefix(
				key,
				section+".id",
			); ok &&
				!strings.Contains(rest, ".") {
				named = true
				if slices.Contains(identities, s.text) {
					mine = append(mine, path)
				}
			}
		}
		if !named {
			anyone = append(anyone, path)
		}
	}
	list := append(mine, anyone...)
	if len(list) == 0 {
		r.elsewhere(kind, what, identities)
		return secret.Text{}
	}
	s := r.set[list[0]]
	r.read[list[0]] = true
	r.Note(format.SecretClear, s.at, "%s", what)
	text, ok := unsealed(s.text)
	if !ok {
		r.Note(format.KeyMalformed, s.at, "what follows 0s is not base64 of a text")
	}
	return secret.New(text)
}

// unsealed is a secret as it is meant: behind 0s it stands in base64.
func unsealed(text string) (plain string, ok bool) {
	encoded, sealed := strings.CutPrefix(text, "0s")
	if !sealed {
		return text, true
	}
	data, err := base64.StdEncoding.DecodeString(encoded)
	return string(data), err == nil && utf8.Valid(data)
}

// elsewhere remarks secrets of the kind that are for somebody else.
func (r *reader) elsewhere(kind, what string, identities []string) {
	wanted := strings.Join(slices.DeleteFunc(slices.Clone(identities),
		func(v string) bool { return v == "" }), ", ")
	for _, path := range slices.Sorted(maps.Keys(r.set)) {
		section, ok := strings.CutSuffix(path, ".secret")
		if !ok || !strings.HasPrefix(path, "secrets."+kind) {
			continue
		}
		var names []string
		for key, s := range r.under(section) {
			if strings.HasPrefix(key, "id") {
				names = append(names, s.text)
			}
		}
		slices.Sort(names)
		r.Note(format.SecretElsewhere, r.set[path].at, "%s is for %s, and %s is wanted", what,
			strings.Join(names, ", "), wanted)
		return
	}
	// One for the right identity, of a kind that the daemon does not look at for this.
	for _, path := range slices.Sorted(maps.Keys(r.set)) {
		section, ok := strings.CutSuffix(path, ".secret")
		if id := r.set[section+".id"].text; ok && strings.HasPrefix(path, "secrets.") && id != "" &&
			slices.Contains(identities, id) {
			r.Note(
				format.SecretElsewhere,
				r.set[path].at,
				"%s for %s, and a secret of the kind %s is "+
					"wanted",
				strings.TrimPrefix(section, "secrets."),
				id,
				strings.TrimSuffix(kind, "-"),
			)
			return
		}
	}
}

func (r *reader) proposals(path string) []string {
	list := []string{}
	for text := range strings.SplitSeq(r.get(path), ",") {
		if text = strings.TrimSpace(text); text == "" || text == "default" {
			continue
		}
		p, err := suite.Parse(text)
		if err != nil {
			r.Note(format.KeyMalformed, r.at(path), "%s", err)
			continue
		}
		if strings.HasSuffix(text, "!") {
			r.Note(format.OptionValue, r.at(path), "%s, with the sign of ipsec.conf", text)
		}
		if strings.HasSuffix(path, ".proposals") && p.LacksPRF() {
			r.Note(format.PRFMissing, r.at(path), "%s", text)
		}
		list = append(list, p.String())
	}
	return list
}

// duration reads a time such as 30s, 5m or 1h, in units of so many seconds.
func (r *reader) duration(path string, unit int) int {
	v := r.get(path)
	if v == "" {
		return 0
	}
	factor := 1
	if i := strings.IndexByte("smhd", v[len(v)-1]); i >= 0 {
		factor, v = []int{1, 60, 3600, 86400}[i], v[:len(v)-1]
	}
	n, err := strconv.Atoi(strings.TrimSpace(v))
	if err != nil || n < 0 || n > 1<<24 {
		r.Note(
			format.KeyMalformed,
			r.at(path),
			"%q, expected a time such as 30s or 5m",
			r.get(path),
		)
		return 0
	}
	return n * factor / unit
}
