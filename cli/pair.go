package cli

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// pairLook is how often the files of a certificate are looked at: as soon as somebody connects, and no more often.
const pairLook = 2 * time.Second

// pair is a certificate of the service, read anew when its files change.
type pair struct {
	sync.Mutex
	cert, key string
	log       *slog.Logger
	current   *tls.Certificate
	looked    time.Time
	stamps    [2]stamp
}

// stamp tells one state of a file from another.
type stamp struct {
	changed time.Time
	size    int64
}

// newPair reads a certificate chain and its key, PEM; it is an error if they do not belong together.
func newPair(cert, key string, log *slog.Logger) (*pair, error) {
	p := &pair{cert: cert, key: key, log: log}
	var err error
	if p.stamps, err = p.look(); err != nil {
		return nil, fmt.Errorf("--tls-cert: %w", err)
	}
	c, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("--tls-cert %s and --tls-key %s: %w", cert, key, err)
	}
	p.current, p.looked = &c, time.Now()
	return p, nil
}

func (p *pair) look() (stamps [2]stamp, err error) {
	for i, name := range []string{p.cert, p.key} {
		info, err := os.Stat(name)
		if err != nil {
			return stamps, err
		}
		stamps[i] = stamp{info.ModTime(), info.Size()}
	}
	return stamps, nil
}

// get is the certificate for one who connects. New files that do not belong together, such as one of two that is
// written already, are logged, and the certificate in use stays.
func (p *pair) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	p.Lock()
	defer p.Unlock()
	if time.Since(p.looked) < pairLook {
		return p.current, nil
	}
	p.looked = time.Now()
	stamps, err := p.look()
	if err == nil && stamps == p.stamps {
		return p.current, nil
	}
	if err == nil {
		var c tls.Certificate
		if c, err = tls.LoadX509KeyPair(p.cert, p.key); err == nil {
			p.current, p.stamps = &c, stamps
			p.log.Info("certificate read anew", "file", p.cert, "ends", c.Leaf.NotAfter.Format(time.DateOnly))
			return p.current, nil
		}
	}
	p.log.Error("the new certificate cannot be used; the one in use stays", "certificate", p.cert, "key", p.key, "error", err)
	return p.current, nil
}
