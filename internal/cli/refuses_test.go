package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
)

// What no row can get into is said before the first is sent, with what to do.
func TestTablesThatTakeNoRows(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		exec := func(all ...string) {
			for _, sql := range all {
				_, err := s.db.Exec(sql)
				require.NoError(t, err, sql)
			}
		}
		exec("CREATE TABLE base (id INT PRIMARY KEY, toll DECIMAL(6,2))", "CREATE VIEW sums AS SELECT id, sum(toll) AS toll FROM base GROUP BY id")
		b.write("a.csv", "id,toll\n1,2.50\n2,3.50\n")
		refused := func(url, table, want string) {
			r := b.run(2, "load", "a.csv", "--into", url, "--table", table, "--mode", "append")
			assert.Contains(t, r.err, want)
			assert.Contains(t, r.err, "nothing was changed")
			assert.NotContains(t, r.err, "rejected")
		}
		refused(s.url, "sums", "is a view")
		switch s.name {
		case "sqlite":
			exec("CREATE TRIGGER into_base INSTEAD OF INSERT ON sums BEGIN INSERT INTO base VALUES (NEW.id, NEW.toll); END")
			b.run(0, "load", "a.csv", "--into", s.url, "--table", "sums", "--mode", "append")
		case "mysql":
			exec("CREATE VIEW plain AS SELECT id, toll FROM base")
			b.run(0, "load", "a.csv", "--into", s.url, "--table", "plain", "--mode", "append")
		case "sqlserver":
			exec("CREATE VIEW seen AS SELECT id, toll FROM base")
			refused(s.url, "seen", "is a view")
			exec("CREATE TABLE instead (id INT PRIMARY KEY, toll DECIMAL(6,2))", "CREATE TRIGGER no ON instead INSTEAD OF INSERT AS INSERT base SELECT * FROM inserted")
			refused(s.url, "instead", "takes the place of every insert")
			exec("DROP TRIGGER no", "CREATE TRIGGER halve ON instead AFTER INSERT AS UPDATE i SET toll = i.toll / 2 FROM instead i JOIN inserted n ON n.id = i.id")
			r := b.run(4, "load", "a.csv", "--into", s.url, "--table", "instead", "--mode", "append")
			assert.Contains(t, r.err, "nothing was committed")
		case "postgres":
			exec("CREATE MATERIALIZED VIEW kept AS SELECT id, toll FROM base")
			refused(s.url, "kept", "is a materialized view")
			exec("CREATE TABLE guarded (id INT PRIMARY KEY, toll DECIMAL(6,2))", "ALTER TABLE guarded ENABLE ROW LEVEL SECURITY",
				"CREATE POLICY few ON guarded USING (id > 1)", "DROP ROLE IF EXISTS clerk", "CREATE ROLE clerk LOGIN PASSWORD '"+testdb.Password+"'",
				"GRANT ALL ON ALL TABLES IN SCHEMA public TO clerk", "GRANT CREATE, USAGE ON SCHEMA public TO clerk")
			t.Cleanup(func() { s.db.Exec("DROP OWNED BY clerk"); s.db.Exec("DROP ROLE clerk") })
			refused(strings.Replace(s.url, "tray:", "clerk:", 1), "guarded", "BYPASSRLS")
			b.run(0, "load", "a.csv", "--into", s.url, "--table", "guarded", "--mode", "append")
			// Triggers that the transaction puts off run before the table is verified.
			exec("CREATE TABLE late (id INT PRIMARY KEY, toll DECIMAL(6,2))",
				"CREATE FUNCTION halve() RETURNS trigger AS $$ BEGIN UPDATE late SET toll = toll / 2 WHERE id = NEW.id; RETURN NULL; END $$ LANGUAGE plpgsql",
				"CREATE CONSTRAINT TRIGGER halve AFTER INSERT ON late DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION halve()")
			r := b.run(4, "load", "a.csv", "--into", s.url, "--table", "late", "--mode", "append")
			assert.Contains(t, r.err, "nothing was committed")
		}
	})
}
