package cli

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// pairLook is how often the files of a certificate are looked at: as soon as somebody connects, and
// no more often.
const pairLook = 2 * time.Second

// pair is a certificate of the service, loaded again when its files change.
type pair struct {
	sync.Mutex
	cert, key string
	log       *slog.Logger
	current   *tls.Certificate
	looked    time.Time
	loaded    [2]stamp // of the files that current is from
	refused   [2]stamp // of files that were logged as unusable
}

// stamp tells one state of a file from another.
type stamp struct {
	changed time.Time
	size    int64
}

// newPair loads a certificate chain and its key, PEM; it is an error if they do not belong
// together.
func newPair(cert, key string, log *slog.Logger) (*pair, error) {
	p := &pair{cert: cert, key: key, log: log, looked: time.Now()}
	found, err := p.look()
	if err == nil {
		err = p.load(found)
	}
	if err != nil {
		return nil, fmt.Errorf("--tls-cert %s and --tls-key %s: %w", cert, key, err)
	}
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

// load takes the files into use; found are their stamps from before they are read.
func (p *pair) load(found [2]stamp) error {
	c, err := tls.LoadX509KeyPair(p.cert, p.key)
	if err == nil {
		p.current, p.loaded = &c, found
	}
	return err
}

// get is the certificate for a new connection. Files that do not belong together, such as when only
// one of the two has been replaced so far, are logged once, and the certificate in use stays.
func (p *pair) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	p.Lock()
	defer p.Unlock()
	if time.Since(p.looked) < pairLook {
		return p.current, nil
	}
	p.looked = time.Now()
	found, err := p.look()
	if err == nil && found == p.loaded {
		return p.current, nil
	}
	if err == nil {
		err = p.load(found)
	}
	switch {
	case err == nil:
		p.log.Info(
			"certificate reloaded",
			"file",
			p.cert,
			"expires",
			p.current.Leaf.NotAfter.Format(time.DateOnly),
		)
	case found != p.refused:
		p.refused = found
		p.log.Error(
			"the new certificate cannot be used; the one in use stays",
			"certificate",
			p.cert,
			"key",
			p.key,
			"error",
			err,
		)
	}
	return p.current, nil
}
