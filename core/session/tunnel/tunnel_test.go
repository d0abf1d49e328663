package tunnel

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

var source = rand.NewChaCha8([32]byte{7})

// TestExchange lets both ends derive the same keys, and carries packets with each cipher; what
// comes twice, late or changed is refused.
func TestExchange(t *testing.T) {
	own, err := NewOwn(source)
	if err != nil {
		t.Fatal(err)
	}
	hello := Client{
		Login: "ada", Password: "kelp 1", Ciphers: []string{"AES-256-GCM"}, Cipher: "AES-256-GCM",
		Platform: "linux", Version: "2.6.0",
	}.Hello(own)
	for n := range hello {
		if _, _, err := ReadHello(hello[:n]); !errors.Is(err, ErrMore) {
			t.Fatalf("%d of %d bytes: %v", n, len(hello), err)
		}
	}
	g, rest, err := ReadHello(append(hello, "PUSH_REQUEST\x00"...))
	if err != nil || g.Login != "ada" || g.Password != "kelp 1" || g.Own != own ||
		g.Info["IV_CIPHERS"] != "AES-256-GCM" || string(rest) != "PUSH_REQUEST\x00" {
		t.Fatalf("%+v, %q, %v", g, rest, err)
	}
	theirs, err := NewTheirs(source)
	if err != nil {
		t.Fatal(err)
	}
	read, rest, err := ReadTheirs(append(theirs.Bytes(), "AUTH_FAILED\x00"...))
	if err != nil || string(rest) != "AUTH_FAILED\x00" {
		t.Fatalf("%q, %v", rest, err)
	}
	keys := Material(own, read, 1, 2)
	if !bytes.Equal(keys, Material(g.Own, theirs, 1, 2)) {
		t.Fatal("the ends have other keys")
	}
	packet := append([]byte{0x45}, make([]byte, 60)...)
	for _, test := range []struct {
		cipher, digest string
		pushed         Pushed
	}{
		{"AES-256-GCM", "", Pushed{Peer: 5}}, {"AES-128-GCM", "", Pushed{Peer: -1}},
		{"CHACHA20-POLY1305", "", Pushed{Peer: 0}}, {"AES-256-CBC", "SHA256", Pushed{Peer: 5}},
		{"AES-128-CBC", "", Pushed{Peer: -1}},
		{"AES-256-GCM", "", Pushed{Peer: 1, Framing: noCompress}},
		{"AES-192-GCM", "", Pushed{Peer: 1, Framing: noCompressSwap, Swapped: true}},
	} {
		client, err := NewData(keys, test.cipher, test.digest, test.pushed)
		if err != nil {
			t.Fatal(err)
		}
		server, err := NewServerData(keys, test.cipher, test.digest, test.pushed)
		if err != nil {
			t.Fatal(err)
		}
		b, err := client.Seal(packet, source)
		if err != nil || !IsData(b) {
			t.Fatal(err)
		}
		if got, err := server.Open(b); err != nil || !bytes.Equal(got, packet) {
			t.Errorf("%+v: %x (%v)", test, got, err)
		}
		if _, err := server.Open(b); err == nil {
			t.Errorf("%+v: a packet came twice", test)
		}
		again, _ := client.Seal(packet, source)
		for at := range again {
			if at > 0 && at < 4 && test.pushed.Peer >= 0 && strings.HasSuffix(test.cipher, "CBC") {
				continue // the number of the client is under no digest there
			}
			again[at] ^= 1
			if got, err := server.Open(bytes.Clone(again)); err == nil {
				t.Errorf("%+v: byte %d changed: %x", test, at, got)
			}
			again[at] ^= 1
		}
		if b, _ := client.Alive(source); b == nil {
			t.Error("nothing to say that it is alive")
		} else if got, err := server.Open(b); err != nil || got != nil {
			t.Errorf("%+v: alive comes out as %x (%v)", test, got, err)
		}
	}
}

// TestPushed reads what gateways push.
func TestPushed(t *testing.T) {
	p := Pushed{Peer: -1}
	if !p.Add("route 10.20.0.0 255.255.0.0,push-continuation 2") ||
		p.Add("ifconfig 10.78.0.2 255.255.255.0,ifconfig-ipv6 fd00::2/64 fd00::1,redirect-gateway "+
			"def1 ipv6,dhcp-option DNS 10.20.0.53,dhcp-option DOMAIN inside.skerryline.example,"+
			"peer-id 3,cipher aes-256-gcm,protocol-flags cc-exit tls-ekm,dns server 0 address "+
			"10.20.0.54,comp-lzo no,ping 10,tun-mtu 1400,push-continuation 1") {
		t.Error("which one is the last?")
	}
	if len(p.Addresses) != 2 || !p.DefaultIPv4 || !p.DefaultIPv6 || len(p.DNS) != 2 ||
		p.Domains[0] != "inside.skerryline.example" || p.Peer != 3 || p.Cipher != "AES-256-GCM" ||
		!p.Exported || p.Framing != noCompress || p.MTU != 1400 || p.Ping != 10 {
		t.Errorf("%+v", p)
	}
}

// FuzzGateway reads whatever a gateway says.
func FuzzGateway(f *testing.F) {
	theirs, _ := NewTheirs(source)
	f.Add(append(theirs.Bytes(), "PUSH_REPLY,ifconfig 10.0.0.1 255.0.0.0\x00"...))
	f.Add([]byte{0x48, 0, 0, 1, 0, 0, 0, 1})
	keys := make([]byte, keyMaterial)
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, _ = ReadTheirs(b)
		p := Pushed{}
		p.Add(string(b))
		for _, name := range []string{"AES-256-GCM", "AES-256-CBC"} {
			d, err := NewData(keys, name, "", p)
			if err != nil {
				t.Fatal(err)
			}
			_, _ = d.Open(b)
		}
	})
}
