package cli_test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
)

// shards is a database of PostgreSQL that knows two others as the servers shard2 and shard3.
func shards(t *testing.T) (*bench, server, []*sql.DB) {
	url, first, others := testdb.Shards(t)
	return benchOf(t, url), server{"postgres", url, first}, others
}

// split makes a table of which two partitions are on other servers.
func (s server) split(t *testing.T, others []*sql.DB, columns, by string, bounds ...string) {
	for _, o := range others {
		server{"postgres", "", o}.exec(t, "DROP TABLE IF EXISTS part", "CREATE TABLE part ("+columns+")")
	}
	s.exec(t, "DROP TABLE IF EXISTS split", "CREATE TABLE split ("+columns+") PARTITION BY "+by)
	for i, bound := range bounds {
		of, on := "CREATE TABLE", ""
		if i > 0 {
			of, on = "CREATE FOREIGN TABLE", fmt.Sprintf(" SERVER shard%d OPTIONS (table_name 'part')", i+1)
		}
		s.exec(t, fmt.Sprintf("%s split_%d PARTITION OF split %s%s", of, i+1, bound, on))
	}
}

func thirds() (bounds []string) {
	for k := range 3 {
		bounds = append(bounds, fmt.Sprintf("FOR VALUES WITH (MODULUS 3, REMAINDER %d)", k))
	}
	return bounds
}

// passages writes a file of so many records, with numbers from a certain one on.
func (b *bench) passages(name string, from, n int) {
	var text strings.Builder
	text.WriteString("id,toll,note\n")
	for i := range n {
		fmt.Fprintf(&text, "%d,%d.50,passage number %d of the year\n", from+i, i%97, i)
	}
	b.write(name, text.String())
}

const straight = "go straight to shard2, shard3, and are committed there in two phases"

func howMany(t *testing.T, db *sql.DB, query string) (n int) {
	t.Helper()
	require.NoError(t, db.QueryRow(query).Scan(&n), query)
	return n
}

// Rows go to the servers that have their partitions, what these refuse is a reject, and all of it is
// verified and taken back as any load.
func TestRowsGoStraight(t *testing.T) {
	b, s, others := shards(t)
	s.split(t, others, "id integer NOT NULL, toll numeric(6,2), note varchar(60), CHECK (id <> 77 AND id % 1009 <> 5)",
		"HASH (id)", thirds()...)
	b.passages("a.csv", 0, 60_000)
	r := b.run(3, "load", "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes")
	assert.Contains(t, r.err, straight)
	bad := howMany(t, s.db, "SELECT 1 + count(*) FROM generate_series(1, 60000) i WHERE i % 1009 = 5 AND i <> 77")
	assert.Equal(t, 60_000-bad, howMany(t, s.db, "SELECT count(*) FROM split"))
	assert.Equal(t, 60_000-bad, howMany(t, s.db, "SELECT count(DISTINCT id) FROM split"))
	for k, o := range others {
		assert.Greater(t, howMany(t, o, "SELECT count(*) FROM part"), 15_000)
		assert.Zero(t, howMany(t, s.db, fmt.Sprintf("SELECT count(*) FROM (SELECT id FROM split_%d OFFSET 0) x "+
			"WHERE NOT satisfies_hash_partition('split'::regclass, 3, %d, id)", k+2, k+1)), "each row is where it is looked for")
		assert.Zero(t, howMany(t, o, "SELECT count(*) FROM pg_prepared_xacts WHERE database = current_database()"))
	}
	list := b.run(0, "rejects", "latest", "--json").out
	assert.Contains(t, list, "violates check constraint")
	b.run(3, "verify", "latest", "--deep")
	b.run(0, "undo", "latest", "--yes")
	assert.Zero(t, howMany(t, s.db, "SELECT count(*) FROM split"))

	// On the way, too.
	rec := b.loaded(3, "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes", "--commit-every", "10000", "--again")
	assert.EqualValues(t, bad, rec.Records.Rejected)
	assert.Greater(t, int(rec.Commits), 3)
	assert.Equal(t, 60_000-bad, howMany(t, s.db, "SELECT count(DISTINCT id) FROM split"))
}

// Whatever the key is, the server says which row is whose.
func TestRowsGoStraightByAnyKey(t *testing.T) {
	b, s, others := shards(t)
	for by, bounds := range map[string][]string{
		"RANGE (day, gauge)": {"FOR VALUES FROM (MINVALUE, MINVALUE) TO ('2024-03-01', 'M')",
			"FOR VALUES FROM ('2024-03-01', 'M') TO ('2024-06-01', 'A')", "FOR VALUES FROM ('2024-06-01', 'A') TO ('2024-12-01', 'A')"},
		"LIST (gauge)":        {"FOR VALUES IN ('Ö 1', 'tab\tin it', NULL)", "DEFAULT", `FOR VALUES IN ('back\slash', 'Old, Basin')`},
		"HASH (gauge, level)": thirds(),
	} {
		s.split(t, others, `id integer, day date, gauge varchar(20) COLLATE "C", level numeric(6,2), extra jsonb`, by, bounds...)
		if strings.HasPrefix(by, "LIST") { // else rows go as text: what is extra has no type of the standard
			s.exec(t, "ALTER TABLE split ALTER extra TYPE text")
			for _, o := range others {
				server{"postgres", "", o}.exec(t, "ALTER TABLE part ALTER extra TYPE text")
			}
		}
		gauges := []string{"Ö 1", "tab\tin it", "", `back\slash`, "Old, Basin", "Zz", "a"}
		var text strings.Builder
		text.WriteString("id,day,gauge,level,extra\n")
		for i := range 3000 {
			fmt.Fprintf(&text, "%d,2024-%02d-%02d,\"%s\",%d.25,\"{\"\"n\"\": %d}\"\n", i, i%12+1, i%28+1, gauges[i%len(gauges)], i%50, i)
		}
		b.write("a.csv", text.String())
		code := 0
		if strings.HasPrefix(by, "RANGE") {
			code = 3 // December has no partition, and a null none either
		}
		r := b.run(code, "load", "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes", "--max-rejects", "none", "--again")
		assert.Contains(t, r.err, straight, by)
		in := howMany(t, s.db, "SELECT count(*) FROM split")
		if code == 0 {
			assert.Equal(t, 3000, in)
		} else {
			assert.Equal(t, howMany(t, s.db, "SELECT count(*) FROM generate_series(0, 2999) i WHERE i % 12 <> 11 AND i % 7 <> 2"), in)
			assert.Contains(t, b.run(0, "rejects", "latest", "--json").out, "no partition of relation \\\"split\\\"")
		}
		// What is on each server is what the bound of the partition says of it.
		for k := range bounds {
			var where string
			require.NoError(t, s.db.QueryRow(fmt.Sprintf("SELECT pg_get_partition_constraintdef('split_%d'::regclass)", k+1)).Scan(&where))
			assert.Zero(t, howMany(t, s.db, fmt.Sprintf("SELECT count(*) FROM (SELECT * FROM split_%d OFFSET 0) x WHERE NOT (%s)", k+1, where)))
		}
		assert.Positive(t, howMany(t, others[0], "SELECT count(*) FROM part"))
		b.run(code, "verify", "latest", "--deep")
	}
}

// A refill empties each partition on its own server, and nobody sees a part of it: what is refused, and what is
// killed, leaves all rows as they were.
func TestRefillGoesStraight(t *testing.T) {
	b, s, others := shards(t)
	s.split(t, others, "id integer NOT NULL, toll numeric(6,2), note varchar(60), CHECK (id < 50000)", "HASH (id)", thirds()...)
	b.passages("a.csv", 0, 3000)
	b.run(0, "load", "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes")
	b.passages("b.csv", 2000, 20_000)
	refill := []string{"load", "b.csv", "--into", s.url, "--table", "split", "--mode", "refill", "--yes"}
	r := b.run(0, refill...)
	assert.Contains(t, r.err, straight)
	whole := func(why string) {
		t.Helper()
		assert.Equal(t, 20_000, howMany(t, s.db, "SELECT count(DISTINCT id) FROM split WHERE id BETWEEN 2000 AND 21999"), why)
		assert.Equal(t, 20_000, howMany(t, s.db, "SELECT count(*) FROM split"), why)
	}
	whole("the rows of the file, and no others")
	b.run(0, "verify", "latest", "--deep")

	b.passages("c.csv", 40_000, 20_000)
	r = b.run(1, "load", "c.csv", "--into", s.url, "--table", "split", "--mode", "refill", "--yes")
	assert.Contains(t, r.err, "nothing was committed")
	whole("too many are refused")

	b.passages("d.csv", 0, 45_000)
	for k := range 3 {
		cmd := b.command("load", "d.csv", "--into", s.url, "--table", "split", "--mode", "refill", "--yes")
		require.NoError(t, cmd.Start())
		const sessions = "FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'ambertray'"
		require.Eventually(t, func() bool { return howMany(t, others[k%2], "SELECT count(*) "+sessions+" AND query LIKE 'COPY%'") > 0 }, 20*time.Second, time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		cmd.Wait()
		require.Eventually(t, func() bool { return howMany(t, s.db, "SELECT count(*) "+sessions) == 0 }, 20*time.Second, 10*time.Millisecond)
		whole("it was killed")
	}

	// Where other tables refer to a part, it is emptied by DELETE.
	server{"postgres", "", others[0]}.exec(t, "ALTER TABLE part ADD UNIQUE (id)", "CREATE TABLE leans (id integer REFERENCES part (id))")
	b.run(0, refill...)
	whole("nothing leans on them")
	server{"postgres", "", others[0]}.exec(t, "INSERT INTO leans SELECT min(id) FROM part")
	r = b.run(1, "load", "d.csv", "--into", s.url, "--table", "split", "--mode", "refill", "--yes")
	assert.Contains(t, r.err, "foreign key")
	whole("a row is referred to")
	server{"postgres", "", others[0]}.exec(t, "DROP TABLE leans")
}

// Where what comes of rows might be something else, they go through the first server, and why is said.
func TestRowsGoAround(t *testing.T) {
	b, s, others := shards(t)
	for why, change := range map[string]struct {
		first, other, after string
		args                []string
	}{
		"the table has triggers": {first: "CREATE OR REPLACE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'; " +
			"CREATE TRIGGER t AFTER INSERT ON split FOR EACH ROW EXECUTE FUNCTION f()"},
		"the table fills columns by itself":                              {first: "ALTER TABLE split ADD extra text DEFAULT 'x'", other: "ALTER TABLE part ADD extra text"},
		"the table of split_2 on shard2 is not as it is here":            {other: "ALTER TABLE part ALTER note TYPE varchar(50)"},
		"the table of split_2 on shard2 has triggers, rules or policies": {other: "CREATE RULE none AS ON DELETE TO part DO INSTEAD NOTHING"},
		"every value is compared within the transaction":                 {args: []string{"--prove"}},
		"shard2 is reached with the option options":                      {first: "ALTER SERVER shard2 OPTIONS (ADD options '-c jit=off')", after: "ALTER SERVER shard2 OPTIONS (DROP options)"},
	} {
		t.Run(why, func(t *testing.T) {
			s.split(t, others, "id integer NOT NULL, toll numeric(6,2), note varchar(60)", "HASH (id)", thirds()...)
			if change.first != "" {
				s.exec(t, change.first)
			}
			for _, o := range others[:map[bool]int{true: 1, false: 2}[strings.Contains(why, "split_2")]] {
				if change.other != "" {
					server{"postgres", "", o}.exec(t, change.other)
				}
			}
			b.passages("a.csv", 0, 600)
			args := append([]string{"load", "a.csv", "--into", s.url, "--table", "split", "--yes", "--again", "--mode", "append"}, change.args...)
			r := b.try(args...)
			assert.Contains(t, r.err, "go through this one: "+why)
			assert.NotContains(t, r.out+r.err, testdb.Password)
			require.Zero(t, r.code, r.err)
			assert.Equal(t, 600, howMany(t, s.db, "SELECT count(*) FROM split"))
			if change.after != "" {
				s.exec(t, change.after)
			}
		})
	}
}

// What ended programs left prepared is ended by the next load, as the first server says.
func TestWhatIsPreparedIsEnded(t *testing.T) {
	b, s, others := shards(t)
	s.split(t, others, "id integer NOT NULL, toll numeric(6,2), note varchar(60)", "HASH (id)", thirds()...)
	var begins string
	require.NoError(t, s.db.QueryRow("SELECT 'ambertray ' || system_identifier || ' ' || (SELECT oid FROM pg_database WHERE "+
		"datname = current_database()) || ' ' FROM pg_control_system()").Scan(&begins))
	open, err := s.db.Begin()
	require.NoError(t, err)
	defer open.Rollback()
	for n, end := range []string{"COMMIT", "ROLLBACK", ""} {
		var xid string
		if end == "" {
			require.NoError(t, open.QueryRow("SELECT txid_current()::text").Scan(&xid))
		} else {
			tx, err := s.db.Begin()
			require.NoError(t, err)
			require.NoError(t, tx.QueryRow("SELECT txid_current()::text").Scan(&xid))
			_, err = tx.Exec(end)
			require.NoError(t, err)
			tx.Rollback()
		}
		_, err := others[0].Exec(fmt.Sprintf("BEGIN; INSERT INTO part VALUES (%d); PREPARE TRANSACTION '%s%s %d'", -n-1, begins, xid,
			howMany(t, s.db, "SELECT oid FROM pg_foreign_server WHERE srvname = 'shard2'")))
		require.NoError(t, err)
	}
	b.passages("a.csv", 0, 300)
	b.run(0, "load", "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes")
	assert.Equal(t, 1, howMany(t, others[0], "SELECT count(*) FROM part WHERE id < 0"))
	assert.Equal(t, 1, howMany(t, others[0], "SELECT count(*) FROM part WHERE id = -1"))
	assert.Equal(t, 1, howMany(t, others[0], "SELECT count(*) FROM pg_prepared_xacts WHERE database = current_database()"),
		"what is under way stays")
	require.NoError(t, open.Rollback())
	b.passages("b.csv", 300, 300)
	b.run(0, "load", "b.csv", "--into", s.url, "--table", "split", "--mode", "refill", "--yes", "--lock-wait", "5")
	assert.Zero(t, howMany(t, others[0], "SELECT count(*) FROM pg_prepared_xacts WHERE database = current_database()"),
		"else it would wait for what is prepared")
	assert.Equal(t, 300, howMany(t, s.db, "SELECT count(*) FROM split"))
}

// A server that is lost is named, and nothing is anywhere.
func TestAnotherServerIsLost(t *testing.T) {
	b, s, others := shards(t)
	s.split(t, others, "id integer NOT NULL, toll numeric(6,2), note varchar(60)", "HASH (id)", thirds()...)
	b.passages("a.csv", 0, 400_000)
	cmd := b.command("load", "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes")
	var out strings.Builder
	cmd.Stderr = &out
	require.NoError(t, cmd.Start())
	const sessions = "FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'ambertray'"
	require.Eventually(t, func() bool { return howMany(t, others[1], "SELECT count(*) "+sessions+" AND query LIKE 'COPY%'") > 0 }, 20*time.Second, time.Millisecond)
	_, err := others[1].Exec("SELECT pg_terminate_backend(pid) " + sessions)
	require.NoError(t, err)
	cmd.Wait()
	assert.Equal(t, 1, cmd.ProcessState.ExitCode(), out.String())
	var name string
	require.NoError(t, others[1].QueryRow("SELECT current_database()").Scan(&name))
	assert.Contains(t, out.String(), "/"+name+": ")
	assert.NotContains(t, out.String(), testdb.Password)
	assert.Zero(t, howMany(t, s.db, "SELECT count(*) FROM split"))
	b.run(0, "load", "a.csv", "--into", s.url, "--table", "split", "--mode", "append", "--yes")
	assert.Equal(t, 400_000, howMany(t, s.db, "SELECT count(*) FROM split"))
}
