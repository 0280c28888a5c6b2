package service

import (
	"context"
	"time"

	"hen-roost/internal/store"
	"hen-roost/internal/work"
)

// leases lets work hold things through the store.
type leases struct{ store *store.Store }

var _ work.Leases = leases{}

func (l leases) Lease(ctx context.Context, what, owner string, during time.Duration) (bool, error) {
	return l.store.Lease(ctx, what, owner, during)
}

func (l leases) Release(ctx context.Context, what, owner string) error {
	return l.store.Release(ctx, what, owner)
}
