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
	// Its last day.
	Expires time.Time `json:"expires"`
	// Number of certificates that it has issued here.
	Certificates int `json:"certificates"`
	// Number of them that were revoked.
	Revoked int `json:"revoked"`
	// The authority that takes its place; empty where none does.
	SuccessorID string `json:"successor_id"`
	Successor   string `json:"successor"`
}

// NewAuthority says what an authority that is made here shall be.
type NewAuthority struct {
	// Unique name.
	Name string `json:"name" required:"true"`
	// Kind of its key; empty means p256.
	Kind pki.KeyChoice `json:"kind,omitempty" enum:"p256,p384,rsa3072"`
	// Token of the service in which the keys are made, and stay; empty seals them here.
	Token string `json:"token,omitempty"`
	// Create a root, and below it the CA that issues.
	Issuing bool `json:"issuing" required:"false"`
	// Years that it is valid; 0 means ten.
	Years int `json:"years" required:"false"`
	// Domains and networks that it is limited to; empty binds it to none.
	Permitted []string `json:"permitted" required:"false"`
	// Domains and networks that it must not issue for.
	Excluded []string `json:"excluded" required:"false"`
	// URLs of its CRL.
	Lists []string `json:"lists" required:"false"`
}

// KeyToken is a token (PKCS #11) that keys are in.
type KeyToken struct {
	Name string `json:"name"`
	// It answered when it was asked last, at most a minute ago.
	Available bool `json:"available"`
	// Why it did not.
	Why string `json:"why,omitempty"`
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
	// The certificate and those between it and its root, PEM, as a gateway sends them.
	Chain string `json:"chain"`
}

// Expiry is something that expires on a day.
type Expiry struct {
	// The record to look after.
	Noun string `json:"noun" enum:"authority,gateway,device,signer"`
	ID   string `json:"id"`
	Name string `json:"name"`
	// What of it ends.
	What    string    `json:"what"`
	Expires time.Time `json:"expires"`
	// Whole days left; negative if it has expired.
	Days int `json:"days"`
}

// Revocation says what a revocation touched.
type Revocation struct {
	Certificates []Certificate `json:"certificates"`
	// Profiles that need a new certificate: device and gateway.
	Profiles []string `json:"profiles"`
}

// Request is a signing request that waits for its certificate from an authority whose key is
// kept elsewhere.
type Request struct {
	ID string `json:"id"`
	// The CA that is to sign it; empty for a new CA.
	AuthorityID string    `json:"authority_id"`
	Authority   string    `json:"authority"`
	Usage       pki.Usage `json:"usage" enum:"client,server,authority"`
	DeviceID    string    `json:"device_id,omitempty"`
	// Who it is for.
	Subject string   `json:"subject"`
	Names   []string `json:"names"`
	// The signing request (PKCS #10), PEM.
	PEM      string    `json:"pem"`
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
}

// Material is a file of certificates or keys that somebody brings.
type Material struct {
	// The file: PEM, DER, PKCS #7 or PKCS #12.
	File []byte `json:"file" required:"true" maxLength:"400000"`
	// File with the key, where it stands apart.
	Key []byte `json:"key,omitempty" maxLength:"100000"`
	// Passphrase of a PKCS #12 file.
	Passphrase secret.Text `json:"passphrase,omitempty" writeOnly:"true"`
}

// Rollover says how far devices and gateways have come from one authority to the next.
type Rollover struct {
	From Authority `json:"from"`
	To   Authority `json:"to"`
	// Gateways whose offers name the old authority.
	Gateways []RolledGateway `json:"gateways"`
	// Devices whose certificate is still of the old one.
	Devices int `json:"devices"`
	// Profiles whose newest parcel was built before both were trusted, or that have none.
	Parcels int `json:"parcels"`
	// Gateways that still show a certificate of the old one.
	Servers int `json:"servers"`
	// Nothing names the old authority any more.
	Finished bool `json:"finished"`
}

// RolledGateway is one gateway on the way from one authority to another.
type RolledGateway struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Its offers name both.
	Both bool `json:"both"`
	// The certificate that it shows is of the old one.
	Old bool `json:"old"`
}

// GatewayBundle is what a gateway needs of a certificate: files that are handed out once. The key
// is not kept.
type GatewayBundle struct {
	Certificate Certificate `json:"certificate"`
	Files       []Handed    `json:"files"`
	// All of them as a zip archive.
	Archive []byte `json:"archive"`
	// Opens the PKCS #12 file; shown once.
	Passphrase string `json:"passphrase"`
}

// GatewayUsers are the lists that the daemons of a gateway look its users up in.
type GatewayUsers struct {
	Files []Handed `json:"files"`
	// Accounts in them.
	Users int `json:"users"`
	// Logins that are left out: no password of theirs is on record.
	Left []string `json:"left"`
}

// GatewayConfiguration is a gateway's own side: files for its daemons.
type GatewayConfiguration struct {
	Files []Handed `json:"files"`
	// All of them as a ZIP archive.
	Archive []byte `json:"archive,omitempty"`
	// Accounts in its user lists.
	Users int `json:"users"`
	// What is not on record, and left to the gateway's administrator.
	Left []string `json:"left"`
}

// Delivery is how a gateway that fetches its configuration is served.
type Delivery struct {
	// When its token was made.
	Created time.Time `json:"created"`
	// When it asked last.
	Seen *time.Time `json:"seen,omitempty"`
	// Version of the configuration that it runs; empty where it has none yet.
	Runs string `json:"runs,omitempty"`
	// Version that it was offered last: it runs what is on record where the two are the same.
	Offered string `json:"offered,omitempty"`
}

// NewDelivery lets a gateway fetch its configuration.
type NewDelivery struct {
	// Token of the gateway; it is shown once.
	Token string `json:"token"`
	// Where the gateway fetches.
	URL string `json:"url"`
	// Script that fetches, puts changed files into place and reloads the daemons.
	Script string `json:"script"`
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
	// Counts the changes; send it in If-Match.
	Version int `json:"version"`
	// Parcels are signed.
	Set     bool   `json:"set"`
	Subject string `json:"subject"`
	// The authority here that issued it; empty where it was brought in.
	Authority string    `json:"authority"`
	Expires   time.Time `json:"expires"`
	Since     time.Time `json:"since"`
	// Its certificate and those between it and its root, PEM.
	Certificate string     `json:"certificate"`
	Links       []pki.Link `json:"links"`
}

// Answered is what a certificate that was signed elsewhere became.
type Answered struct {
	Certificate *Certificate `json:"certificate,omitempty"`
	Authority   *Authority   `json:"authority,omitempty"`
}

// Chain is a certificate with those above it, up to where the walk ends.
type Chain struct {
	Noun string `json:"noun" enum:"certificate,authority,device,gateway"`
	ID   string `json:"id"`
	Name string `json:"name"`
	// From the certificate up; empty where there is none.
	Links []pki.Link `json:"links"`
	// Those of the further certificates of a device.
	Others [][]pki.Link `json:"others,omitempty"`
	// The authorities that it was held against.
	Against []string `json:"against"`
}
