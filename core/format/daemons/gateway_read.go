package daemons

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Served is what the configuration of a gateway's daemons says, as a record would.
type Served struct {
	Gateway vpn.Gateway // with its secrets; what no file says is empty
	Users   []User
	Files   []string // those that were read
	Unread  []string // what has no place in a record, each with file and line
}

// Bounds of what the files of a gateway may hold.
const (
	maxServed = 8 << 20 // bytes of a file
	maxUsers  = 100_000
	maxUnread = 200
)

type serving struct {
	Served
	beside format.Beside
	pools  []netip.Prefix
	ppp    map[string]pppSide // by the name of the file with the options
	shared []sharedKey
	mayL2  []string // files with options for L2TP and for PPTP
	mayPP  []string
}

// pppSide is what options of pppd on the gateway's side say.
type pppSide struct {
	methods []suite.PPPMethod
	mppe    []suite.MPPE
	dns     []string
	state   bool
}

var (
	serverDirective = regexp.MustCompile(`(?m)^\s*(server\s+\d|mode\s+server\b|tls-server\b)`)
	pptpdDirective  = regexp.MustCompile(`(?m)^\s*(remoteip|localip)\s+\d`)
)

// ReadGateway reads the configuration of a gateway's daemons: swanctl.conf(5) of the IKE daemon,
// those of the TLS tunnel's daemon, xl2tpd.conf(5), pptpd.conf(5), options and secrets of pppd(8).
// What it says of clients goes into a record; files that others name are looked for beside.
func ReadGateway(files []format.File) Served {
	s := &serving{beside: format.Files(files), ppp: map[string]pppSide{}}
	slices.SortStableFunc(
		files,
		func(a, b format.File) int { return strings.Compare(a.Name, b.Name) },
	)
	for _, f := range files {
		base := filepath.Base(f.Name)
		switch {
		case len(f.Content) > maxServed:
			s.unread("%s: more than %d MB", f.Name, maxServed>>20)
			continue
		case sections.In(f.Content) || strings.Contains(string(f.Content), "secrets {"):
			s.ike(f)
		case lnsHead.In(f.Content):
			s.lns(f)
		case base == chapSecrets || base == papSecrets:
			s.secrets(f)
		case serverDirective.Match(f.Content) && !strings.Contains(string(f.Content), "remoteip"):
			s.tunnel(f)
		case pptpdDirective.Match(f.Content):
			s.pptpd(f)
		default:
			continue // named by another, or not of a daemon
		}
		s.Files = append(s.Files, f.Name)
	}
	s.links()
	s.psks()
	s.issuers(files)
	for _, p := range s.pools {
		if text := p.String(); !slices.Contains(s.Gateway.Pool, text) {
			s.Gateway.Pool = append(s.Gateway.Pool, text)
		}
	}
	return s.Served
}

// issuers gives the offers the CAs of the gateway's certificate, where they are among the files.
func (s *serving) issuers(files []format.File) {
	list, err := pki.Certificates(s.Gateway.Certificate)
	if err != nil || len(list) == 0 {
		return
	}
	var all []*x509.Certificate
	for _, f := range files {
		if more, err := pki.Certificates(string(f.Content)); err == nil &&
			len(f.Content) <= maxServed {
			all = append(all, more...)
		}
	}
	text := ""
	for at, n := list[0], 0; n < 8 && !pki.Root(at); n++ {
		i := slices.IndexFunc(all, func(c *x509.Certificate) bool {
			return c.IsCA && !c.Equal(at) && at.CheckSignatureFrom(c) == nil
		})
		if i < 0 {
			break
		}
		at = all[i]
		text += pki.Bundle(at)
	}
	for p, place := range s.Gateway.Offers.Authorities() {
		if p != vpn.L2TP || slices.Contains(s.Gateway.Offers.L2TP.Auth, vpn.MachineCertificate) {
			*place = text
		}
	}
}

func (s *serving) unread(text string, args ...any) {
	if len(s.Unread) < maxUnread {
		s.Unread = append(s.Unread, fmt.Sprintf(text, args...))
	}
}

func (s *serving) user(login string, password secret.Text) {
	same := slices.ContainsFunc(s.Users, func(u User) bool { return u.Login == login })
	if len(s.Users) < maxUsers && !same {
		s.Users = append(s.Users, User{login, password})
	}
}

// pool notes addresses for clients: a network, or a range as the smallest network that has it.
func (s *serving) pool(text string) {
	if p, err := netip.ParsePrefix(text); err == nil {
		s.pools = append(s.pools, p.Masked())
		return
	}
	from, to, ranged := strings.Cut(text, "-")
	first, err := netip.ParseAddr(strings.TrimSpace(from))
	if err != nil || !first.Is4() {
		return
	}
	last := first
	if to = strings.TrimSpace(to); ranged {
		if !strings.Contains(to, ".") { // of PPTP: the last octet alone
			to = from[:strings.LastIndex(from, ".")+1] + to
		}
		if last, err = netip.ParseAddr(to); err != nil {
			return
		}
	}
	for bits := 32; bits >= 8; bits-- {
		if p := netip.PrefixFrom(first, bits).Masked(); p.Contains(last) {
			s.pools = append(s.pools, p)
			return
		}
	}
}

func add[T comparable](list *[]T, values ...T) {
	for _, v := range values {
		if !slices.Contains(*list, v) {
			*list = append(*list, v)
		}
	}
}

func (s *serving) routes(list ...string) {
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		if err == nil && p.Bits() > 0 {
			add(&s.Gateway.Routes, p.Masked().String())
		}
	}
}

func (s *serving) listening(text string) {
	if a, err := netip.ParseAddr(text); err == nil && !a.IsUnspecified() {
		add(&s.Gateway.Addresses, a.String())
	}
}

// certificates reads a file of certificates that a configuration names.
func (s *serving) certificates(name string) string {
	data, ok := s.beside.Get(filepath.Base(name))
	if !ok {
		return ""
	}
	list, err := pki.Certificates(string(data))
	if err != nil {
		return ""
	}
	return pki.Bundle(list...)
}

// ike reads connections that clients come in by, with pools and secrets.
func (s *serving) ike(f format.File) {
	r := &reader{
		file: f.Name, beside: s.beside, set: map[string]setting{},
		begun: map[string]format.Position{}, read: map[string]bool{},
	}
	text, ok := r.Text(f.Name, f.Content)
	if !ok || !(&settings{r: r, file: f.Name}).parse(text) {
		s.unread("%s: the daemon cannot read it", f.Name)
		return
	}
	r.inherit()
	for _, one := range r.order[:min(len(r.order), format.MaxConnections)] {
		path := "connections." + one
		if to := r.get(path + ".remote_addrs"); r.template(path) || to != "" && to != "%any" {
			continue // a connection of its own to somewhere
		}
		s.connection(r, path)
	}
	for path, value := range r.set {
		if strings.HasPrefix(path, "pools.") && strings.HasSuffix(path, ".dns") {
			add(&s.Gateway.DNS, words(value.text)...)
		}
	}
	s.keys(r)
}

func words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

func (s *serving) connection(r *reader, path string) {
	remote, local := path+".remote", path+".local"
	for key := range r.set {
		rest := strings.TrimPrefix(key, path+".")
		if section, _, ok := strings.Cut(rest, "."); ok && rest != key {
			if strings.HasPrefix(section, "remote-") {
				remote = path + "." + section
			} else if strings.HasPrefix(section, "local-") {
				local = path + "." + section
			}
		}
	}
	child := r.child(path)
	for _, a := range words(r.get(path + ".local_addrs")) {
		s.listening(a)
	}
	for _, name := range words(r.get(path + ".pools")) {
		for _, text := range words(r.get("pools." + name + ".addrs")) {
			s.pool(text)
		}
	}
	if cert := s.certificates(r.get(local + ".certs")); cert != "" {
		s.Gateway.Certificate = cert
	}
	for _, name := range words(r.get(remote + ".cacerts")) {
		if text := s.certificates(name); !strings.Contains(s.Gateway.ClientAuthority, text) {
			s.Gateway.ClientAuthority += text
		}
	}
	auth := r.get(remote + ".auth")
	if r.get(path+".version") == "1" {
		s.main(r, path, child, local, remote, auth)
		return
	}
	s.routes(words(r.get(child + ".local_ts"))...)
	for _, text := range words(r.get(child + ".remote_ts")) {
		if p, err := netip.ParsePrefix(text); err == nil && p.Bits() > 0 {
			add(&s.Gateway.Announced, p.Masked().String())
		}
	}
	o := s.Gateway.Offers.IKEv2
	if o == nil {
		o = &vpn.IKEv2Offer{}
		s.Gateway.Offers.IKEv2 = o
	}
	ways := map[string]vpn.IKEv2Auth{
		"eap-mschapv2": vpn.IKEv2MSCHAPv2, "eap-tls": vpn.IKEv2EAPTLS,
		"pubkey": vpn.IKEv2Certificate, "": vpn.IKEv2Certificate, "psk": vpn.IKEv2PSK,
	}
	way, known := ways[auth]
	if !known {
		s.unread("%s:%d: clients that authenticate by %s", r.file, r.at(remote+".auth").Line, auth)
		return
	}
	add(&o.Auth, way)
	add(&o.IKE, r.proposals(path+".proposals")...)
	add(&o.ESP, r.proposals(child+".esp_proposals")...)
	o.RemoteID = cmp.Or(o.RemoteID, r.get(local+".id"))
	if way == vpn.IKEv2PSK {
		o.LocalID = strings.TrimPrefix(r.get(remote+".id"), "%any")
	}
	o.IKELifetime = max(o.IKELifetime, r.duration(path+".rekey_time", 60))
	o.ChildLifetime = max(o.ChildLifetime, r.duration(child+".rekey_time", 60))
	o.DPD = max(o.DPD, r.duration(path+".dpd_delay", 1))
	o.NoMOBIKE = o.NoMOBIKE || r.get(path+".mobike") == "no"
	o.NoFragmentation = o.NoFragmentation || r.get(path+".fragmentation") == "no"
}

// main reads the IPsec below L2TP.
func (s *serving) main(r *reader, path, child, local, remote, auth string) {
	if r.get(child+".mode") != "transport" {
		s.unread("%s:%d: IKEv1 without L2TP", r.file, r.at(path).Line)
		return
	}
	o := s.Gateway.Offers.L2TP
	if o == nil {
		o = &vpn.L2TPOffer{}
		s.Gateway.Offers.L2TP = o
	}
	way := vpn.MachinePSK
	if auth != "psk" {
		way = vpn.MachineCertificate
		o.RemoteID = r.get(local + ".id")
	}
	add(&o.Auth, way)
	add(&o.IKE, r.proposals(path+".proposals")...)
	add(&o.ESP, r.proposals(child+".esp_proposals")...)
	o.Aggressive = o.Aggressive || r.get(path+".aggressive") == "yes"
	o.Group = strings.TrimPrefix(r.get(remote+".id"), "keyid:")
}

// keys reads the secrets: of users, and of gateways.
func (s *serving) keys(r *reader) {
	var paths []string
	for path := range r.set {
		if strings.HasPrefix(path, "secrets.") && strings.HasSuffix(path, ".secret") {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	for _, path := range paths {
		section := strings.TrimSuffix(path, ".secret")
		text, ok := unsealed(r.get(path))
		if !ok {
			s.unread("%s:%d: a secret that cannot be read", r.file, r.at(path).Line)
			continue
		}
		value := secret.New(text)
		kind := strings.TrimPrefix(section, "secrets.")
		switch {
		case strings.HasPrefix(kind, "eap"), strings.HasPrefix(kind, "ntlm"):
			for key, id := range r.under(section) {
				if strings.HasPrefix(key, "id") {
					s.user(id.text, value)
				}
			}
		case strings.HasPrefix(kind, "ike"):
			key := sharedKey{value: value, file: r.file}
			for name, id := range r.under(section) {
				if strings.HasPrefix(name, "id") {
					key.ids = append(key.ids, id.text)
				}
			}
			s.shared = append(s.shared, key)
		}
	}
}

// sharedKey is a pre-shared key with whose it is.
type sharedKey struct {
	value secret.Text
	ids   []string
	file  string
}

// psks gives the offers their keys: the one that names the gateway as the offer does, else the
// first that names nobody else.
func (s *serving) psks() {
	taken := map[int]bool{}
	find := func(own ...string) *secret.Text {
		for _, named := range []bool{true, false} {
			for i := range s.shared {
				mine := slices.ContainsFunc(own, func(id string) bool {
					return slices.Contains(s.shared[i].ids, id)
				})
				if mine || !named {
					taken[i] = true
					return &s.shared[i].value
				}
			}
		}
		return nil
	}
	if o := s.Gateway.Offers.IKEv2; o != nil && slices.Contains(o.Auth, vpn.IKEv2PSK) {
		o.PSK = find(o.RemoteID)
	}
	if o := s.Gateway.Offers.L2TP; o != nil && slices.Contains(o.Auth, vpn.MachinePSK) {
		o.PSK = find(s.Gateway.Addresses...)
	}
	for i, key := range s.shared {
		if !taken[i] {
			s.unread("%s: a pre-shared key beside those of the offers", key.file)
		}
	}
}

// secrets reads the users of pppd.
func (s *serving) secrets(f format.File) {
	var r format.Reading
	for _, e := range entries(&r, f.Name, f.Content) {
		s.user(e.client, e.secret)
	}
}

// lns reads the gateway's side of the L2TP daemon.
func (s *serving) lns(f format.File) {
	if s.Gateway.Offers.L2TP == nil {
		s.Gateway.Offers.L2TP = &vpn.L2TPOffer{}
	}
	inside := false
	for number, line := range strings.Split(string(f.Content), "\n") {
		line, _, _ = strings.Cut(line, ";")
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "[") {
			inside = strings.HasPrefix(line, "[lns")
			continue
		}
		key, value, _ := strings.Cut(line, "=")
		key, value = strings.TrimSpace(key), strings.TrimSpace(value)
		switch {
		case key == "listen-addr":
			s.listening(value)
		case !inside:
		case key == "ip range":
			s.pool(value)
		case key == "pppoptfile":
			s.mayL2 = append(s.mayL2, value)
			s.options(value, f.Name, number+1)
		}
	}
}

// pptpd reads the PPTP daemon's configuration.
func (s *serving) pptpd(f format.File) {
	s.Gateway.Offers.PPTP = &vpn.PPTPOffer{}
	for number, line := range strings.Split(string(f.Content), "\n") {
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		switch fields[0] {
		case "listen":
			s.listening(fields[1])
		case "remoteip":
			for _, text := range words(fields[1]) {
				s.pool(text)
			}
		case "option":
			s.mayPP = append(s.mayPP, fields[1])
			s.options(fields[1], f.Name, number+1)
		}
	}
}

// options reads a file with options of pppd that another names.
func (s *serving) options(name, from string, line int) {
	data, ok := s.beside.Get(filepath.Base(name))
	if !ok {
		s.unread("%s:%d: %s, which is not among the files", from, line, name)
		return
	}
	s.Files = append(s.Files, filepath.Base(name))
	var p pppSide
	allowed := slices.Clone(suite.PPPMethods)
	var demanded []suite.PPPMethod
	mppe := []suite.MPPE{"128", "40"}
	encrypted := false
	for _, line := range strings.Split(string(data), "\n") {
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		for m, option := range pppMethods {
			switch fields[0] {
			case option[0]:
				demanded = append(demanded, m)
			case option[1]:
				allowed = slices.DeleteFunc(allowed, func(o suite.PPPMethod) bool { return o == m })
			}
		}
		switch fields[0] {
		case "ms-dns":
			if len(fields) > 1 {
				p.dns = append(p.dns, fields[1])
			}
		case "require-mppe":
			encrypted = true
		case "require-mppe-128":
			encrypted, mppe = true, []suite.MPPE{"128"}
		case "require-mppe-40":
			encrypted, mppe = true, []suite.MPPE{"40"}
		case "nomppe-40", "nomppe-128":
			mppe = slices.DeleteFunc(mppe, func(m suite.MPPE) bool {
				return string(m) == strings.TrimPrefix(fields[0], "nomppe-")
			})
		case "mppe-stateful":
			p.state = true
		}
	}
	if p.methods = demanded; len(demanded) == 0 {
		p.methods = allowed
	}
	slices.SortFunc(p.methods, func(a, b suite.PPPMethod) int {
		return slices.Index(suite.PPPMethods, a) - slices.Index(suite.PPPMethods, b)
	})
	if encrypted {
		p.mppe = mppe
	}
	s.ppp[name] = p
	add(&s.Gateway.DNS, p.dns...)
}

// links gives the offers by PPP what their options say.
func (s *serving) links() {
	if o := s.Gateway.Offers.L2TP; o != nil {
		for _, name := range s.mayL2 {
			add(&o.PPP, s.ppp[name].methods...)
		}
		if len(o.PPP) == 0 {
			o.PPP = []suite.PPPMethod{suite.MSCHAPv2}
		}
	}
	if o := s.Gateway.Offers.PPTP; o != nil {
		for _, name := range s.mayPP {
			add(&o.PPP, s.ppp[name].methods...)
			add(&o.MPPE, s.ppp[name].mppe...)
			o.Stateful = o.Stateful || s.ppp[name].state
		}
		if len(o.PPP) == 0 {
			o.PPP = []suite.PPPMethod{suite.MSCHAPv2}
		}
	}
}

// directives are the lines of the TLS tunnel's daemon, and what stands in it as files.
func directives(text string) (lines [][]string, inline map[string]string) {
	inline = map[string]string{}
	block := ""
	for line := range strings.SplitSeq(text, "\n") {
		trimmed := strings.TrimSpace(line)
		switch {
		case block != "" && trimmed == "</"+block+">":
			block = ""
		case block != "":
			inline[block] += line + "\n"
		case strings.HasPrefix(trimmed, "<") && strings.HasSuffix(trimmed, ">"):
			block = strings.Trim(trimmed, "<>")
		default:
			if fields, err := format.Words(line, "#;", true); err == nil && len(fields) > 0 {
				lines = append(lines, fields)
			} else {
				lines = append(lines, nil)
			}
		}
	}
	return lines, inline
}

// tunnel reads a configuration of the TLS tunnel's daemon.
func (s *serving) tunnel(f format.File) {
	lines, inline := directives(string(f.Content))
	o := s.Gateway.Offers.TLS
	if o == nil {
		o = &vpn.TLSOffer{}
		s.Gateway.Offers.TLS = o
	}
	remote := vpn.Remote{Port: 1194, Transport: vpn.UDP}
	client, password := "require", false
	named := func(kind, value string) string {
		if value == "[inline]" {
			return inline[kind]
		}
		data, _ := s.beside.Get(filepath.Base(value))
		return string(data)
	}
	for _, kind := range []string{"tls-auth", "tls-crypt", "tls-crypt-v2", "ca", "cert"} {
		if inline[kind] != "" {
			lines = append(lines, []string{kind, "[inline]"})
		}
	}
	for number, fields := range lines {
		if len(fields) == 0 {
			continue
		}
		value := ""
		if len(fields) > 1 {
			value = fields[1]
		}
		switch fields[0] {
		case "port", "lport":
			remote.Port, _ = strconv.Atoi(value)
		case "proto":
			if strings.HasPrefix(value, "tcp") {
				remote.Transport = vpn.TCP
			}
		case "local":
			s.listening(value)
		case "server":
			if len(fields) > 2 {
				s.pool(withMask(fields[1], fields[2]))
			}
		case "push":
			s.pushed(value)
		case "data-ciphers", "ncp-ciphers":
			add(&o.Ciphers, strings.Split(value, ":")...)
		case "cipher":
			if len(o.Ciphers) == 0 {
				add(&o.Ciphers, value)
			}
		case "auth":
			o.Digest = value
		case "tls-version-min":
			o.MinTLS = value
		case "keepalive":
			o.Keepalive, _ = strconv.Atoi(value)
		case "verify-client-cert":
			client = value
		case "client-cert-not-required":
			client = "none"
		case "auth-user-pass-verify", "plugin":
			password = true
		case "ca":
			if text := named(fields[0], value); !strings.Contains(s.Gateway.ClientAuthority, text) {
				s.Gateway.ClientAuthority += text
			}
		case "cert":
			if list, err := pki.Certificates(named(fields[0], value)); err == nil && len(list) > 0 {
				s.Gateway.Certificate = pki.Bundle(list...)
			}
		case "tls-auth", "tls-crypt", "tls-crypt-v2":
			s.control(o, fields, named(fields[0], value), f.Name, number+1)
		}
	}
	add(&o.Remotes, remote)
	switch {
	case client == "none":
		add(&o.Auth, vpn.TLSPassword)
	case password:
		add(&o.Auth, vpn.TLSCertificatePassword)
	default:
		add(&o.Auth, vpn.TLSCertificate)
	}
	if client == "optional" && password {
		add(&o.Auth, vpn.TLSPassword)
	}
}

func withMask(address, mask string) string {
	a, err := netip.ParseAddr(mask)
	if err != nil || !a.Is4() {
		return ""
	}
	bits := 0
	for _, b := range a.As4() {
		for ; b&0x80 != 0; b <<= 1 {
			bits++
		}
	}
	return fmt.Sprintf("%s/%d", address, bits)
}

// control takes the control-channel key: clients sign in the other direction than the server.
func (s *serving) control(o *vpn.TLSOffer, fields []string, text, file string, line int) {
	kind := vpn.ControlKind(strings.TrimPrefix(fields[0], "tls-"))
	if text == "" {
		s.unread("%s:%d: %s, whose key is not among the files", file, line, fields[0])
		return
	}
	key := secret.New(text)
	k := &vpn.ControlKey{Kind: kind, Key: &key}
	if kind == vpn.ControlAuth && len(fields) > 2 {
		k.Direction = map[string]string{"0": "1", "1": "0"}[fields[2]]
	}
	o.ControlKey = k
}

// pushed takes what the daemon tells clients.
func (s *serving) pushed(text string) {
	fields := strings.Fields(text)
	switch {
	case len(fields) > 2 && fields[0] == "route":
		s.routes(withMask(fields[1], fields[2]))
	case len(fields) > 1 && fields[0] == "route-ipv6":
		s.routes(fields[1])
	case len(fields) > 2 && fields[0] == "dhcp-option" && fields[1] == "DNS":
		add(&s.Gateway.DNS, fields[2])
	case len(fields) > 2 && fields[0] == "dhcp-option" && strings.HasPrefix(fields[1], "DOMAIN"):
		add(&s.Gateway.Domains, fields[2])
	}
}
