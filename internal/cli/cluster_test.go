//go:build cluster

package cli_test

import (
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
)

// These tests run on databases of several servers, which scripts/cluster starts: make
// test-cluster.

// node is the n-th server of a kind.
func node(t *testing.T, kind string, n int) string {
	at := os.Getenv(fmt.Sprintf("AMBERTRAY_TEST_%s%d", kind, n))
	require.NotEmpty(t, at, "make test-cluster starts the servers")
	return at
}

// clusterServer is a connection to a server of the cluster, beside the program's.
func clusterServer(t *testing.T, at string) *sql.DB {
	u, err := url.Parse(at)
	require.NoError(t, err)
	driver, dsn := "pgx", at
	if u.Scheme == "mysql" {
		driver, dsn = "mysql", fmt.Sprintf("tray:%s@tcp(%s)%s?timeout=5s", testdb.Password, u.Host, u.Path)
	}
	c, err := sql.Open(driver, dsn)
	require.NoError(t, err)
	return c
}

// asked is a query on a server of the cluster.
func asked(t *testing.T, at, query string) [][]string {
	c := clusterServer(t, at)
	defer c.Close()
	return queryRows(t, c, query)
}

func doneTo(t *testing.T, at string, statements ...string) {
	c := clusterServer(t, at)
	defer c.Close()
	for _, s := range statements {
		_, err := c.Exec(s)
		require.NoError(t, err, s)
	}
}

// everywhere makes sure that all servers of the Galera cluster have the same rows.
func everywhere(t *testing.T, table string, want int) {
	t.Helper()
	for n := 1; n <= 3; n++ {
		at := node(t, "GALERA", n)
		require.Eventually(t, func() bool {
			rows := asked(t, at, "SELECT count(*) FROM information_schema.tables WHERE table_schema = 'canal' AND table_name = '"+table+"'")
			if rows[0][0] != "1" {
				return false
			}
			return asked(t, at, "SELECT count(*) FROM "+table)[0][0] == fmt.Sprint(want)
		}, 20*time.Second, 100*time.Millisecond, "server %d", n)
	}
}

func clusterBench(t *testing.T) *bench {
	b := newBench(t)
	b.env = []string{"AMBERTRAY_PASSWORD=" + testdb.Password}
	return b
}

const clusterCSV = "id,toll,note\n"

// Loads of all modes are on all servers, whichever of them was loaded into.
func TestClusterModes(t *testing.T) {
	b := clusterBench(t)
	one, two := node(t, "GALERA", 1), node(t, "GALERA", 2)
	doneTo(t, one, "DROP TABLE IF EXISTS modes")
	b.passages("a.csv", 0, 3000)
	b.passages("b.csv", 3000, 500)
	b.passages("c.csv", 2990, 20)
	into := func(file, at string, more ...string) []string {
		return append([]string{file, "--into", at, "--table", "modes", "--yes"}, more...)
	}
	b.loaded(0, into("a.csv", one, "--key", "id")...)
	everywhere(t, "modes", 3000)
	rec := b.loaded(0, into("b.csv", two, "--mode", "append")...)
	everywhere(t, "modes", 3500)
	b.run(0, "verify", rec.Entry, "--deep")
	b.loaded(0, into("c.csv", one, "--mode", "merge")...)
	everywhere(t, "modes", 3500)
	b.run(0, "undo", "latest", "--yes")
	b.loaded(0, into("b.csv", two, "--mode", "refill", "--prove")...)
	everywhere(t, "modes", 500)
	b.loaded(0, into("a.csv", one, "--mode", "replace", "--key", "id")...)
	everywhere(t, "modes", 3000)
}

// A transaction that is too large for the cluster changes nothing, says so, and goes in steps.
func TestClusterLimit(t *testing.T) {
	b := clusterBench(t)
	at := node(t, "GALERA", 1)
	doneTo(t, at, "DROP TABLE IF EXISTS large, small", "SET GLOBAL wsrep_max_ws_size = 200000")
	defer doneTo(t, at, "SET GLOBAL wsrep_max_ws_size = 2147483647")
	b.passages("large.csv", 0, 20_000)
	r := b.run(1, "load", "large.csv", "--into", at, "--key", "id", "--yes")
	assert.Contains(t, r.err, "--commit-every")
	assert.Equal(t, "0", asked(t, at, "SELECT count(*) FROM information_schema.tables WHERE table_name = 'large'")[0][0])
	b.loaded(0, "large.csv", "--into", at, "--table", "small", "--key", "id", "--yes", "--commit-every", "1000")
	everywhere(t, "small", 20_000)
}

// Of two loads of one file at once, what the programs say is what is there; through one server, and
// where there is a ledger, it is in once.
func TestClusterTwice(t *testing.T) {
	b := clusterBench(t)
	one, two := node(t, "GALERA", 1), node(t, "GALERA", 2)
	doneTo(t, one, "DROP TABLE IF EXISTS twice")
	b.passages("a.csv", 0, 1000)
	b.loaded(0, "a.csv", "--into", one, "--table", "twice", "--key", "none", "--ledger", "--yes")
	for i := range 12 {
		other := one
		if i%2 == 1 {
			other = two // whose locks are its own
		}
		b.passages("next.csv", 1000*(i+1), 1000)
		codes := make(chan int, 2)
		for n, at := range []string{one, other} {
			go func() {
				cmd := b.command("load", "next.csv", "--into", at, "--table", "twice", "--mode", "append", "--yes", "--tray", fmt.Sprintf("tray%d", n))
				cmd.Run()
				codes <- cmd.ProcessState.ExitCode()
			}()
		}
		done := 0
		for range 2 {
			if <-codes == 0 {
				done++
			}
		}
		want := fmt.Sprint(1000 * done)
		assert.Eventually(t, func() bool {
			rows := asked(t, node(t, "GALERA", 3), "SELECT count(*) FROM twice WHERE id >= "+fmt.Sprint(1000*(i+1)))
			return rows[0][0] == want
		}, 10*time.Second, 50*time.Millisecond, "what the programs say is what is there")
		if other == one {
			assert.Equal(t, 1, done)
		}
	}
}

// A server that ends in the middle of a load leaves the table as it was on the others, and the
// same load into one of them goes in once.
func TestClusterServerEnds(t *testing.T) {
	folder := os.Getenv("AMBERTRAY_TEST_CLUSTER")
	require.NotEmpty(t, folder)
	b := clusterBench(t)
	three, two := node(t, "GALERA", 3), node(t, "GALERA", 2)
	doneTo(t, two, "DROP TABLE IF EXISTS ended")
	b.passages("a.csv", 0, 1000)
	b.loaded(0, "a.csv", "--into", two, "--table", "ended", "--key", "id", "--yes")
	everywhere(t, "ended", 1000)
	b.passages("big.csv", 1000, 300_000)
	cmd := b.command("load", "big.csv", "--into", three, "--table", "ended", "--mode", "append", "--yes")
	var told strings.Builder
	cmd.Stderr = &told
	require.NoError(t, cmd.Start())
	time.Sleep(900 * time.Millisecond)
	out, err := exec.Command("../../scripts/cluster", "end", folder, "3").CombinedOutput()
	require.NoError(t, err, string(out))
	cmd.Wait()
	require.NotZero(t, cmd.ProcessState.ExitCode(), "it was ended too late")
	assert.Contains(t, told.String(), strings.TrimPrefix(three[strings.Index(three, "@"):], "@"), "which server it was")
	require.Eventually(t, func() bool { return asked(t, two, "SELECT 1")[0][0] == "1" }, 20*time.Second, time.Second)
	assert.Equal(t, "1000", asked(t, two, "SELECT count(*) FROM ended")[0][0])
	b.loaded(0, "big.csv", "--into", two, "--table", "ended", "--mode", "append", "--yes", "--again")
	assert.Equal(t, "301000", asked(t, two, "SELECT count(*) FROM ended")[0][0])
	out, err = exec.Command("../../scripts/cluster", "back", folder, "3").CombinedOutput()
	require.NoError(t, err, string(out))
	everywhere(t, "ended", 301_000)
}

// A table of PostgreSQL whose partitions are on other servers takes loads as any other, and a
// server that is not there is named.
func TestClusterShards(t *testing.T) {
	b := clusterBench(t)
	one := node(t, "SHARD", 1)
	for n := 2; n <= 3; n++ {
		doneTo(t, node(t, "SHARD", n), "DROP TABLE IF EXISTS part", "CREATE TABLE part (id integer, toll numeric(6,2), note varchar(60), CHECK (id <> 77))")
	}
	doneTo(t, one, "DROP TABLE IF EXISTS shards",
		"CREATE TABLE shards (id integer NOT NULL, toll numeric(6,2), note varchar(60)) PARTITION BY HASH (id)",
		"CREATE TABLE shards_1 PARTITION OF shards FOR VALUES WITH (MODULUS 3, REMAINDER 0)",
		"CREATE FOREIGN TABLE shards_2 PARTITION OF shards FOR VALUES WITH (MODULUS 3, REMAINDER 1) SERVER shard2 OPTIONS (table_name 'part', batch_size '1000')",
		"CREATE FOREIGN TABLE shards_3 PARTITION OF shards FOR VALUES WITH (MODULUS 3, REMAINDER 2) SERVER shard3 OPTIONS (table_name 'part', batch_size '1000')")
	into := func(file string, more ...string) []string {
		return append([]string{file, "--into", one, "--table", "shards", "--yes"}, more...)
	}
	count := func() string { return asked(t, one, "SELECT count(*) FROM shards")[0][0] }
	b.passages("a.csv", 1000, 3000)
	rec := b.loaded(0, into("a.csv", "--mode", "append")...)
	assert.Equal(t, "3000", count())
	assert.NotEqual(t, "0", asked(t, node(t, "SHARD", 2), "SELECT count(*) FROM part")[0][0])
	b.run(0, "verify", rec.Entry, "--deep")
	b.run(0, "undo", rec.Entry, "--yes")
	assert.Equal(t, "0", count())
	b.loaded(0, into("a.csv", "--mode", "refill", "--prove")...)
	b.passages("m.csv", 3990, 20)
	b.loaded(0, into("m.csv", "--mode", "merge", "--key", "id")...)
	assert.Equal(t, "3010", count())

	// What another server refuses is a reject, and all else goes in.
	b.passages("odd.csv", 70, 20)
	rec = b.loaded(3, into("odd.csv", "--mode", "append")...)
	assert.EqualValues(t, 1, rec.Records.Rejected)
	assert.Equal(t, "3029", count())
}

// Programs that share a load through different servers, whose locks are their own, load each record
// once all the same.
func TestClusterJoined(t *testing.T) {
	b := clusterBench(t)
	doneTo(t, node(t, "GALERA", 1), "DROP TABLE IF EXISTS joined, ambertray_steps")
	b.passages("joined.csv", 0, 200_000)
	var parts []*part
	for n := range 4 {
		parts = append(parts, b.join(node(t, "GALERA", n%3+1), n, "joined.csv", "--table", "joined", "--key", "id",
			"--commit-every", "2000", "--join", "night"))
	}
	verified := 0
	for _, p := range parts {
		if p.ends(t) != nil {
			verified++
		}
		assert.Zero(t, p.cmd.ProcessState.ExitCode(), p.errs.String())
	}
	assert.Equal(t, 1, verified)
	everywhere(t, "joined", 200_000)
}

// Programs that begin a shared load at the same moment, through servers whose locks are their own, begin it
// once; what one left that ended while it began is taken over after a time.
func TestClusterBegun(t *testing.T) {
	b := clusterBench(t)
	one := node(t, "GALERA", 1)
	b.passages("begun.csv", 0, 20_000)
	for round := range 6 {
		doneTo(t, one, "DROP TABLE IF EXISTS begun, ambertray_steps")
		programs := 3
		if round == 5 { // a program was ended
			programs = 2
			doneTo(t, one, "CREATE TABLE ambertray_steps (load_name varchar(200) NOT NULL, step int NOT NULL, note longtext NOT NULL, "+
				"PRIMARY KEY (load_name, step))", "INSERT INTO ambertray_steps VALUES ('night', 0, 'who has ended')",
				"CREATE TABLE begun (id int PRIMARY KEY, toll decimal(5,2), note varchar(40))")
		}
		began := time.Now()
		var parts []*part
		for n := range programs {
			parts = append(parts, b.join(node(t, "GALERA", n+1), round*10+n, "begun.csv", "--table", "begun", "--key", "id", "--commit-every",
				"2000", "--join", "night"))
		}
		verified := 0
		for _, p := range parts {
			if p.ends(t) != nil {
				verified++
			}
		}
		assert.Equal(t, 1, verified)
		everywhere(t, "begun", 20_000)
		assert.Equal(t, round == 5, time.Since(began) > 20*time.Second)
		for n := range 3 {
			assert.Equal(t, "1", asked(t, node(t, "GALERA", n+1), "SELECT count(*) FROM ambertray_steps")[0][0])
		}
	}
}
