package db

import "context"

// A Grouper is a Session that can have several loads in one transaction.
type Grouper interface {
	// BeginTogether begins it: the Begin of each load that follows goes on in it, and its
	// Commit and Rollback leave it open.
	BeginTogether(ctx context.Context) error
	// CommitTogether commits all of them.
	CommitTogether(ctx context.Context) error
	// RollbackTogether undoes all of them, and does nothing when they are committed.
	RollbackTogether() error
}
