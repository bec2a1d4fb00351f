package main

import (
	"bufio"
	"encoding/csv"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/xuri/excelize/v2"

	"ambertray/internal/demo"
)

// bookRows is how many rows the workbook has, of nine cells each.
const bookRows = 100_000

// workbook measures a look at a workbook against a library's walking through
// its rows.
func workbook(bin, self, dir string) measure {
	book := filepath.Join(dir, "passages.xlsx")
	made := false
	subject := process(bin, "look", book, "--json")
	return measure{"`look` at the workbook", "excelize's row iterator walking through it", func() run {
		if !made {
			makeBook(book)
			made = true
		}
		return subject()
	}, process(self, "-walk", book), 0.08, 0.05, 1}
}

// makeBook writes the passages as a workbook, with typed cells.
func makeBook(name string) {
	r, w := io.Pipe()
	go func() {
		b := bufio.NewWriter(w)
		err := demo.Passages(b, bookRows, false)
		if err == nil {
			err = b.Flush()
		}
		w.CloseWithError(err)
	}()
	f := excelize.NewFile()
	defer f.Close()
	day, err := f.NewStyle(&excelize.Style{NumFmt: 14})
	check(err)
	s, err := f.NewStreamWriter("Sheet1")
	check(err)
	rows := csv.NewReader(r)
	for n := 1; ; n++ {
		rec, err := rows.Read()
		if err == io.EOF {
			break
		}
		check(err)
		cells := make([]any, len(rec))
		for i, v := range rec {
			cells[i] = v
			if n == 1 || i == 4 {
				continue // names, and codes with leading zeros
			}
			if t, err := time.Parse("02/01/2006", v); err == nil {
				cells[i] = excelize.Cell{StyleID: day, Value: t}
			} else if x, err := strconv.ParseFloat(v, 64); err == nil {
				cells[i] = x
			}
		}
		check(s.SetRow("A"+strconv.Itoa(n), cells))
	}
	check(s.Flush())
	check(f.SaveAs(name))
}

// walk reads every row of a workbook with the library.
func walk(name string) {
	f, err := excelize.OpenFile(name)
	check(err)
	defer f.Close()
	rows, err := f.Rows("Sheet1")
	check(err)
	n := 0
	for rows.Next() {
		cells, err := rows.Columns()
		check(err)
		n += len(cells)
	}
	check(rows.Close())
	if n < bookRows {
		os.Exit(1)
	}
}
