package suite

import (
	"slices"
	"strings"
)

// Cipher is a data cipher or a digest of the TLS tunnel, under the name that its files
// use.
type Cipher struct {
	Name   string
	AEAD   bool
	Worth  Worth
	Source string
}

// DataCiphers lists the data ciphers, strongest first.
var DataCiphers = []Cipher{
	{
		"AES-256-GCM",
		true,
		Sound,
		"NIST SP 800-38D",
	},
	{"AES-192-GCM", true, Sound, "NIST SP 800-38D"},
	{"AES-128-GCM", true, Sound, "NIST SP 800-38D"},
	{"CHACHA20-POLY1305", true, Sound, "RFC 8439"},
	{
		"AES-256-CBC",
		false,
		LastResort,
		"NIST SP 800-38A",
	},
	{"AES-192-CBC", false, LastResort, "NIST SP 800-38A"},
	{"AES-128-CBC", false, LastResort, "NIST SP 800-38A"},
	{
		"CAMELLIA-256-CBC",
		false,
		LastResort,
		"RFC 3713",
	},
	{"CAMELLIA-128-CBC", false, LastResort, "RFC 3713"},
	{
		"SEED-CBC",
		false,
		Weak,
		"RFC 4269",
	},
	{"CAST5-CBC", false, Weak, "64-bit blocks: CVE-2016-6329"},
	{"BF-CBC", false, Weak, "64-bit blocks: CVE-2016-6329"},
	{
		"DES-EDE3-CBC",
		false,
		Weak,
		"64-bit blocks: CVE-2016-6329",
	},
	{"RC2-CBC", false, Broken, "RFC 2268"},
	{"DES-CBC", false, Broken, "56-bit key"},
	{"none", false, Broken, "no encryption"},
}

// Digests lists the digests, strongest first.
var Digests = []Cipher{
	{
		"SHA512",
		false,
		Sound,
		"FIPS 180-4",
	},
	{"SHA384", false, Sound, "FIPS 180-4"},
	{"SHA256", false, Sound, "FIPS 180-4"},
	{"SHA224", false, Sound, "FIPS 180-4"},
	{
		"SHA1",
		false,
		LastResort,
		"RFC 6151 speaks of MD5; HMAC with SHA-1 is not broken",
	},
	{"MD5", false, Weak, "RFC 6151"},
	{"none", false, Broken, "nothing is authenticated"},
}

// FindCipher looks a data cipher up, in any case.
func FindCipher(list []Cipher, name string) (Cipher, bool) {
	i := slices.IndexFunc(list, func(c Cipher) bool { return strings.EqualFold(c.Name, name) })
	if i < 0 {
		return Cipher{}, false
	}
	return list[i], true
}
