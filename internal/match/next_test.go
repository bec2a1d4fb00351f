package match

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// Each row: the sheets of the book that the plan was made from, those of the next one, and what is said.
func TestSheets(t *testing.T) {
	for _, tt := range []struct {
		what, was, is string
		rules         *plan.SheetRules
		says          []string
		left          int
	}{
		{"the same", "January,February", "January,February", nil, nil, 0},
		{"another year", "Tolls 2024,Boats 2024", "tolls 2025,Boats 2025", nil, nil, 0},
		{"one less", "January,February,March", "January,February", nil, []string{`blocking: has no sheet "March"`}, 0},
		{"one less, which may be", "January,March", "January", &plan.SheetRules{IfMissing: "allow"}, []string{`caution: has no sheet "March"`}, 0},
		{"one more", "January", "January,February", nil, []string{`blocking: its sheet "February" is new: `}, 0},
		{"one more, to be taken", "January", "January,February", &plan.SheetRules{IfNew: "take"}, []string{`caution: its sheet "February" is new; it is loaded`}, 0},
		{"one more, to be left", "January", "January,February", &plan.SheetRules{IfNew: "leave"}, []string{`caution: its sheet "February" is new; it is not loaded`}, 1},
		{"renamed", "January,March", "January,Mar", nil, []string{`blocking: its sheet "Mar" is new, perhaps a new name of "March"`, `blocking: has no sheet "March"`}, 0},
		{"not known", "", "January", nil, nil, 0},
	} {
		p := &plan.Plan{Sources: []plan.Source{{File: "a.xlsx", Settings: map[string]string{"sheet": "all"}, Sheets: tt.rules,
			Seen: []plan.Seen{{Bytes: 1, Sheets: strings.FieldsFunc(tt.was, func(r rune) bool { return r == ',' })}}}}}
		var sources []*source.Source
		for _, name := range strings.Split(tt.is, ",") {
			sources = append(sources, &source.Source{Path: "b.xlsx", Sheet: name, Asked: source.Asked{Sheet: "all"}})
		}
		changes, left := Sheets(sources, p)
		var said []string
		for _, c := range changes {
			said = append(said, string(c.Weight)+": "+c.Text)
		}
		if assert.Len(t, said, len(tt.says), "%s: %q", tt.what, said) {
			for i, want := range tt.says {
				assert.Contains(t, said[i], want, tt.what)
			}
		}
		assert.Len(t, left, tt.left, tt.what)
	}
}

// A day without a file is told where one was to be expected.
func TestMissingDays(t *testing.T) {
	files := func(days ...int) (out []string) {
		for _, d := range days {
			out = append(out, "in/tolls-"+time.Date(2025, 3, d, 0, 0, 0, 0, time.UTC).Format("20060102")+".csv")
		}
		return out
	}
	for _, tt := range []struct {
		what         string
		earlier, now []string
		want         string
	}{
		{"every day", files(1, 2, 3, 4, 5, 6), files(7), ""},
		{"one is missing", files(1, 2, 3, 4, 5, 6, 7, 8), files(10), "no file for 9 March 2025; there was one for 9 days since 1 March 2025"},
		{"one among those of this load", files(1, 2, 3, 4, 5, 6, 7, 8), files(9, 11), "no file for 10 March 2025; there was one for 10 days since 1 March 2025"},
		{"it was missing before", files(1, 2, 3, 5, 6, 7, 8), files(9), ""},
		{"never on Sundays", files(3, 4, 5, 6, 7, 8, 10, 11, 12, 13, 14, 15), files(17), ""},
		{"too few", files(1, 2), files(4), ""},
		{"no days in names", []string{"a.csv", "b.csv"}, []string{"c.csv"}, ""},
		{"files of another name", append(files(1, 2, 3), "boats-20250304.csv"), files(6), ""},
	} {
		assert.Equal(t, tt.want, MissingDays(tt.earlier, tt.now), tt.what)
	}
}

// Days go on from load to load; what does not is told.
func TestDays(t *testing.T) {
	load := func(on, first, last string) *tray.Receipt {
		started, err := time.Parse(time.DateOnly, on)
		assert.NoError(t, err)
		return &tray.Receipt{Started: started, Records: tray.Records{Read: 50, Loaded: 50},
			Columns: []tray.Verified{{Name: "day", Type: "date", Facts: tray.Facts{Smallest: first, Largest: last}}}}
	}
	months := []*tray.Receipt{load("2025-02-01", "2025-01-01", "2025-01-31"), load("2025-03-01", "2025-02-01", "2025-02-28")}
	for _, tt := range []struct {
		what    string
		earlier []*tray.Receipt
		now     *tray.Receipt
		want    string
	}{
		{"the next month", months, load("2025-04-01", "2025-03-01", "2025-03-31"), ""},
		{"months and days have changed places", months, load("2025-04-01", "2025-01-03", "2025-12-03"), "the latest day is 2025-12-03, which is still to come; 2025-01-31 to 2025-02-28 in the last 2 loads"},
		{"the month before again", months, load("2025-04-01", "2025-01-01", "2025-01-31"), "the latest day is 2025-01-31; 2025-01-31 to 2025-02-28 in the last 2 loads"},
		{"years ago", months, load("2025-04-01", "2015-03-01", "2025-03-31"), "the earliest day is 2015-03-01; 2025-01-01 to 2025-02-01 in the last 2 loads"},
		{"after a long time", months, load("2025-09-01", "2025-08-01", "2025-08-31"), ""},
		{"days to come, as always", []*tray.Receipt{load("2025-02-01", "2025-01-01", "2025-12-31")}, load("2025-03-01", "2025-01-01", "2025-12-31"), ""},
		{"the first load of all of a table", months[:1], load("2025-03-01", "2025-02-01", "2025-02-28"), ""},
	} {
		var said []string
		for _, f := range Since(tt.now, tt.earlier, nil) {
			if f.Far {
				said = append(said, f.Caution().Text)
			}
		}
		assert.Equal(t, tt.want, strings.Join(said, "\n"), tt.what)
	}
}

// A column that numbers its records goes on behind those of the last load.
func TestNumbersGoOn(t *testing.T) {
	load := func(first, last, sum int64, distinct int64) *tray.Receipt {
		return &tray.Receipt{Records: tray.Records{Read: 100, Loaded: 100}, Columns: []tray.Verified{{Name: "id", Type: "integer",
			Facts: tray.Facts{Sum: fmt.Sprint(sum), Smallest: fmt.Sprint(first), Largest: fmt.Sprint(last)}, Habit: &tray.Habit{Distinct: distinct, Spread: "29"}}}}
	}
	last := load(1, 100, 5050, 100)
	far := func(now *tray.Receipt) (n int) {
		for _, f := range Since(now, []*tray.Receipt{last}, nil) {
			if f.Far {
				n++
			}
		}
		return
	}
	assert.Zero(t, far(load(101, 200, 15050, 100)))
	assert.Positive(t, far(load(101, 200, 15050, 10)), "they do not number anything")
	assert.Positive(t, far(load(9001, 9100, 905050, 100)), "they do not go on")
}
