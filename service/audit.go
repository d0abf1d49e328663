package service

import (
	"context"

	"wardicon/core/view"
	"wardicon/store"
)

// Audit lists what was done, newest first.
func (s *Service) Audit(ctx context.Context, q store.Query) (view.Page[view.Deed], error) {
	return store.Deeds.List(ctx, s.store.Read(), q)
}

// VerifyAudit holds that the audit log is as it was written. head is one that was noted before, or empty.
func (s *Service) VerifyAudit(ctx context.Context, head string) (view.AuditProof, error) {
	return s.store.Read().VerifyAudit(ctx, head)
}
