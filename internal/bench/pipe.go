package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/xuri/excelize/v2"
)

// A largeStep is something that is done with a text of many gigabytes, which is made as it is read,
// and stored nowhere.
type largeStep struct {
	name  string
	args  []string
	after func() // takes away what it has made
}

// veryLarge sends so many GB through look and into databases, and a hundredth of them before, and
// tells speed, memory, and by how much more than a hundredfold the time has grown. Then it looks at
// a sheet with as many rows as one can have.
func veryLarge(bin, dir string, gb float64) {
	planFile, file := filepath.Join(dir, "passages.yaml"), filepath.Join(dir, "large.db")
	through(bin, 0.1, "plan", "-", "--table", "passages", "-o", planFile, "--type", "Passage ID=bigint", "--key",
		"Passage ID")
	load := func(url string) []string {
		return []string{"load", planFile, "-", "--into", url, "--commit-every", "5000000", "--tray",
			filepath.Join(dir, "tray")}
	}
	steps := []largeStep{{"look", []string{"look", "-", "--json"}, func() {}},
		{"load into SQLite", load("sqlite:" + file), func() { check(os.Remove(file)) }}}
	if u := os.Getenv("AMBERTRAY_TEST_POSTGRES"); u != "" {
		steps = append(steps, largeStep{"load into PostgreSQL", load(u), func() {
			onPostgres(u, func(ctx context.Context, c *pgx.Conn) error {
				_, err := c.Exec(ctx, "DROP TABLE passages")
				return err
			})()
		}})
	}
	for _, s := range steps {
		small, _ := through(bin, gb/100, s.args...)
		s.after()
		took, memory := through(bin, gb, s.args...)
		s.after()
		fmt.Printf("%-24s %6.1f GB in %8s, %5.0f MB/s, %4.0f MB of memory; %.2f of a hundred times a hundredth\n",
			s.name, gb, took.Round(time.Second), gb*1e3/took.Seconds(), memory, took.Seconds()/small.Seconds()/100)
	}
	book := filepath.Join(dir, "largest.xlsx")
	self, err := os.Executable()
	check(err)
	check(exec.Command(self, "-largest-sheet", book).Run()) // what it takes would count as the program's
	info, err := os.Stat(book)
	check(err)
	cmd := exec.Command(bin, "look", book, "--json")
	start := time.Now()
	check(cmd.Run())
	fmt.Printf("%-24s %d rows of %d cells (%.0f MB) in %s, %.0f MB of memory\n", "look at a sheet", sheetRows,
		sheetColumns, float64(info.Size())/1e6, time.Since(start).Round(time.Second),
		float64(peak(cmd.ProcessState))/1e6)
}

// through sends text into a command, and tells how long that took, and its memory in MB.
func through(bin string, gb float64, args ...string) (took time.Duration, memory float64) {
	cmd := exec.Command(bin, args...)
	in, err := cmd.StdinPipe()
	check(err)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	start := time.Now()
	check(cmd.Start())
	w := bufio.NewWriterSize(in, 1<<20)
	if err = passagesFor(w, gb*1e9); err == nil {
		err = w.Flush()
	}
	in.Close()
	if err2 := cmd.Wait(); err2 != nil || err != nil {
		check(fmt.Errorf("%s: %v, %v\n%s", args[0], err, err2, out.String()))
	}
	return time.Since(start), float64(peak(cmd.ProcessState)) / 1e6
}

// The largest sheet: as many rows as one can have (ECMA-376-1, clause 18.3.1.73: 1,048,576).
const (
	sheetRows    = 1 << 20
	sheetColumns = 30
)

func largestSheet(name string) {
	f := excelize.NewFile()
	defer f.Close()
	s, err := f.NewStreamWriter("Sheet1")
	check(err)
	cells := make([]any, sheetColumns)
	for n := 1; n <= sheetRows; n++ {
		for c := range cells {
			switch {
			case n == 1:
				cells[c] = fmt.Sprint("Gauge ", c+1)
			case c%3 == 0:
				cells[c] = n + c
			case c%3 == 1:
				cells[c] = float64(n%9000+c) / 100
			default:
				cells[c] = [...]string{"up", "down", "waiting", "closed"}[(n+c)%4]
			}
		}
		check(s.SetRow("A"+strconv.Itoa(n), cells))
	}
	check(s.Flush())
	check(f.SaveAs(name))
}
