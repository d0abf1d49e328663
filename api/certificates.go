package api

import (
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Authority is an authority in a list.
type Authority struct {
	vpn.Authority
	Expires      time.Time `json:"expires" doc:"Its last day"`
	Certificates int       `json:"certificates" doc:"Number of certificates that it has issued here"`
	Revoked      int       `json:"revoked" doc:"Number of them that were revoked"`
	SuccessorID  string    `json:"successor_id" doc:"The authority that takes its place; empty where none does"`
	Successor    string    `json:"successor"`
}

// NewAuthority says what an authority that is made here shall be.
type NewAuthority struct {
	Name      string        `json:"name" required:"true" doc:"Unique name"`
	Kind      pki.KeyChoice `json:"kind,omitempty" enum:"p256,p384,rsa3072" doc:"Kind of its key; empty means p256"`
	Issuing   bool          `json:"issuing" required:"false" doc:"Create a root, and below it the CA that issues"`
	Years     int           `json:"years" required:"false" doc:"Years that it is valid; 0 means ten"`
	Permitted []string      `json:"permitted" required:"false" doc:"Domains and networks that it is limited to; empty binds it to none"`
	Excluded  []string      `json:"excluded" required:"false" doc:"Domains and networks that it must not issue for"`
	Lists     []string      `json:"lists" required:"false" doc:"URLs of its CRL"`
}

// Certificate is an issued certificate in a list.
type Certificate struct {
	vpn.Certificate
	Authority string `json:"authority"`
	Device    string `json:"device"`
	Gateway   string `json:"gateway"`
}

// Issued is a gateway's certificate with what it brings along.
type Issued struct {
	Certificate Certificate `json:"certificate"`
	Chain       string      `json:"chain" doc:"The certificate and those between it and its root, PEM, as a gateway sends them"`
}

// Expiry is something that expires on a day.
type Expiry struct {
	Noun    string    `json:"noun" enum:"authority,gateway,device,signer" doc:"The record to look after"`
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	What    string    `json:"what" doc:"What of it ends"`
	Expires time.Time `json:"expires"`
	Days    int       `json:"days" doc:"Whole days left; negative if it has expired"`
}

// Revocation says what a revocation touched.
type Revocation struct {
	Certificates []Certificate `json:"certificates"`
	Profiles     []string      `json:"profiles" doc:"Profiles that need a new certificate: device and gateway"`
}

// Request is a signing request that waits for its certificate from an authority whose key is
// kept elsewhere.
type Request struct {
	ID          string    `json:"id"`
	AuthorityID string    `json:"authority_id" doc:"The CA that is to sign it; empty for a new CA"`
	Authority   string    `json:"authority"`
	Usage       pki.Usage `json:"usage" enum:"client,server,authority"`
	DeviceID    string    `json:"device_id,omitempty"`
	Subject     string    `json:"subject" doc:"Who it is for"`
	Names       []string  `json:"names"`
	PEM         string    `json:"pem" doc:"The signing request (PKCS #10), PEM"`
	Operator    string    `json:"operator"`
	Created     time.Time `json:"created"`
}

// Material is a file of certificates or keys that somebody brings.
type Material struct {
	File       []byte      `json:"file" required:"true" doc:"The file: PEM, DER, PKCS #7 or PKCS #12" maxLength:"400000"`
	Key        []byte      `json:"key,omitempty" doc:"File with the key, where it stands apart" maxLength:"100000"`
	Passphrase secret.Text `json:"passphrase,omitempty" writeOnly:"true" doc:"Passphrase of a PKCS #12 file"`
}

// Rollover says how far devices and gateways have come from one authority to the next.
type Rollover struct {
	From     Authority       `json:"from"`
	To       Authority       `json:"to"`
	Gateways []RolledGateway `json:"gateways" doc:"Gateways whose offers name the old authority"`
	Devices  int             `json:"devices" doc:"Devices whose certificate is still of the old one"`
	Parcels  int             `json:"parcels" doc:"Profiles whose newest parcel was built before both were trusted, or that have none"`
	Servers  int             `json:"servers" doc:"Gateways that still show a certificate of the old one"`
	Finished bool            `json:"finished" doc:"Nothing names the old authority any more"`
}

// RolledGateway is one gateway on the way from one authority to another.
type RolledGateway struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Both bool   `json:"both" doc:"Its offers name both"`
	Old  bool   `json:"old" doc:"The certificate that it shows is of the old one"`
}

// GatewayBundle is what a gateway needs of a certificate: files that are handed out once. The key is
// not kept.
type GatewayBundle struct {
	Certificate Certificate `json:"certificate"`
	Files       []Handed    `json:"files"`
	Archive     []byte      `json:"archive" doc:"All of them as a zip archive"`
	Passphrase  string      `json:"passphrase" doc:"Opens the PKCS #12 file; shown once"`
}

// Handed is a file with its content.
type Handed struct {
	Name    string `json:"name"`
	Purpose string `json:"purpose"`
	Private bool   `json:"private"`
	Content []byte `json:"content"`
}

// Signer is what signs parcels, without its key.
type Signer struct {
	Version     int        `json:"version" doc:"Counts the changes; send it in If-Match"`
	Set         bool       `json:"set" doc:"Parcels are signed"`
	Subject     string     `json:"subject"`
	Authority   string     `json:"authority" doc:"The authority here that issued it; empty where it was brought in"`
	Expires     time.Time  `json:"expires"`
	Since       time.Time  `json:"since"`
	Certificate string     `json:"certificate" doc:"Its certificate and those between it and its root, PEM"`
	Links       []pki.Link `json:"links"`
}

// Answered is what a certificate that was signed elsewhere became.
type Answered struct {
	Certificate *Certificate `json:"certificate,omitempty"`
	Authority   *Authority   `json:"authority,omitempty"`
}

// Chain is a certificate with those above it, up to where the walk ends.
type Chain struct {
	Noun    string     `json:"noun" enum:"certificate,authority,device,gateway"`
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Links   []pki.Link `json:"links" doc:"From the certificate up; empty where there is none"`
	Against []string   `json:"against" doc:"The authorities that it was held against"`
}
