package check

import (
	"wardicon/core/format"
	"wardicon/core/vpn"
)

// CodeUnfit is the rule under which a writer's refusal of a value is shown.
const CodeUnfit = "format-unfit"

// noted makes the look of a rule whose hits come from the reader of a file.
func noted(kind format.NoteKind) func(*Subject) []Hit {
	return func(s *Subject) []Hit {
		var hits []Hit
		for i := range s.Notes {
			if n := &s.Notes[i]; n.Kind == kind {
				at := n.At
				hits = append(
					hits,
					Hit{
						Field: vpn.FieldFile, Found: n.Found, At: &at, Line: n.Fix,
						Severity: n.Severity,
					},
				)
			}
		}
		return hits
	}
}

func noteExamples(kind format.NoteKind, bad, good string) (Example, Example) {
	at := format.Position{File: "norrvik.nmconnection", Line: 4, Column: 1}
	return Example{
			bad,
			func(s *Subject) { s.Notes = []format.Note{{Kind: kind, Found: "an example", At: at}} },
		},
		Example{
			good,
			func(s *Subject) { s.Notes = nil },
		}
}

func fileRule(
	kind format.NoteKind,
	title string,
	severity vpn.Severity,
	why, fix, source, bad, good string,
) Rule {
	r := Rule{
		Code:     string(kind),
		Title:    title,
		Severity: severity,
		Fields:   []vpn.Field{vpn.FieldFile},
		Why:      why,
		Fix:      fix,
		Source:   source,
		run:      noted(kind),
	}
	r.Bad, r.Good = noteExamples(kind, bad, good)
	return r
}

// unfitRule shows what a writer refuses.
func unfitRule() Rule {
	r := fileRule(
		CodeUnfit,
		"Value cannot be represented in the format",
		vpn.Error,
		"The value would be changed, or break the file.",
		"Choose a value that the file format supports, or another format or protocol.",
		"the format's own definition",
		"a control-channel key for ChromeOS",
		"a connection that its file carries",
	)
	r.Bad.set = func(s *Subject) {
		s.Unfit = &format.UnfitError{
			Format:   "Open Network Configuration",
			Field:    vpn.FieldControl,
			Found:    "a key of the kind crypt",
			Expected: "one of the kind auth",
		}
	}
	r.Good.set = func(s *Subject) { s.Unfit = nil }
	r.run = func(s *Subject) []Hit {
		if s.Unfit == nil {
			return nil
		}
		return []Hit{{Field: s.Unfit.Field, Found: unfitText(s.Unfit)}}
	}
	return r
}

func unfitText(e *format.UnfitError) string {
	return e.Found + " in " + e.Format + ", expected " + e.Expected
}

var fileRules = []Rule{
	fileRule(
		format.Unreadable,
		"File cannot be read",
		vpn.Error,
		"The device also rejects it, or imports only a part.",
		"Create the file again at its source.",
		"practice",
		"an Apple profile that is cut short",
		"a whole Apple profile",
	),
	fileRule(format.KeyTwice, "Duplicate key", vpn.Warning,
		"Which of the two applies depends on the system.", "Remove one of them.", "practice",
		"gateway= on two lines of a keyfile", "gateway= on one line"),
	fileRule(
		format.KeyUnknown,
		"Unknown key",
		vpn.Note,
		"The device ignores it, or it has an effect that was not checked.",
		"Check the spelling, or remove it.",
		"practice",
		"gatway= in a keyfile",
		"gateway= in a keyfile",
	),
	fileRule(
		format.KeyMisspelt,
		"Key is misspelt",
		vpn.Warning,
		"The device ignores the key, and what it says does not apply.",
		"Correct the key.",
		"practice",
		"LocalIdentifer in an Apple profile",
		"LocalIdentifier",
	),
	fileRule(format.KeyMalformed, "Invalid value", vpn.Error,
		"The device rejects the file or falls back to a default.", "Correct the value.", "practice",
		"a uuid of three characters", "a whole uuid"),
	fileRule(
		format.Unrelated,
		"Unrelated content in the file",
		vpn.Note,
		"The file changes more on the device than the connection.",
		"Review that part, and install it separately if it is intended.",
		"practice",
		"a passcode policy in an Apple profile",
		"an Apple profile with a connection only",
	),
	fileRule(
		format.SecretClear,
		"Secret is stored in clear",
		vpn.Note,
		"Whoever gets the file can sign in.",
		"Hand the file over through a confidential channel, and delete it after installation.",
		"practice",
		"a password in a keyfile",
		"a keyfile that lets the device ask",
	),
	fileRule(
		format.NameSaysOther,
		"Content does not match the file name",
		vpn.Warning,
		"Devices use the file name extension and open the file with the wrong program.",
		"Correct the file name extension.",
		"practice",
		"a keyfile named norrvik.ovpn",
		"a keyfile named norrvik.nmconnection",
	),
	fileRule(
		format.OtherEncoding,
		"Unexpected character encoding",
		vpn.Warning,
		"Most devices read only UTF-8 and misread everything else.",
		"Save it as UTF-8.",
		"RFC 3629",
		"a profile in UTF-16",
		"a profile in UTF-8",
	),
	fileRule(
		format.CutShort,
		"File is truncated",
		vpn.Error,
		"The rest was lost in transit; the device rejects it or imports only a part.",
		"Download or create the file again.",
		"practice",
		"a truncated profile",
		"a whole profile",
	),
	fileRule(
		format.EmptyFile,
		"File is empty",
		vpn.Error,
		"It contains nothing that a device could import.",
		"Download or create the file again.",
		"practice",
		"a file of no bytes",
		"a file with a connection",
	),
	fileRule(
		format.ArchiveRefused,
		"Archive was not unpacked",
		vpn.Warning,
		"It would write outside its folder, or grow to many times its size; such archives are "+
			"usually malicious.",
		"Request the files without an archive.",
		"practice",
		"an archive with ../ in a name",
		"an archive of plain files",
	),
	fileRule(
		format.Unprotected,
		"L2TP without IPsec",
		vpn.Error,
		"Nothing is encrypted: anybody on the path can read everything, including the sign-in.",
		"Enable IPsec.",
		"RFC 3193 §1",
		"ipsec-enabled=no in a keyfile",
		"ipsec-enabled=yes",
	),
	fileRule(
		format.EncryptionOptional,
		"Encryption is optional",
		vpn.Warning,
		"An attacker on the path can downgrade the connection to no encryption.",
		"Require encryption.",
		"RFC 3078 §4",
		"DataEncryption=8 in a phone book",
		"DataEncryption=256",
	),
	fileRule(
		format.PRFMissing,
		"AEAD proposal without a PRF",
		vpn.Error,
		"An AEAD cipher has no integrity algorithm to derive it from; the daemon discards the "+
			"connection.",
		"Add one, such as prfsha384.",
		"RFC 7296 §3.3.2; RFC 5282 §8",
		"aes256gcm16-ecp384 for IKE",
		"aes256gcm16-prfsha384-ecp384",
	),
	fileRule(
		format.UUIDTwice,
		"UUID is used for two connections",
		vpn.Warning,
		"On one device the second connection replaces the first one.",
		"Give each connection its own UUID.",
		"RFC 9562 §1",
		"two keyfiles of different gateways with one uuid",
		"a uuid for each",
	),
	fileRule(
		format.KeyShared,
		"Private key is used by several devices",
		vpn.Warning,
		"One lost device forces all of them to get new certificates, and the gateway cannot tell "+
			"them "+
			"apart.",
		"Issue a certificate for each device.",
		"NIST SP 800-57 part 1 §5.6",
		"two people's keyfiles with one private key",
		"a private key for each",
	),
	fileRule(
		format.SerialTwice,
		"Serial number is used for two certificates",
		vpn.Error,
		"Revoking one revokes the other; clients may reject both.",
		"Issue one of them again.",
		"RFC 5280 §4.1.2.2",
		"two certificates of one CA with one serial number",
		"a serial number for each",
	),
	fileRule(
		format.ProposalIgnored,
		"Proposals are switched off",
		vpn.Warning,
		"The client ignores the proposals in the file and offers its defaults.",
		"Switch them on, or remove them.",
		"NetworkManager-strongswan: proposal",
		"proposal=no beside ike= in a keyfile",
		"proposal=yes",
	),
	fileRule(
		format.AddressLacking,
		"No tunnel address is requested",
		vpn.Warning,
		"Without an address of the gateway's pool, most gateways accept no traffic of the device.",
		"Request a virtual IP address.",
		"RFC 7296 §2.19",
		"virtual=no in a keyfile",
		"virtual=yes",
	),
	fileRule(
		format.SecretRefused,
		"Secret is too short for the client",
		vpn.Error,
		"The client refuses to use it.",
		"Use a longer pre-shared key, at the gateway too.",
		"NetworkManager-strongswan: pre-shared key is too short",
		"a pre-shared key of 8 characters in a keyfile for IKEv2",
		"one of 24 characters",
	),
	unfitRule(),
	fileRule(
		format.ScriptChanged,
		"Script was modified after it was built",
		vpn.Error,
		"It may do anything, with administrator rights.",
		"Do not run it; rebuild the parcel.",
		"practice",
		"a line added to an install script",
		"an install script as it was built",
	),
	fileRule(format.NotYetRead, "Part of the file was not checked", vpn.Note,
		"Errors in that part were not looked for.", "Review it manually.", "practice",
		"a payload of a kind that is not read", "a payload with a connection"),
	fileRule(
		format.FileMissing,
		"Referenced file is missing",
		vpn.Error,
		"The device looks for it and cannot connect.",
		"Add the file, or embed its content.",
		"practice",
		"a .ovpn file that names ca.pem, alone",
		"the same with ca.pem beside it",
	),
}

// Unfit words a writer's refusal as a finding.
func Unfit(s *Subject, e *format.UnfitError) Finding {
	rule, _ := Lookup(CodeUnfit)
	return rule.finding(s, Hit{Field: e.Field, Found: unfitText(e)})
}
