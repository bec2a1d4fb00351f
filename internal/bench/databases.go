package main

import (
	"context"
	_ "embed" // the baseline in C
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql" // registers "mysql"
	"github.com/jackc/pgx/v5"

	"ambertray/internal/db/dialect"
	"ambertray/internal/db/mysql"
	"ambertray/internal/db/postgres"
	"ambertray/internal/plan"
)

// databases lists what is measured against database servers: a load with its
// plan ready, verification included, against the server's own reading of the
// same file from its own disk into the same table.
func databases(bin, self, dir, file, tenth string) (out []measure) {
	check(os.Chmod(dir, 0o755))
	plans := map[string]string{}
	for _, f := range []string{file, tenth} {
		plans[f] = f + ".yaml"
		check(exec.Command(bin, "plan", f, "-o", plans[f], "--table", "passages").Run())
	}
	p, err := plan.ReadFile(plans[file])
	check(err)
	load := func(what, url string) func() run {
		return process(bin, "load", what, "--into", url, "--table", "passages", "--mode", "replace", "--yes", "--tray",
			filepath.Join(dir, "tray"))
	}
	const byPlan, fromNothing = ": load by a ready plan, verification included",
		": load from nothing (infer, create, load, verify)"
	if u := os.Getenv("AMBERTRAY_TEST_POSTGRES"); u != "" {
		own := "the server's `COPY … FROM` of the same file from its own disk into the same table"
		out = append(out,
			measure{"PostgreSQL" + byPlan, own, load(plans[file], u), copyPostgres(u, file, p.Definition()), 0.72, 0.60,
				1},
			measure{"PostgreSQL" + fromNothing, own, load(file, u), copyPostgres(u, file, p.Definition()), 0.80, 0.65,
				1},
			measure{"PostgreSQL: a tenth of the records by plan",
				"a loop of prepared inserts, row by row, in one transaction", load(plans[tenth], u),
				rowByRow(u, tenth, p.Definition()), 0, 0, 1})
	}
	if u := os.Getenv("AMBERTRAY_TEST_MYSQL"); u != "" {
		out = append(out, measure{"MariaDB" + byPlan,
			"the server's `LOAD DATA INFILE` of the same file, with dates and nulls converted in SET",
			load(plans[file], u), loadMariaDB(u, file, p.Definition()), 0.85, 0.75, 1})
	}
	// Each run makes the file anew, as the baselines do.
	lite := func(plan string) func() run {
		path := filepath.Join(dir, "bench.db")
		fill := load(plan, "sqlite:"+path)
		return func() run {
			os.Remove(path)
			return fill()
		}
	}
	baseline, err := compiled(dir, "insert", insertC)
	if err == nil {
		out = append(out, measure{"SQLite" + byPlan,
			"the same inserts in C: libsqlite3, one prepared statement, one transaction", lite(plans[file]),
			process(baseline, file, filepath.Join(dir, "c.db")), 0.95, 0.80, 1})
	} else {
		fmt.Println("no baseline in C:", err)
	}
	return append(out,
		measure{"SQLite" + byPlan,
			"the loop one writes first: `encoding/csv`, one prepared insert, one transaction, the library of this " +
				"program", lite(plans[file]),
			process(self, "-insert", file, "-insert-into", filepath.Join(dir, "base.db")),
			0, 0, 1},
		measure{"SQLite: ten times the records", "the same with a tenth of them", lite(plans[file]), lite(plans[tenth]),
			10.5, 10, 1},
		measure{"`look` at ten times the records", "the same at a tenth of them", process(bin, "look", file, "--json"),
			process(bin, "look", tenth, "--json"), 10.5, 10, 3})
}

//go:embed baseline/insert.c
var insertC []byte

// compiled builds the baseline in C, where there are a compiler and the
// library's header.
func compiled(dir, name string, text []byte) (string, error) {
	cc, err := exec.LookPath("cc")
	if err != nil {
		return "", err
	}
	source, program := filepath.Join(dir, name+".c"), filepath.Join(dir, name)
	check(os.WriteFile(source, text, 0o666))
	if out, err := exec.Command(cc, "-O2", "-o", program, source, "-lsqlite3").CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, strings.SplitN(string(out), "\n", 2)[0])
	}
	return program, nil
}

// inPostgres makes the table anew and fills it, in one transaction.
func inPostgres(u string, t dialect.Table, fill func(ctx context.Context, tx pgx.Tx) error) func() run {
	return onPostgres(u, func(ctx context.Context, c *pgx.Conn) error {
		tx, err := c.Begin(ctx)
		if err != nil {
			return err
		}
		for _, s := range append([]string{"SET datestyle = 'ISO, DMY'", "DROP TABLE IF EXISTS passages"},
			postgres.Dialect.Create(t)...) {
			if _, err := tx.Exec(ctx, s); err != nil {
				return fmt.Errorf("%s: %w", s, err)
			}
		}
		if err := fill(ctx, tx); err != nil {
			return err
		}
		return tx.Commit(ctx)
	})
}

// onPostgres is what is done over a connection of its own.
func onPostgres(u string, do func(ctx context.Context, c *pgx.Conn) error) func() run {
	return timed(func() error {
		ctx := context.Background()
		c, err := pgx.Connect(ctx, u)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		return do(ctx, c)
	})
}

// rowByRow inserts the passages one by one, for perspective.
func rowByRow(u, file string, t dialect.Table) func() run {
	return inPostgres(u, t, func(ctx context.Context, tx pgx.Tx) error {
		insert := "INSERT INTO passages VALUES ($1, $2, $3, $4, $5, $6, $7, $8, nullif($9, ''))"
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		r := csv.NewReader(f)
		if _, err := r.Read(); err != nil {
			return err
		}
		for {
			rec, err := r.Read()
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			day, err := time.Parse("02/01/2006", rec[1])
			if err != nil {
				return err
			}
			id, err := strconv.Atoi(rec[0])
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, insert, id, day, rec[2], rec[3], rec[4], rec[5], rec[6], rec[7],
				rec[8]); err != nil {
				return err
			}
		}
	})
}

// timed runs statements as one process would, and reports the time.
func timed(what func() error) func() run {
	return func() run {
		start := time.Now()
		check(what())
		return run{took: time.Since(start)}
	}
}

func copyPostgres(u, file string, t dialect.Table) func() run {
	return inPostgres(u, t, func(ctx context.Context, tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "COPY passages FROM '"+file+"' (FORMAT csv, HEADER true)")
		return err
	})
}

func loadMariaDB(raw, file string, t dialect.Table) func() run {
	return timed(func() error {
		db, err := openMariaDB(raw)
		if err != nil {
			return err
		}
		defer db.Close()
		db.SetMaxOpenConns(1)
		for _, s := range append(append([]string{"DROP TABLE IF EXISTS passages"}, mysql.Dialect.Create(t)...),
			"START TRANSACTION",
			`LOAD DATA INFILE '`+file+`' INTO TABLE passages CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '"' IGNORE 1 LINES
				(passage_id, @day, `+"`lock`"+`, boat, permit, direction, @toll, draught_m, @remarks)
				SET passed_on = str_to_date(@day, '%d/%m/%Y'), toll = nullif(@toll, ''), remarks = nullif(@remarks, '')`, "COMMIT") {
			if _, err := db.Exec(s); err != nil {
				return fmt.Errorf("%s: %w", s, err)
			}
		}
		return nil
	})
}
