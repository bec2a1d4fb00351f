package proof

import "slices"

// A Difference is a record with what the table has instead of some of its
// values.
type Difference struct {
	Row
	// Columns are the places of the columns that differ, Table their values in
	// the table.
	Columns []int
	Table   []*string
}

// Pairs finds for records that are missing the rows that stand in their place:
// those with the same key, or, where there is no key, those that differ in the
// fewest columns, and in less than half of them. What has no partner is left.
func (r *Result) Pairs(key []int) (pairs []Difference, missing, extra []Row) {
	extra = slices.Clone(r.Extra)
	for _, m := range r.Missing {
		best, fewest := -1, 1+(len(m.Values)-1)/2
		for i, e := range extra {
			n := len(differing(m.Values, e.Values))
			if len(key) > 0 {
				if !slices.ContainsFunc(key, func(k int) bool { return !equal(m.Values[k], e.Values[k]) }) {
					best = i
					break
				}
				continue
			}
			if n < fewest {
				best, fewest = i, n
			}
		}
		if best < 0 {
			missing = append(missing, m)
			continue
		}
		d := Difference{Row: m, Columns: differing(m.Values, extra[best].Values)}
		for _, k := range d.Columns {
			d.Table = append(d.Table, extra[best].Values[k])
		}
		pairs = append(pairs, d)
		extra = slices.Delete(extra, best, best+1)
	}
	return pairs, missing, extra
}

func differing(a, b []*string) (at []int) {
	for i := range a {
		if !equal(a[i], b[i]) {
			at = append(at, i)
		}
	}
	return
}

func equal(a, b *string) bool {
	if a == nil || b == nil {
		return a == b
	}
	return *a == *b
}
