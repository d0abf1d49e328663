package filecheck

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"os"
	"strings"
	"testing"

	"wardicon/core/vpn"
)

// TestRouterBackup reads what a router writes when it is told to save its settings: its folder
// /etc, in which the connections stand beside all else, and the IKE daemon's half of one in a file
// of its own.
func TestRouterBackup(t *testing.T) {
	root, err := os.ReadFile("../corpus/testdata/certificates/root.pem")
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, f := range []struct{ name, text string }{
		{"etc/config/network", "config interface 'loopback'\n\toption device 'lo'\n" +
			"\toption proto 'static'\n\nconfig interface 'crew'\n\toption proto 'l2tp'\n" +
			"\toption server 'norrvik.skerryline.example'\n\toption username 'a_fjell'\n" +
			"\toption password 'dune-45-Tangerine-flint-moss'\n\toption pppd_options " +
			"'refuse-pap refuse-chap refuse-mschap refuse-eap'\n"},
		{"etc/config/openvpn", "config openvpn 'harbour'\n\toption enabled '1'\n" +
			"\toption client '1'\n\toption dev 'tun'\n\toption proto 'udp'\n" +
			"\tlist remote 'tallholm.skerryline.example 1194'\n" +
			"\toption ca '/etc/openvpn/ca.pem'\n\toption remote_cert_tls 'server'\n" +
			"\toption auth_user_pass '/etc/openvpn/login'\n"},
		{"etc/config/system", "config system\n\toption hostname 'harbour-router'\n"},
		{"etc/openvpn/ca.pem", string(root)},
		{"etc/openvpn/login", "a_fjell\ndune-45-Tangerine-flint-moss\n"},
		{"etc/ipsec.conf", "conn crew\n\tkeyexchange=ikev1\n\tauthby=secret\n" +
			"\ttype=transport\n\tleftprotoport=17/1701\n\trightprotoport=17/1701\n" +
			"\tike=aes256-sha256-modp2048\n\tright=norrvik.skerryline.example\n\tauto=start\n"},
		{"etc/ipsec.secrets", ": PSK \"halyard-58-Cormorant-shingle-27-thrift\"\n"},
		{"etc/passwd", "root:x:0:0:root:/root:/bin/ash\n"},
		{"etc/dropbear/host_key", "\x00\x01\x02\xff"},
	} {
		if err := w.WriteHeader(&tar.Header{
			Name: f.name, Mode: 0o600, Size: int64(len(f.text)), Typeflag: tar.TypeReg,
		}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(f.text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	items := Check([]File{{Name: "backup-harbour-router.tar.gz", Data: b.Bytes()}}, Options{})
	var got []string
	for _, item := range items {
		for _, l := range item.Connections {
			c := l.Connection
			got = append(got, strings.Join([]string{c.Name, string(c.Protocol), c.Server, c.Login,
				c.PSK().Reveal()}, " "))
		}
		for _, f := range item.Findings {
			if f.Severity == vpn.Error {
				t.Errorf("%s: %s: %s", f.Rule, f.Position, f.Found)
			}
		}
	}
	want := "crew l2tp norrvik.skerryline.example a_fjell " +
		"halyard-58-Cormorant-shingle-27-thrift\nharbour tls tallholm.skerryline.example a_fjell "
	if said := strings.Join(got, "\n"); said != want {
		t.Errorf("read\n%s\nexpected\n%s", said, want)
	}
}
