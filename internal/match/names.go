package match

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"ambertray/internal/phrase"
)

// Files of a job that runs every day, or every month, have the day in their names. A day between the
// last load and this one that has no file is told, if a file was to be expected.

// fewDays is how many files make a habit of days.
const fewDays = 5

var dayInName = regexp.MustCompile(`(19|20)(\d\d)([-_.]?)(\d\d)([-_.]?)(\d\d)`)

// A datedName is the name of a file without its day, and the day.
type datedName struct {
	bare string
	day  time.Time
}

func dated(path string) (d datedName, is bool) {
	name := filepath.Base(path)
	at := dayInName.FindStringSubmatchIndex(name)
	if at == nil {
		return d, false
	}
	digits := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, name[at[0]:at[1]])
	day, err := time.Parse("20060102", digits)
	return datedName{name[:at[0]] + "#" + name[at[1]:], day}, err == nil
}

// MissingDays says which days have no file: those between the files of earlier loads and of this
// one, whose names have days and are alike else. A day of the week on which files came less than
// two times of three is none to miss one.
func MissingDays(earlier, now []string) string {
	had := map[time.Time]bool{}
	bare, days := "", []time.Time(nil)
	for _, list := range [][]string{now, earlier} {
		for _, path := range list {
			d, is := dated(path)
			if bare == "" && is {
				bare = d.bare
			}
			if is && d.bare == bare && !had[d.day] {
				had[d.day] = true
				days = append(days, d.day)
			}
		}
	}
	if len(days) <= fewDays {
		return ""
	}
	slices.SortFunc(days, time.Time.Compare)
	first, last := days[0], days[len(days)-1]
	inNow := func(day time.Time) bool {
		return slices.ContainsFunc(now, func(p string) bool { d, is := dated(p); return is && d.day.Equal(day) })
	}
	// Only what is behind the last day of the earlier loads is new to tell.
	from := first
	for _, d := range days {
		if !inNow(d) {
			from = d
		}
	}
	var came, could [7]int
	for d := first; !d.After(last); d = d.AddDate(0, 0, 1) {
		could[d.Weekday()]++
		if had[d] {
			came[d.Weekday()]++
		}
	}
	var missing []string
	for d := from.AddDate(0, 0, 1); d.Before(last); d = d.AddDate(0, 0, 1) {
		if w := d.Weekday(); !had[d] && 3*(came[w]+1) >= 2*could[w] && came[w] > 0 {
			missing = append(missing, d.Format("2 January 2006"))
		}
	}
	const most = 5
	switch n := len(missing); {
	case n == 0:
		return ""
	case n > most:
		missing = append(missing[:most], fmt.Sprintf("and %d more days", n-most))
	}
	return fmt.Sprintf("no file for %s; there was one for %s since %s", strings.Join(missing, ", "),
		phrase.Count(int64(len(days)), "day"), first.Format("2 January 2006"))
}
