package service

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/format/daemons"
	"wardicon/store"
)

// FetchPath is where gateways fetch their configuration.
const FetchPath = "/gateway-files"

// ErrNoDelivery is the error for a token that is none of a gateway.
var ErrNoDelivery = errors.New("the token is none of a gateway")

// NewDelivery makes a token by which a gateway fetches its configuration, in the place of an
// earlier one, and the script that does so and reloads its daemons by a command. At is the address
// of this service.
func (s *Service) NewDelivery(
	ctx context.Context,
	gatewayID, reload, at string,
) (out api.NewDelivery, err error) {
	if strings.ContainsFunc(reload, func(r rune) bool { return r < ' ' || r == 0x7F }) {
		return out, problem("delivery", "/reload", "a control character", "a command in one line",
			"put several commands into a script")
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		g, err := store.Gateways.Get(ctx, tx, gatewayID)
		if err != nil {
			return err
		}
		out = api.NewDelivery{Token: "wg-" + rand.Text(), URL: at + FetchPath}
		out.Script = daemons.FetchScript(*g, out.URL, out.Token, reload)
		return errors.Join(
			tx.PutDelivery(ctx, gatewayID, out.Token),
			audit(ctx, tx, "let fetch its configuration", "gateway", gatewayID, g.Name),
		)
	})
	return out, err
}

// Delivery is what a gateway runs, as far as it has told.
func (s *Service) Delivery(ctx context.Context, gatewayID string) (api.Delivery, error) {
	return s.store.Read().Delivery(ctx, gatewayID)
}

// EndDelivery takes the token of a gateway away.
func (s *Service) EndDelivery(ctx context.Context, gatewayID string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.RemoveDelivery(ctx, gatewayID),
			audit(ctx, tx, "no longer let fetch its configuration", "gateway", gatewayID, ""),
		)
	})
}

// Deliver gives a gateway its configuration as an archive (tar, gzip) with its version; nothing
// where it runs that version already.
func (s *Service) Deliver(
	ctx context.Context,
	token, runs string,
) (archive []byte, version string, err error) {
	var none *store.NotFoundError
	var made api.GatewayConfiguration
	var gatewayID string
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		if gatewayID, err = tx.DeliveredTo(ctx, token); err != nil {
			return err
		}
		made, err = s.configured(ctx, tx, gatewayID)
		return err
	})
	if errors.As(err, &none) {
		return nil, "", ErrNoDelivery
	}
	if err != nil {
		return nil, "", err
	}
	plain, err := tarred(made.Files)
	if err != nil {
		return nil, "", err
	}
	version = digest(plain)
	// Revocation lists are signed anew each hour; that alone is nothing to keep a record of.
	lasting, err := tarred(slices.DeleteFunc(slices.Clone(made.Files), func(f api.Handed) bool {
		return daemons.RevocationList(f.Name)
	}))
	if err != nil {
		return nil, "", err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.NoteDelivery(ctx, gatewayID, cut(runs, 64), version); err != nil ||
			version == runs {
			return err
		}
		fresh, err := tx.NewlyDelivered(ctx, gatewayID, digest(lasting))
		if fresh {
			err = errors.Join(err, audit(ctx, tx, "hand out configuration of", "gateway", gatewayID,
				fmt.Sprintf("fetched: %d files, %d users", len(made.Files), made.Users)))
		}
		return err
	})
	if err != nil || version == runs {
		return nil, version, err
	}
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err = w.Write(plain)
	err = errors.Join(err, w.Close())
	return packed.Bytes(), version, err
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:16])
}

// tarred packs files the same way each time.
func tarred(files []api.Handed) ([]byte, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		if err := w.WriteHeader(&tar.Header{
			Name: f.Name, Mode: 0o600, Size: int64(len(f.Content)), Format: tar.FormatUSTAR,
		}); err != nil {
			return nil, err
		}
		if _, err := w.Write(f.Content); err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return b.Bytes(), err
}
