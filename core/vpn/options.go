package vpn

import (
	"reflect"
	"strconv"

	"wardicon/core/shape"
)

// Options are the parameters of a protocol that a gateway's offer and a connection by it say in
// the same words. A field is described here once: its comment is its label up to the first colon
// or semicolon, and then its help; minimum, maximum (of numbers) and maxLength (of texts, in
// characters) are its bounds. Flags, form and the description of the API are made from that.

// L2TPOptions are those of L2TP/IPsec.
type L2TPOptions struct {
	// IKEv1 aggressive mode instead of main mode.
	Aggressive bool `json:"aggressive,omitempty"`
	// Group name: the identity that clients send with the key.
	Group string `json:"group,omitempty" maxLength:"100"`
}

// IKEv2Options are those of IKEv2.
type IKEv2Options struct {
	// Lifetime of the IKE SA in minutes; 0 leaves it to the client.
	IKELifetime int `json:"ike_lifetime,omitempty" minimum:"0" maximum:"43200"`
	// Lifetime of a child SA in minutes; 0 leaves it to the client.
	ChildLifetime int `json:"child_lifetime,omitempty" minimum:"0" maximum:"43200"`
	// Seconds between dead peer detection messages; 0 leaves it to the client.
	DPD int `json:"dpd,omitempty" minimum:"0" maximum:"3600"`
	// The gateway does not support MOBIKE (RFC 4555).
	NoMOBIKE bool `json:"no_mobike,omitempty"`
	// The gateway does not support IKE fragmentation (RFC 7383).
	NoFragmentation bool `json:"no_fragmentation,omitempty"`
}

// PPTPOptions are those of PPTP.
type PPTPOptions struct {
	// MPPE keeps its state from packet to packet.
	Stateful bool `json:"stateful,omitempty"`
}

// TLSOptions are those of the TLS tunnel.
type TLSOptions struct {
	// Digest: for an auth key and for ciphers without their own, such as SHA256.
	Digest string `json:"digest,omitempty"`
	// Minimum TLS version: 1.2 or 1.3.
	MinTLS string `json:"min_tls,omitempty"`
	// Name in its certificate; empty checks only that it is a server's.
	ServerName string `json:"server_name,omitempty" maxLength:"253"`
	// Seconds between keepalives; 0 leaves it to the gateway.
	Keepalive int `json:"keepalive,omitempty" minimum:"0" maximum:"3600"`
}

// options reports fields of options that are out of their bounds.
func (in *inspector) options(pointer string, options any) {
	v := reflect.ValueOf(options)
	for _, f := range shape.Fields(v.Type()) {
		at := pointer + "/" + f.JSON
		switch f.Type.Kind() {
		case reflect.Int:
			most, _ := strconv.Atoi(f.Tag.Get("maximum"))
			in.number(at, int(v.FieldByIndex(f.Index).Int()), most)
		case reflect.String:
			if most, err := strconv.Atoi(f.Tag.Get("maxLength")); err == nil {
				in.text(at, v.FieldByIndex(f.Index).String(), most, false)
			}
		}
	}
}
