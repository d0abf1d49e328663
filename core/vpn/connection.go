package vpn

import (
	"slices"

	"wardicon/core/secret"
	"wardicon/core/suite"
)

// Connection is a settled connection, with everything a device must be told. The
// planner makes it, writers of file formats take it, readers give it back.
type Connection struct {
	Name         string       `json:"name"`
	UUID         string       `json:"uuid"`       // stable across rebuilds of the same profile
	Identifier   string       `json:"identifier"` // reverse-DNS, stable
	Organisation string       `json:"organisation,omitempty"`
	Protocol     Protocol     `json:"protocol"`
	Server       string       `json:"server"`
	Login        string       `json:"login"`
	Password     secret.Text  `json:"password,omitzero"`
	Keep         Keep         `json:"keep"`
	Scope        Scope        `json:"scope"`
	Tunnel       Tunnel       `json:"tunnel"`
	Routes       []string     `json:"routes"`
	DNS          []string     `json:"dns"`
	Domains      []string     `json:"domains"`
	L2TP         *L2TPSetting `json:"l2tp,omitempty"`
}

// L2TPSetting is the part of a connection that only L2TP/IPsec has. Proposals are
// empty where the platform's built-in ones are used.
type L2TPSetting struct {
	PSK       secret.Text       `json:"psk,omitzero"`
	PPP       []suite.PPPMethod `json:"ppp"`
	IKE       []string          `json:"ike"`
	ESP       []string          `json:"esp"`
	BehindNAT bool              `json:"behind_nat"`
}

// Clone copies the connection deeply.
func (c Connection) Clone() Connection {
	c.Routes, c.DNS, c.Domains = slices.Clone(c.Routes), slices.Clone(c.DNS), slices.Clone(c.Domains)
	if c.L2TP != nil {
		l := *c.L2TP
		l.PPP, l.IKE, l.ESP = slices.Clone(l.PPP), slices.Clone(l.IKE), slices.Clone(l.ESP)
		c.L2TP = &l
	}
	return c
}

// Masked is a copy in which each secret that is present is replaced by its mask,
// so that a file can be shown without one.
func (c Connection) Masked() Connection {
	c = c.Clone()
	mask := secret.New(secret.Hidden)
	if !c.Password.IsZero() {
		c.Password = mask
	}
	if c.L2TP != nil && !c.L2TP.PSK.IsZero() {
		c.L2TP.PSK = mask
	}
	return c
}

// Field names one value of a connection or of the records behind it. Findings,
// reasons and positions in files are keyed by it.
type Field string

// The fields.
const (
	FieldName       Field = "name"
	FieldProtocol   Field = "protocol"
	FieldServer     Field = "server"
	FieldLogin      Field = "login"
	FieldRealm      Field = "realm"
	FieldPassword   Field = "password"
	FieldPSK        Field = "psk"
	FieldPPP        Field = "ppp"
	FieldIKE        Field = "ike"
	FieldESP        Field = "esp"
	FieldTunnel     Field = "tunnel"
	FieldRoutes     Field = "routes"
	FieldDNS        Field = "dns"
	FieldDomains    Field = "domains"
	FieldPool       Field = "pool"
	FieldNAT        Field = "behind_nat"
	FieldKeep       Field = "keep"
	FieldScope      Field = "scope"
	FieldPlatform   Field = "platform"
	FieldRelease    Field = "release"
	FieldAccount    Field = "account"
	FieldIdentifier Field = "identifier"
	FieldUUID       Field = "uuid"
	FieldFile       Field = "file"
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
