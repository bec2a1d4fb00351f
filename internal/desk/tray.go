package desk

import (
	"fmt"
	"slices"
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

// A ChainAnswer is what a tray's chain is found to be.
type ChainAnswer struct {
	Document
	Tray string `json:"tray"`
	*tray.Chain
	// Entries are those that the chain has sealed, and that lie on the tray.
	Entries []tray.Sealed `json:"entries"`
	// Gone were sealed, and are not on the tray any more; Unsealed are there, and never
	// were.
	Gone     []string `json:"gone"`
	Unsealed []string `json:"unsealed"`
	// Trusted tells, where a key was given, whether all of the chain up to a link is
	// signed by it, and Through up to which.
	Trusted *bool `json:"trusted,omitempty"`
	Through int64 `json:"through,omitempty"`
}

// Sound reports whether nothing was changed.
func (a *ChainAnswer) Sound() bool {
	return len(a.Broken) == 0 && (a.Trusted == nil || *a.Trusted) &&
		!slices.ContainsFunc(a.Entries, func(s tray.Sealed) bool { return len(s.Changed) > 0 })
}

// CheckChain checks the tray's chain, and the papers of all entries against it; with
// the file of a public key, whether it is signed by that.
func (d *Desk) CheckChain(publicKey string) (*ChainAnswer, error) {
	chain, err := tray.ReadChain(d.Tray)
	if err != nil {
		return nil, err
	}
	all, err := tray.List(d.Tray)
	if err != nil {
		return nil, err
	}
	a := &ChainAnswer{Document: document("chain"), Tray: d.Tray, Chain: chain, Entries: []tray.Sealed{},
		Gone: list(chain.Gone(d.Tray)), Unsealed: []string{}}
	for _, s := range all {
		x, err := chain.Sealed(s.Entry)
		if err != nil {
			return nil, err
		}
		if x.Link > 0 {
			a.Entries = append(a.Entries, x)
		} else if s.Receipt != nil {
			a.Unsealed = append(a.Unsealed, x.Entry)
		}
	}
	if publicKey == "" {
		return a, nil
	}
	key, err := tray.PublicKey(publicKey)
	if err != nil {
		return nil, err
	}
	trusted := false
	for _, s := range chain.Signed {
		if s.Key == key {
			trusted, a.Through = true, s.Through
		}
	}
	a.Trusted = &trusted
	return a, nil
}

// SignChain signs all that the tray's chain has.
func (d *Desk) SignChain(keyFile string) (*tray.Link, error) {
	key, err := tray.SigningKey(keyFile)
	if err != nil {
		return nil, err
	}
	chain, err := tray.ReadChain(d.Tray)
	if err != nil {
		return nil, err
	}
	if len(chain.Broken) > 0 {
		return nil, fmt.Errorf("the chain of %s is broken, and is not signed: %s", d.Tray, chain.Broken[0])
	}
	return tray.Sign(d.Tray, key)
}
