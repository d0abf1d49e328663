package cli

import (
	"crypto/tls"
	"log/slog"
	"path/filepath"
	"testing"
	"time"
)

// TestSelfMade renews the service's own certificate while it runs: one that ends within a month is
// made again, and the next connection is shown the new one; another one stays.
func TestSelfMade(t *testing.T) {
	log := slog.New(slog.DiscardHandler)
	h := &host{selfNames: []string{"vpn.skerryline.example", "192.0.2.10"}}
	h.data = t.TempDir()
	certificate, key := filepath.Join(h.data, ownCertificate), filepath.Join(h.data, ownKey)
	old, err := makeOwn(certificate, key, h.selfNames, time.Now().AddDate(-1, 0, 20))
	if err != nil {
		t.Fatal(err)
	}
	p, err := newPair(certificate, key, log)
	if err != nil {
		t.Fatal(err)
	}
	h.cert, h.certKey = certificate, key
	h.renewSelfMade(log)
	p.looked = time.Time{} // the pause between two looks is over
	shown, err := p.get(&tls.ClientHelloInfo{})
	if err != nil {
		t.Fatal(err)
	}
	if shown.Leaf.Equal(old) || time.Until(shown.Leaf.NotAfter) < 300*24*time.Hour {
		t.Errorf("shown is a certificate until %s", shown.Leaf.NotAfter)
	}
	h.renewSelfMade(log)
	p.looked = time.Time{}
	if again, err := p.get(&tls.ClientHelloInfo{}); err != nil || !again.Leaf.Equal(shown.Leaf) {
		t.Errorf("a certificate that is good for months was made again (%v)", err)
	}
}
