package mysql

import (
	"context"
	"fmt"
	"net/url"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Database is MySQL and MariaDB, for the list of databases.
var Database = &db.Database{
	Dialect: Dialect,
	Aliases: []string{"mariadb"},
	Schemes: []string{"mysql", "mariadb"},
	Example: "mysql://user@host:3306/db",
	Port:    "3306",
	Elsewhere: func(u *url.URL) (host, name bool) {
		at, socket := clientFile().address(u)
		return at != "" || socket != "", false
	},

	SlowPath: true,
	Together: true, AtOnce: true, Lanes: true,
	Open: func(ctx context.Context, at db.Address) (db.Session, error) {
		file := clientFile()
		user, password, err := file.login(&at)
		if err != nil {
			return nil, err
		}
		host, socket := file.address(at.URL)
		d, err := connect(ctx, config{Where: at.Where, User: user, Password: password, Host: host, Socket: socket,
			Database: at.Name,
			Query:    at.URL.Query(), Timeout: at.Timeout, CreateDatabase: at.CreateDatabase, LockWait: at.LockWait})
		if err != nil {
			return nil, err // and not a connection that is nil
		}
		if at.ReadOnly {
			if _, err := d.c.ExecContext(ctx, "SET SESSION TRANSACTION READ ONLY"); err != nil {
				d.Close()
				return nil, d.fail("cannot be read only", err)
			}
			d.readOnly = true
		}
		return d, nil
	},
	Script: db.ManyRows(db.Manner{
		Before: []string{"SET NAMES utf8mb4;", "SET time_zone = '+00:00';",
			"SET sql_mode = 'STRICT_ALL_TABLES," + strictly + "';"},
		File:            fromFile,
		Like:            func(table, like string) string { return "CREATE TABLE " + table + " LIKE " + like },
		AfterDefinition: []string{"START TRANSACTION;"}, // definitions are committed at once there
		After: func(name string, rows int64) []string {
			// A null where none may be ends the script, and the transaction.
			return []string{"CREATE TEMPORARY TABLE ambertray_check (loaded INT NOT NULL);",
				fmt.Sprintf("INSERT INTO ambertray_check SELECT IF(count(*) = %d, 1, NULL) FROM %s;", rows, name),
				"DROP TEMPORARY TABLE ambertray_check;", "COMMIT;"}
		},
		Remarks: func(dialect.Table) []string {
			return []string{"run it with: mysql --default-character-set=utf8mb4 DATABASE < FILE",
				db.CommittedAtOnce + "; if the rows fail, drop the table before the next attempt"}
		},
	}),
}
