package db

import (
	"context"

	"ambertray/internal/db/dialect"
)

// A Refitter is a Session that can change the definition of a table that has rows.
type Refitter interface {
	// Refit begins it: from now on nobody else changes the table.
	Refit(ctx context.Context, t *Table, change *dialect.Redefinition) (Refit, error)
}

// A Refit is a change of the definition of a table that has rows.
type Refit interface {
	// Statements are those that make the change. fills are statements that are run before.
	Statements() []string
	// Apply makes the change, or makes it of a copy of the table, where one cannot be taken
	// back. It names the table that shows what comes of it.
	Apply(ctx context.Context, fills []string) (Name, error)
	// Commit makes the change last. Where what was applied was a copy, it is made of the
	// table now.
	Commit(ctx context.Context) error
	Rollback() error
}
