package main

import (
	"database/sql"
	"encoding/csv"
	"errors"
	"io"
	"os"
	"strconv"
	"time"

	_ "modernc.org/sqlite"
)

// insert is a baseline for SQLite: the loop that one writes first, with one
// prepared statement in one transaction, through the same library.
func insert(file, path string) {
	os.Remove(path)
	db, err := sql.Open("sqlite", path)
	check(err)
	defer db.Close()
	tx, err := db.Begin()
	check(err)
	_, err = tx.Exec("CREATE TABLE passages (passage_id INTEGER PRIMARY KEY, passed_on DATE, lock VARCHAR(20), boat " +
		"VARCHAR(40), permit CHAR(6), direction VARCHAR(5), toll DECIMAL(8,2), draught_m DECIMAL(4,2), remarks " +
		"VARCHAR(50))")
	check(err)
	st, err := tx.Prepare("INSERT INTO passages VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)")
	check(err)
	f, err := os.Open(file)
	check(err)
	r := csv.NewReader(f)
	r.ReuseRecord = true
	_, err = r.Read()
	check(err)
	for {
		rec, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		check(err)
		id, err := strconv.ParseInt(rec[0], 10, 64)
		check(err)
		day, err := time.Parse("02/01/2006", rec[1])
		check(err)
		number := func(s string) any {
			if s == "" {
				return nil
			}
			v, err := strconv.ParseFloat(s, 64)
			check(err)
			return v
		}
		var remarks any
		if rec[8] != "" {
			remarks = rec[8]
		}
		_, err = st.Exec(id, day.Format("2006-01-02"), rec[2], rec[3], rec[4], rec[5], number(rec[6]), number(rec[7]),
			remarks)
		check(err)
	}
	check(tx.Commit())
}
