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

// A Deferrer is a Grouper that can heed foreign keys when all loads are done, and not with
// each row.
type Deferrer interface {
	// Defers says of tables that refer to each other in a circle which of their keys
	// cannot wait; none: all can.
	Defers(ctx context.Context, tables []Name) (cannot []string, err error)
	// Defer has the keys wait, within the transaction that was begun. CommitTogether looks
	// at them.
	Defer(ctx context.Context) error
}

// A Left error says that all is committed, but something is left to be done by hand.
type Left struct{ Err error }

func (e *Left) Error() string { return e.Err.Error() }
func (e *Left) Unwrap() error { return e.Err }
