package match

import (
	"time"

	"ambertray/internal/sqltype"
	"ambertray/internal/tray"
)

// Days are watched like numbers, but they go on from load to load: what is told is a load whose
// days go much farther than those before it did, reach into the future where none did, or lie
// before those of the last load.

const day = 24 * time.Hour

// dayOf is a day in a receipt, in days since 1970.
func dayOf(text string) (float64, bool) {
	if len(text) < len(time.DateOnly) {
		return 0, false
	}
	t, err := time.Parse(time.DateOnly, text[:len(time.DateOnly)])
	return float64(t.Unix()) / day.Seconds(), err == nil
}

// days are the figures of a column of days: the earliest and the latest.
func days(c *tray.Verified, now *tray.Receipt, earlier []*tray.Receipt, known columns) []Figure {
	t, err := sqltype.Parse(c.Type)
	if err != nil || c.Loose || !t.IsTemporal() || t.Kind == sqltype.Time {
		return nil
	}
	first, last := Figure{Column: c.Name, Measure: Earliest}, Figure{Column: c.Name, Measure: Latest}
	future := false // a load before had days that were still to come
	for _, r := range earlier {
		same := known[r][columnOf(c)]
		if same == nil {
			return nil
		}
		lo, is := dayOf(same.Smallest)
		hi, also := dayOf(same.Largest)
		if !is || !also {
			return nil
		}
		first.Before, last.Before = append(first.Before, lo), append(last.Before, hi)
		future = future || hi > today(r)+1
	}
	lo, is := dayOf(c.Smallest)
	hi, also := dayOf(c.Largest)
	if !is || !also {
		return nil
	}
	first.Now, last.Now = lo, hi
	n := len(earlier) - 1
	// How far a load may go on: as many days as one has had, as have been between two, or as
	// have gone by since.
	step := max(1, today(now)-today(earlier[n]))
	goesOn := n > 0
	for i := range earlier {
		step = max(step, last.Before[i]-first.Before[i])
		if i > 0 {
			step = max(step, last.Before[i]-last.Before[i-1])
			goesOn = goesOn && last.Before[i] > last.Before[i-1]
		}
	}
	last.future = hi > today(now)+1 && !future
	last.Far = last.future || hi > last.Before[n]+3*step || goesOn && hi < first.Before[n]
	earliest := first.Before[0]
	for _, v := range first.Before {
		earliest = min(earliest, v)
	}
	first.Far = !last.Far && lo < earliest-3*step
	return []Figure{first, last}
}

// today is the day of a load.
func today(r *tray.Receipt) float64 { return float64(r.Started.Truncate(day).Unix()) / day.Seconds() }

// dayText is a day as people write it.
func dayText(v float64) string {
	return time.Unix(int64(v)*int64(day.Seconds()), 0).UTC().Format(time.DateOnly)
}
