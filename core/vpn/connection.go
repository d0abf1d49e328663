package vpn

import (
	"slices"

	"wardicon/core/secret"
	"wardicon/core/suite"
)

// Connection is a settled connection, with everything a device must be told. The
// planner makes it, writers of file formats take it, readers give it back. Exactly one
// of the settings is there: that of the protocol.
type Connection struct {
	Name         string   `json:"name"`
	UUID         string   `json:"uuid"`       // stable across rebuilds of the same profile
	Identifier   string   `json:"identifier"` // reverse-DNS, stable
	Organisation string   `json:"organisation,omitempty"`
	Protocol     Protocol `json:"protocol"`
	Server       string   `json:"server"`
	// IP addresses behind the server's name, where they are known
	Addresses    []string     `json:"addresses,omitempty"`
	Login        string       `json:"login"`
	Password     secret.Text  `json:"password,omitzero"`
	PasswordMode PasswordMode `json:"keep"`
	Scope        Scope        `json:"scope"`
	Tunnel       Tunnel       `json:"tunnel"`
	Routes       []string     `json:"routes"`
	DNS          []string     `json:"dns"`
	Domains      []string     `json:"domains"`
	IPv6         IPv6         `json:"ipv6,omitempty"`
	Connect      Connect      `json:"connect,omitempty"`
	Demand       *Demand      `json:"demand,omitempty"`
	// in place of Demand, where a file has rules that say more
	DemandRules []DemandRule `json:"demand_rules,omitempty"`
	Reconnect   bool         `json:"reconnect"`
	Unmetered   bool         `json:"unmetered"`
	Proxy       *Proxy       `json:"proxy,omitempty"`
	Authority   string       `json:"authority,omitempty"` // PEM
	Identity    *Identity    `json:"identity,omitempty"`
	// PKCS#12 as releases before PBES2 open it
	OldPacking bool `json:"old_packing,omitempty"`
	// .ovpn: the sign-in is a file of its own, as clients before 2.6 read it
	LoginBeside bool `json:"login_beside,omitempty"`
	// the passphrase of PKCS#12 is left out of the file and asked for
	AskPassphrase bool  `json:"ask_passphrase,omitempty"`
	Site          *Site `json:"site,omitempty"` // networks behind a router
	// rules go to where OpenWrt's own packet filter takes them up
	RouterFilter bool          `json:"router_filter,omitempty"`
	L2TP         *L2TPSetting  `json:"l2tp,omitempty"`
	IKEv2        *IKEv2Setting `json:"ikev2,omitempty"`
	PPTP         *PPTPSetting  `json:"pptp,omitempty"`
	SSTP         *SSTPSetting  `json:"sstp,omitempty"`
	TLS          *TLSSetting   `json:"tls,omitempty"`
}

// DemandRule is one of a list of which the first that fits the network counts; all of its
// conditions must hold (Apple, Device Management, VPN.IKEv2.OnDemandRulesElement).
type DemandRule struct {
	Action    string          `json:"action"` // one of DemandActions
	Interface string          `json:"interface,omitempty"`
	Networks  []string        `json:"networks,omitempty"` // names of wireless networks
	Suffixes  []string        `json:"suffixes,omitempty"` // DNS domains
	Servers   []string        `json:"servers,omitempty"`  // DNS servers
	Probe     string          `json:"probe,omitempty"`    // URL that must respond
	Domains   []DemandDomains `json:"domains,omitempty"`  // of evaluate alone
}

// DemandDomains says what a lookup in some domains does: connect if it fails, or never connect.
type DemandDomains struct {
	Never   bool     `json:"never,omitempty"`
	Domains []string `json:"domains"`
	Servers []string `json:"servers,omitempty"`
	Probe   string   `json:"probe,omitempty"`
}

// Actions of a DemandRule.
const (
	DemandConnect    = "connect"
	DemandDisconnect = "disconnect"
	DemandEvaluate   = "evaluate"
	DemandIgnore     = "ignore"
)

// Always tells whether a rule fits every network, so that none after it is reached.
func (r DemandRule) Always() bool {
	return r.Interface == "" && r.Probe == "" && len(r.Networks)+len(r.Suffixes)+len(r.Servers) == 0
}

// Identity is a certificate with its key, both in PEM form.
type Identity struct {
	Certificate string      `json:"certificate"`
	Key         secret.Text `json:"key,omitzero"`
	// How the device gets the certificate for a key that it makes itself; null where the key is
	// here.
	Enrol *Enrol `json:"enrol,omitempty"`
}

// Enrol is how a device gets its certificate itself, for a key that never leaves it.
type Enrol struct {
	EST    string      `json:"est"`             // address for EST (RFC 7030 §3.2.2)
	Renew  string      `json:"renew"`           // the one that takes certificates for proof; may be empty
	SCEP   string      `json:"scep"`            // address for SCEP (RFC 8894 §4.1)
	Secret secret.Text `json:"secret,omitzero"` // for one certificate
	Name   string      `json:"name"`            // common name
	Alt    string      `json:"alt"`             // the name that both sides check
	Above  string      `json:"above"`           // CAs between the certificate and its root, PEM
	RSA    bool        `json:"rsa"`             // the kind of key; P-256 else
}

// L2TPSetting is the part of a connection that only L2TP/IPsec has. Proposals are
// empty where the platform's built-in ones are used.
type L2TPSetting struct {
	Auth      MachineAuth       `json:"auth"`
	PSK       secret.Text       `json:"psk,omitzero"`
	PPP       []suite.PPPMethod `json:"ppp"`
	IKE       []string          `json:"ike"`
	ESP       []string          `json:"esp"`
	BehindNAT bool              `json:"behind_nat"`
	// by certificate: what the gateway says it is
	RemoteID string `json:"remote_id,omitempty"`
	L2TPOptions
}

// IKEv2Setting is the part that only IKEv2 has. Lifetimes are in minutes, DPD in
// seconds; 0 leaves them to the client.
type IKEv2Setting struct {
	Auth     IKEv2Auth   `json:"auth"`
	PSK      secret.Text `json:"psk,omitzero"`
	LocalID  string      `json:"local_id,omitempty"`
	RemoteID string      `json:"remote_id"`
	// common name of the CA that issued the gateway's certificate
	Issuer string   `json:"issuer,omitempty"`
	IKE    []string `json:"ike"`
	ESP    []string `json:"esp"`
	// the gateway proves itself by EAP alone, without a proof of its own (RFC 5998)
	EAPOnly bool `json:"eap_only,omitempty"`
	IKEv2Options
}

// PPTPSetting is the part that only PPTP has.
type PPTPSetting struct {
	PPP  []suite.PPPMethod `json:"ppp"`
	MPPE []suite.MPPE      `json:"mppe"`
	PPTPOptions
}

// SSTPSetting is the part that only SSTP has.
type SSTPSetting struct {
	Port       int               `json:"port"`
	PPP        []suite.PPPMethod `json:"ppp"`
	ServerName string            `json:"server_name,omitempty"`
}

// TLSSetting is the part that only the TLS tunnel has.
type TLSSetting struct {
	Remotes []Remote     `json:"remotes"`
	Auth    TLSAuth      `json:"auth"`
	Control *ControlWrap `json:"control,omitempty"`
	Ciphers []string     `json:"ciphers"`
	TLSOptions
}

// ControlWrap is a control-channel key as a client has it.
type ControlWrap struct {
	Kind      ControlKind `json:"kind"`
	Direction string      `json:"direction,omitempty"`
	Key       secret.Text `json:"key,omitzero"`
}

// Settings tells whether the settings of the connection's protocol are there.
func (c Connection) Settings() bool {
	return map[Protocol]bool{
		L2TP:  c.L2TP != nil,
		IKEv2: c.IKEv2 != nil,
		PPTP:  c.PPTP != nil,
		SSTP:  c.SSTP != nil,
		TLS:   c.TLS != nil,
	}[c.Protocol]
}

// PPP lists the PPP methods, where the protocol has any.
func (c Connection) PPP() []suite.PPPMethod {
	switch {
	case c.L2TP != nil:
		return c.L2TP.PPP
	case c.PPTP != nil:
		return c.PPTP.PPP
	case c.SSTP != nil:
		return c.SSTP.PPP
	}
	return nil
}

// Proposals are the IKE and the child proposals, where the protocol has any.
func (c Connection) Proposals() (ike, esp []string) {
	switch {
	case c.L2TP != nil:
		return c.L2TP.IKE, c.L2TP.ESP
	case c.IKEv2 != nil:
		return c.IKEv2.IKE, c.IKEv2.ESP
	}
	return nil, nil
}

// PSK is the pre-shared key, where the connection has one.
func (c Connection) PSK() secret.Text {
	switch {
	case c.L2TP != nil:
		return c.L2TP.PSK
	case c.IKEv2 != nil:
		return c.IKEv2.PSK
	}
	return secret.Text{}
}

// ServerName is the name that the gateway's certificate has to carry beside the address, where
// there is one: that of the TLS tunnel or of SSTP.
func (c Connection) ServerName() string {
	switch {
	case c.TLS != nil:
		return c.TLS.ServerName
	case c.SSTP != nil:
		return c.SSTP.ServerName
	}
	return ""
}

// RemoteID is the identity that the gateway has to prove in IKE, where there is one.
func (c Connection) RemoteID() string {
	switch {
	case c.IKEv2 != nil:
		return c.IKEv2.RemoteID
	case c.L2TP != nil:
		return c.L2TP.RemoteID
	}
	return ""
}

// NeedsPassword tells whether a person signs in by login and password.
func (c Connection) NeedsPassword() bool {
	switch {
	case c.IKEv2 != nil:
		return c.IKEv2.Auth.NeedsPassword()
	case c.TLS != nil:
		return c.TLS.Auth.NeedsPassword()
	}
	return true
}

// NeedsIdentity tells whether the device proves itself by a certificate.
func (c Connection) NeedsIdentity() bool {
	switch {
	case c.IKEv2 != nil:
		return c.IKEv2.Auth.NeedsIdentity()
	case c.TLS != nil:
		return c.TLS.Auth.NeedsIdentity()
	case c.L2TP != nil:
		return c.L2TP.Auth == MachineCertificate
	}
	return false
}

// part copies what a pointer leads to.
func part[T any](p *T, inside func(*T)) *T {
	if p == nil {
		return nil
	}
	v := *p
	if inside != nil {
		inside(&v)
	}
	return &v
}

// Clone copies the connection deeply.
func (c Connection) Clone() Connection {
	c.Addresses = slices.Clone(c.Addresses)
	c.Routes, c.DNS, c.Domains = slices.Clone(
		c.Routes,
	), slices.Clone(
		c.DNS,
	), slices.Clone(
		c.Domains,
	)
	c.Demand = part(c.Demand, func(d *Demand) {
		d.Networks, d.Suffixes, d.Domains = slices.Clone(
			d.Networks,
		), slices.Clone(
			d.Suffixes,
		), slices.Clone(
			d.Domains,
		)
	})
	c.DemandRules = slices.Clone(c.DemandRules) // nothing changes one
	c.Proxy = part(c.Proxy, func(p *Proxy) { p.Bypass = slices.Clone(p.Bypass) })
	c.Identity = part(c.Identity, func(i *Identity) { i.Enrol = part(i.Enrol, nil) })
	c.Site = c.Site.Clone()
	c.L2TP = part(c.L2TP, func(l *L2TPSetting) {
		l.PPP, l.IKE, l.ESP = slices.Clone(l.PPP), slices.Clone(l.IKE), slices.Clone(l.ESP)
	})
	c.IKEv2 = part(
		c.IKEv2,
		func(s *IKEv2Setting) { s.IKE, s.ESP = slices.Clone(s.IKE), slices.Clone(s.ESP) },
	)
	c.PPTP = part(
		c.PPTP,
		func(s *PPTPSetting) { s.PPP, s.MPPE = slices.Clone(s.PPP), slices.Clone(s.MPPE) },
	)
	c.SSTP = part(c.SSTP, func(s *SSTPSetting) { s.PPP = slices.Clone(s.PPP) })
	c.TLS = part(c.TLS, func(s *TLSSetting) {
		s.Remotes, s.Ciphers, s.Control = slices.Clone(
			s.Remotes,
		), slices.Clone(
			s.Ciphers,
		), part(
			s.Control,
			nil,
		)
	})
	return c
}

// Secrets lists where the connection's secrets are.
func (c *Connection) Secrets() []*secret.Text {
	list := []*secret.Text{&c.Password}
	if c.L2TP != nil {
		list = append(list, &c.L2TP.PSK)
	}
	if c.IKEv2 != nil {
		list = append(list, &c.IKEv2.PSK)
	}
	if c.TLS != nil && c.TLS.Control != nil {
		list = append(list, &c.TLS.Control.Key)
	}
	if c.Identity != nil {
		list = append(list, &c.Identity.Key)
		if c.Identity.Enrol != nil {
			list = append(list, &c.Identity.Enrol.Secret)
		}
	}
	return list
}

// Masked is a copy in which each secret that is present is replaced by its mask,
// so that a file can be shown without one.
func (c Connection) Masked() Connection {
	c = c.Clone()
	for _, s := range c.Secrets() {
		if !s.IsZero() {
			*s = secret.New(secret.Hidden)
		}
	}
	return c
}

// Field names one value of a connection or of the records behind it. Findings,
// reasons and positions in files are keyed by it.
type Field string

// The fields.
const (
	FieldName         Field = "name"
	FieldProtocol     Field = "protocol"
	FieldServer       Field = "server"
	FieldLogin        Field = "login"
	FieldRealm        Field = "realm"
	FieldPassword     Field = "password"
	FieldPSK          Field = "psk"
	FieldPPP          Field = "ppp"
	FieldIKE          Field = "ike"
	FieldESP          Field = "esp"
	FieldTunnel       Field = "tunnel"
	FieldRoutes       Field = "routes"
	FieldDNS          Field = "dns"
	FieldDomains      Field = "domains"
	FieldPool         Field = "pool"
	FieldNAT          Field = "behind_nat"
	FieldPasswordMode Field = "keep"
	FieldScope        Field = "scope"
	FieldPlatform     Field = "platform"
	FieldRelease      Field = "release"
	FieldAccount      Field = "account"
	FieldIdentifier   Field = "identifier"
	FieldUUID         Field = "uuid"
	FieldFile         Field = "file"
	FieldAuth         Field = "auth"
	FieldAuthority    Field = "authority"
	FieldIdentity     Field = "identity"
	FieldLocalID      Field = "local_id"
	FieldRemoteID     Field = "remote_id"
	FieldLifetime     Field = "lifetime"
	FieldDPD          Field = "dpd"
	FieldMOBIKE       Field = "mobike"
	FieldGroup        Field = "group"
	FieldMPPE         Field = "mppe"
	FieldPort         Field = "port"
	FieldRemotes      Field = "remotes"
	FieldControl      Field = "control_key"
	FieldCiphers      Field = "ciphers"
	FieldDigest       Field = "digest"
	FieldMinTLS       Field = "min_tls"
	FieldServerName   Field = "server_name"
	FieldKeepalive    Field = "keepalive"
	FieldIPv6         Field = "ipv6"
	FieldConnect      Field = "connect"
	FieldDemand       Field = "demand"
	FieldReconnect    Field = "reconnect"
	FieldUnmetered    Field = "unmetered"
	FieldProxy        Field = "proxy"
	FieldFormat       Field = "format"
	FieldOffboarded   Field = "offboarded"
	FieldHandover     Field = "handover"
	FieldPattern      Field = "pattern"
	FieldSite         Field = "site"
	FieldAnnounced    Field = "announced"
	FieldFallback     Field = "fallback"
)

// JoinLogin joins login and realm in the form that a gateway wants.
func JoinLogin(form LoginForm, login, realm string) string {
	switch {
	case form == LoginAtRealm && realm != "":
		return login + "@" + realm
	case form == RealmSlashLogin && realm != "":
		return realm + `\` + login
	}
	return login
}
