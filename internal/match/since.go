package match

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A load is put beside the last loads into its table, by what their receipts say. What lies
// far off is no mistake by itself, but somebody has to look at it.

// A Measure is what is compared.
type Measure string

// The measures.
const (
	Records  Measure = "records"
	Rejected Measure = "rejected" // share of the records
	Blank    Measure = "blank"    // share of the values
	Mean     Measure = "mean"     // of numbers
	Length   Measure = "length"   // of texts, in bytes, on average
	Distinct Measure = "distinct" // values that are different
	Spread   Measure = "spread"   // standard deviation of numbers
	Smallest Measure = "smallest" // of numbers
	Largest  Measure = "largest"  // of numbers
	Words    Measure = "words"    // of a column that has few
	Earliest Measure = "earliest" // of days, in days since 1970
	Latest   Measure = "latest"
)

// A Figure is one measure of a load, with those of the loads before it.
type Figure struct {
	Column  string  `json:"column,omitempty"`
	Measure Measure `json:"measure"`
	// Before are those of the loads before, the oldest first.
	Before []float64 `json:"before"`
	Now    float64   `json:"now"`
	Far    bool      `json:"far"` // off
	// New are words that no load before had, Gone those that each of them had and this one
	// has not.
	New  []tally.Word `json:"new,omitempty"`
	Gone []string     `json:"gone,omitempty"`
	// future tells that the latest day is still to come.
	future bool
	// width is how far the extremes of a number lay apart.
	width float64
}

// MostLoads is with how many loads one is compared.
const MostLoads = 6

// A column is what is the same in several loads: a name, and a family of types. The same column is
// an integer of the plan in the load that made the table, and what the table has in later ones.
type column struct {
	name   string
	family family
}

type family uint8

const (
	ofOthers family = iota
	ofNumbers
	ofTexts
	ofTimes
)

// columnOf is a column of a load.
func columnOf(c *tray.Verified) column {
	t, err := sqltype.Parse(c.Type)
	switch {
	case err != nil:
	case t.IsNumber():
		return column{c.Name, ofNumbers}
	case t.IsText():
		return column{c.Name, ofTexts}
	case t.IsTemporal():
		return column{c.Name, ofTimes}
	}
	return column{c.Name, ofOthers}
}

// goesOn reports whether a column numbers its records, and goes on behind those of the last load: that
// its numbers are larger is no news.
func goesOn(now, last *tray.Receipt, c *tray.Verified, known columns) bool {
	was := known[last][columnOf(c)]
	if was == nil || was.Habit == nil || c.Habit == nil {
		return false
	}
	lo, err1 := strconv.ParseFloat(c.Smallest, 64)
	hi, err2 := strconv.ParseFloat(c.Largest, 64)
	first, err3 := strconv.ParseFloat(was.Smallest, 64)
	end, err4 := strconv.ParseFloat(was.Largest, 64)
	// How many are different is estimated, and may be a fifth off.
	differ := func(r *tray.Receipt, c *tray.Verified) bool {
		return 5*c.Habit.Distinct >= 4*(values(r)-c.Nulls)
	}
	return cmp.Or(err1, err2, err3, err4) == nil && differ(now, c) && differ(last, was) && lo > end &&
		lo-end <= 3*(hi-lo+end-first+1)
}

// columns are those of loads.
type columns map[*tray.Receipt]map[column]*tray.Verified

func columnsOf(loads []*tray.Receipt) columns {
	out := columns{}
	for _, r := range loads {
		out[r] = map[column]*tray.Verified{}
		for i := range r.Columns {
			c := &r.Columns[i]
			out[r][columnOf(c)] = c
		}
	}
	return out
}

// Since compares a load with the loads before it into the same table, the oldest first.
func Since(now *tray.Receipt, earlier []*tray.Receipt, key []string) (out []Figure) {
	if len(earlier) == 0 {
		return nil
	}
	all := append(slices.Clone(earlier), now)
	add := func(column string, m Measure, of func(*tray.Receipt) (float64, bool)) {
		f := Figure{Column: column, Measure: m}
		for i, r := range all {
			v, is := of(r)
			if !is {
				return // a load that had no such column, or nothing in it
			}
			if i == len(all)-1 {
				f.Now = v
			} else {
				f.Before = append(f.Before, v)
			}
		}
		f.Far = f.far()
		out = append(out, f)
	}
	add("", Records, func(r *tray.Receipt) (float64, bool) { return records(r), true })
	add("", Rejected, func(r *tray.Receipt) (float64, bool) {
		return float64(r.Rejects()) / max(records(r), 1), true
	})
	known := columnsOf(all)
	for _, c := range now.Columns {
		of := func(measure func(*tray.Receipt, *tray.Verified) (float64, bool)) func(*tray.Receipt) (float64, bool) {
			return func(r *tray.Receipt) (float64, bool) {
				same := known[r][columnOf(&c)]
				if same == nil {
					return 0, false
				}
				return measure(r, same)
			}
		}
		add(c.Name, Blank, of(blank))
		out = append(out, days(&c, now, earlier, known)...)
		if slices.Contains(key, c.Name) {
			continue // what tells rows apart is another in each load
		}
		serial := goesOn(now, earlier[len(earlier)-1], &c, known)
		if !serial {
			add(c.Name, Mean, of(mean))
		}
		add(c.Name, Spread, of(spread))
		add(c.Name, Length, of(length))
		add(c.Name, Distinct, of(distinct))
		if serial {
			continue
		}
		add(c.Name, Smallest, of(extreme(func(f *tray.Facts) string { return f.Smallest })))
		add(c.Name, Largest, of(extreme(func(f *tray.Facts) string { return f.Largest })))
		if n := len(out); n >= 2 && out[n-1].Measure == Largest && out[n-2].Measure == Smallest {
			// Both may lie as far out as they lay apart.
			width := slices.Max(out[n-1].Before) - slices.Min(out[n-2].Before)
			for i := range 2 {
				f := &out[n-1-i]
				f.width = width
				f.Far = f.far()
			}
		}
		if f := words(&c, earlier, known); f != nil {
			out = append(out, *f)
		}
	}
	for i := range out {
		switch f := &out[i]; f.Measure { // others: are far off whatever the number of records is
		case Distinct, Spread: // of fewer records, there are fewer values
			f.Far = f.Far && !out[0].Far && enough(all)
		case Rejected, Blank, Mean, Length, Words:
			f.Far = f.Far && enough(all)
		}
	}
	return out
}

// enoughRecords is how many records say how the values of a column are shared out.
const enoughRecords = 10

// enough reports whether each of the loads has so many.
func enough(all []*tray.Receipt) bool {
	return !slices.ContainsFunc(all, func(r *tray.Receipt) bool { return records(r) < enoughRecords })
}

// words compares the words of a column that has few.
func words(now *tray.Verified, earlier []*tray.Receipt, known columns) *Figure {
	if now.Habit == nil || now.Habit.Words == nil {
		return nil
	}
	f := &Figure{Column: now.Name, Measure: Words, Now: float64(len(now.Habit.Words))}
	seen, times, rows, before := map[string]int{}, map[string]int64{}, int64(0), int64(0)
	grew := false // the load before this one had new ones, too
	for k, r := range earlier {
		same := known[r][columnOf(now)]
		if same == nil || same.Habit == nil || same.Habit.Words == nil {
			return nil
		}
		grew = false
		for _, w := range same.Habit.Words {
			if seen[w.Text]++; seen[w.Text] == 1 {
				grew = grew || k > 0
			}
			times[w.Text] += w.Count
			before += w.Count
		}
		f.Before = append(f.Before, float64(len(same.Habit.Words)))
	}
	many, new := int64(0), int64(0)
	for _, w := range now.Habit.Words {
		if rows += w.Count; seen[w.Text] == 0 {
			f.New = append(f.New, w)
			many += w.Count
			new++
		}
		delete(seen, w.Text)
	}
	for w, n := range seen {
		// So few that it may be missing by chance say nothing.
		if n == len(earlier) && float64(times[w])*float64(rows) >= 5*float64(before) {
			f.Gone = append(f.Gone, w)
		}
	}
	slices.Sort(f.Gone)
	// A column that gets new words with each load is no news. Once does not make a habit.
	f.Far = new > 0 && !grew && (len(earlier) > 1 || many*10 > rows) ||
		len(f.Gone) > 0 && (len(earlier) > 1 || 2*len(f.Gone) > len(seen)+len(now.Habit.Words))
	return f
}

// records are those of a load, but for what it skipped as no data.
func records(r *tray.Receipt) float64 {
	n := r.Records.Read - r.Records.Skipped
	for _, s := range r.Skipped {
		if s.Kind == tray.SkipKnown || s.Kind == tray.SkipSuperseded {
			n += s.Count
		}
	}
	return float64(n)
}

// values are how many rows the facts of a column are of.
func values(r *tray.Receipt) int64 { return r.Records.Loaded + r.Records.Mended }

func blank(r *tray.Receipt, c *tray.Verified) (float64, bool) {
	n := values(r)
	return float64(c.Nulls) / float64(max(n, 1)), n > 0
}

func mean(r *tray.Receipt, c *tray.Verified) (float64, bool) {
	t, err := sqltype.Parse(c.Type)
	n := values(r) - c.Nulls
	if err != nil || c.Loose || n <= 0 || t.Kind == sqltype.Boolean {
		return 0, false
	}
	sum, err := strconv.ParseFloat(c.Sum, 64)
	return sum / float64(n), err == nil
}

func length(r *tray.Receipt, c *tray.Verified) (float64, bool) {
	t, err := sqltype.Parse(c.Type)
	n := values(r) - c.Nulls
	return float64(c.Bytes) / float64(max(n, 1)), err == nil && t.IsText() && !c.Loose && n > 0
}

// spread is the standard deviation of a column of numbers.
func spread(_ *tray.Receipt, c *tray.Verified) (float64, bool) {
	if c.Habit == nil || c.Habit.Spread == "" {
		return 0, false
	}
	x, err := strconv.ParseFloat(c.Habit.Spread, 64)
	return x, err == nil
}

func distinct(_ *tray.Receipt, c *tray.Verified) (float64, bool) {
	if c.Habit == nil {
		return 0, false
	}
	return float64(c.Habit.Distinct), true
}

// extreme is the smallest or the largest of a column of numbers.
func extreme(of func(*tray.Facts) string) func(*tray.Receipt, *tray.Verified) (float64, bool) {
	return func(_ *tray.Receipt, c *tray.Verified) (float64, bool) {
		t, err := sqltype.Parse(c.Type)
		if err != nil || !t.IsNumber() || c.Loose {
			return 0, false
		}
		x, err := strconv.ParseFloat(of(&c.Facts), 64)
		return x, err == nil
	}
}

// far reports whether a figure lies far off what it was. With one load before, it has to be
// farther off than with several.
func (f *Figure) far() bool {
	lo, hi := slices.Min(f.Before), slices.Max(f.Before)
	few := 1.0
	if len(f.Before) == 1 {
		few = 2
	}
	switch f.Measure {
	case Records:
		return f.Now > hi*(1+few) || f.Now < lo/(1+few)
	case Rejected:
		return f.Now > hi+0.02*few && f.Now > 2*hi
	case Blank:
		return f.Now > hi+0.1*few && f.Now > 2*hi || f.Now < lo-0.1*few && f.Now < lo/2
	case Mean:
		middle := (lo + hi) / 2
		off := (hi - lo) + few*math.Abs(middle)/2
		return f.Now > hi+off || f.Now < lo-off
	case Length:
		return f.Now > hi*(1+few) && f.Now > hi+4 || f.Now < lo/(1+few) && f.Now < lo-4
	case Distinct:
		// As many records more, as many values more: that is said of the records.
		return f.Now > 3*hi*few && f.Now > hi+10 || f.Now < lo/(3*few) && lo > 1
	case Spread:
		return f.Now > 2*hi*few && hi > 0 || f.Now < lo/(3*few)
	case Smallest:
		return f.width > 0 && f.Now < lo-few*f.width
	case Largest:
		return f.width > 0 && f.Now > hi+few*f.width
	case Words, Earliest, Latest: // told by which they are, and by days
	}
	return false
}

// Caution says how far off a figure is.
func (f *Figure) Caution() profile.Finding {
	what := ""
	switch f.Measure {
	case Records:
		what = f.text(f.Now, "records")
	case Rejected:
		what = f.text(f.Now, "of the records are rejected")
	case Blank:
		what = "blank in " + f.text(f.Now, "of the records")
	case Mean:
		what = "on average " + f.text(f.Now, "")
	case Length:
		what = f.text(f.Now, "bytes long on average")
	case Distinct:
		what = f.text(f.Now, "different values")
	case Spread:
		what = "standard deviation " + f.text(f.Now, "")
	case Earliest, Latest:
		what = fmt.Sprintf("the %s day is %s", f.Measure, f.text(f.Now, ""))
		if f.future {
			what += ", which is still to come"
		}
	case Smallest, Largest:
		what = fmt.Sprintf("%s value %s", f.Measure, f.text(f.Now, ""))
	case Words:
		return profile.Finding{Weight: profile.Caution, Code: profile.CodeNotAsBefore, Column: f.Column,
			Text: f.wording(), Do: "look whether the file is what it should be"}
	}
	return profile.Finding{Weight: profile.Caution, Code: profile.CodeNotAsBefore, Column: f.Column,
		Text: strings.TrimSpace(what) + "; " + f.before(), Do: "look whether the file is what it should be"}
}

// wording says which words are new, and which are gone.
func (f *Figure) wording() string {
	var parts []string
	const most = 4
	if n := len(f.New); n > 0 {
		var list []string
		for _, w := range f.New[:min(n, most)] {
			list = append(list, fmt.Sprintf("%q in %s", w.Text, phrase.Count(w.Count, "record")))
		}
		parts = append(parts, "new: "+strings.Join(list, ", ")+more(n-most))
	}
	if n := len(f.Gone); n > 0 {
		var list []string
		for _, w := range f.Gone[:min(n, most)] {
			list = append(list, strconv.Quote(w))
		}
		parts = append(parts, "gone: "+strings.Join(list, ", ")+more(n-most))
	}
	loads := "the last load"
	if len(f.Before) > 1 {
		loads = fmt.Sprintf("the last %d loads", len(f.Before))
	}
	return strings.Join(parts, "; ") + "; beside " + loads
}

func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

// before says what the figure was.
func (f *Figure) before() string {
	lo, hi := f.text(slices.Min(f.Before), ""), f.text(slices.Max(f.Before), "")
	if len(f.Before) == 1 {
		return lo + " in the last load"
	}
	if lo == hi {
		return fmt.Sprintf("%s in the last %d loads", lo, len(f.Before))
	}
	return fmt.Sprintf("%s to %s in the last %d loads", lo, hi, len(f.Before))
}

// text is a figure as people write it.
func (f *Figure) text(v float64, behind string) string {
	s := ""
	switch f.Measure {
	case Records:
		s = phrase.Grouped(int64(v))
	case Rejected, Blank:
		s = percent(v)
	case Distinct, Words:
		s = phrase.Grouped(int64(v))
	case Mean, Spread, Smallest, Largest:
		s = strconv.FormatFloat(v, 'f', places(v), 64)
	case Length:
		s = strconv.FormatFloat(v, 'f', 1, 64)
	case Earliest, Latest:
		s = dayText(v)
	}
	return strings.TrimSpace(s + " " + behind)
}

// Text is a figure of a load, as people write it.
func (f *Figure) Text(v float64) string { return f.text(v, "") }

// places are how many digits behind the point tell a figure.
func places(v float64) int {
	if v = math.Abs(v); v >= 100 || v == math.Trunc(v) {
		return 0
	}
	return cmp.Compare(10, v) + 2 // 1 from ten on, else 3
}

func percent(v float64) string {
	n := 100 * v
	switch {
	case n == 0:
		return "0 %"
	case n < 0.1:
		return "under 0.1 %"
	case n < 10 && n != math.Trunc(n):
		return strconv.FormatFloat(n, 'f', 1, 64) + " %"
	}
	return strconv.FormatFloat(n, 'f', 0, 64) + " %"
}
