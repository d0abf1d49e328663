package vpn

import (
	"crypto/sha256"
	"encoding/hex"
	"iter"
	"slices"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// MaxOthers is how many certificates a device may have beside its first.
const MaxOthers = 7

// Identities are the certificates of a device, its first one first.
func (d *Device) Identities() iter.Seq[*DeviceIdentity] {
	return func(yield func(*DeviceIdentity) bool) {
		if d.Identity != nil && !yield(d.Identity) {
			return
		}
		for i := range d.Others {
			if !yield(&d.Others[i]) {
				return
			}
		}
	}
}

// Drop takes a certificate out of a device's record, with its key.
func (d *Device) Drop(certificate string) {
	d.Others = slices.DeleteFunc(slices.Clone(d.Others), func(id DeviceIdentity) bool {
		return id.Certificate == certificate
	})
	if d.Identity != nil && d.Identity.Certificate == certificate {
		d.Identity = nil
		if len(d.Others) > 0 {
			d.Identity, d.Others = &d.Others[0], d.Others[1:]
		}
	}
}

// KeyPlace is where the key of a certificate stands in its device's record; that of a further one
// goes by its certificate, so that it stays when others come and go.
func (d *Device) KeyPlace(id *DeviceIdentity) string {
	if id == d.Identity {
		return "identity/key"
	}
	return "other_identities/" + id.mark() + "/key"
}

// mark tells a certificate from others.
func (id *DeviceIdentity) mark() string {
	data := []byte(id.Certificate)
	if list, err := pki.Certificates(id.Certificate); err == nil {
		data = list[0].Raw
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}

// CarryKeys gives keys that were not given again to the certificates that have taken another place
// among those of their device.
func (d *Device) CarryKeys(to *Device) {
	keys := map[string]*secret.Text{}
	for had := range d.Identities() {
		keys[had.mark()] = had.Key
	}
	for id := range to.Identities() {
		moved := id != to.Identity || d.Identity == nil || d.Identity.mark() != id.mark()
		if moved && id.Key == nil && !id.OnDevice {
			id.Key = keys[id.mark()]
		}
	}
}

// Proof is the certificate that a device proves itself with at a gateway: the first that leads to a
// CA which the gateway trusts, else the first; nil where it has none.
func (d *Device) Proof(g *Gateway) *DeviceIdentity {
	if len(d.Others) > 0 {
		for id := range d.Identities() {
			if g.Trusts(id.Certificate) {
				return id
			}
		}
	}
	return d.Identity
}

// Trusts tells whether a gateway trusts the issuer of a certificate, which the CAs above it follow:
// by the CAs on its record, or those of its own certificate where none are.
func (g *Gateway) Trusts(certificate string) bool {
	known, _ := pki.Certificates(g.ClientAuthority)
	if len(known) == 0 {
		for _, p := range Protocols {
			list, _ := pki.Certificates(g.Offers.Authority(p))
			known = append(known, list...)
		}
	}
	return pki.LeadsTo(certificate, known)
}
