package main

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	_ "github.com/go-sql-driver/mysql" // registers "mysql"
	"github.com/jackc/pgx/v5"

	"ambertray/internal/dialect"
	"ambertray/internal/plan"
)

// databases lists what is measured against database servers: a load with its
// plan ready, verification included, against the server's own reading of the
// same file from its own disk into the same table.
func databases(bin, dir, file string) (out []measure) {
	check(os.Chmod(dir, 0o755))
	check(os.Chmod(file, 0o644))
	planFile := filepath.Join(dir, "passages.yaml")
	check(exec.Command(bin, "plan", file, "-o", planFile, "--table", "passages").Run())
	p, err := plan.ReadFile(planFile)
	check(err)
	load := func(url string, more ...string) func() run {
		return process(append([]string{bin, "load", planFile, "--into", url, "--mode", "replace", "--yes", "--tray", filepath.Join(dir, "tray")}, more...)...)
	}
	if u := os.Getenv("AMBERTRAY_TEST_POSTGRES"); u != "" {
		out = append(out,
			measure{"postgres: load by plan / COPY FROM file", load(u), copyPostgres(u, file, p.Definition()), 0.9},
			measure{"postgres: load from nothing / COPY FROM file", process(bin, "load", file, "--into", u, "--table", "passages", "--mode", "replace", "--yes", "--tray", filepath.Join(dir, "tray")),
				copyPostgres(u, file, p.Definition()), 1.1})
	}
	if u := os.Getenv("AMBERTRAY_TEST_MYSQL"); u != "" {
		out = append(out, measure{"mariadb: load by plan / LOAD DATA INFILE", load(u), loadMariaDB(u, file, p.Definition()), 1.0})
	}
	out = append(out, measure{"sqlite: load by plan / prepared inserts", load("sqlite:" + filepath.Join(dir, "bench.db")), process(os.Args[0], "-insert", file, "-insert-into", filepath.Join(dir, "base.db")), 1.2})
	return
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
	return timed(func() error {
		ctx := context.Background()
		c, err := pgx.Connect(ctx, u)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		tx, err := c.Begin(ctx)
		if err != nil {
			return err
		}
		for _, s := range append(append([]string{"SET datestyle = 'ISO, DMY'", "DROP TABLE IF EXISTS passages"}, dialect.Postgres.Create(t)...),
			"COPY passages FROM '"+file+"' (FORMAT csv, HEADER true)") {
			if _, err := tx.Exec(ctx, s); err != nil {
				return fmt.Errorf("%s: %w", s, err)
			}
		}
		return tx.Commit(ctx)
	})
}

func loadMariaDB(raw, file string, t dialect.Table) func() run {
	return timed(func() error {
		u, err := url.Parse(raw)
		if err != nil {
			return err
		}
		password, _ := u.User.Password()
		db, err := sql.Open("mysql", u.User.Username()+":"+password+"@tcp("+u.Host+")"+u.Path)
		if err != nil {
			return err
		}
		defer db.Close()
		db.SetMaxOpenConns(1)
		for _, s := range append(append([]string{"DROP TABLE IF EXISTS passages"}, dialect.MySQL.Create(t)...), "START TRANSACTION",
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
