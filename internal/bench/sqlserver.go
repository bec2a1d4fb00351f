package main

import (
	"bufio"
	"database/sql"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	driver "github.com/microsoft/go-mssqldb"

	"ambertray/internal/db/sqlserver"
	"ambertray/internal/plan"
	"ambertray/internal/standin/engine"
	standin "ambertray/internal/standin/sqlserver"
)

// serving is the input of the stand-in, which ends with this program, and not before.
var serving io.WriteCloser

// onStandin measures a load into the stand-in for SQL Server, verification included, against
// the loop that one writes first with the driver's own rows in bulk. The work of the
// stand-in is the same for both, but for the verification, and is not counted.
func onStandin(bin, self, dir, file string) measure {
	server := exec.Command(self, "-serve")
	var err error
	serving, err = server.StdinPipe()
	check(err)
	out, err := server.StdoutPipe()
	check(err)
	check(server.Start())
	addr, err := bufio.NewReader(out).ReadString('\n')
	check(err)
	url := "sqlserver://tray:canal@" + strings.TrimSpace(addr) + "?database=master&trustservercertificate=true"
	ready := file + ".sqlserver.yaml"
	check(exec.Command(bin, "plan", file, "-o", ready, "--table", "passages").Run())
	return measure{"SQL Server (stand-in): processor time of a load of a tenth of the records by plan",
		"that of the driver's own rows in bulk (`CopyIn`), fed by `encoding/csv`",
		processorTime(bin, "load", ready, "--into", url, "--table", "passages", "--mode", "replace", "--yes", "--tray",
			filepath.Join(dir, "tray")),
		processorTime(self, "-copy-in", file, "-copy-into", url, "-copy-plan", ready), 0.7, 0.5, 1}
}

// processorTime is process, but for what the process itself computes: a stand-in takes its
// time like no server.
func processorTime(args ...string) func() run {
	return func() run {
		cmd := exec.Command(args[0], args[1:]...)
		out, err := cmd.CombinedOutput()
		if err != nil {
			check(fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, out))
		}
		s := cmd.ProcessState
		return run{s.UserTime() + s.SystemTime(), peak(s)}
	}
}

// serve is the stand-in in a process of its own, until that is ended.
func serve() {
	s, err := standin.Start(standin.Options{Logins: map[string]engine.Login{"tray": {Password: "canal"}}})
	check(err)
	fmt.Println(s.Addr)
	io.Copy(io.Discard, os.Stdin)
}

// copyIn is that loop.
func copyIn(file, url, ready string) {
	p, err := plan.ReadFile(ready)
	check(err)
	db, err := sql.Open("sqlserver", url)
	check(err)
	defer db.Close()
	tx, err := db.Begin()
	check(err)
	var columns []string
	for _, c := range p.Definition().Columns {
		columns = append(columns, c.Name)
	}
	for _, s := range append([]string{"DROP TABLE IF EXISTS passages"}, sqlserver.Dialect.Create(p.Definition())...) {
		_, err := tx.Exec(s)
		check(err)
	}
	st, err := tx.Prepare(driver.CopyIn("passages", driver.BulkOptions{Tablock: true, KeepNulls: true}, columns...))
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
		id, err := strconv.Atoi(rec[0])
		check(err)
		day, err := time.Parse("02/01/2006", rec[1])
		check(err)
		or := func(s string) any {
			if s == "" {
				return nil
			}
			return strings.Clone(s)
		}
		_, err = st.Exec(id, day, or(rec[2]), or(rec[3]), or(rec[4]), or(rec[5]), or(rec[6]), or(rec[7]), or(rec[8]))
		check(err)
	}
	_, err = st.Exec()
	check(err)
	check(tx.Commit())
}
