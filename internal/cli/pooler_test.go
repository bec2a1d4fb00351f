package cli_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/testdb"
)

// Through a pooler that lends connections for sessions, all is as without it. One that lends them for transactions
// is refused before anything is made: locks and settings would be those of somebody else.
func TestThroughAPooler(t *testing.T) {
	pooled, lent, db := testdb.Pooled(t)
	b := benchOf(t, pooled)
	direct, s := on(t, "postgres", testdb.Postgres)
	assert.Equal(t, direct.same(s.url), b.same(pooled))
	// What a dry run is not allowed is not left to the next that a connection is lent to.
	b.write("more.csv", allKinds(400, 440, 0))
	b.run(0, "load", "more.csv", "--into", pooled, "--table", "kinds", "--mode", "append", "--dry-run")
	b.run(0, "load", "more.csv", "--into", pooled, "--table", "kinds", "--mode", "append")
	assert.Equal(t, 0, howMany(t, db, "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database())"))
	for _, args := range [][]string{{"load", "kinds.csv", "--into", lent, "--table", "pooled_kinds"}, {"peek", lent}, {"export", lent, "pg_class", "-o", "out.csv"}} {
		r := b.run(1, args...)
		assert.Contains(t, r.err, "lends another connection for each transaction")
		assert.NotContains(t, r.err, testdb.Password)
	}
}
