// Package target is what a live database must do for a load.
//
// The model: a [Target] is a connection. It begins one [Load], which is one
// transaction: rows go in as batches, in the form that the target's own
// [Encoder] made of them, side by side, before; then the load tallies what
// the table now holds, and only when that agrees with what was read does the
// caller commit. Whatever else happens, the table is as it was.
//
// Each database is a package of its own below this one. What only some can do
// is an optional interface here, found by type assertion.
package target

import (
	"context"
	"fmt"

	"ambertray/internal/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/tally"
)

// A Target is an open database.
type Target interface {
	Dialect() *dialect.Dialect
	// Find describes a table, or returns nil if there is none.
	Find(ctx context.Context, schema, table string) (*Table, error)
	// Begin starts a load.
	Begin(ctx context.Context, spec Spec) (Load, error)
	// Close ends the connection. An open load is rolled back.
	Close() error
}

// A Table is one that the database has.
type Table struct {
	Schema, Name string
	Rows         int64
	Columns      []Column
}

// A Column is one of a table that the database has.
type Column struct {
	Name     string
	Type     string // as the database writes it
	Required bool
	Key      int // its place in the primary key, from 1, or 0
}

// A Spec is what a load is to do.
type Spec struct {
	// Table is created.
	Table dialect.Table
}

// A Load is one transaction. It is for one goroutine.
type Load interface {
	// Encoder returns an encoder for one goroutine.
	Encoder() Encoder
	// Write sends a batch. Rows that the database refuses are left out and
	// returned; an error means that the load cannot go on.
	Write(ctx context.Context, b Batch) ([]Refusal, error)
	// Tally reads back what the table holds of this load.
	Tally(ctx context.Context) (rows int64, columns []tally.Column, err error)
	Commit(ctx context.Context) error
	Rollback() error
}

// An Encoder turns rows into the form that a target takes in bulk. It
// allocates nothing but dst's growth.
type Encoder interface {
	Append(dst []byte, row []reading.Value) []byte
}

// A Batch is rows in encoded form.
type Batch struct {
	Rows int
	Data []byte
}

// A Refusal is a row that the database would not take.
type Refusal struct {
	Row     int // in the batch, from 0
	Column  string
	Message string // the database's own, with its code
}

// An Error is a database's failure, with what can be done about it.
type Error struct {
	Where string // the database, without password
	What  string
	Do    string
	Err   error
}

func (e *Error) Error() string {
	s := e.Where + ": " + e.What
	if e.Err != nil {
		s += ": " + e.Err.Error()
	}
	if e.Do != "" {
		s += "\n  " + e.Do
	}
	return s
}

func (e *Error) Unwrap() error { return e.Err }

// Qualified is a table's name for messages.
func Qualified(schema, name string) string {
	if schema == "" {
		return name
	}
	return fmt.Sprintf("%s.%s", schema, name)
}
