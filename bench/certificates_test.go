package bench

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/httpapi"
	"wardicon/service"
	"wardicon/store"
)

// certificates issues to devices and packs what came out, and makes and serves a long
// revocation list. The baselines only make keys, sign, derive and encode.
func certificates() (err error) {
	ctx, now := context.Background(), time.Now()
	keep := func(e error) { err = errors.Join(err, e) }
	key, e := pki.NewKey(rand.Reader, pki.P256)
	keep(e)
	root, e := pki.Issue(
		rand.Reader,
		pki.Issuer{Key: key},
		key.Public(),
		pki.Wanted{
			Name:    "Bench",
			Usage:   pki.ForAuthority,
			From:    now.Add(-time.Hour),
			To:      now.AddDate(10, 0, 0),
			MaxPath: 0,
		},
	)
	keep(e)
	if err != nil {
		return err
	}
	by := pki.Issuer{Certificate: root, Key: key}
	const devices = 1000
	begin := time.Now()
	for i := range devices {
		own, e := pki.NewKey(rand.Reader, pki.P256)
		keep(e)
		c, e := pki.Issue(
			rand.Reader,
			by,
			own.Public(),
			pki.Wanted{
				Name:  fmt.Sprintf("device %d", i),
				Usage: pki.ForClient,
				Names: []string{fmt.Sprintf("d%d.devices.skerryline.example", i)},
				From:  now,
				To:    now.AddDate(1, 0, 0),
			},
		)
		keep(e)
		_, _, e = pki.Pack(
			pki.Identity{Leaf: c, Chain: []*x509.Certificate{root}, Key: own},
			false,
			false,
		)
		keep(e)
	}
	took := time.Since(begin)
	begin = time.Now()
	for i := range devices {
		keep(bare(root, key, i))
	}
	row("1,000 device certificates, packed (one)", took/devices, time.Since(begin)/devices)
	if err != nil {
		return err
	}
	return errors.Join(err, revocations(ctx))
}

func bare(root *x509.Certificate, signer crypto.Signer, i int) error {
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	t := &x509.Certificate{
		SerialNumber: big.NewInt(int64(i) + 1),
		Subject:      pkix.Name{CommonName: "device"},
		NotAfter:     time.Now().AddDate(1, 0, 0),
		DNSNames:     []string{"d.devices.skerryline.example"},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, root, own.Public(), signer)
	if err != nil {
		return err
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return err
	}
	_, err = pkcs12.Modern2023.Encode(own, c, []*x509.Certificate{root}, "spindle-basalt")
	return err
}

// revocations serves a list of 100,000: signed for the first time, and again.
func revocations(ctx context.Context) error {
	s, dir, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { _, _ = s.Close(), os.RemoveAll(dir) }()
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	made, err := svc.MakeAuthority(ctx, api.NewAuthority{Name: "Bench"})
	if err != nil {
		return err
	}
	const entries = 100_000
	list := &x509.RevocationList{
		Number:     big.NewInt(1),
		ThisUpdate: time.Now(),
		NextUpdate: time.Now().AddDate(0, 0, 7),
	}
	if err := s.Write(ctx, func(tx *store.Tx) error {
		for i := range entries {
			serial := new(big.Int).Lsh(big.NewInt(int64(i)+1), 130)
			c := vpn.Certificate{
				AuthorityID: made[0].ID,
				Serial:      serial.Text(16),
				Subject:     "x",
				Names:       []string{},
				Usage:       pki.ForClient,
				To:          time.Now().AddDate(1, 0, 0),
			}
			if err := tx.AddCertificate(ctx, &c); err != nil {
				return err
			}
			if err := tx.Revoke(ctx, c.ID, pki.Ceased); err != nil {
				return err
			}
			list.RevokedCertificateEntries = append(
				list.RevokedCertificateEntries,
				x509.RevocationListEntry{
					SerialNumber:   serial,
					RevocationTime: time.Now(),
					ReasonCode:     5,
				},
			)
		}
		return nil
	}); err != nil {
		return err
	}
	server := httptest.NewServer(httpapi.New(svc, slog.New(slog.DiscardHandler), httpapi.Options{}))
	defer server.Close()
	fetch := func() (n int64, took time.Duration, err error) {
		begin := time.Now()
		res, err := http.Get(server.URL + "/lists/" + made[0].ID + ".crl")
		if err != nil {
			return 0, 0, err
		}
		defer func() { err = errors.Join(err, res.Body.Close()) }()
		n, err = io.Copy(io.Discard, res.Body)
		return n, time.Since(begin), err
	}
	size, first, err := fetch()
	if err != nil {
		return err
	}
	_, again, err := fetch()
	if err != nil {
		return err
	}
	chain, err := pki.Certificates(made[0].Certificate)
	if err != nil {
		return err
	}
	signer, err := store.Authorities.Get(ctx, s.Read(), made[0].ID)
	if err != nil {
		return err
	}
	key, err := pki.Key(*signer.Key)
	if err != nil {
		return err
	}
	begin := time.Now()
	if _, err := x509.CreateRevocationList(rand.Reader, list, chain[0], key); err != nil {
		return err
	}
	bare := time.Since(begin)
	row(fmt.Sprintf("100,000 revoked: signed and served (%.1f MB)", float64(size)/1e6), first, bare)
	row("100,000 revoked: served again", again, bare)
	return nil
}
