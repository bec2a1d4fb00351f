package postgres

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Database is PostgreSQL, for the list of databases.
var Database = &db.Database{
	Dialect:  Dialect,
	Attaches: true,
	Aliases:  []string{"postgresql", "pg"},
	Schemes:  []string{"postgres", "postgresql"},
	Example:  "postgres://user@host:5432/db",
	Port:     "5432",
	// As libpq has it (PostgreSQL, "Connection URIs", "Environment Variables", "The Connection
	// Service File").
	Elsewhere: func(u *url.URL) (host, name bool) {
		q := u.Query()
		service := q.Get("service") != "" || os.Getenv("PGSERVICE") != ""
		return service || q.Get("host") != "" || os.Getenv("PGHOST") != "",
			service || q.Get("dbname") != "" || os.Getenv("PGDATABASE") != ""
	},
	Together: true, Lanes: true,

	MakesSchemas: true,
	Open:         open,
	Script: db.ManyRows(db.Manner{
		Numbered: func(table, column string) (_, behind, _ []string) {
			sequence := fmt.Sprintf("pg_get_serial_sequence(%s, %s)", dialect.Quoted(table), dialect.Quoted(column))
			return nil, []string{fmt.Sprintf("DO $$ BEGIN PERFORM setval(%s, max(%s)) FROM %s; END $$;", sequence,
				quote(column), table)}, nil
		},
		Before: []string{"SET client_encoding = 'UTF8';", "SET standard_conforming_strings = on;",
			"SET datestyle = ISO;",
			"SET timezone = 'UTC';", "BEGIN;"},
		After: func(name string, rows int64) []string {
			quote := "$check$"
			for strings.Contains(name, quote) {
				quote = "$c" + quote[1:]
			}
			return []string{fmt.Sprintf("DO %[1]s BEGIN IF (SELECT count(*) FROM %[2]s) <> %[3]d "+
				"THEN RAISE EXCEPTION 'the table does not have %[3]d rows; nothing is committed'; END IF; END %[1]s;",
				quote, name, rows), "COMMIT;"}
		},
		Copy: TextEncoder,
		File: fromFile,
		Like: func(table, like string) string {
			return "CREATE TABLE " + table + " (LIKE " + like + " INCLUDING ALL)"
		},
		Remarks: func(dialect.Table) []string {
			return []string{"run it with: psql -v ON_ERROR_STOP=1 -f FILE DATABASE"}
		},
	}),
}

func open(ctx context.Context, at db.Address) (db.Session, error) {
	cfg, err := pgx.ParseConfig(at.Raw)
	if err != nil {
		// The driver's error may show the URL.
		return nil, &db.BadURL{What: fmt.Sprintf("%q has a parameter that is not known or wrong", at.Where)}
	}
	if cfg.ConnectTimeout == 0 {
		cfg.ConnectTimeout = at.Timeout
	}
	if at.Given != nil {
		cfg.Password = *at.Given
	} else if cfg.Password == "" && at.Password != nil {
		if cfg.Password, err = at.Password(); err != nil {
			return nil, err
		}
	}
	if at.CreateDatabase {
		if err := createDatabase(ctx, at.Where, cfg.Copy()); err != nil {
			return nil, err
		}
	}
	if at.LockWait > 0 {
		cfg.RuntimeParams[lockWait] = fmt.Sprint(at.LockWait.Milliseconds())
	}
	if at.ReadOnly {
		cfg.RuntimeParams[readOnly] = "on"
	}
	d, err := connect(ctx, at.Where, cfg)
	if err != nil {
		return nil, err // and not a connection that is nil
	}
	return d, nil
}
