package cli_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
)

// Domains of PostgreSQL are loaded and compared as what they are of, and the words of an
// enumeration are checked before a row is sent; what a domain forbids becomes a reject.
func TestDomainsAndEnumerations(t *testing.T) {
	url, db := testdb.Postgres(t)
	b := benchOf(t, url)
	for _, sql := range []string{"CREATE DOMAIN permit AS varchar(6) CHECK (VALUE ~ '^[0-9]+$')", "CREATE DOMAIN permit2 AS permit",
		"CREATE DOMAIN price AS numeric(6,2) CHECK (VALUE > 0)", "CREATE DOMAIN paid_on AS date", "CREATE TYPE way AS ENUM ('up', 'down')",
		"CREATE TABLE passages (id int PRIMARY KEY, permit permit2, toll price NOT NULL, day paid_on, way way)"} {
		_, err := db.Exec(sql)
		require.NoError(t, err, sql)
	}
	b.write("a.csv", "id,permit,toll,day,way\n1,000417,2.50,2026-05-01,up\n2,000418,3.50,,down\n3,00041x,4.50,2026-05-03,up\n4,000420,-1.00,2026-05-04,\n")
	args := []string{"a.csv", "--into", url, "--table", "passages", "--mode", "append", "--max-rejects", "none"}
	rec := b.loaded(3, args...)
	assert.Empty(t, rec.Uncompared())
	assert.EqualValues(t, 2, rec.Records.Loaded)
	assert.Equal(t, [][]string{{"1|000417|2.50|2026-05-01|up"}, {"2|000418|3.50|<null>|down"}},
		queryRows(t, db, "SELECT concat_ws('|', id, permit, toll, coalesce(day::text, '<null>'), way) FROM passages ORDER BY id"))
	for _, r := range b.rejects(rec.Entry)[1:] {
		assert.Contains(t, r[6], "domain", r)
	}
	b.run(3, "verify", "passages", "--deep")
	b.run(0, "export", url, "passages", "-o", "e.csv", "--plan", "e.yaml")
	b.loaded(0, "e.yaml", "--into", url, "--table", "passages", "--mode", "refill", "--yes", "--prove")
	b.write("a.csv", "id,permit,toll,day,way\n7,000417,2.50,2026-05-01,sideways\n")
	assert.Contains(t, b.run(2, append([]string{"load"}, args...)...).err, "not one of the column's words, first on line 2 'sideways'")
}
