package store

import "context"

// serviceCertificate is what the service's own certificate and its account are sealed under.
const serviceCertificate = "acme:1"

// ServiceCertificate reads what is kept of the service's own certificate under a name; nil where
// there is nothing.
func (tx *Tx) ServiceCertificate(ctx context.Context, name string) ([]byte, error) {
	return tx.secret(ctx, serviceCertificate, name)
}

// PutServiceCertificate keeps it; nil forgets it.
func (tx *Tx) PutServiceCertificate(ctx context.Context, name string, data []byte) error {
	if data == nil {
		_, err := tx.q.ExecContext(ctx, `DELETE FROM secrets WHERE owner = ? AND field = ?`,
			serviceCertificate, name)
		return err
	}
	return tx.putSecret(ctx, serviceCertificate, name, data)
}
