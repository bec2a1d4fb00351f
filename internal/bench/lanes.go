package main

import (
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/demo"
)

// slowTables has the server take 20 µs more for each row of a table that is made: it sleeps 2
// ms with each hundredth. So its processes wait more than they work, and several get in each
// other's way no more than they would with a processor for each.
const slowTables = `
CREATE FUNCTION bench_nap() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(0.002); RETURN NEW; END $$;
CREATE FUNCTION bench_slow() RETURNS event_trigger LANGUAGE plpgsql AS $$ DECLARE r record; BEGIN
	FOR r IN SELECT objid::regclass AS made FROM pg_event_trigger_ddl_commands() LOOP
		EXECUTE format('CREATE TRIGGER nap BEFORE INSERT ON %s FOR EACH ROW WHEN (NEW.passage_id %% 100 = 0) '
			'EXECUTE FUNCTION bench_nap()', r.made);
	END LOOP; END $$;
CREATE EVENT TRIGGER bench_slow ON ddl_command_end WHEN TAG IN ('CREATE TABLE') EXECUTE FUNCTION bench_slow();`

const fastTables = `DROP EVENT TRIGGER IF EXISTS bench_slow; DROP FUNCTION IF EXISTS bench_slow();
DROP FUNCTION IF EXISTS bench_nap() CASCADE`

// lanesOf measures a load over four connections against one over one, where what the server does
// is what takes the time: that shows, on a machine of few processors, what more of them bring.
func lanesOf(bin, dir string) (out []measure) {
	u := os.Getenv("AMBERTRAY_TEST_POSTGRES")
	if u == "" {
		return nil
	}
	file := generate(dir, "slow.csv", func(w io.Writer) error { return demo.Passages(w, *records/4, false) })
	plan := filepath.Join(dir, "slow.yaml")
	check(exec.Command(bin, "plan", file, "-o", plan, "--table", "slow").Run())
	load := func(lanes string) func() run {
		work := process(bin, "load", plan, "--into", u, "--mode", "replace", "--yes", "--lanes", lanes, "--tray",
			filepath.Join(dir, "tray"))
		do := func(sql string) func() run {
			return onPostgres(u, func(ctx context.Context, c *pgx.Conn) error {
				_, err := c.PgConn().Exec(ctx, sql).ReadAll()
				return err
			})
		}
		return func() run {
			do(fastTables + ";" + slowTables)()
			defer do(fastTables)()
			return work()
		}
	}
	return []measure{{"PostgreSQL: load over four connections (`--lanes 4`), the server taking 20 µs more for each row",
		"the same over one", load("4"), load("1"), 0.35, 0.30, 1}}
}
