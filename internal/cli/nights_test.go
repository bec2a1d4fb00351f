package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A night is what arrives in it.
type night struct {
	day  time.Time
	rows []passage
}

// A passage is a row as it should be in the table.
type passage struct {
	id   int
	day  time.Time
	lock string
	toll int // hundredths
}

// An oddity is what is odd about a file, and what the mail has to say of it.
type oddity struct {
	name, says string
	// write is the text of the file of a night; empty: no file comes.
	write func(n night, random *rand.Rand) string
	// loads tells that the file is to be loaded all the same, once the mail has been read.
	loads bool
}

// usual is how the sender writes a file: titles, header, records, a total.
func usual(n night) string {
	return "Harrowmere Canal Trust\nPassages of " + n.day.Format("2 January") + "\n" + headed("id,passed,lock,toll\n", n) + total(n)
}

func headed(header string, n night) string {
	for _, p := range n.rows {
		header += p.text() + "\n"
	}
	return header
}

func (p passage) text() string {
	return fmt.Sprintf("%d,%s,%s,%d.%02d", p.id, p.day.Format("02/01/2006"), p.lock, p.toll/100, p.toll%100)
}

func total(n night) string {
	sum := 0
	for _, p := range n.rows {
		sum += p.toll
	}
	return fmt.Sprintf("Total,,,%d.%02d\n", sum/100, sum%100)
}

var oddities = []oddity{
	{name: "no file", says: "no such file", write: func(night, *rand.Rand) string { return "" }},
	{name: "cut in the middle", says: "has no footer", write: func(n night, _ *rand.Rand) string {
		text := usual(n)
		return text[:len(text)*2/3]
	}},
	{name: "a header only", says: "has no footer", write: func(n night, _ *rand.Rand) string { n.rows = nil; return headed("id,passed,lock,toll\n", n) }},
	{name: "one title more", write: func(n night, _ *rand.Rand) string { return "Printed at night\n" + usual(n) }},
	{name: "no titles", write: func(n night, _ *rand.Rand) string { return headed("id,passed,lock,toll\n", n) + total(n) }},
	{name: "a total among the records", says: "nothing says whether they are to be loaded", write: func(n night, _ *rand.Rand) string {
		half := n
		half.rows = n.rows[:len(n.rows)/2]
		rest := n
		rest.rows = n.rows[len(n.rows)/2:]
		return headed("id,passed,lock,toll\n", half) + total(half) + headed("", rest) + total(n)
	}},
	{name: "a column renamed", says: `toll: is missing`, write: func(n night, _ *rand.Rand) string {
		return strings.Replace(usual(n), ",toll\n", ",fee\n", 1)
	}},
	{name: "a new column", says: "keeper: ", loads: true, write: func(n night, _ *rand.Rand) string {
		text := headed("id,passed,lock,toll\n", n)
		lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
		for i := range lines {
			lines[i] += map[bool]string{true: ",keeper", false: ",Iris"}[i == 0]
		}
		return strings.Join(lines, "\n") + "\n" + strings.TrimSuffix(total(n), "\n") + ",\n"
	}},
	{name: "another delimiter", says: "delimited by ';'", write: func(n night, _ *rand.Rand) string {
		return strings.ReplaceAll(usual(n), ",", ";")
	}},
	{name: "columns in another order", write: func(n night, _ *rand.Rand) string {
		text := "toll,lock,passed,id\n"
		for _, p := range n.rows {
			f := strings.Split(p.text(), ",")
			slices.Reverse(f)
			text += strings.Join(f, ",") + "\n"
		}
		return text + "Total," + strings.Repeat(",", 2) + strconv.Itoa(len(n.rows)) + "\n"
	}},
	{name: "days and months changed places", says: "passed", write: func(n night, _ *rand.Rand) string {
		text := usual(n)
		for _, p := range n.rows {
			text = strings.ReplaceAll(text, p.day.Format("02/01/2006"), p.day.Format("01/02/2006"))
			break // they have one day
		}
		return text
	}},
	{name: "tolls in hundredths", says: "toll: ", write: func(n night, _ *rand.Rand) string {
		n.rows = slices.Clone(n.rows)
		for i := range n.rows {
			n.rows[i].toll *= 100
		}
		return usual(n)
	}},
	{name: "last night's rows in another order", says: "the same rows are in the table already"},
	{name: "other line ends", write: func(n night, _ *rand.Rand) string { return strings.ReplaceAll(usual(n), "\n", "\r\n") }},
}

// Ninety nights of a job that cron runs, with --quiet and --strict. What is odd is named in the mail; in
// the morning somebody reads it, and has the file sent as it should be. In the end the table holds
// what it should. AMBERTRAY_NIGHTS is another seed; with -v, the mails are shown.
func TestNights(t *testing.T) {
	seed := uint64(1777)
	if s := os.Getenv("AMBERTRAY_NIGHTS"); s != "" {
		var err error
		seed, err = strconv.ParseUint(s, 10, 64)
		require.NoError(t, err)
	}
	onServers(t, func(t *testing.T, b *bench, s server) {
		if s.name != "sqlite" && s.name != "postgres" {
			t.Skip("the nights are those of SQLite and PostgreSQL")
		}
		nights(t, b, s, rand.New(rand.NewPCG(seed, 90)))
	})
}

func nights(t *testing.T, b *bench, s server, random *rand.Rand) {
	day := time.Date(2025, 3, 3, 0, 0, 0, 0, time.UTC)
	var truth []passage
	id := 0
	next := func() night {
		n := night{day: day}
		for range 40 + random.IntN(20) {
			id++
			n.rows = append(n.rows, passage{id, day, []string{"Alder Gate", "Withy Cut", "Nether Lock"}[random.IntN(3)], 50 + random.IntN(4000)})
		}
		return n
	}
	name := func() string { return "passages-" + day.Format(time.DateOnly) + ".csv" }
	load := func(more ...string) result {
		return b.try(append([]string{"load", "p.yaml", name(), "--into", s.url, "--mode", "append", "--quiet"}, more...)...)
	}
	first := next()
	b.write(name(), usual(first))
	b.run(0, "plan", name(), "--table", "passages", "--key", "none", "--dates", "day-first", "-o", "p.yaml")
	b.run(0, "load", "p.yaml", "--into", s.url)
	truth, last := append(truth, first.rows...), first
	gap, odd := "", 0 // the day that had no file
	for range 89 {
		if day = day.AddDate(0, 0, 1); day.Weekday() == time.Sunday {
			continue // nobody works the locks
		}
		n := next()
		var o oddity
		if gap == "" && random.IntN(3) == 0 { // one thing at a time: --strict names what it meets first
			o = oddities[random.IntN(len(oddities))]
		}
		text := usual(n)
		if o.write != nil {
			text = o.write(n, random)
		} else if o.name != "" {
			again := slices.Clone(last.rows)
			slices.Reverse(again)
			text = usual(night{day, again})
		}
		if o.name == "days and months changed places" && (day.Day() > 12 || day.Day() == int(day.Month())) {
			o = oddity{} // that would be no date, or the same
			text = usual(n)
		}
		if text != "" {
			b.write(name(), text)
		}
		r := load("--strict")
		mail := r.err + r.out
		if o.says != "" {
			odd++
			assert.Contains(t, mail, o.says, "%s %s", day.Format(time.DateOnly), o.name)
		}
		if o.name == "no file" {
			gap = day.Format("2 January 2006")
			t.Logf("%s %s: %d %s", day.Format(time.DateOnly), o.name, r.code, mail)
			continue // nobody sends it any more
		}
		if o.says == "" && gap == "" {
			require.Zero(t, r.code, "%s: %s", o.name, mail)
		}
		if r.code != 0 {
			if !o.loads {
				b.write(name(), usual(n)) // it is sent again
			}
			again := load() // the cautions are known
			require.Zero(t, again.code, "%s: %s", o.name, again.err)
			mail += again.err + again.out
		}
		if gap != "" {
			assert.Contains(t, mail, "no file for "+gap, "%s: the night after", o.name)
			gap = ""
		}
		t.Logf("%s %s: %d %s", day.Format(time.DateOnly), o.name, r.code, mail)
		truth, last = append(truth, n.rows...), n
	}
	assert.Greater(t, odd, 8)
	rows := queryRows(t, s.db, "SELECT id, "+map[string]string{"sqlite": "date(passed)", "postgres": "to_char(passed, 'YYYY-MM-DD')"}[s.name]+
		", lock, toll FROM passages ORDER BY id")
	require.Len(t, rows, len(truth))
	for i, p := range truth {
		toll, err := strconv.ParseFloat(fmt.Sprint(rows[i][3]), 64)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(p.id, p.day.Format(time.DateOnly), p.lock, p.toll), fmt.Sprint(rows[i][0], rows[i][1], rows[i][2], int(toll*100+0.5)))
	}
}
