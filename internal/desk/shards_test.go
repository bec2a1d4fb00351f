package desk

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/fault"
	"ambertray/internal/testdb"
)

// shardsOfTolls makes a table of which two partitions are on other servers.
func shardsOfTolls(t *testing.T) (string, *sql.DB, []*sql.DB) {
	raw, first, others := testdb.Shards(t)
	const columns = " (id int, paid_on date, toll decimal(8,2))"
	statements := []string{"CREATE TABLE tolls" + columns + " PARTITION BY LIST (id)", "CREATE TABLE tolls_1 PARTITION OF tolls FOR VALUES IN (1, 9)"}
	for i, o := range others {
		_, err := o.Exec("CREATE TABLE part" + columns)
		require.NoError(t, err)
		statements = append(statements, fmt.Sprintf("CREATE FOREIGN TABLE tolls_%[1]d PARTITION OF tolls FOR VALUES IN (%[1]d) SERVER shard%[1]d OPTIONS (table_name 'part')", i+2))
	}
	for _, s := range append(statements, "INSERT INTO tolls VALUES (9, '2023-01-01', 9.00)") {
		_, err := first.Exec(s)
		require.NoError(t, err, s)
	}
	t.Setenv("AMBERTRAY_PASSWORD", testdb.Password)
	return raw, first, others
}

func rowsOf(t *testing.T, conn *sql.DB, query string) (n int) {
	require.NoError(t, conn.QueryRow("SELECT count(*) FROM "+query).Scan(&n))
	return
}

const preparedHere = "pg_prepared_xacts WHERE database = current_database()"

// A program that is ended while several servers commit leaves rows on all of them or on none, when the
// entry has been asked for or the next load has begun.
func TestEndedBetweenServers(t *testing.T) {
	raw, first, others := shardsOfTolls(t)
	for _, at := range []fault.Point{fault.AtCommit, fault.Prepared, fault.Undecided, fault.AfterCommit} {
		for _, verified := range []bool{true, false} {
			t.Run(fmt.Sprint(at, verified), func(t *testing.T) {
				_, err := first.Exec("DELETE FROM tolls WHERE id <> 9")
				require.NoError(t, err)
				b := newBench(t)
				b.file(t, "tolls.csv", tolls)
				cmd := exec.Command(os.Args[0])
				cmd.Env = append(os.Environ(), "DESK_TEST_END_AT="+string(at), "DESK_TEST_TRAY="+b.Tray, "DESK_TEST_FILE="+
					filepath.Join(b.dir, "tolls.csv"), "DESK_TEST_URL="+raw, "DESK_TEST_MODE="+string(db.Append))
				out, err := cmd.CombinedOutput()
				require.Error(t, err)
				require.Equal(t, -1, cmd.ProcessState.ExitCode(), "%s: %s", at, out)
				left := map[fault.Point]int{fault.Prepared: 1, fault.Undecided: 1}[at]
				for _, o := range others {
					assert.Equal(t, left, rowsOf(t, o, preparedHere), at)
				}

				done := at == fault.Undecided || at == fault.AfterCommit
				list, err := b.List()
				require.NoError(t, err)
				require.Len(t, list.Entries, 1)
				all := 1
				if done {
					all += 3
				}
				if verified {
					v, err := b.Verify(context.Background(), VerifyRequest{Entry: list.Entries[0].Entry, At: DatabaseRequest{URL: raw}})
					if done {
						require.NoError(t, err)
						assert.Equal(t, Done, v.Outcome())
					} else {
						require.ErrorContains(t, err, "did not come to be")
					}
				} else {
					r := b.request(b.file(t, "more.csv", "id,paid_on,toll\n1,2024-01-31,1.00\n"))
					// Until the server has noticed that the program is gone, its session has the table.
					at := DatabaseRequest{URL: raw, LockWait: 20 * time.Second}
					r.Into, r.Mode, r.Wishes.Table = at, db.Append, "tolls"
					_, err := b.Load(context.Background(), r)
					require.NoError(t, err)
					all++
				}
				assert.Equal(t, all, rowsOf(t, first, "tolls"), at)
				for _, o := range others {
					assert.Zero(t, rowsOf(t, o, preparedHere), at)
				}
			})
		}
	}
}

// Where the other servers do not answer at the second phase, the load is not said to be in or not, until
// they are asked again.
func TestOtherServersDoNotAnswer(t *testing.T) {
	raw, first, others := shardsOfTolls(t)
	b := newBench(t)
	r := b.request(b.file(t, "tolls.csv", tolls))
	r.Into, r.Mode, r.Wishes.Table = DatabaseRequest{URL: raw}, db.Append, "tolls"
	var name string
	require.NoError(t, others[1].QueryRow("SELECT current_database()").Scan(&name))
	allow := func(is bool) {
		_, err := first.Exec(fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS %v", name, is))
		require.NoError(t, err)
	}
	for _, at := range []fault.Point{fault.Prepared, fault.Undecided} {
		ctx := fault.With(context.Background(), func(p fault.Point) error {
			if p == at {
				allow(false)
				_, err := first.Exec("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1 AND application_name = 'ambertray'", name)
				require.NoError(t, err)
				if at == fault.Prepared {
					return fmt.Errorf("no more")
				}
			}
			return nil
		})
		_, err := b.Load(ctx, r)
		list, err2 := b.List()
		require.NoError(t, err2)
		if at == fault.Prepared {
			require.ErrorContains(t, err, "no more")
			allow(true)
			assert.Equal(t, 1, rowsOf(t, others[1], preparedHere), "for the next load")
			continue
		}
		require.ErrorContains(t, err, "the answer to the commit was lost")
		require.ErrorContains(t, err, "shard3 cannot be reached from here")
		allow(true)
		entry := list.Entries[0].Entry
		v, err := b.Verify(context.Background(), VerifyRequest{Entry: entry, At: DatabaseRequest{URL: raw}})
		require.NoError(t, err)
		assert.Equal(t, Done, v.Outcome())
		assert.Equal(t, 4, rowsOf(t, first, "tolls"))
		assert.Zero(t, rowsOf(t, others[1], preparedHere))
	}
}
