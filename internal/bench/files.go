package main

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"ambertray/internal/demo"
)

// The files are the same in every run: what is random in them comes from a
// fixed seed.

// generate writes a file and returns its path.
func generate(dir, name string, write func(io.Writer) error) string {
	path := filepath.Join(dir, name)
	f, err := os.Create(path)
	check(err)
	b := bufio.NewWriterSize(f, 1<<20)
	check(write(b))
	check(b.Flush())
	check(f.Close())
	check(os.Chmod(path, 0o644)) // servers read it, too
	return path
}

// wideFile has 200 columns of the gauges along the canal.
func wideFile(w io.Writer) error {
	const columns, rows = 200, 60_000
	r := rand.New(rand.NewPCG(7, 9))
	var b []byte
	b = append(b, "Day"...)
	for i := 1; i < columns; i++ {
		b = fmt.Appendf(b, ",Gauge %d", i)
	}
	for i := range rows {
		b = append(b, '\n')
		if _, err := w.Write(b); err != nil {
			return err
		}
		b = fmt.Appendf(b[:0], "%d", i+1)
		for k := 1; k < columns; k++ {
			switch k % 4 {
			case 0:
				b = fmt.Appendf(b, ",%d.%02d", r.IntN(40), r.IntN(100))
			case 1:
				b = fmt.Appendf(b, ",%d", r.IntN(9000))
			case 2:
				b = append(b, []string{",dry", ",wet", ",", ",frozen"}[r.IntN(4)]...)
			default:
				b = fmt.Appendf(b, ",G%05d", r.IntN(90000))
			}
		}
	}
	_, err := w.Write(append(b, '\n'))
	return err
}

// columns measures a look at 16,000 columns against one at as many fields in 1,000 columns.
func columns(bin, dir string) measure {
	of := func(name string, columns, records int) func() run {
		file := generate(dir, name, func(w io.Writer) error { return levels(w, columns, records) })
		return process(bin, "look", file, "--json")
	}
	return measure{"`look` at 16,000 columns of 100 records", "the same at 1,000 columns of 1,600 records",
		of("sixteen.csv", 16_000, 100), of("one.csv", 1_000, 1_600), 1.5, 1.1, 3}
}

// levels are numbers in so many columns.
func levels(w io.Writer, columns, records int) error {
	r := rand.New(rand.NewPCG(3, 5))
	for n := range records + 1 {
		var b []byte
		for k := range columns {
			if k > 0 {
				b = append(b, ',')
			}
			switch {
			case n == 0:
				b = fmt.Appendf(b, "Gauge %d", k+1)
			case k%2 == 0:
				b = fmt.Appendf(b, "%d", r.IntN(9000))
			default:
				b = fmt.Appendf(b, "%d.%02d", r.IntN(40), r.IntN(100))
			}
		}
		if _, err := w.Write(append(b, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// textFile has keepers' reports: long texts in quotes, with quotes, delimiters
// and line breaks in them.
func textFile(w io.Writer) error {
	words := strings.Fields("water low at the upper gate since morning keeper waited for the boat from Withy Cut " +
		"paddle gear stiff greased again all well")
	r := rand.New(rand.NewPCG(17, 43))
	if _, err := io.WriteString(w, "Report,Written on,Keeper,Text\n"); err != nil {
		return err
	}
	var b []byte
	for i := range 250_000 {
		b = fmt.Appendf(b[:0], "%d,2025-%02d-%02d,\"Keeper, %d\",\"", i+1, i%12+1, i%28+1, i%90)
		for range 20 + r.IntN(80) {
			b = append(b, words[r.IntN(len(words))]...)
			switch r.IntN(24) {
			case 0:
				b = append(b, "\n"...)
			case 1:
				b = append(b, `, ""sic"" `...)
			default:
				b = append(b, ' ')
			}
		}
		if _, err := w.Write(append(b, "\"\n"...)); err != nil {
			return err
		}
	}
	return nil
}

// passagesFor writes about so many bytes of passages. They are made once, and written again and
// again with other numbers.
func passagesFor(w io.Writer, bytes float64) error {
	var once strings.Builder
	if err := demo.Passages(&once, min(int(bytes/72), 200_000), false); err != nil {
		return err
	}
	lines := strings.SplitAfter(once.String(), "\n")
	head, lines := lines[0], lines[1:len(lines)-1]
	for i, l := range lines {
		lines[i] = l[strings.IndexByte(l, ','):]
	}
	written, err := io.WriteString(w, head)
	var line []byte
	for n := 1; err == nil && float64(written) < bytes; n++ {
		line = append(strconv.AppendInt(line[:0], int64(n), 10), lines[(n-1)%len(lines)]...)
		_, err = w.Write(line)
		written += len(line)
	}
	return err
}
