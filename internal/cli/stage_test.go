package cli_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/testdb"
)

// Where no table can be made beside the one that is merged into, the stage is temporary; what comes of it is the
// same. Keys that stand twice and rows in no order are told as they are with ordinary tables, and nothing of those
// is left.
func TestStageOfPostgres(t *testing.T) {
	b, s := on(t, "postgres", testdb.Postgres)
	const clerk = "gatekeeper"
	s.exec(t, "DROP ROLE IF EXISTS "+clerk, "CREATE ROLE "+clerk+" LOGIN PASSWORD '"+testdb.Password+"'", "CREATE TABLE gates (gate INT, side VARCHAR(8), paddles INT)",
		"GRANT SELECT, INSERT, UPDATE, DELETE ON gates TO "+clerk)
	t.Cleanup(func() { s.db.Exec("DROP OWNED BY " + clerk); s.db.Exec("DROP ROLE " + clerk) })
	line := func(k, paddles int) string { return fmt.Sprintf("%d,%s,%d\n", k, []string{"up", "down"}[k%2], paddles) }
	var was, file strings.Builder
	was.WriteString("gate,side,paddles\n")
	file.WriteString("gate,side,paddles\n")
	for k := range 3000 {
		was.WriteString(line(k, k%4))
		file.WriteString(line(k*1009%4000, k*1009%4000%4+k*1009%4000/7%2)) // in no order
	}
	file.WriteString("12,up,9\n,up,1\n,up,2\n12,down,3\n")
	b.write("was.csv", was.String())
	b.write("gates.csv", file.String())
	var contents [][]string
	for _, as := range []string{"tray:", clerk + ":", "dry"} {
		b.run(0, "load", "was.csv", "--into", s.url, "--table", "gates", "--mode", "refill", "--yes")
		args := []string{"gates.csv", "--into", s.url, "--table", "gates", "--mode", "merge", "--key", "gate,side", "--max-rejects", "9"}
		if as == "dry" {
			r := b.run(0, append([]string{"load", "--dry-run"}, args...)...)
			assert.Contains(t, r.out, "changed    1,117")
			assert.Contains(t, r.out, "757  new, by gate, side")
			continue
		}
		args[2] = strings.Replace(s.url, "tray:", as, 1)
		rec := b.merged(3, args...)
		assert.Equal(t, int64(4), rec.Records.Rejected, as) // 12, up, and of no gate, twice each
		contents = append(contents, append(b.content(s.url, "gates"), fmt.Sprint(rec.Merge.Inserted, rec.Merge.Changed, rec.Merge.Unchanged)))
		assert.Equal(t, "757 1117 1126", contents[0][len(contents[0])-1])
		assert.Equal(t, contents[0], contents[len(contents)-1], as)
		assert.Equal(t, [][]string{{"0"}}, queryRows(t, s.db, `SELECT count(*)::text FROM pg_class WHERE relname LIKE 'ambertray%'`), as)
	}
}
