package main

import (
	"context"
	"database/sql"
	_ "embed" // the baseline in C
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/demo"
)

//go:embed baseline/print.c
var printC []byte

// A place is a database with a table of passages in it, which is filled when first needed.
type place struct {
	title, url string
	bin, plan  string
	tray       string
	filled     bool
}

func (p *place) load() run {
	return process(p.bin, "load", p.plan, "--into", p.url, "--table", "sent_out", "--mode", "replace", "--yes",
		"--tray", p.tray)()
}

func (p *place) ready() {
	if !p.filled {
		p.filled = true
		p.load()
	}
}

// readBack lists what reads tables: exports, against the database's own, and the deep
// verification, against the load by plan that it verifies.
func readBack(bin, dir string) (out []measure) {
	file := generate(dir, "sent.csv", func(w io.Writer) error { return demo.Passages(w, *records/2, false) })
	plan := filepath.Join(dir, "sent.yaml")
	check(exec.Command(bin, "plan", file, "-o", plan, "--table", "sent_out").Run())
	theirs := filepath.Join(dir, "theirs")
	check(os.Mkdir(theirs, 0o777))
	check(os.Chmod(theirs, 0o777)) // servers write there
	lite := filepath.Join(dir, "sent.db")
	baselines := map[string]func() run{
		"PostgreSQL": copyOut(os.Getenv("AMBERTRAY_TEST_POSTGRES"), filepath.Join(theirs, "postgres.csv")),
		"MariaDB":    intoOutfile(os.Getenv("AMBERTRAY_TEST_MYSQL"), filepath.Join(theirs, "mariadb.csv")),
	}
	own := map[string]string{"PostgreSQL": "the server's `COPY … TO` a file on its own disk",
		"MariaDB": "the server's `SELECT … INTO OUTFILE`", "SQLite": "C: libsqlite3, stepping and printing"}
	if printer, err := compiled(dir, "print", printC); err == nil {
		baselines["SQLite"] = process(printer, lite, "sent_out", filepath.Join(theirs, "sqlite.csv"))
	} else {
		fmt.Println("no baseline in C:", err)
	}
	for _, p := range []*place{{title: "PostgreSQL", url: os.Getenv("AMBERTRAY_TEST_POSTGRES")},
		{title: "MariaDB", url: os.Getenv("AMBERTRAY_TEST_MYSQL")}, {title: "SQLite", url: "sqlite:" + lite}} {
		p.bin, p.plan, p.tray = bin, plan, filepath.Join(dir, "tray-"+p.title)
		if p.url == "" {
			continue
		}
		if baseline := baselines[p.title]; baseline != nil {
			ours := filepath.Join(dir, "ours.csv")
			subject := process(bin, "export", p.url, "sent_out", "-o", ours)
			out = append(out, measure{p.title + ": export of a table", own[p.title], func() run {
				p.ready()
				os.Remove(ours)
				return subject()
			}, func() run {
				p.ready()
				return baseline()
			}, 1.1, 0.9, 1})
		}
		// The load comes first, and its entry is the one that is verified.
		verify := process(bin, "verify", "latest", "--deep", "--into", p.url, "--tray", p.tray)
		out = append(out, measure{p.title + ": `verify --deep`", "the load by a ready plan that it verifies",
			func() run {
				p.ready()
				return verify()
			}, p.load, 1.5, 1.0, 1})
	}
	return out
}

// copyOut has PostgreSQL write the table into a file.
func copyOut(u, file string) func() run {
	return onPostgres(u, func(ctx context.Context, c *pgx.Conn) error {
		_, err := c.Exec(ctx, "COPY sent_out TO '"+file+"' (FORMAT csv, HEADER true)")
		return err
	})
}

// intoOutfile has MariaDB write the table into a file, which may not be there.
func intoOutfile(raw, file string) func() run {
	return func() run {
		os.Remove(file)
		return timed(func() error {
			db, err := openMariaDB(raw)
			if err != nil {
				return err
			}
			defer db.Close()
			_, err = db.Exec("SELECT * INTO OUTFILE '" + file +
				`' CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '"' FROM sent_out`)
			return err
		})()
	}
}

func openMariaDB(raw string) (*sql.DB, error) {
	u, err := url.Parse(raw)
	if err != nil {
		return nil, err
	}
	password, _ := u.User.Password()
	return sql.Open("mysql", u.User.Username()+":"+password+"@tcp("+u.Host+")"+u.Path)
}
