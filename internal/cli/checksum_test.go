package cli_test

import (
	"fmt"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// readings is a file of n records, of which some repeat the key of an earlier
// one: that of line twice[line].
func readings(n int, twice map[int]int) string {
	var f strings.Builder
	f.WriteString("Reading,Gauge,Read on,Level m,Remarks\n")
	for line := 2; line < n+2; line++ {
		id := line
		if first, is := twice[line]; is {
			id = first
		}
		fmt.Fprintf(&f, "%d,Gauge of the %d. lock at Harrowmere,2025-%02d-%02d,%d.%02d,\"%s\"\n", id, line%40, line%12+1, line%28+1, line%9, line%100, strings.Repeat("still ", line%9))
	}
	return f.String()
}

// A new table is compared row by row, by checksums, even where rows were
// refused on the way, in whatever part of the file they and the first with
// their key are; the first stays.
func TestChecksumsAfterRefusals(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		n, by := 130_000, 1
		if s.name == "oracle" {
			n, by = 13_000, 10 // its stand-in takes long to add up
		}
		b.write("clean.csv", readings(n, nil))
		b.run(0, "plan", "clean.csv", "-o", "readings.yaml", "--table", "readings", "--key", "reading")
		r := b.loaded(0, "readings.yaml", "--into", s.url)
		sums := s.name != "sqlserver" && s.name != "oracle"
		assert.Equal(t, sums, r.Table.Checksums)
		for _, c := range r.Columns {
			assert.True(t, c.Agrees)
		}
		for name, twice := range map[string]map[int]int{
			"near": {90_000 / by: 89_999 / by, 90_000/by + 2: 89_999 / by, 120_000 / by: 119_000 / by},
			"far":  {5: 4, 120_000 / by: 3, 120_000/by + 1: 119_000 / by, n + 1: 2},
			"spread": func() map[int]int {
				m := map[int]int{}
				for i := 1; i < 43; i++ {
					m[3000*i/by] = 2950 * i / by
				}
				return m
			}(),
		} {
			b.write("twice.csv", readings(n, twice))
			r := b.loaded(3, "readings.yaml", "twice.csv", "--into", s.url, "--mode", "replace", "--yes")
			assert.Equal(t, sums, r.Table.Checksums, name)
			assert.EqualValues(t, n, r.Records.Read)
			assert.EqualValues(t, len(twice), r.Records.Rejected, name)
			assert.EqualValues(t, n-len(twice), r.Table.Rows, name)
			var want, got []string
			for line := range twice {
				want = append(want, fmt.Sprint(line))
			}
			for _, x := range b.rejects(r.Entry)[1:] {
				got = append(got, x[2])
			}
			sort.Strings(want)
			sort.Strings(got)
			assert.Equal(t, want, got, name)
		}
		more := map[int]int{}
		for line := 2; line < 12; line++ {
			more[line] = line + 1_000_000
		}
		b.write("more.csv", readings(10, more))
		r = b.loaded(0, "readings.yaml", "more.csv", "--into", s.url, "--mode", "append", "--yes")
		assert.False(t, r.Table.Checksums, "what is added is told by what the columns come to")
	})
}

// A value that is changed on its way into the table, such that no sum and no
// length shows it, is found; the table stays as it was.
func TestChecksumFindsOneLetter(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		if s.name != "postgres" {
			t.Skip("elsewhere only tables of our own making are compared by checksums, and have no triggers")
		}
		_, err := s.db.Exec("CREATE TABLE boats (id int PRIMARY KEY, boat varchar(20), berth int)")
		require.NoError(t, err)
		_, err = s.db.Exec("INSERT INTO boats VALUES (1, 'Kestrel', 7)")
		require.NoError(t, err)
		b.write("boats.csv", "id,boat,berth\n1,Avocet,1\n2,Heron,2\n3,Tansy,3\n4,Wren,4\n")
		b.loaded(0, "boats.csv", "--into", s.url, "--table", "boats", "--mode", "refill", "--yes")
		for change, finds := range map[string]string{
			"NEW.boat := replace(NEW.boat, 'Heron', 'Haron')":                                "checksums of the rows",
			"IF NEW.id IN (2, 3) THEN NEW.berth := 5 - NEW.berth; END IF":                    "checksums of the rows",
			"NEW.berth := NEW.berth + 1":                                                     "column berth: sum: 10 read, 14 in the table",
			"IF NEW.boat = 'Tansy' THEN NEW.boat := NULL; END IF":                            "column boat: nulls: 0 read, 1 in the table",
			"IF NEW.boat = 'Wren' THEN NEW.boat := 'Zzyz'; END IF":                           "column boat: largest: Wren read, Zzyz in the table",
			"IF NEW.id = 4 THEN RETURN NULL; END IF":                                         "the table has 3 rows",
			"IF NEW.id = 4 THEN INSERT INTO boats VALUES (5, 'Wren', 0); RETURN NEW; END IF": "the table has 5 rows",
		} {
			for _, sql := range []string{"CREATE OR REPLACE FUNCTION change() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN " + change + "; RETURN NEW; END $$",
				"DROP TRIGGER IF EXISTS change ON boats", "CREATE TRIGGER change BEFORE INSERT ON boats FOR EACH ROW EXECUTE FUNCTION change()"} {
				_, err := s.db.Exec(sql)
				require.NoError(t, err, sql)
			}
			out := b.run(4, "load", "boats.csv", "--into", s.url, "--table", "boats", "--mode", "refill", "--yes")
			assert.Contains(t, out.err, "nothing was committed", change)
			assert.Contains(t, out.err, finds, change)
			var n int
			require.NoError(t, s.db.QueryRow("SELECT count(*) FROM boats WHERE boat IN ('Avocet', 'Heron', 'Tansy', 'Wren') AND berth = id").Scan(&n))
			assert.Equal(t, 4, n, "as it was")
		}
	})
}
