package probe_test

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wardicon/core/drift"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe"
)

// replayed are the exchanges with real daemons that are kept in testdata.
var replayed = []string{"ikev2", "ikev1-main", "ikev1-aggressive", "l2tp", "pptp"}

// recordedKeys are the exchanges with the daemon of the TLS tunnel that are kept, each with the
// file that its key is in. Their answers depend on what the question chose at random: they are not
// played again, but opened.
var recordedKeys = map[string]string{
	"tunnel":          "none",
	"tunnel-auth":     "static.raw",
	"tunnel-crypt":    "static.raw",
	"tunnel-crypt-v2": "v2.client",
}

// TestRecordedTunnels opens what the real daemon answered: its reset to ours, and TLS behind it.
// With another key nothing opens.
func TestRecordedTunnels(t *testing.T) {
	wrap := func(name string, key []byte) (w tlstunnel.Wrapping, err error) {
		switch name {
		case "tunnel":
			return w, nil
		case "tunnel-auth":
			return tlstunnel.Auth(key, "1", "SHA256")
		case "tunnel-crypt":
			return tlstunnel.Crypt(key, false)
		}
		client, err := base64.StdEncoding.DecodeString(string(key))
		if err != nil {
			return w, err
		}
		return tlstunnel.CryptV2(client)
	}
	for name := range recordedKeys {
		var key, question []byte
		var answers [][]byte
		readRecord(t, name, func(way string, b []byte) {
			switch {
			case way == "k":
				key = b
			case way == ">" && question == nil:
				question = b
			case way == "<":
				answers = append(answers, b)
			}
		})
		w, err := wrap(name, key)
		if err != nil || len(answers) < 2 {
			t.Fatalf("%s: %d answers (%v)", name, len(answers), err)
		}
		tls := 0
		for i, b := range answers {
			p, err := w.Open(slices.Clone(b))
			if err != nil || p.Remote != 0 && p.Remote != binary.BigEndian.Uint64(question[1:9]) {
				t.Errorf("%s: answer %d: %+v (%v)", name, i, p, err)
			}
			if i == 0 && (p.Opcode != tlstunnel.ServerReset || !slices.Contains(p.Acks, 0)) {
				t.Errorf("%s: %+v, expected a reset that acknowledges ours", name, p)
			}
			if p.Opcode == tlstunnel.Control && len(p.Payload) > 0 && p.Payload[0] == 22 {
				tls++
			}
		}
		if tls == 0 {
			t.Errorf("%s: no handshake of TLS", name)
		}
		if key == nil {
			continue
		}
		spoiled := slices.Clone(key)
		if name == "tunnel-crypt-v2" {
			raw, _ := base64.StdEncoding.DecodeString(string(key))
			for i := range tlstunnel.KeySize {
				raw[i] ^= 1
			}
			spoiled = []byte(base64.StdEncoding.EncodeToString(raw))
		} else {
			for i := range spoiled {
				spoiled[i] ^= 1
			}
		}
		other, err := wrap(name, spoiled)
		if err != nil {
			t.Fatal(err)
		}
		if p, err := other.Open(slices.Clone(answers[0])); err == nil {
			t.Errorf("%s: another key opens %+v", name, p)
		}
	}
}

// TestReplayed asks for the same again, and gets what the real daemons answered when it was
// recorded: only what a question chooses at random is put in its place.
func TestReplayed(t *testing.T) {
	old := probe.IKEv1Question{
		Suites: suites(t, "aes256-sha256-modp2048", "3des-sha1-modp1024"),
		Group:  "crew",
	}
	for name, test := range map[string]struct {
		swap func(question, answer []byte) // what a question chose at random
		ask  func(netip.AddrPort) drift.Answer
		want string
	}{
		"ikev2": {cookie, func(at netip.AddrPort) drift.Answer {
			return probe.New().IKEv2(t.Context(), at, false,
				suites(t, "aes256-sha256-ecp256", "aes256gcm16-prfsha384-ecp384",
					"aes128-sha1-modp2048", "aes256-sha256-modp3072", "aes256-sha1-modp1024"))
		}, "answers, gateway behind NAT, here behind NAT, refuses 2, takes 3, "},
		"ikev1-main": {cookie, func(at netip.AddrPort) drift.Answer {
			return probe.New().Main(t.Context(), at, old)
		}, "answers, gateway behind NAT, here behind NAT, refuses 1, takes 1, "},
		"ikev1-aggressive": {cookie, func(at netip.AddrPort) drift.Answer {
			return probe.New().Aggressive(t.Context(), at, old)
		}, "answers, as norrvik.skerryline.example, gateway behind NAT, hash shown, here behind " +
			"NAT, refuses 0, takes 1, "},
		"l2tp": {func(q, a []byte) { copy(a[4:6], q[len(q)-10:]) },
			func(at netip.AddrPort) drift.Answer {
				return probe.New().L2TP(t.Context(), at)
			}, "answers, host "},
		"pptp": {nil, func(at netip.AddrPort) drift.Answer {
			return probe.New().PPTP(t.Context(), at)
		}, "answers, host local, "},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if got := told(
				test.ask(player(t, name, test.swap)),
			); !strings.HasPrefix(
				got,
				test.want,
			) {
				t.Errorf("%s\nexpected %s", got, test.want)
			}
		})
	}
}

// readRecord reads an exchange that is kept: what was said to the daemon, what it said, and a key.
func readRecord(t *testing.T, name string, each func(way string, b []byte)) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata", name+".hex"))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		way, digits, _ := strings.Cut(strings.TrimSpace(line), " ")
		b, err := hex.DecodeString(digits)
		if err != nil {
			t.Fatal(err)
		}
		each(way, b)
	}
}

// cookie puts the one of a question into an answer.
func cookie(question, answer []byte) { copy(answer[:8], question[:8]) }

// player answers each question with what was recorded behind it.
func player(t *testing.T, name string, swap func(question, answer []byte)) netip.AddrPort {
	t.Helper()
	var turns [][][]byte // answers by question
	readRecord(t, name, func(way string, b []byte) {
		switch {
		case way == ">":
			turns = append(turns, nil)
		case len(turns) > 0:
			turns[len(turns)-1] = append(turns[len(turns)-1], b)
		}
	})
	if swap == nil {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = listener.Close() })
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			defer func() { _ = conn.Close() }()
			b := make([]byte, 4096)
			for _, answers := range turns {
				if _, err := conn.Read(b); err != nil {
					return
				}
				for _, a := range answers {
					_, _ = conn.Write(a)
				}
			}
		}()
		return listener.Addr().(*net.TCPAddr).AddrPort()
	}
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		b := make([]byte, 64<<10)
		for _, answers := range turns {
			n, from, err := conn.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			for _, a := range answers {
				a = slices.Clone(a)
				swap(b[:n], a)
				_, _ = conn.WriteToUDPAddrPort(a, from)
			}
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort()
}
