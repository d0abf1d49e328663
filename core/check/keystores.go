package check

import (
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// bagKinds says under which rule a fault of a bag is told.
var bagKinds = map[pki.Fault]format.NoteKind{
	pki.BagUnreadable:    format.Unreadable,
	pki.BagPassphrase:    format.PassphraseWrong,
	pki.BagNoKey:         format.BagWithoutKey,
	pki.BagNoCertificate: format.BagWithoutCertificate,
	pki.BagKeys:          format.BagSeveralKeys,
	pki.BagWeak:          format.BagWeak,
	pki.BagPair:          format.PairBroken,
	pki.BagEncryptedKey:  format.KeyClosed,
}

// BagNotes words the troubles of a file of certificates as a reader's remarks.
func BagNotes(name string, b pki.Bag) []format.Note {
	var r format.Reading
	for _, t := range b.Troubles {
		r.Note(
			bagKinds[t.Fault],
			format.Position{File: name, Line: t.Line, Column: 1},
			"%s",
			t.Found,
		)
	}
	if len(b.Keys) > 0 && b.Shape != pki.PKCS12 {
		r.Note(
			format.PrivateKeyClear,
			format.Position{File: name, Line: 1, Column: 1},
			"a private key without a passphrase",
		)
	}
	return r.Notes
}

// bagRules look at files of certificates and keys.
var bagRules = []Rule{
	fileRule(
		format.PairBroken,
		"Key does not match the certificate",
		vpn.Error,
		"The device cannot authenticate with the certificate, and is rejected.",
		"Use the key that belongs to the certificate.",
		"RFC 7296 §2.15",
		"the certificate of one device with the key of another",
		"a certificate with its own key",
	),
	fileRule(
		format.PassphraseWrong,
		"Passphrase is wrong",
		vpn.Error,
		"The device cannot import the certificate.",
		"Get the correct passphrase from whoever created the file; trailing spaces matter.",
		"RFC 7292 §4",
		"a PKCS #12 file and another passphrase",
		"the passphrase that it was made with",
	),
	fileRule(
		format.BagWithoutKey,
		"PKCS #12 file without a private key",
		vpn.Warning,
		"Without the key the device cannot authenticate with the certificate.",
		"Export it again with its key, or use it only as a CA certificate.",
		"RFC 7292 §4.2",
		"a PKCS #12 file with certificates only",
		"one with certificate and key",
	),
	fileRule(
		format.BagWithoutCertificate,
		"PKCS #12 file without a certificate",
		vpn.Error,
		"The device has a key but no certificate.",
		"Export it again with its certificate.",
		"RFC 7292 §4.2",
		"a PKCS #12 file with a key only",
		"one with certificate and key",
	),
	fileRule(
		format.BagSeveralKeys,
		"Several private keys in one PKCS #12 file",
		vpn.Warning,
		"Systems use the first one, the last one, or reject the file.",
		"Create one file per key.",
		"RFC 7292 §4.2",
		"a PKCS #12 file with two keys",
		"one with one key",
	),
	fileRule(
		format.BagWeak,
		"PKCS #12 file uses outdated encryption",
		vpn.Note,
		"Its encryption can be broken with little effort; only releases before 2022 need it.",
		"Create it again with AES-256, unless an old release has to open it.",
		"RFC 7292 appendix C; RFC 8018 §6.2",
		"a file encrypted by RC2 of 40 bits",
		"one encrypted by AES-256",
	),
	{
		Code:     "bag-unopened",
		Title:    "PKCS #12 encryption is not supported by the release",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIdentity},
		Why:      "The device reports a wrong passphrase although it is correct.",
		Fix:      "Create the file with the older encryption for this release.",
		Source:   "see the platform table",
		Bad: Example{
			"AES-256 for Windows 7",
			func(s *Subject) {
				*s = *soundBy(vpn.IKEv2, vpn.Windows,
					"7")
				s.Bags = []Packed{{"ada.p12", false}}
			},
		},
		Good: Example{
			"3DES there",
			func(s *Subject) {
				*s = *soundBy(vpn.IKEv2, vpn.Windows,
					"7")
				s.Bags = []Packed{{"ada.p12", true}}
			},
		},
		run: func(s *Subject) []Hit {
			if s.Ability == nil || !s.Ability.OldPacking {
				return nil
			}
			for _, b := range s.Bags {
				if !b.Old {
					return []Hit{
						{
							Field: vpn.FieldIdentity,
							Found: b.Name + " is encrypted by AES, which " + s.Release.Title +
								" does not open",
							At: &format.Position{File: b.Name, Line: 1, Column: 1},
						},
					}
				}
			}
			return nil
		},
	},
	fileRule(
		format.KeyKindDiffers,
		"Key type differs from what the file says",
		vpn.Error,
		"The device expects a signature of the wrong type, and the sign-in fails.",
		"Set the key type to that of the certificate.",
		"Apple: IKEv2 dictionary, CertificateType",
		"CertificateType RSA beside a key on P-256",
		"CertificateType ECDSA256 beside it",
	),
	fileRule(
		format.PrivateKeyClear,
		"Private key is stored in clear",
		vpn.Note,
		"Whoever gets the file can impersonate the device.",
		"Hand it over through a confidential channel, or put it into a PKCS #12 file with a "+
			"passphrase.",
		"practice",
		"a PEM file with a private key",
		"a certificate alone",
	),
	fileRule(
		format.KeyClosed,
		"Private key is encrypted with a passphrase",
		vpn.Note,
		"Devices that cannot prompt for the passphrase cannot use the key.",
		"Remove the passphrase for such devices, or use PKCS #12.",
		"RFC 5958 §3",
		"an encrypted private key in PEM form",
		"one without a passphrase",
	),
}

// Packed is a PKCS #12 file that came along.
type Packed struct {
	Name string
	Old  bool // encrypted as releases before PBES2 open it
}
