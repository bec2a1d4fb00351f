package tray

import (
	"encoding/json"
	"fmt"
	"time"
)

// A Verdict is what a load came to.
type Verdict string

// The verdicts.
const (
	Clear   Verdict = "clear"   // every record is loaded, or skipped for a stated reason
	Waiting Verdict = "waiting" // loaded and verified, but rejects wait to be mended
	Failed  Verdict = "failed"  // nothing was changed
)

// A Receipt is the account of one load. It is documented in docs/receipt.md.
type Receipt struct {
	Entry    string   `json:"entry"`
	Source   Source   `json:"source"`
	Database string   `json:"database"` // without password
	Records  Records  `json:"records"`
	Skipped  []Skip   `json:"skipped,omitempty"`
	Table    Table    `json:"table"`
	Columns  []Column `json:"columns"`
	// Reasons groups the rejects.
	Reasons []Reason `json:"reasons,omitempty"`
	Verdict Verdict  `json:"verdict"`
	// Differences says what did not add up; then the verdict is failed.
	Differences []string  `json:"differences,omitempty"`
	Error       string    `json:"error,omitempty"`
	Started     time.Time `json:"started"`
	Finished    time.Time `json:"finished"`
	Version     string    `json:"version"`
}

// Source is the file that was read.
type Source struct {
	Path   string `json:"path"` // as given
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256"`
}

// Records is the account: Read = Loaded + Rejected + Skipped.
type Records struct {
	Read     int64 `json:"read"`
	Loaded   int64 `json:"loaded"`
	Rejected int64 `json:"rejected"`
	Skipped  int64 `json:"skipped"`
}

// Balanced reports whether the account adds up.
func (r Records) Balanced() bool { return r.Read == r.Loaded+r.Rejected+r.Skipped }

// A Skip counts rows that are not data.
type Skip struct {
	Kind  string `json:"kind"`
	Count int64  `json:"count"`
}

// Table is where the records went.
type Table struct {
	Schema string `json:"schema,omitempty"`
	Name   string `json:"name"`
	// Mode is create, append, refill or replace.
	Mode string `json:"mode"`
	// Before is how many rows the table had, when they were added to.
	Before int64 `json:"before"`
	Rows   int64 `json:"rows"`
}

// A Column tells what was read of a column, and whether the table holds it.
type Column struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Nulls    int64  `json:"nulls"`
	Sum      string `json:"sum,omitempty"` // exact, in plain form; numbers and booleans only
	Smallest string `json:"smallest"`
	Largest  string `json:"largest"`
	Agrees   bool   `json:"agrees"`
	// Differences says in what the table does not agree.
	Differences []string `json:"differences,omitempty"`
}

// A Reason is why records were rejected, and how many.
type Reason struct {
	Column string `json:"column,omitempty"`
	Reason string `json:"reason"`
	Count  int64  `json:"count"`
	// Line and Value are those of the first.
	Line  int64  `json:"line"`
	Value string `json:"value"`
}

// Encode is the receipt as its file holds it.
func (r *Receipt) Encode() ([]byte, error) {
	b, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("receipt: %w", err)
	}
	return append(b, '\n'), nil
}
