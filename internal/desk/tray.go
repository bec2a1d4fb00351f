package desk

import (
	"time"

	"ambertray/internal/tray"
)

// A TrayAnswer lists the loads.
type TrayAnswer struct {
	Document
	Tray    string      `json:"tray"`
	Entries []TrayEntry `json:"entries"`

	List []tray.Summary `json:"-"`
	// Counts are by state; Rejected is how many rejects wait.
	Counts   map[tray.State]int64 `json:"-"`
	Rejected int64                `json:"-"`
}

// A TrayEntry is one of them.
type TrayEntry struct {
	Entry   string        `json:"entry"`
	State   tray.State    `json:"state"`
	Path    string        `json:"path"`
	Started time.Time     `json:"started"`
	Receipt *tray.Receipt `json:"receipt"`
	Error   string        `json:"error,omitempty"`
}

// List lists the loads on the tray, those that need a hand first.
func (d *Desk) List() (*TrayAnswer, error) {
	all, err := tray.List(d.Tray)
	if err != nil {
		return nil, err
	}
	a := &TrayAnswer{Document: document("tray"), Tray: d.Tray, Entries: []TrayEntry{}, List: all,
		Counts: map[tray.State]int64{}}
	for _, s := range all {
		a.Counts[s.State]++
		if s.State == tray.IsWaiting {
			a.Rejected += s.Receipt.Records.Rejected
		}
		e := TrayEntry{s.Entry.Name, s.State, s.Entry.Dir, s.Started.UTC(), s.Receipt, ""}
		if s.Error != nil {
			e.Error = s.Error.Error()
		}
		a.Entries = append(a.Entries, e)
	}
	return a, nil
}
