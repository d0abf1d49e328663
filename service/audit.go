package service

import (
	"context"

	"wardicon/api"
	"wardicon/store"
)

// Audit lists what was done, newest first.
func (s *Service) Audit(ctx context.Context, q store.Query) (api.Page[api.AuditEntry], error) {
	return store.AuditEntries.List(ctx, s.store.Read(), q)
}

// VerifyAudit holds that the audit log is as it was written. head is one that was noted before, or
// empty.
func (s *Service) VerifyAudit(ctx context.Context, head string) (api.AuditProof, error) {
	return s.store.Read().VerifyAudit(ctx, head)
}
