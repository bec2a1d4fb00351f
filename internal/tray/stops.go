package tray

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"ambertray/internal/profile"
)

// Stops is what it takes to go on with a load that commits on its way, beside
// the plan and the notes in the database.
type Stops struct {
	// Load is the load's name in the database.
	Load string `json:"load"`
	// Shared tells that several programs take the steps of the load.
	Shared bool `json:"shared,omitempty"`
	// Ends is what the note that stays of such a load says of this entry: those of other programs have
	// the same name, on their own trays.
	Ends string `json:"ends,omitempty"`
	// As is how expressions know the load; empty: by the name of the entry.
	As       string   `json:"as,omitempty"`
	Database string   `json:"database"` // without password
	Table    Table    `json:"table"`
	Sources  []Source `json:"sources"`
	// Stamps are the states of the files when the load began; empty for what is none.
	Stamps []string `json:"stamps,omitempty"`
	// Names are those by which rejects name the sources.
	Names []string `json:"names"`
	// Like is the table whose structure the new one took.
	Like       string  `json:"like,omitempty"`
	LikeSchema string  `json:"like_schema,omitempty"`
	Every      int64   `json:"every"` // records
	MaxRejects int64   `json:"max_rejects"`
	MaxShare   float64 `json:"max_share,omitempty"`
	MaxLeast   int64   `json:"max_least,omitempty"`
	MaxRecord  int     `json:"max_record"` // bytes
	// MaxUnpacked is what an archive may unpack to, in bytes.
	MaxUnpacked int64     `json:"max_unpacked,omitempty"`
	SlowPath    bool      `json:"slow_path,omitempty"`
	Started     time.Time `json:"started"`
	// Decided and Cautions are those of the receipt to be.
	Decided  []string          `json:"decided,omitempty"`
	Cautions []profile.Finding `json:"cautions,omitempty"`
}

// WriteStops writes what it takes to go on.
func (e *Entry) WriteStops(s *Stops) error {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return e.Write(StopsFile, append(b, '\n'))
}

// Stops reads what it takes to go on with the load; nil if it does not commit
// on its way.
func (e *Entry) Stops() (*Stops, error) {
	b, err := os.ReadFile(e.Path(StopsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", e.Path(StopsFile), err)
	}
	s := &Stops{}
	if err := json.Unmarshal(b, s); err != nil {
		return nil, fmt.Errorf("%s is not what this program wrote: %w", e.Path(StopsFile), err)
	}
	return s, nil
}
