package tlstunnel_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"reflect"
	"testing"

	"wardicon/core/wire"
	"wardicon/core/wire/tlstunnel"
)

// key is a static key of which no two bytes in a row are the same.
func key(start byte, size int) []byte {
	b := make([]byte, size)
	for i := range b {
		b[i] = start + byte(i)*7
	}
	return b
}

var samples = []tlstunnel.Packet{
	{Opcode: tlstunnel.ClientReset, Session: 0x0102030405060708},
	{Opcode: tlstunnel.ServerReset, Session: 9, Acks: []uint32{0}, Remote: 0x0102030405060708},
	{
		Opcode:  tlstunnel.Control,
		Key:     2,
		Session: 9,
		Acks:    []uint32{1, 2, 3, 4, 5, 6, 7, 8},
		Remote:  8,
		ID:      1,
		Payload: []byte("client hello"),
	},
	{Opcode: tlstunnel.Ack, Session: 9, Acks: []uint32{7}, Remote: 8},
	{Opcode: tlstunnel.SoftReset, Session: 9, ID: 3},
}

func must(t testing.TB) func(tlstunnel.Wrapping, error) tlstunnel.Wrapping {
	return func(w tlstunnel.Wrapping, err error) tlstunnel.Wrapping {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
}

// pairs are the wrappings of both ends.
func pairs(t testing.TB) map[string][2]tlstunnel.Wrapping {
	w, k, server := must(t), key(1, tlstunnel.KeySize), key(9, 128)
	return map[string][2]tlstunnel.Wrapping{
		"none": {},
		"auth": {
			w(tlstunnel.Auth(k, "1", "SHA256")),
			w(tlstunnel.Auth(k, "0", "sha-256")),
		},
		"auth, both ways": {w(tlstunnel.Auth(k, "", "")), w(tlstunnel.Auth(k, "", "SHA1"))},
		"crypt":           {w(tlstunnel.Crypt(k, false)), w(tlstunnel.Crypt(k, true))},
		"crypt, per client": {
			w(tlstunnel.CryptV2(tlstunnel.ClientKey(server, k, []byte("\x00purser")))),
			w(tlstunnel.CryptV2Server(server)),
		},
	}
}

// TestRoundTrip reads at the other end what one end wrote, by each kind of key; refuses it cut
// short, changed, and wrapped with another key.
func TestRoundTrip(t *testing.T) {
	for name, pair := range pairs(t) {
		client, server := pair[0], pair[1]
		stranger := pairs(t)["auth"][1]
		if name == "auth" {
			stranger = must(t)(tlstunnel.Auth(key(2, tlstunnel.KeySize), "0", "SHA256"))
		}
		for i, p := range samples {
			if i == 0 {
				p.Opcode = client.Reset()
			}
			b, err := client.Seal(p, uint32(i+1), 1_800_000_000)
			if err != nil {
				t.Fatal(err)
			}
			if got, err := server.Open(bytes.Clone(b)); err != nil || !reflect.DeepEqual(got, p) {
				t.Errorf("%s: %+v (%v), expected %+v", name, got, err, p)
			}
			for n := range b {
				if got, err := server.Open(
					bytes.Clone(b[:n]),
				); err == nil && reflect.DeepEqual(got, p) ||
					err != nil && !errors.Is(err, wire.ErrMalformed) {
					t.Fatalf("%s: %d of %d bytes: %v", name, n, len(b), err)
				}
			}
			if name == "none" {
				continue
			}
			for at := range b {
				b[at] ^= 1
				if _, err := server.Open(bytes.Clone(b)); !errors.Is(err, wire.ErrMalformed) {
					t.Fatalf("%s: byte %d of %d changed: %v", name, at, len(b), err)
				}
				b[at] ^= 1
			}
			if _, err := stranger.Open(b); !errors.Is(err, wire.ErrMalformed) {
				t.Errorf("%s: another key: %v", name, err)
			}
		}
		back, err := server.Seal(samples[1], 1, 1_800_000_000)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := client.Open(back); err != nil || !reflect.DeepEqual(got, samples[1]) {
			t.Errorf("%s, back: %+v (%v)", name, got, err)
		}
	}
	b, _ := tlstunnel.Wrapping{}.Seal(samples[3], 0, 0)
	if got := hex.EncodeToString(
		b,
	); got != "28"+"0000000000000009"+"01"+"00000007"+"0000000000000008" {
		t.Error(got)
	}
}

// TestKeys refuses keys of the wrong size and digests that nobody has.
func TestKeys(t *testing.T) {
	full := key(1, tlstunnel.KeySize)
	for name, make := range map[string]func() error{
		"a short key to sign with": func() error {
			_,
				err := tlstunnel.Auth(full[:255], "1", "SHA256")
			return err
		},
		"a digest": func() error {
			_,
				err := tlstunnel.Auth(full, "1", "ROT13")
			return err
		},
		"a short key to encrypt with": func() error {
			_,
				err := tlstunnel.Crypt(full[:12], false)
			return err
		},
		"a client key alone": func() error {
			_,
				err := tlstunnel.CryptV2(full)
			return err
		},
		"a client key cut short": func() error {
			_, err := tlstunnel.CryptV2(tlstunnel.ClientKey(full[:128], full, nil)[:300])
			return err
		},
		"a server key": func() error { _, err := tlstunnel.CryptV2Server(full); return err },
		"nine acknowledgements": func() error {
			_, err := tlstunnel.Wrapping{}.Seal(tlstunnel.Packet{
				Opcode: tlstunnel.Ack,
				Acks:   make([]uint32, 9),
			}, 0, 0)
			return err
		},
	} {
		if make() == nil {
			t.Errorf("%s was taken", name)
		}
	}
}

// FuzzOpen opens anything by each kind of key: what can be opened is written as it was read.
func FuzzOpen(f *testing.F) {
	for _, pair := range pairs(f) {
		for _, p := range samples {
			b, err := pair[0].Seal(p, 1, 2)
			if err != nil {
				f.Fatal(err)
			}
			f.Add(b)
		}
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for name, pair := range pairs(t) {
			p, err := pair[1].Open(bytes.Clone(b))
			if err != nil || name != "none" {
				continue
			}
			again, err := pair[1].Seal(p, 1, 2)
			if err != nil {
				t.Fatal(err)
			}
			if second, err := pair[1].Open(again); err != nil || !reflect.DeepEqual(p, second) {
				t.Fatalf("%+v, then %+v (%v)", p, second, err)
			}
		}
	})
}
