package prose

import (
	"fmt"
	"strings"
	"testing"
)

// TestRead reads texts as people write them, in four languages and with the marks of wikis.
func TestRead(t *testing.T) {
	for name, test := range map[string]struct{ text, want string }{
		"mail.txt": {
			"Hi Ada,\n\nwelcome aboard! For the office network please set up an L2TP VPN:\n\n" +
				"  Server: norrvik.skerryline.example\n  User name: a_fjell\n  Password: tern-88-Gannet\n" +
				"  Pre-shared key: kelp 4497 \"harbour\"\n\nCall me if it fails: extension 12.\n",
			"l2tp norrvik.skerryline.example a_fjell tern-88-Gannet kelp 4497 \"harbour\" 8:19",
		},
		"seite.md": {
			"# VPN einrichten\n\n| Feld | Wert |\n|---|---|\n| Serveradresse | `tallholm.skerryline.example` |\n" +
				"| Benutzername | b_lind |\n| Vorinstallierter Schlüssel (PSK) | **Möwe-22** |\n",
			"l2tp tallholm.skerryline.example b_lind  Möwe-22 7:41",
		},
		"courriel.eml": {
			"Subject: VPN\n\nProtocole : IKEv2\nServeur = brattvik.skerryline.example\n" +
				"Nom d'utilisateur : c_roux\nMot de passe : “phare-17-vague”\n",
			"ikev2 brattvik.skerryline.example c_roux phare-17-vague  0:0",
		},
		"correo.txt": {
			"- *Servidor:* easthaven.skerryline.example\n- *Usuario:* d_mar\n- *Tipo de VPN:* SSTP\n",
			"sstp easthaven.skerryline.example d_mar   0:0",
		},
	} {
		if !Detect(name, []byte(test.text)) {
			t.Errorf("%s is not told", name)
			continue
		}
		r := Read(name, []byte(test.text), nil)
		if len(r.Connections) != 1 {
			t.Errorf("%s: %d connections, %v", name, len(r.Connections), r.Notes)
			continue
		}
		c, at := r.Connections[0].Connection, r.Connections[0].Positions["psk"]
		got := fmt.Sprintf("%s %s %s %s %s %d:%d", c.Protocol, c.Server, c.Login, c.Password.Reveal(),
			c.PSK().Reveal(), at.Line, at.Column)
		if got != test.want {
			t.Errorf("%s: read %q, expected %q", name, got, test.want)
		}
	}
	two := Read("two.txt", []byte("PPTP\nUser: a\nServer: n.example\nServer: t.example\n"), nil)
	if len(two.Connections) != 2 || two.Connections[1].Connection.Login != "a" {
		t.Errorf("two servers: %+v", two.Connections)
	}
	for name, text := range map[string]string{
		"readme.txt":  "Server: see below\nUser: anybody\n",
		"letter.txt":  "Dear all,\nthe server norrvik.skerryline.example moves.\n",
		"notes.conf":  "Server: n.example\nUser: a\n",
		"program.txt": "server: n.example\n" + strings.Repeat("x", maxText),
	} {
		if Detect(name, []byte(text)) {
			t.Errorf("%s is told for a connection", name)
		}
	}
}
