package sqlite

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ambertray/internal/db/dialect"
)

// A row of the tables below: two columns of a key, and two others, which may be null.
type row struct{ a, b, c, d any }

func (r row) key() string { return fmt.Sprint(r.a, "/", r.b) }

// The statements of a merge, as they stand in package dialect, against what a merge is in a few
// lines: random tables and records, with keys in common, nulls, and values that stay.
func TestMergeStatementsAreAMerge(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 11))
	for round := range 200 {
		table, stage := distinctRows(rng, rng.IntN(12)), distinctRows(rng, rng.IntN(12))
		m, c := merged(t, table, stage, round%2 == 1)
		counts := map[dialect.Change]int{}
		want := map[string]row{}
		for _, r := range table {
			want[r.key()] = r
		}
		gone := len(table)
		for _, r := range stage {
			old, known := want[r.key()]
			switch {
			case !known:
				counts[dialect.Inserted]++
			case old != r:
				counts[dialect.Changed]++
			}
			if known {
				gone--
			}
			want[r.key()] = r
		}
		counts[dialect.Gone] = gone

		runs(t, c, m.Find(false), m.FindMissing())
		for what, n := range counts {
			assert.Equal(t, n, counted(t, c, fmt.Sprintf("SELECT count(*) FROM changes WHERE %s = '%s'", dialect.ChangeWhat, what)), "%d %s", round, what)
		}
		assert.Equal(t, gone, counted(t, c, "SELECT count(*) FROM "+m.Rest()))
		for _, shown := range []string{m.Were(100), m.Become(100), "SELECT * FROM " + m.ChangedRows()} {
			assert.Equal(t, counts[dialect.Changed], counted(t, c, "SELECT count(*) FROM ("+shown+")"))
		}
		runs(t, c, m.Do(dialect.Changed, 0, 0), m.Do(dialect.Inserted, 0, 0))
		assert.Equal(t, sorted(want), rowsNow(t, c), "round %d", round)
		assert.Equal(t, len(stage), counted(t, c, m.CountSame()), "each record is in the table as it is")
		assert.Equal(t, counts[dialect.Changed], counted(t, c, m.CountDone(dialect.Changed)))
		assert.Equal(t, counts[dialect.Inserted], counted(t, c, m.CountDone(dialect.Inserted)))

		runs(t, c, m.DeleteMissing())
		left := map[string]row{}
		for _, r := range stage {
			left[r.key()] = r
		}
		assert.Equal(t, sorted(left), rowsNow(t, c))
		require.NoError(t, c.Close())
	}
}

// With whole rows, the table has afterwards as many of each as the stage, or as it had, if that
// is more.
func TestWholeRowsAreAdded(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	some := func(n int) (out []row) {
		for range n {
			out = append(out, row{int64(rng.IntN(2)), "x", pick(rng, nil, "p"), nil})
		}
		return out
	}
	for range 100 {
		table, stage := some(rng.IntN(8)), some(rng.IntN(8))
		m, c := merged(t, table, stage, false)
		m.Key = nil
		count := map[row]int{}
		for _, r := range table {
			count[r]++
		}
		staged := map[row]int{}
		for _, r := range stage {
			staged[r]++
		}
		runs(t, c, m.Find(true), m.Do(dialect.Inserted, 0, 0))
		got := map[row]int{}
		for _, r := range rowsNow(t, c) {
			got[r]++
		}
		for r, n := range staged {
			count[r] = max(count[r], n)
		}
		assert.Equal(t, count, got)

		// And it is taken back: as many of each as the stage has of them go.
		more := len(rowsNow(t, c))
		runs(t, c, m.DeleteWhole("rowid"))
		assert.Len(t, rowsNow(t, c), more-len(stage))
		require.NoError(t, c.Close())
	}
}

// Keys that stand more than once in the stage are found, all of them or all but the last.
func TestKeysThatStandTwice(t *testing.T) {
	m, c := merged(t, nil, []row{{int64(1), "x", nil, nil}, {int64(2), "x", nil, nil}, {int64(1), "x", "p", nil}, {int64(1), "y", nil, nil}, {int64(2), "x", nil, "q"}}, false)
	defer c.Close()
	assert.Equal(t, []int{1, 2, 3, 5}, allNumbers(t, c, m.TwiceRows(false)))
	assert.Equal(t, []int{1, 2}, allNumbers(t, c, m.TwiceRows(true)), "the last of each counts")
	runs(t, c, m.Unstage("1, 2")...)
	assert.Equal(t, 3, counted(t, c, "SELECT count(*) FROM stage"))
}

// merged makes the three tables of a merge.
func merged(t *testing.T, table, stage []row, lean bool) (*dialect.Merge, *sql.DB) {
	c, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	c.SetMaxOpenConns(1)
	m := &dialect.Merge{Dialect: Dialect, Table: `"passages"`, Stage: `"stage"`, Changes: `"changes"`, Number: "rowid", Key: []string{"a", "b"}, Lean: lean,
		All: []string{"a", "b", "c", "d"}}
	for _, name := range m.All {
		m.Columns = append(m.Columns, dialect.Column{Name: name, Type: typ(t, "varchar(20)")})
	}
	m.Columns[0].Type = typ(t, "integer")
	const columns = " (a integer, b text, c text, d text)"
	runs(t, c, "CREATE TABLE passages"+columns, "CREATE TABLE stage"+columns,
		"CREATE TABLE changes AS SELECT "+m.NoChanges("0", "''")+" FROM passages t WHERE false")
	for name, rows := range map[string][]row{"passages": table, "stage": stage} {
		for _, r := range rows {
			_, err := c.Exec("INSERT INTO "+name+" VALUES (?, ?, ?, ?)", r.a, r.b, r.c, r.d)
			require.NoError(t, err)
		}
	}
	return m, c
}

// distinctRows have keys that are all different.
func distinctRows(rng *rand.Rand, n int) (out []row) {
	seen := map[string]bool{}
	for range n {
		r := row{int64(rng.IntN(5)), pick(rng, "x", "y", "Y"), pick(rng, nil, "p", "q"), pick(rng, nil, "", "q")}
		if !seen[r.key()] {
			seen[r.key()] = true
			out = append(out, r)
		}
	}
	return out
}

func pick(rng *rand.Rand, of ...any) any { return of[rng.IntN(len(of))] }

func runs(t *testing.T, c *sql.DB, statements ...string) {
	t.Helper()
	for _, s := range statements {
		_, err := c.Exec(s)
		require.NoError(t, err, s)
	}
}

func allNumbers(t *testing.T, c *sql.DB, query string) (out []int) {
	t.Helper()
	rows, err := c.Query(query)
	require.NoError(t, err, query)
	defer rows.Close()
	for rows.Next() {
		var n int
		require.NoError(t, rows.Scan(&n))
		out = append(out, n)
	}
	return out
}

func counted(t *testing.T, c *sql.DB, query string) int {
	t.Helper()
	list := allNumbers(t, c, query)
	require.Len(t, list, 1)
	return list[0]
}

// read is the table in an order of its own.
func rowsNow(t *testing.T, c *sql.DB) (out []row) {
	t.Helper()
	rows, err := c.Query("SELECT a, b, c, d FROM passages")
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var r row
		require.NoError(t, rows.Scan(&r.a, &r.b, &r.c, &r.d))
		out = append(out, r)
	}
	slices.SortFunc(out, byText)
	return out
}

func sorted(rows map[string]row) (out []row) {
	for _, r := range rows {
		out = append(out, r)
	}
	slices.SortFunc(out, byText)
	return out
}

func byText(a, b row) int {
	x, y := fmt.Sprintf("%v", a), fmt.Sprintf("%v", b)
	return map[bool]int{true: -1, false: 1}[x < y] * map[bool]int{true: 0, false: 1}[x == y]
}
