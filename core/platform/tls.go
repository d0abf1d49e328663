package platform

import (
	"crypto/tls"

	"wardicon/core/vpn"
)

// TLSVersions are the oldest and the newest version of TLS that a release's own client takes, as
// crypto/tls numbers them; 0 where nothing more is known than what everybody takes. SSTP of Windows
// and EAP-TLS of the systems have their own; the TLS tunnel's client brings its library along.
//
// Sources: Microsoft, "Protocols in TLS/SSL (Schannel SSP)": 1.3 from Windows 11 on, 1.0 before it;
// Apple, EAPClientConfiguration: TLSMaximumVersion is 1.2 unless a profile says otherwise.
func (f Found) TLSVersions(eap bool) (oldest, newest uint16) {
	switch f.Row.Platform {
	case vpn.Windows:
		if f.By != "11" {
			return tls.VersionTLS10, tls.VersionTLS12
		}
	case vpn.MacOS, vpn.IOS, vpn.IPadOS:
		if eap {
			return 0, tls.VersionTLS12
		}
	}
	return 0, 0
}
