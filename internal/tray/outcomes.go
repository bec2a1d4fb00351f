package tray

import "context"

// What became of a reject.
const (
	StillWaits = "waiting"
	WasMended  = "mended"
	WasWaived  = "waived"
)

// An Outcome is a reject with what became of it. Of one that was tried again and
// refused, column, reason and value are those of the last time.
type Outcome struct {
	Reject
	State   string // StillWaits, WasMended or WasWaived
	Because string // why it was waived
}

// Outcomes reads the rejects of a load as they were, in order, and returns the
// headers of their fields.
func (e *Entry) Outcomes(ctx context.Context, r *Receipt, each func(*Outcome) error) (headers []string, err error) {
	if r.Rejects() == 0 {
		return nil, nil
	}
	mended, _ := r.Settled()
	latest := map[int64]RefusedAgain{}
	for _, m := range r.Mends {
		for _, x := range m.Refused {
			latest[x.Reject] = x
		}
	}
	because := map[int64]string{}
	for _, w := range r.Waivers {
		for _, n := range w.Rejects {
			because[n] = w.Because
		}
	}
	return ReadRejects(ctx, e.Path(OriginalFile), func(x *Reject) error {
		o := Outcome{Reject: *x, State: StillWaits}
		if why, is := because[x.Number]; is {
			o.State, o.Because = WasWaived, why
		}
		if mended[x.Number] {
			o.State, o.Because = WasMended, ""
		}
		if now, ok := latest[x.Number]; ok && o.State == StillWaits {
			o.Column, o.Code, o.Reason, o.Value = now.Column, now.Code, now.Reason, now.Value
		}
		return each(&o)
	})
}
