package suite

// Dialect gives the names under which a program knows algorithms, where they are not
// Wardicon's own.
type Dialect map[string]string

// IPsecConf is the dialect of ipsec.conf(5), in the names that both of the IKE daemons
// with such a file take.
var IPsecConf = Dialect{"sha256": "sha2_256", "sha384": "sha2_384", "sha512": "sha2_512"}

// In writes the proposal in a dialect.
func (p Proposal) In(d Dialect) string {
	for _, part := range []*string{&p.Encryption, &p.Integrity, &p.PRF, &p.Group} {
		if name, ok := d[*part]; ok {
			*part = name
		}
	}
	return p.String()
}

// DialectName names a closed set of algorithms that a device can be told.
type DialectName string

// The dialects that know only what they name.
const (
	WindowsDialect DialectName = "windows"
	AppleDialect   DialectName = "apple"
)

// Vocabulary are the algorithms that can be said, in IKE and in child proposals. A proposal
// with any other cannot be carried.
type Vocabulary struct{ IKE, ESP Dialect }

// Closed are the dialects that know only what they name. Sources: Windows, reference of
// Set-VpnConnectionIPsecConfiguration; Apple, reference of the IKEv2 dictionary.
var Closed = map[DialectName]Vocabulary{
	WindowsDialect: {
		IKE: Dialect{
			"des":         "DES",
			"3des":        "DES3",
			"aes128":      "AES128",
			"aes192":      "AES192",
			"aes256":      "AES256",
			"aes128gcm16": "GCMAES128",
			"aes256gcm16": "GCMAES256",
			"md5":         "MD5",
			"sha1":        "SHA1",
			"sha256":      "SHA256",
			"sha384":      "SHA384",
			"prfmd5":      "MD5",
			"prfsha1":     "SHA1",
			"prfsha256":   "SHA256",
			"prfsha384":   "SHA384",
			"modp768":     "Group1",
			"modp1024":    "Group2",
			"modp2048":    "Group14",
			"ecp256":      "ECP256",
			"ecp384":      "ECP384",
		},
		ESP: Dialect{
			"des":         "DES",
			"3des":        "DES3",
			"aes128":      "AES128",
			"aes192":      "AES192",
			"aes256":      "AES256",
			"aes128gcm16": "GCMAES128",
			"aes256gcm16": "GCMAES256",
			"md5":         "MD596",
			"sha1":        "SHA196",
			"sha256":      "SHA256128",
			"modp768":     "PFS1",
			"modp1024":    "PFS2",
			"modp2048":    "PFS2048",
			"ecp256":      "ECP256",
			"ecp384":      "ECP384",
		},
	},
	AppleDialect: {IKE: apple, ESP: apple},
}

var apple = Dialect{
	"des":              "DES",
	"3des":             "3DES",
	"aes128":           "AES-128",
	"aes256":           "AES-256",
	"aes128gcm16":      "AES-128-GCM",
	"aes256gcm16":      "AES-256-GCM",
	"chacha20poly1305": "ChaCha20Poly1305",
	"sha1":             "SHA1-96",
	"sha256":           "SHA2-256",
	"sha384":           "SHA2-384",
	"sha512":           "SHA2-512",
	"prfsha1":          "SHA1-96",
	"prfsha256":        "SHA2-256",
	"prfsha384":        "SHA2-384",
	"prfsha512":        "SHA2-512",
	"modp768":          "1",
	"modp1024":         "2",
	"modp1536":         "5",
	"modp2048":         "14",
	"modp3072":         "15",
	"modp4096":         "16",
	"modp6144":         "17",
	"modp8192":         "18",
	"ecp256":           "19",
	"ecp384":           "20",
	"ecp521":           "21",
	"curve25519":       "31",
	"curve448":         "32",
}

// Carries tells whether the dialect has a name for each part of a proposal. These dialects
// name one digest, for integrity or, with an AEAD cipher, for the pseudo-random function.
func (d Dialect) Carries(p Proposal) bool {
	if p.PRF != "" && p.Integrity != "" {
		return false
	}
	for _, part := range p.parts() {
		if _, ok := d[part]; part != "" && !ok {
			return false
		}
	}
	return true
}

// Own finds Wardicon's name of an algorithm of one kind from that of the dialect.
func (d Dialect) Own(kind Kind, name string) (string, bool) {
	for own, theirs := range d {
		if a, _ := Find(own); theirs == name && a.Kind == kind {
			return own, true
		}
	}
	return "", false
}
