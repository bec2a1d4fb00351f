package cli_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Sums, lengths and extremes agree where two values have changed places; only the
// comparison of every value tells, before the commit.
func TestProve(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		swap := map[string][]string{
			"sqlite": {"CREATE TRIGGER swap AFTER INSERT ON tolls BEGIN UPDATE tolls SET note = CASE note WHEN 'b' THEN 'c' WHEN 'c' THEN 'b' ELSE note END WHERE id = NEW.id; END"},
			"postgres": {"CREATE FUNCTION swap() RETURNS trigger AS $$ BEGIN NEW.note := CASE NEW.note WHEN 'b' THEN 'c' WHEN 'c' THEN 'b' ELSE NEW.note END; RETURN NEW; END $$ LANGUAGE plpgsql",
				"CREATE TRIGGER swap BEFORE INSERT ON tolls FOR EACH ROW EXECUTE FUNCTION swap()"},
			"sqlserver": {"CREATE TRIGGER swap ON tolls AFTER INSERT AS UPDATE t SET note = CASE t.note WHEN 'b' THEN 'c' WHEN 'c' THEN 'b' ELSE t.note END FROM tolls t JOIN inserted i ON i.id = t.id"},
			"mysql":     {"CREATE TRIGGER swap BEFORE INSERT ON tolls FOR EACH ROW SET NEW.note = CASE NEW.note WHEN 'b' THEN 'c' WHEN 'c' THEN 'b' ELSE NEW.note END"},
		}[s.name]
		b.write("a.csv", "id,note,toll\n1,a,2.50\n2,b,3.50\n3,c,4.50\n4,d,5.50\n")
		b.write("b.csv", "id,note,toll\n5,a,2.50\n6,b,3.50\n7,c,4.50\n1,d,5.50\n")
		rec := b.loaded(0, "a.csv", "--into", s.url, "--table", "tolls", "--key", "id", "--prove")
		assert.True(t, rec.Table.Proved)
		for _, c := range rec.Columns {
			assert.EqualValues(t, "every value", c.Proof, c.Name)
		}
		more := []string{"b.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--max-rejects", "none", "--prove"}
		rec = b.loaded(3, more...)
		assert.True(t, rec.Table.Proved, "a record that is rejected is not looked for")
		refill := append([]string{"a.csv"}, more[1:]...)
		refill = append(refill, "--mode", "refill", "--yes", "--again")
		if s.name == "oracle" {
			return // the stand-in has no triggers that change rows
		}
		for _, sql := range swap {
			_, err := s.db.Exec(sql)
			require.NoError(t, err)
		}
		r := b.run(4, append([]string{"load"}, refill...)...)
		if s.name == "postgres" { // whose checksums are of all rows here, and come first
			assert.Contains(t, r.err, "checksums of the rows")
		} else {
			assert.Contains(t, r.err, "line 3, note: 'b' in the source, 'c' in the table")
		}
		assert.Contains(t, r.err, "nothing was committed")
		assert.Equal(t, [][]string{{"7"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM tolls"))
		b.run(2, "load", "a.csv", "--into", s.url, "--table", "t2", "--prove", "--commit-every", "2")
	})
}

// What a view makes of values, so that they are not of their type any more, is no reason
// to compare less.
func TestChangedOnTheWay(t *testing.T) {
	b := newBench(t)
	b.query("c.db", "CREATE TABLE base (id INTEGER PRIMARY KEY, toll NUMERIC)")
	b.query("c.db", "CREATE VIEW tolls AS SELECT id, toll FROM base")
	b.query("c.db", "CREATE TRIGGER halve INSTEAD OF INSERT ON tolls BEGIN INSERT INTO base VALUES (NEW.id, NEW.toll / 2); END")
	b.write("a.csv", "id,toll\n1,2.25\n2,3.25\n")
	r := b.run(4, "load", "a.csv", "--into", "sqlite:c.db", "--table", "tolls", "--mode", "append")
	assert.Contains(t, r.err, "column toll: the table has a value that is not of its type, and none was loaded")
	assert.Equal(t, [][]string{{"0"}}, b.query("c.db", "SELECT count(*) || '' FROM base"))
}
