// Command corpus looks at files that nobody here wrote and compares what the built
// program finds with what a person found, and with an independent reader:
//
//	go run ./internal/corpus FOLDER
//
// FOLDER is what scripts/corpus/fetch has filled. It ends with status 1 if a file is
// read wrongly and nothing is said about it.
package main

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"
)

// A want is what a person found in a file.
type want struct {
	sha256    string // its first 16 digits
	file      string
	sheet     string // behind a ! in the file's name
	kind      string // table, question, empty, or any: it is no table, or one of another kind
	delimiter string
	header    int64
	columns   int
	records   int64 // negative: not counted
}

// A found is what the program finds.
type found struct {
	code      int
	delimiter string
	header    int64
	columns   int
	records   int64
	said      bool // there is a caution, or a question
}

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: go run ./internal/corpus FOLDER")
		os.Exit(2)
	}
	silent, err := compare(filepath.Join(os.Args[1], "files"))
	if err != nil {
		fmt.Fprintln(os.Stderr, "corpus:", err)
		os.Exit(2)
	}
	if silent > 0 {
		os.Exit(1)
	}
}

// compare looks at every file of the truth that is there, and returns how many are
// read wrongly in silence.
func compare(folder string) (silent int, err error) {
	truth, err := read("scripts/corpus/truth.tsv")
	if err != nil {
		return 0, err
	}
	counts := map[string]int{}
	for _, w := range truth {
		path := filepath.Join(folder, w.file)
		b, err := os.ReadFile(path)
		if err != nil {
			counts["not there"]++
			continue
		}
		if sum := sha256.Sum256(b); hex.EncodeToString(sum[:8]) != w.sha256 {
			counts["another version"]++
			continue
		}
		f, err := look(path, w.sheet)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", w.file, err)
		}
		verdict := judge(w, f)
		counts[verdict]++
		if verdict != right && verdict != otherKind {
			fmt.Printf("%-26s want %+v, found %+v\n", verdict, w, f)
		}
		if n, is := independent(path, w); is && n != w.records {
			counts["the other reader differs"]++
			fmt.Printf("the other reader counts %d records, not %d: %s\n", n, w.records, w.file)
		}
	}
	for _, v := range []string{right, otherKind, asked, cautioned, wrong, "not there", "another version",
		"the other reader differs"} {
		fmt.Printf("%6d  %s\n", counts[v], v)
	}
	return counts[wrong], nil
}

// The verdicts.
const (
	right     = "right"
	otherKind = "no table, or of another kind"
	asked     = "asked, and need not be"
	cautioned = "wrong, with a caution"
	wrong     = "WRONG, IN SILENCE"
)

func judge(w want, f found) string {
	switch {
	case w.kind == "any":
		return otherKind
	case w.kind == "question" && f.code == 2, w.kind == "empty" && f.code == 1:
		return right
	case w.kind != "table" && !f.said:
		return wrong
	case w.kind != "table":
		return cautioned
	case f.delimiter == w.delimiter && f.header == w.header && f.columns == w.columns &&
		(f.records == w.records || w.records < 0):
		return right
	case f.code != 0:
		return asked
	case f.said:
		return cautioned
	}
	return wrong
}

func read(name string) (out []want, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		x := strings.Split(lines.Text(), "\t")
		if len(x) < 3 || x[0] == "sha256" {
			continue
		}
		w := want{sha256: x[0], kind: x[2], records: -1}
		w.file, w.sheet, _ = strings.Cut(x[1], "!")
		if w.kind == "table" {
			if len(x) != 7 {
				return nil, fmt.Errorf("%s: %d fields", x[1], len(x))
			}
			w.delimiter = x[3]
			header, err1 := strconv.ParseInt(x[4], 10, 64)
			columns, err2 := strconv.Atoi(x[5])
			if err := errors.Join(err1, err2); err != nil {
				return nil, fmt.Errorf("%s: %w", x[1], err)
			}
			w.header, w.columns = header, columns
			if n, err := strconv.ParseInt(x[6], 10, 64); err == nil {
				w.records = n
			}
		}
		out = append(out, w)
	}
	return out, lines.Err()
}

// look runs the built program.
func look(path, sheet string) (f found, err error) {
	var doc struct {
		Sources []struct {
			Header   int64
			Records  int64
			Columns  []struct{}
			Evidence []struct{ What, Value string }
			Findings []struct{ Weight string }
		}
	}
	args := []string{"look", path, "--json", "-q"}
	if sheet != "" {
		args = append(args, "--sheet", sheet)
	}
	cmd := exec.Command("bin/ambertray", args...)
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		f.code, f.said = exit.ExitCode(), true
	} else if err != nil {
		return f, err
	}
	if f.code == 1 {
		return f, nil // refused
	}
	if err := json.Unmarshal(out, &doc); err != nil {
		return f, err
	}
	if len(doc.Sources) == 0 {
		return f, nil
	}
	s := doc.Sources[0]
	f.header, f.columns, f.records = s.Header, len(s.Columns), s.Records
	for _, e := range s.Evidence {
		switch e.What {
		case "delimiter":
			f.delimiter = e.Value
		case "columns":
			f.delimiter = "fixed"
		}
	}
	words := map[string]string{"comma": ",", "pipe": "|", "semicolon": ";", "colon": ":", "runs of blanks": "blanks"}
	if c, is := words[f.delimiter]; is {
		f.delimiter = c
	}
	for _, x := range s.Findings {
		f.said = f.said || x.Weight != "note"
	}
	return f, nil
}

// independent counts the records of a table with the standard library's reader, where
// it can read such a form.
func independent(path string, w want) (n int64, is bool) {
	if w.kind == "table" && w.sheet != "" && strings.HasSuffix(path, ".xlsx") {
		return ofSheet(path, w)
	}
	comma := map[string]rune{",": ',', ";": ';', "|": '|', "tab": '\t'}[w.delimiter]
	if w.kind != "table" || comma == 0 || w.records < 0 {
		return 0, false
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return 0, false
	}
	if strings.HasSuffix(path, ".gz") {
		z, err := gzip.NewReader(bytes.NewReader(b))
		if err != nil {
			return 0, false
		}
		if b, err = io.ReadAll(z); err != nil {
			return 0, false
		}
	}
	for range max(w.header-1, 0) { // to the header
		i := bytes.IndexByte(b, '\n')
		if i < 0 {
			return 0, false
		}
		b = b[i+1:]
	}
	r := csv.NewReader(bytes.NewReader(b))
	r.Comma, r.FieldsPerRecord = comma, -1
	if bytes.Contains(b, []byte("\n#")) || bytes.HasPrefix(b, []byte("#")) || bytes.HasPrefix(b, []byte(";")) {
		return 0, false // comments, or data: that reader cannot tell
	}
	names := ""
	for {
		rec, err := r.Read()
		if err == io.EOF {
			return n, true
		}
		if err != nil {
			return 0, false // quotes that it does not take
		}
		line := strings.Join(rec, "\x00")
		if w.header > 0 && names == "" {
			names = line
		}
		if strings.Trim(line, "\x00") != "" && line != names { // the names stand again where files were joined
			n++
		}
	}
}

// ofSheet counts the rows of a sheet that hold something, below the header, with the
// library's reader.
func ofSheet(path string, w want) (n int64, is bool) {
	book, err := excelize.OpenFile(path)
	if err != nil {
		return 0, false
	}
	defer book.Close()
	rows, err := book.GetRows(w.sheet, excelize.Options{RawCellValue: true})
	if err != nil {
		return 0, false
	}
	for _, r := range rows[min(int(w.header), len(rows)):] {
		if strings.TrimSpace(strings.Join(r, "")) != "" {
			n++
		}
	}
	return n, true
}
