package check

// plain says of each rule, to the person who uses the device and has never heard of a VPN,
// what it means for them.
var plain = map[string]string{
	// What a person types.
	"edge-space": "There is a space at the beginning or the end of what you were " +
		"given. Nobody can see it, and the sign-in fails because of it.",
	"login-space": "There is a space in the middle of your login. It is probably an " +
		"underscore that got lost under a link.",
	"invisible-character": "What you were given contains an invisible character. Do not copy " +
		"it; ask for it again.",
	"control-character": "What you were given has a sign in it that no keyboard has. Ask " +
		"for it again.",
	"lookalike-character": "A dash or a quotation mark in what you were given is not the one " +
		"on your keyboard, although it looks alike.",
	"placeholder-left": "Your device could not sign in: a part of the file was never filled in.",
	"mixed-script": "One letter in what you were given comes from another alphabet " +
		"and only looks familiar. Typing it will not work.",
	"secret-not-ascii": "Your password or key has a letter that some devices encode " +
		"differently. It may work on one of your devices and fail on another.",
	"value-too-long": "What you were given is so long that your device may cut it off " +
		"without telling you.",
	"login-is-mail": "Your mail address was entered as your login. Your login for this " +
		"connection is another one.",
	"client-authority-other": "The server does not know who issued your device's certificate, " +
		"and would refuse you.",
	"client-authority-unknown": "Nobody noted whether the server accepts your device's " +
		"certificate.",
	"gateway-name-inside": "After a break your device may not find the server again.",
	"realm-near-host": "Two names that belong to your login differ by one letter; one of " +
		"them may be mistyped.",
	"realm-doubled": "The part of your login behind the @ would be sent twice, and you " +
		"would be refused.",
	"realm-missing": "A part of your login is missing. You would be refused although " +
		"your password is right.",
	"realm-differs": "The part of your login behind the @ is not the one that is " +
		"expected.",
	"realm-is-host": "The part of your login behind the @ was mixed up with the " +
		"address of the server.",
	"realm-unwanted": "Your login is used without the part behind the @.",

	// Secrets.
	"psk-missing": "The key that your device needs to begin has not been given to it.",
	"psk-guessable": "The key that everybody uses for this connection is easy to guess. " +
		"It will be changed, and you will get a new one.",
	"password-guessable": "Your password is easy to guess. Please choose another one.",
	"password-common": "Your password is on the list that is tried first by whoever wants " +
		"to get in. Please choose another one.",
	"password-short": "Your password is short. A longer one keeps others out.",
	"psk-short":      "The key for this connection is short. You may get a longer one.",
	"password-is-login": "Your password is the same as your login. Anybody would try that " +
		"first.",
	"psk-is-password": "Your password and the key for this connection are the same. Others " +
		"know that key, and so they know your password.",
	"password-missing": "Your device was meant to know your password, but it has not been " +
		"entered yet.",
	"cannot-ask": "Your device cannot ask you for a password, so the connection would " +
		"never come up by itself.",
	"saved-unencrypted": "Your password would be stored on a device that anybody who finds " +
		"it can read.",
	"hard-to-type": "What you have to type has letters and digits that look alike. " +
		"Compare them with the spelling beside them.",
	"password-reused": "Somebody else has the same password. Please choose one of your own.",
	"psk-reused":      "Two servers have the same key. You may get a new one.",
	"psk-is-others-password": "The key that you were given is somebody's password. You will get " +
		"a new one.",
	"certificate-shared": "Your device has the same proof of who it is as another one. You " +
		"will get one of your own.",
	"login-capitals": "There is another login that differs from yours only in capital " +
		"letters. Type yours exactly as it is written.",

	// Names and addresses.
	"name-empty": "The connection would stand in your list without a name.",
	"name-forbidden": "The name of the connection has a sign that your device does not " +
		"take.",
	"name-not-unique": "Two connections in your list would have the same name, and you " +
		"could not tell them apart.",
	"name-lacks-gateway": "The name of the connection does not tell where it leads.",
	"address-with-scheme": "The address in your file is that of a web page. Your device " +
		"cannot use it.",
	"address-with-path": "The address in your file has too much at its end. Your device " +
		"cannot use it.",
	"address-with-port": "The address in your file has a number at its end that does not " +
		"belong there.",
	"address-malformed": "The address in your file is mistyped. Your device would find " +
		"nobody there.",
	"address-not-ascii": "The address in your file has letters that some devices cannot " +
		"look up.",
	"address-inside-name": "The address in your file works only in the office, where you do " +
		"not need the connection.",
	"address-private": "The address in your file works only in the office, where you do " +
		"not need the connection.",
	"address-unusable": "The address in your file leads nowhere.",
	"address-dynamic": "The address in your file changes from time to time; one day the " +
		"connection will stop working.",
	"address-in-tunnel": "The connection would swallow its own way to the server and " +
		"break off at once.",
	"name-unanswered": "The server cannot be found under the name in your file.",
	"name-elsewhere":  "The name in your file leads to another machine than expected.",
	"name-ipv6-only":  "In many homes and hotels the server cannot be reached.",
	"gateway-no-response": "The server did not answer when we last tried. You would try in " +
		"vain.",
	"port-answers-else": "Something else answers in the server's place. You would not get " +
		"through.",
	"suites-refused": "The server and your device would not agree on how to encrypt.",
	"shown-authority-other": "Your device could not tell that the server is the right one, " +
		"and would refuse it.",
	"shown-authority-private": "Your device could not tell that the server is the right one, " +
		"and would refuse it.",
	"shown-tls-old": "The server is too old for your device to trust it.",
	"shown-name-other": "The server proves itself under another name, and your device " +
		"would refuse it.",
	"shown-certificate-expired": "The server's proof of who it is has run out, and your device " +
		"would refuse it.",
	"l2tp-without-ipsec": "The server would let you in without encryption, and you would " +
		"not notice.",
	"nat-unrecorded": "The server stands behind a box that some devices cannot see " +
		"past.",
	"offer-missing":   "The server does not offer this kind of connection yet.",
	"account-missing": "You have no login for this server yet.",

	"fallback-missing": "There is no second way in for when the server does not answer.",

	// Sites behind routers.
	"site-overlap": "Machines on your side have the same addresses as machines on the other " +
		"side, so some cannot be reached.",
	"site-inside-route": "Machines at your place may be taken for machines on the other side.",
	"site-twice": "Another place uses the same addresses as yours, so answers may go " +
		"there.",
	"site-not-announced": "The machines at your place may not be found from the other side.",
	"announced-overlap":  "Some machines may not be found from your device.",
	"site-by-password":   "Somebody else with a login could pretend to be your place.",

	// Handing over.
	"device-offboarded": "Your device was reported as lost or given back. Nothing is made for it " +
		"any more.",
	"link-endless": "Whoever finds your link years from now could still open it.",
	"passcode-same-way": "Whoever reads the mail with your link would have the passcode for it " +
		"too.",
	"secret-in-mail": "Something that only you should know would stand in a mail that others " +
		"can read.",

	// Devices.
	"protocol-gone":   "Your device no longer has this kind of connection since its last update.",
	"protocol-never":  "Your device does not have this kind of connection.",
	"release-unknown": "Nobody here has tried this on your version yet. It will probably work.",
	"client-needed":   "Your device needs another program before it can connect.",
	"split-lacking": "Your device cannot send only part of its traffic through the connection; " +
		"all of it will go there.",
	"dns-lacking": "Internal names may not be found, although you are connected.",
	"nat-restart": "You have to restart your device once before the connection works.",
	"scope-lacking": "The connection is made for you alone, not for everybody who uses the " +
		"device.",
	"save-lacking": "You will be asked for your password each time.",
	"protocol-going": "A coming update of your device will take this kind of connection away. " +
		"You will get another one in time.",
	"bag-unopened": "Your device will say that the passphrase is wrong, although it is right. " +
		"You need another file.",

	// Protection.
	"ppp-nothing-shared": "Your device and the server know no common way to check your " +
		"password.",
	"ppp-clear": "Your password would travel unprotected on part of its way.",
	"ppp-weak":  "Your password would be checked in an old way that can be broken.",
	"ike-nothing-shared": "Your device and the server cannot agree how to protect the " +
		"connection, so there will be none.",
	"esp-nothing-shared": "Your device and the server cannot agree how to protect what you " +
		"send, so nothing will go through.",
	"algorithm-broken": "Others could read what you send through this connection.",
	"algorithm-weak":   "The protection of this connection is out of date.",
	"algorithm-last-resort": "The protection of this connection is good enough for now and will " +
		"be made better.",
	"aead-with-integrity": "Your device and the server may fail to agree how to protect the " +
		"connection.",
	"integrity-missing":     "Others could change what you send without anybody noticing.",
	"ike-group-missing":     "Your device and the server cannot agree how to begin.",
	"pfs-missing":           "Whoever gets hold of one key could read what was sent before.",
	"lifetimes-upside-down": "The connection may break off from time to time.",
	"lifetime-outside": "The connection may break off often, or keep the same keys for too " +
		"long.",
	"mppe-stateful":       "The connection may become slow or stall where the network is poor.",
	"auth-nothing-shared": "Your device cannot sign in the way that the server requires.",
	"identity-missing": "Your device has nothing to prove who it is. You will get a file " +
		"with it.",
	"authority-missing": "Your device has no way to tell the right server from a false one.",
	"authority-assumed": "Your device must already trust the server's certificate. If it " +
		"warns you, do not continue; ask your administrator.",
	"authority-unread": "The part of your file that tells your device which servers to " +
		"trust is damaged.",
	"name-is-number": "Your device may warn you that it does not trust the server. Do not " +
		"go on; ask.",
	"remote-id-differs": "The server calls itself by another name than the one that you " +
		"connect to. That is meant.",
	"aggressive-mode": "The key of this connection can be guessed by whoever listens.",
	"psk-shared":      "Everybody has the same key. Do not give it away.",
	"pptp-outdated": "This kind of connection is old; others can read what goes through " +
		"it.",
	"mppe-missing": "What you send would not be protected at all.",
	"mppe-without-keys": "What you send would not be protected, and the server will refuse " +
		"you.",
	"mppe-short":      "What you send would be protected so weakly that others can read it.",
	"tls-version-old": "The protection of this connection is out of date.",
	"cipher-weak":     "The protection of this connection is out of date.",
	"cipher-broken":   "Others could read what you send through this connection.",
	"server-unchecked": "Your device does not look at the name of the server that it " +
		"connects to.",
	"control-unwrapped": "You will notice nothing of it; the server is easier to find for " +
		"others.",
	"control-direction": "The connection may not come up: the server may wait for another " +
		"beginning.",
	"tls-over-tcp": "The connection may be slow where the network is poor.",
	"proposals-unset": "Your device would protect the connection in an old way, or not " +
		"reach the server.",
	"past-the-tunnel": "Some of what you do would not go through the connection.",
	"auth-not-offered": "Your file proves who you are in a way that the server does not " +
		"take.",
	"protocol-not-offered": "The server does not have this kind of connection.",
	"secret-not-gateways": "Your file is out of date: the server has another key or " +
		"password now.",
	"authority-not-gateways":   "Your device would not trust the server. Ask for a new file.",
	"server-name-not-gateways": "Your device would not trust the server. Ask for a new file.",
	"remote-id-not-gateways":   "Your file expects a server of another name and will break off.",
	"remote-not-gateways": "Your file knocks at the wrong door of the server; nobody will " +
		"answer.",
	"control-not-gateways": "The server will not answer a device with this file.",
	"pfs-not-offered":      "The connection will come up and break off after some hours.",
	"cipher-nothing-shared": "Your device and the server cannot agree how to protect what you " +
		"send.",

	// Certificates.
	"certificate-expired": "A certificate in your file or of the server has expired. You " +
		"need a new file.",
	"certificate-not-yet": "The proof in your file is not valid yet. Look whether the clock " +
		"of your device is right.",
	"certificate-expiring": "The certificate in your file expires soon. You will get a new " +
		"one.",
	"issuer-expires-first": "The connection will stop working earlier than your file says.",
	"name-not-certified": "Your device will warn you that the server is not the one it says " +
		"it is.",
	"common-name-only": "Your device will not find the name of the server where it looks " +
		"for it, and will refuse it.",
	"server-usage-missing": "Your device will refuse the server.",
	"client-usage-missing": "The server may refuse your device.",
	"key-usage-missing":    "The proof in your file may be refused.",
	"chain-incomplete": "Your file lacks a certificate that your device needs in order to " +
		"trust the server.",
	"authority-wrong": "The certificate was not issued by an authority that your device " +
		"trusts.",
	"leaf-as-authority":      "Your file tells your device to trust the wrong certificate.",
	"authority-without-flag": "Your device will not trust the server's certificate.",
	"path-too-long":          "Your device will not trust the server's certificate.",
	"constraint-broken":      "The certificate is for a name that its issuer must not certify.",
	"rsa-short":              "Your device will refuse a key as short as this one.",
	"signature-outdated":     "Your device will refuse a signature as old as this one.",
	"key-kind-unknown":       "Your device cannot use the kind of key in your file.",
	"valid-too-long": "Your device may refuse the server because its proof is valid for " +
		"too long.",
	"certificate-revoked": "The certificate in your file was revoked. You need a new file.",
	"local-id-not-certified": "Your device gives another name than the one in its proof, and " +
		"will be refused.",
	"number-without-authority": "Your device cannot tell the right server from a false one.",
	"authority-key-inside": "Your file holds something that was never meant for you. Delete " +
		"it and tell whoever sent it.",
	"pair-broken": "The two halves of the proof in your file do not fit together.",
	"passphrase-wrong": "The passphrase does not open the file. Check for spaces at its " +
		"end, or ask for it again.",
	"bag-without-key":         "Half of the proof is missing in your file.",
	"bag-without-certificate": "Half of the proof is missing in your file.",
	"bag-several-keys":        "Your device may take the wrong one of several keys in your file.",
	"bag-weak": "Keep this file to yourself: its passphrase protects it only a " +
		"little.",
	"key-kind-differs": "Your device will try to prove who it is in the wrong way.",
	"key-in-clear": "Keep this file to yourself: whoever has it can pose as your " +
		"device.",
	"key-closed": "You will be asked for a passphrase before the key can be used.",

	// Files of the TLS tunnel.
	"role-unchecked":     "Another user could pose as the server.",
	"check-switched-off": "Anybody on the way could pose as the server and take your password.",
	"control-malformed":  "A key in your file is damaged; the program will not start.",
	"control-twice":      "Your file says two things at once, and the connection may not come up.",
	"block-open":         "Your file is damaged: a part of it has no end.",
	"block-empty":        "A part of your file is empty.",
	"directive-outdated": "Your program may refuse the file because it was written for an old one.",
	"runs-program": "The file would run a program on your device. Do not open it unless you " +
		"know who wrote it.",
	"device-tap":         "Your program may not be able to use this file.",
	"tunnel-compressed":  "What you send could be guessed from its size.",
	"routes-conflict":    "It is left to chance whether everything goes through the connection.",
	"dns-option-ignored": "Internal names may not be found, although you are connected.",
	"phone-file-large":   "The file is too large for your phone.",
	"phone-file-pieces":  "Your phone takes one file only, and this one needs others beside it.",

	// Behaviour.
	"pattern-unmet": "The connection behaves a little differently on your device than on " +
		"others.",
	"connects-and-asks":  "Your device would ask you for your password again and again.",
	"probe-outside":      "Your device would assume that it is in the office, and not connect.",
	"demand-empty":       "Your device does not know when to connect by itself.",
	"demand-contradicts": "Your device would try to connect in a circle.",
	"demand-lacking":     "Your device will not connect by itself; you have to do it by hand.",
	"always-twice":       "Two connections would fight for your device.",
	"password-in-script": "Your password stands readable in a file. Delete it and choose " +
		"another password.",
	"identifier-form":  "Another connection on your device could be replaced by this one.",
	"identifier-twice": "One part of the file would replace another one on your device.",
	"demand-unreached": "Your device may connect, or stay disconnected, where you do not expect " +
		"it.",
	"key-missing": "Your device cannot read the file. Ask for it again.",
	"profile-removes-itself": "Your device will delete the connection by itself. Ask for a new " +
		"file before that.",
	"issuer-not-in-file": "Your device would not connect. Ask for a new file.",
	"protocol-several":   "Your device may connect in a less safe way than it could.",
	"secret-elsewhere":   "Your device could not sign in. Ask for a new file.",
	"profile-unsigned": "Your device will say that the file is not signed. Install it only if " +
		"you know where it came from.",
	"open-to-others": "Others who use this computer can read your file.",
	"record-damaged": "Something that your connection needs was lost where it is kept. You " +
		"will get new files.",
	"parcel-outdated": "There is a newer file for you. Ask for it.",
	"route-host-bits": "Your device may send traffic to the wrong network.",
	"route-overlap":   "You will notice nothing of it.",
	"route-home": "At home you may not reach what is behind the connection, because " +
		"your own network has the same numbers.",
	"pool-in-route":        "Some internal services may not be reachable.",
	"split-without-routes": "You would be connected, and nothing would go through.",
	"full-without-dns":     "Internal names may not be found, although you are connected.",
	"dns-malformed":        "Internal names will not be found, although you are connected.",
	"domains-without-dns":  "Internal names will not be found, although you are connected.",
	"dns-outside-routes":   "Internal names will not be found, although you are connected.",
	"dns-outside-world": "Internal names will not be found, and others can see which ones you " +
		"look up.",
	"routes-shared": "Use one of your connections at a time.",

	// Files.
	"file-unreadable": "Your device cannot read the file. Ask for it again.",
	"key-twice":       "The file says one thing twice; your device may take the wrong one.",
	"key-unknown":     "The file has a part that your device does not know and leaves out.",
	"key-misspelt":    "Your device leaves a part of the file out, since its name is misspelt.",
	"key-malformed":   "A part of the file is damaged. Ask for it again.",
	"payload-unrelated": "The file changes more on your device than this connection. Ask what " +
		"for.",
	"secret-in-clear": "Keep this file to yourself: your password or a key stands in it.",
	"name-says-other": "The ending of the file is wrong; your device would open it with the " +
		"wrong program.",
	"other-encoding":          "The file was saved in a way that your device cannot read.",
	"cut-short":               "The file is not complete. Ask for it again.",
	"file-empty":              "There is nothing in the file. Ask for it again.",
	"archive-refused":         "The archive was not opened, because it looks as if it meant harm.",
	"l2tp-unprotected":        "What you send would not be protected at all.",
	"encryption-optional":     "What you send may not be protected, and you would not notice.",
	"prf-missing":             "Your device and the server cannot agree how to begin.",
	"certificate-not-current": "Your file is out of date. You will get a new one.",
	"rehearsal-missing": "A trial of your connection has not passed yet. You will hear " +
		"when it works.",
	"rehearsal-outdated": "Your connection is new and has not been tried yet.",
	"rehearsal-failed":   "A trial of your connection failed. You will hear when it works.",
	"authority-not-root": "Your device cannot make sure that the server is the right one.",
	"certificate-doubled": "Your file holds something twice. Your connection works all the " +
		"same.",
	"issuer-not-included": "The server may not recognise your device.",
	"uuid-twice":          "One of your connections would replace another one on your device.",
	"key-shared":          "Others have the same key as you. You will get one of your own.",
	"serial-twice":        "Your connection may stop working when somebody else's is ended.",
	"proposal-ignored": "Your device would protect the connection in another way than " +
		"intended.",
	"address-not-requested": "You may be connected, and nothing goes through.",
	"secret-refused": "Your device refuses the key of this connection. Ask for a new " +
		"file.",
	"format-unfit":     "The file for your device cannot contain what the server requires.",
	"script-changed":   "The script was changed after it was made. Do not run it.",
	"part-not-checked": "A part of the file was not looked at.",
	"file-missing":     "Another file belongs to this one and did not come along.",
	"option-unknown": "The file has a line that your app does not understand, so the app " +
		"refuses it.",
	"option-value":         "The app on your device refuses the file. Ask for a new one.",
	"value-misread":        "Your connection may drop more often than it should.",
	"option-older-clients": "An older app on your device refuses the file. Update the app.",
	"option-conflict": "Two lines of the file contradict each other, so the connection " +
		"cannot start.",
	"option-windows": "The file has a line that only computers with Windows understand.",
}
