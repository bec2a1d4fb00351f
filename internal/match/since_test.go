package match

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// loadOf is a receipt of n records with so many blanks in a column of tolls, whose sum is
// given, and of texts with so many bytes.
func loadOf(n, rejected, blanks int64, sum string, bytes int64) *tray.Receipt {
	return &tray.Receipt{Records: tray.Records{Read: n + 3, Loaded: n - rejected, Rejected: rejected, Skipped: 3}, Columns: []tray.Verified{
		{Name: "id", Type: "integer", Facts: tray.Facts{Sum: fmt.Sprint(n * n * n)}},
		{Name: "toll", Type: "decimal(8,2)", Facts: tray.Facts{Nulls: blanks, Sum: sum}},
		{Name: "note", Type: "varchar(20)", Facts: tray.Facts{Bytes: bytes}}}}
}

func TestSince(t *testing.T) {
	usual := []*tray.Receipt{loadOf(1000, 1, 20, "24500.00", 9000), loadOf(1100, 0, 30, "27000.00", 9900), loadOf(900, 0, 18, "22000.00", 8200)}
	far := func(now *tray.Receipt, earlier []*tray.Receipt) (out []string) {
		for _, f := range Since(now, earlier, []string{"id"}) {
			if f.Far {
				out = append(out, f.Column+" "+f.Caution().Text)
			}
		}
		return
	}
	assert.Nil(t, Since(usual[0], nil, nil), "there is nothing to compare with")
	assert.Empty(t, far(loadOf(1050, 1, 25, "26000.00", 9500), usual))
	for want, now := range map[string]*tray.Receipt{
		"toll blank in 61 % of the records; 2 % to 2.7 % in the last 3 loads": loadOf(1000, 0, 610, "9750.00", 9000),
		" 3,000 records; 900 to 1,100 in the last 3 loads":                    loadOf(3000, 0, 60, "75000.00", 27000),
		" 400 records; 900 to 1,100 in the last 3 loads":                      loadOf(400, 0, 8, "9800.00", 3600),
		" 5 % of the records are rejected; 0 % to 0.1 % in the last 3 loads":  loadOf(1000, 50, 20, "23250.00", 8550),
		"toll on average 2551; 24.9 to 25.2 in the last 3 loads":              loadOf(1000, 0, 20, "2500000.00", 9000),
		"note 20.0 bytes long on average; 9.0 to 9.1 in the last 3 loads":     loadOf(1000, 0, 20, "24500.00", 20000),
	} {
		assert.Equal(t, []string{want}, far(now, usual))
	}
	one := usual[:1]
	assert.Empty(t, far(loadOf(2500, 0, 50, "61250.00", 22500), one), "one load says less")
	assert.Equal(t, []string{" 3,500 records; 1,000 in the last load"}, far(loadOf(3500, 0, 70, "85750.00", 31500), one))

	// A column that is another now, or has nothing in it, is not compared.
	other := loadOf(1000, 0, 1000, "", 9000)
	assert.Equal(t, []string{"toll blank in 100 % of the records; 2 % to 2.7 % in the last 3 loads"}, far(other, usual))
	other.Columns[1].Type = "text"
	assert.Empty(t, far(other, usual))
	// What the values are like.
	like := func(r *tray.Receipt, distinct int64, spread, smallest, largest string, words ...tally.Word) *tray.Receipt {
		c := &r.Columns[1]
		c.Habit, c.Smallest, c.Largest = &tray.Habit{Distinct: distinct, Spread: spread}, smallest, largest
		r.Columns = append(r.Columns, tray.Verified{Name: "gate", Type: "varchar(3)", Facts: tray.Facts{Bytes: 2000}, Habit: &tray.Habit{Words: words}})
		return r
	}
	a, b, c := tally.Word{Text: "A1", Count: 500}, tally.Word{Text: "B1", Count: 480}, tally.Word{Text: "C9", Count: 12}
	before := []*tray.Receipt{like(loadOf(1000, 0, 20, "24500.00", 9000), 300, "4.5", "1.00", "60.00", a, b),
		like(loadOf(1000, 0, 20, "24500.00", 9000), 320, "5.1", "0.50", "72.00", a, b)}
	now := func() *tray.Receipt { return loadOf(1000, 0, 20, "24500.00", 9000) }
	assert.Empty(t, far(like(now(), 310, "4.8", "0.10", "99.00", b, a), before))
	for want, now := range map[string]*tray.Receipt{
		`gate new: "C9" in 12 records; beside the last 2 loads`:          like(now(), 310, "4.8", "1.00", "60.00", a, b, c),
		`gate gone: "B1"; beside the last 2 loads`:                       like(now(), 310, "4.8", "1.00", "60.00", a),
		"toll 3 different values; 300 to 320 in the last 2 loads":        like(now(), 3, "4.8", "1.00", "60.00", a, b),
		"toll standard deviation 44; 4.500 to 5.100 in the last 2 loads": like(now(), 310, "44", "1.00", "60.00", a, b),
		"toll largest value 9999; 60 to 72 in the last 2 loads":          like(now(), 310, "4.8", "1.00", "9999.00", a, b),
		"toll smallest value -720; 0.500 to 1 in the last 2 loads":       like(now(), 310, "4.8", "-720", "60.00", a, b),
	} {
		assert.Equal(t, []string{want}, far(now, before))
	}
	grows := append(before, like(loadOf(1000, 0, 20, "24500.00", 9000), 320, "5.1", "0.50", "72.00", a, b, c))
	assert.Empty(t, far(like(now(), 310, "4.8", "1.00", "60.00", a, b, tally.Word{Text: "D1", Count: 9}), grows), "each has new ones")

	// Records that were known count, and lines that are no data do not.
	known := loadOf(1000, 0, 20, "24500.00", 9000)
	known.Records.Read, known.Records.Skipped, known.Skipped = 2003, 1003, []tray.Skip{{Kind: tray.SkipKnown, Count: 1000}, {Kind: "blank", Count: 3}}
	assert.Equal(t, 2000.0, Since(known, usual, nil)[0].Now)
}
