package service

import (
	"cmp"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Requests lists signing requests that wait for their certificate, a page.
func (s *Service) Requests(ctx context.Context, q store.Query) (api.Page[api.Request], error) {
	return store.Requests.List(ctx, s.store.Read(), q)
}

// RequestForDevice makes a key for a device and asks an authority whose key is kept elsewhere to
// sign its certificate. The key stays here, sealed, until the certificate comes.
func (s *Service) RequestForDevice(
	ctx context.Context,
	deviceID, authorityID string,
	names []string,
) (r api.Request, err error) {
	err = settle(
		ctx,
		s,
		func(tx *store.Tx) (*asked, error) {
			return s.prepareRequest(ctx,
				tx, deviceID, authorityID, names)
		},
		func(tx *store.Tx, a *asked) error {
			r, err = s.keepRequest(ctx, tx, a)
			return err
		},
	)
	return r, err
}

// asked is a request that is made but not kept.
type asked struct {
	r       api.Request
	public  []byte
	key     secret.Text
	version int // of the device that it is for
}

func (s *Service) prepareRequest(
	ctx context.Context,
	tx *store.Tx,
	deviceID, authorityID string,
	names []string,
) (*asked, error) {
	d, w, err := s.wantedOf(ctx, tx, deviceID, names)
	if err != nil {
		return nil, err
	}
	if err := reference(
		ctx,
		tx,
		store.Authorities,
		"request",
		"/authority_id",
		authorityID,
	); err != nil {
		return nil, err
	}
	key, err := pki.NewKey(rand.Reader, keyFor(d))
	if err != nil {
		return nil, err
	}
	a, err := request(ctx, key, w, api.Request{AuthorityID: authorityID, DeviceID: deviceID})
	if err == nil {
		a.version = d.Version
	}
	return a, err
}

// RequestForAuthority makes the key of an authority that one kept elsewhere shall vouch for.
func (s *Service) RequestForAuthority(
	ctx context.Context,
	name string,
	kind pki.KeyChoice,
) (r api.Request, err error) {
	key, err := pki.NewKey(rand.Reader, kind)
	if err != nil {
		return r, problem(
			"request",
			"/kind",
			fmt.Sprintf("%q", kind),
			"p256, p384 or rsa3072",
			"choose one of them",
		)
	}
	if name = strings.TrimSpace(name); name == "" {
		return r, problem("request", "/name", "nothing", "a name", "fill it in")
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		organisation, err := tx.Organisation(ctx)
		if err != nil {
			return err
		}
		a, err := request(
			ctx,
			key,
			pki.Wanted{
				Name:         cut(name, 64),
				Organisation: organisation.Name,
				Usage:        pki.ForAuthority,
			},
			api.Request{},
		)
		if err != nil {
			return err
		}
		r, err = s.keepRequest(ctx, tx, a)
		return err
	})
	return r, err
}

// request makes a request for a key.
func request(ctx context.Context, key crypto.Signer, w pki.Wanted, r api.Request) (*asked, error) {
	text, err := pki.NewRequest(rand.Reader, key, w)
	if err != nil {
		return nil, refused("request", err)
	}
	public, err := publicDigest(key.Public())
	if err != nil {
		return nil, err
	}
	private, err := pki.KeyPEM(key)
	r.Usage, r.Subject, r.Names, r.PEM, r.Operator = w.Usage, w.Name, append(
		[]string{},
		w.Names...), text, actor(
		ctx,
	)
	return &asked{r: r, public: public, key: private}, err
}

// keepRequest keeps a request with its key.
func (s *Service) keepRequest(
	ctx context.Context,
	tx *store.Tx,
	a *asked,
) (r api.Request, err error) {
	if a.r.DeviceID != "" {
		if version, err := store.Devices.Version(ctx, tx, a.r.DeviceID); err != nil {
			return r, err
		} else if version != a.version {
			return r, errStale
		}
	}
	r = a.r
	if err := tx.AddRequest(ctx, &r, a.public, a.key); err != nil {
		return r, err
	}
	if r, err = store.Requests.Row(ctx, tx, r.ID); err != nil {
		return r, err
	}
	return r, audit(ctx, tx, "request", "certificate", r.ID, r.Subject)
}

func publicDigest(public crypto.PublicKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	sum := sha256.Sum256(der)
	return sum[:], err
}

// ForgetRequest drops a request with its key.
func (s *Service) ForgetRequest(ctx context.Context, id string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		r, err := store.Requests.Row(ctx, tx, id)
		if err != nil {
			return err
		}
		return errors.Join(
			store.Requests.Delete(ctx, tx, id),
			audit(ctx, tx, "forget request", "certificate", id, r.Subject),
		)
	})
}

// Answer takes in a certificate that was signed elsewhere: it is known by its key, and must be by
// the authority that was asked, for what was asked. The request is then done.
func (s *Service) Answer(ctx context.Context, m api.Material) (out api.Answered, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		b, r, key, err := s.answered(ctx, tx, m)
		if err != nil {
			return err
		}
		if err := s.inTime("certificate", b.leaf); err != nil {
			return err
		}
		if r.Usage == pki.ForAuthority {
			out.Authority, err = s.answerAuthority(ctx, tx, b, r, key)
		} else {
			out.Certificate, err = s.answerDevice(ctx, tx, b, r, key)
		}
		return errors.Join(err, store.Requests.Delete(ctx, tx, r.ID))
	})
	s.checkSoon()
	return out, err
}

// answered finds the request that a certificate answers.
func (s *Service) answered(
	ctx context.Context,
	tx *store.Tx,
	m api.Material,
) (b brought, r api.Request, key secret.Text, err error) {
	var failed error
	b, err = bring(
		"certificate",
		m,
		"the answer to a request that waits here",
		func(c *x509.Certificate) bool {
			var public []byte
			if public, failed = publicDigest(c.PublicKey); failed == nil {
				r, key, failed = tx.RequestOf(ctx, public)
			}
			return failed == nil
		},
	)
	var none *store.NotFoundError
	if failed != nil && !errors.As(failed, &none) {
		err = failed // the database, not the file
	}
	return b, r, key, err
}

func (s *Service) answerAuthority(
	ctx context.Context,
	tx *store.Tx,
	b brought,
	r api.Request,
	key secret.Text,
) (*api.Authority, error) {
	if !b.leaf.IsCA {
		return nil, problem(
			"certificate",
			"/file",
			"a certificate for "+string(pki.UsageOf(b.leaf)),
			"one with the basic constraint CA, as it was asked for",
			"have it signed as an authority",
		)
	}
	a := &vpn.Authority{Name: r.Subject, Certificate: b.bundle(), Key: &key}
	if err := s.Authorities.fit(ctx, tx, a); err != nil {
		return nil, err
	}
	if err := store.Authorities.Insert(ctx, tx, a); err != nil {
		return nil, s.Authorities.taken(err)
	}
	row, err := store.Authorities.Row(ctx, tx, a.ID)
	return &row, errors.Join(err, audit(ctx, tx, "add", "authority", a.ID, a.Name))
}

func (s *Service) answerDevice(
	ctx context.Context,
	tx *store.Tx,
	b brought,
	r api.Request,
	key secret.Text,
) (*api.Certificate, error) {
	a, err := store.Authorities.Get(ctx, tx, r.AuthorityID)
	if err != nil {
		return nil, err
	}
	list, err := pki.Certificates(a.Certificate)
	if err != nil {
		return nil, err
	}
	if _, broken := pki.Path(
		b.leaf,
		slices.Concat(b.others, list[1:]),
		list[:1],
	); broken != pki.Whole {
		return nil, problem(
			"certificate",
			"/file",
			fmt.Sprintf("a certificate by %q (%s)", b.leaf.Issuer.CommonName, broken),
			"one by "+a.Name+", which was asked",
			"have it signed there",
		)
	}
	if usage := pki.UsageOf(b.leaf); usage != pki.ForClient && usage != pki.ForAny {
		return nil, problem(
			"certificate",
			"/file",
			"a certificate for "+string(usage),
			"one for a client, as it was asked for",
			"have it signed with clientAuth",
		)
	}
	got := pki.Names(b.leaf)
	for _, n := range r.Names {
		if !slices.ContainsFunc(got, func(v string) bool { return strings.EqualFold(v, n) }) {
			return nil, problem(
				"certificate",
				"/file",
				"the names "+cmp.Or(strings.Join(got, ", "), "(none)"),
				"the name "+n+" among them, as it was asked for",
				"have it signed with the names of the request",
			)
		}
	}
	row, err := s.give(ctx, tx, r.DeviceID, a, b.leaf, between(list), &key)
	return &row, err
}
