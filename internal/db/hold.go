package db

import (
	"context"
	"fmt"
	"time"
)

// LockWait is how long another session is waited for, where nobody says otherwise.
const LockWait = time.Minute

// A Holder is a Session that can keep other loads of this program from a table, as
// long as the connection lives. A database that only one writes to at a time needs
// none.
type Holder interface {
	// TryHold reports whether the table is held now, or who else holds it.
	TryHold(ctx context.Context, t Name) (held bool, who string, err error)
}

// A Blocker can tell, while its session waits for a lock, who holds it.
type Blocker interface {
	// Blockers names them; empty: it is not known. It may be called while the
	// session is busy.
	Blockers(ctx context.Context) string
}

// slow is how long a statement may take before it is asked what it waits for, and
// silent how long before it is told that there is no answer.
const slow = time.Second

var silent = 10 * time.Second

// A Wait is what a session waits for: for another, or for an answer, so long.
type Wait struct {
	Who    string // who holds a lock; empty: it is not known
	Silent time.Duration
}

// Watch tells, unless what it returns is called soon, if the session waits for the
// lock of another, and whose; else, when it has waited for long, that no answer came.
func Watch(ctx context.Context, s Session, waiting func(Wait)) (done func()) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		b, is := s.(Blocker)
		begun := time.Now()
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(slow):
			}
			if is {
				if who := b.Blockers(ctx); who != "" && ctx.Err() == nil {
					waiting(Wait{Who: who})
					return
				}
			}
			if d := time.Since(begun); d >= silent && ctx.Err() == nil {
				waiting(Wait{Silent: d.Round(time.Second)})
				return
			}
		}
	}()
	return cancel
}

// Hold keeps other loads from a table. While it has to wait for one, waiting is told
// who that is.
func Hold(ctx context.Context, s Session, t Name, wait time.Duration, waiting func(who string)) error {
	h, is := s.(Holder)
	if !is {
		return nil
	}
	until := time.Now().Add(wait)
	for first := true; ; first = false {
		held, who, err := h.TryHold(ctx, t)
		if err != nil || held {
			return err
		}
		if first && wait > 0 {
			waiting(who)
		}
		if time.Now().After(until) {
			return &Held{t, who, wait}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// A Held error says that a table is being loaded by another.
type Held struct {
	Table Name
	Who   string
	Wait  time.Duration
}

func (e *Held) Error() string {
	return fmt.Sprintf("the table %s is being loaded by another session%s; waited %s, nothing was changed\n  "+
		"wait for it, and load again, or wait longer with --lock-wait", Qualified(e.Table.Schema, e.Table.Table),
		Who(e.Who), e.Wait)
}

// Who is a session in brackets, if it is known.
func Who(who string) string {
	if who == "" {
		return ""
	}
	return " (" + who + ")"
}

// HintLocked says what to do about a lock that was waited for in vain.
const HintLocked = "another session holds the table or rows of it; wait for it, or wait longer with --lock-wait"
