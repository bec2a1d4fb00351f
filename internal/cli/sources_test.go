package cli_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ambertray/internal/demo"
	"ambertray/internal/tray"
)

// archive writes a zip archive.
func (b *bench) archive(name string, members ...string) {
	b.t.Helper()
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for i := 0; i < len(members); i += 2 {
		w, err := z.Create(members[i])
		require.NoError(b.t, err)
		_, err = w.Write([]byte(members[i+1]))
		require.NoError(b.t, err)
	}
	require.NoError(b.t, z.Close())
	b.write(name, buf.String())
}

// book writes a workbook; rows by sheet, in order.
func (b *bench) book(name string, sheets ...any) {
	b.t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	for i := 0; i < len(sheets); i += 2 {
		sheet := sheets[i].(string)
		if i == 0 {
			require.NoError(b.t, f.SetSheetName("Sheet1", sheet))
		} else if _, err := f.NewSheet(sheet); err != nil {
			require.NoError(b.t, err)
		}
		for r, row := range sheets[i+1].([][]any) {
			require.NoError(b.t, f.SetSheetRow(sheet, fmt.Sprintf("A%d", r+1), &row))
		}
	}
	require.NoError(b.t, f.SaveAs(filepath.Join(b.dir, name)))
}

func TestArchives(t *testing.T) {
	b := newBench(t)
	csv := "id,toll\n1,2.50\n2,3.75\n"
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte(csv))
	require.NoError(t, z.Close())
	b.write("a.csv", csv)
	b.write("a.csv.gz", packed.String())
	b.archive("one.zip", "folder/", "", "folder/a.csv", csv)
	b.archive("back.zip", `folder\a.csv`, csv)
	b.archive("two.zip", "a.csv", csv, "b.csv", "x\n1\n", "deep/c.txt", csv)
	b.archive("packed.zip", "a.csv.gz", packed.String())
	want := b.loaded(0, "a.csv", "--into", "sqlite:c.db")
	for i, file := range []string{"a.csv.gz", "one.zip", "packed.zip", "back.zip"} {
		rec := b.loaded(0, file, "--into", fmt.Sprintf("sqlite:c%d.db", i))
		assert.Equal(t, want.Columns, rec.Columns, file)
		b.run(0, "verify", rec.Entry, "--deep")
	}
	r := b.run(2, "look", "two.zip")
	assert.Contains(t, r.out, "deep/c.txt")
	assert.Contains(t, b.run(2, "load", "two.zip", "--into", "sqlite:d.db").err, "--member")
	rec := b.loaded(0, "two.zip", "--member", "a.csv", "--into", "sqlite:d.db", "--key", "none")
	assert.Equal(t, "a.csv", rec.Sources[0].Part)
	rec = b.loaded(0, "two.zip", "--member", "*.txt", "--into", "sqlite:d.db")
	assert.Equal(t, "deep/c.txt", rec.Sources[0].Part)
	assert.Equal(t, "c", rec.Table.Name)
	// Another part of the same file is not the same file.
	b.run(0, "load", "two.zip", "--member", "deep/c.txt", "--into", "sqlite:d.db", "--table", "a", "--mode", "append", "--again") // its rows are the same
	assert.Contains(t, b.run(2, "load", "two.zip", "--member", "a.csv", "--into", "sqlite:d.db", "--table", "a", "--mode", "append").err, "--again")
	assert.Contains(t, b.run(2, "load", "two.zip", "--member", "none", "--into", "sqlite:d.db").err, "has no member")
	assert.Contains(t, b.run(2, "look", "a.csv", "--member", "x").err, "is no zip archive")
	assert.Contains(t, b.run(2, "look", "a.csv", "--sheet", "x").err, "is no workbook")
	// A plan keeps the member.
	b.run(0, "plan", "two.zip", "--member", "a.csv", "-o", "a.yaml")
	b.run(0, "load", "a.yaml", "--into", "sqlite:e.db")

	for what, name := range map[string]string{"up": "../a.csv", "root": "/etc/a.csv", "drive": `C:\a.csv`, "odd": "a/../../b.csv"} {
		b.archive("bad.zip", name, csv)
		assert.Contains(t, b.run(1, "look", "bad.zip").err, "leads out of the archive", what)
	}
	data := b.read("one.zip")
	b.write("cut.zip", data[:len(data)-30])
	assert.Contains(t, b.run(1, "look", "cut.zip").err, "damaged")
	b.write("cut.gz", packed.String()[:packed.Len()-6])
	assert.Contains(t, b.run(1, "look", "cut.gz").err, "cannot be unpacked")
	// A bomb: it ends at the bound, and says so.
	packed.Reset()
	z = gzip.NewWriter(&packed)
	zeros := bytes.Repeat([]byte("0,0\n"), 1<<18)
	for range 1100 {
		z.Write(zeros)
	}
	require.NoError(t, z.Close())
	b.write("bomb.gz", packed.String())
	start := time.Now()
	assert.Contains(t, b.run(2, "look", "bomb.gz", "--max-unpacked", "1").err, "--max-unpacked")
	assert.Less(t, time.Since(start), time.Minute)
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "ambertray-[0-9]*"))
	require.NoError(t, err)
	for _, name := range left {
		info, err := os.Stat(name)
		assert.False(t, err == nil && !info.IsDir() && info.ModTime().After(start), "%s is left behind", name)
	}
}

func TestStandardInputAndLinks(t *testing.T) {
	b := newBench(t)
	csv := "id,toll\n1,2.50\n2,3.75\n"
	cmd := b.command("load", "-", "--into", "sqlite:c.db", "--table", "t")
	cmd.Stdin = strings.NewReader(csv)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, [][]string{{"2", "6.25"}}, b.query("c.db", "SELECT count(*), sum(toll) FROM t"))

	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if u, p, _ := r.BasicAuth(); u != "keeper" || p != "canal-1777" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		w.Header().Set("Content-Disposition", `attachment; filename="May tolls.csv"`)
		fmt.Fprint(w, csv)
	}))
	defer s.Close()
	link := strings.Replace(s.URL, "://", "://keeper:canal-1777@", 1) + "/get?id=7*"
	rec := b.loaded(0, link, "--into", "sqlite:d.db")
	assert.Equal(t, "may_tolls", rec.Table.Name)
	papers := b.read("tray/"+rec.Entry+"/receipt.json") + b.read("tray/"+rec.Entry+"/plan.yaml") + b.read("tray/"+rec.Entry+"/load.log")
	assert.NotContains(t, papers, "canal-1777")
	assert.Contains(t, b.run(1, "look", s.URL+"/x").err, "403")
	assert.Contains(t, b.run(1, "verify", "latest").out, "fetched from a link")
}

func TestWorkbooks(t *testing.T) {
	b := newBench(t)
	day := time.Date(2024, 2, 29, 0, 0, 0, 0, time.UTC)
	rows := [][]any{{"Tolls"}, nil, {"Id", "Day", "Toll", "Code", "Paid"}}
	for i := range 30 {
		rows = append(rows, []any{i + 1, day.AddDate(0, 0, i), float64(i) + 0.25, fmt.Sprintf("%04d", i), i%2 == 0})
	}
	rows[10][2] = "x7"
	rows[11] = []any{8, day, 1.5}
	b.book("tolls.xlsx", "March", rows, "April", [][]any{{nil, nil, nil}, {nil, "Id", "Day"}, {nil, 1, day}, {nil, 2, "30 Feb"}}, "Notes", [][]any{})
	r := b.run(2, "look", "tolls.xlsx")
	for _, want := range []string{"March", "A1:E33", "April", "B2:C4", "empty", "--sheet all"} {
		assert.Contains(t, r.out, want)
	}
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(b.run(2, "look", "tolls.xlsx", "--json").out), &doc))
	assert.Len(t, doc["sheets"], 3)
	assert.Contains(t, b.run(2, "load", "tolls.xlsx", "--into", "sqlite:c.db").err, `"March", "April", "Notes"`)
	assert.Contains(t, b.run(2, "look", "tolls.xlsx", "--sheet", "May").err, "has no sheet")
	assert.Contains(t, b.run(2, "look", "tolls.xlsx", "--sheet", "March", "--range", "nowhere").err, "has no range")

	r = b.run(0, "look", "tolls.xlsx", "--sheet", "march")
	assert.Contains(t, r.out, "C11 'x7'", "places are cells")
	rec := b.loaded(3, "tolls.xlsx", "--sheet", "1", "--into", "sqlite:c.db", "--type", "Toll=decimal(6,2)", "--require", "Paid")
	assert.Equal(t, tray.Records{Read: 31, Loaded: 28, Rejected: 2, Skipped: 1}, rec.Records)
	rejects := b.rejects(rec.Entry)
	assert.Equal(t, []string{"reject", "source", "line", "cell", "record"}, rejects[0][:5])
	assert.Equal(t, []string{"1", `tolls.xlsx, sheet "March"`, "11", "C11", "8", "toll", "not-a-number", "not a number", "x7"}, rejects[1][:9])
	assert.Equal(t, []string{"12", "E12"}, rejects[2][2:4])
	assert.Equal(t, [][]string{{"1", "2024-02-29", "0.25", "0000", "1"}}, b.query("c.db", "SELECT id, date(day), toll, code, paid FROM march WHERE id = 1"))
	assert.Contains(t, b.run(0, "rejects", rec.Entry).out, "C11")
	text := b.read("tray/" + rec.Entry + "/rejects.csv")
	b.write("tray/"+rec.Entry+"/rejects.csv", strings.Replace(strings.Replace(text, ",x7,0007", ",7.25,0007", 1), "1.5,,", "1.5,0008,true", 1))
	b.run(0, "mend", rec.Entry)
	b.run(0, "verify", rec.Entry, "--deep")

	// A part of a sheet, and columns that begin at B.
	rec = b.loaded(0, "tolls.xlsx", "--sheet", "March", "--range", "A3:C5", "--into", "sqlite:d.db")
	assert.EqualValues(t, 2, rec.Records.Loaded)
	assert.Len(t, rec.Columns, 3)
	r = b.run(0, "look", "tolls.xlsx", "--sheet", "April")
	assert.Contains(t, r.out, "2 records, 2 columns")
	// A plan of a sheet.
	b.run(0, "plan", "tolls.xlsx", "--sheet", "April", "-o", "april.yaml")
	assert.NotContains(t, b.read("april.yaml"), "delimiter")
	b.run(0, "load", "april.yaml", "--into", "sqlite:e.db")

	b.write("old.xls", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"+strings.Repeat("\x00", 600))
	assert.Contains(t, b.run(1, "look", "old.xls").err, "without an older workbook (.xls), or a damaged one")
}

// Sheets and the same data as CSV come to the same, value by value.
func TestWorkbookEqualsCSV(t *testing.T) {
	b := newBench(t)
	rows := [][]any{{"Id", "Name", "Amount", "At", "Flag", "Code"}}
	csv := "Id,Name,Amount,At,Flag,Code\n"
	for i := range 500 {
		at := time.Date(2024, 1, 1+i%300, i%24, i%60, i%59, 0, time.UTC)
		name := []string{"plain", "comma, \"quote\"", "two\nlines", "ünï", " lead", ""}[i%6]
		amount := float64(i*i*37%100000) / 100
		rows = append(rows, []any{i, name, amount, at, i%3 == 0, fmt.Sprintf("%06d", i)})
		csv += fmt.Sprintf("%d,\"%s\",%.2f,%s,%v,%06d\n", i, strings.ReplaceAll(name, `"`, `""`), amount, at.Format("2006-01-02 15:04:05"), i%3 == 0, i)
	}
	b.book("book.xlsx", "Data", rows)
	b.write("book.csv", csv)
	for _, f := range []string{"book.csv", "book.xlsx"} {
		b.run(0, "load", f, "--into", "sqlite:"+f+".db", "--table", "t", "--type", "Amount=decimal(8,2)", "--type", "At=timestamp(0)", "--type", "Code=char(6)")
	}
	sameRows(t, b.content("sqlite:book.csv.db", "t"), b.content("sqlite:book.xlsx.db", "t"), "")
	for _, name := range []string{"converted.xlsx", "converted.ods"} {
		// Written by LibreOffice from gauges.csv, beside it.
		file, err := filepath.Abs(filepath.Join("testdata", name))
		require.NoError(t, err)
		original, err := filepath.Abs(filepath.Join("testdata", "converted.csv"))
		require.NoError(t, err)
		b.run(0, "load", original, "--into", "sqlite:o.db", "--table", name, "--names", "keep")
		b.run(0, "load", file, "--into", "sqlite:"+name+".db", "--table", name, "--names", "keep", "--type", "Read at=timestamp(0)", "--type", "Gauge=char(4)")
		sameRows(t, b.content("sqlite:o.db", name), b.content("sqlite:"+name+".db", name), name)
	}
}

// The toll book: ten sheets into one table, with dates from three places.
func TestTollBook(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		require.NoError(t, demo.Write(b.dir))
		r := b.run(2, "look", "toll-book-2025.xlsx", "--sheet", "all")
		for _, want := range []string{"April, September", "--same 'Fee=Toll'", "missing in 1 of 10 sources (August)"} {
			assert.Contains(t, r.out, want)
		}
		b.run(0, "plan", "toll-book-2025.xlsx", "--sheet", "all", "--same", "Fee=Toll", "--provenance", "--table", "as_read", "-o", "as_read.yaml")
		assert.Contains(t, b.read("as_read.yaml"), "also: [Fee]")
		rec := b.loaded(0, "as_read.yaml", "--into", s.url)
		assert.EqualValues(t, 459, rec.Records.Loaded)
		b.run(0, "verify", "as_read", "--deep")
		assert.Equal(t, [][]string{{"10", "48"}}, queryRows(t, s.db, "SELECT "+s.text("count(DISTINCT source_sheet)")+", (SELECT "+s.text("count(*)")+" FROM as_read WHERE source_sheet = 'August' AND toll IS NOT NULL) FROM as_read"))

		rec = b.loaded(0, "tolls.yaml", "--into", s.url)
		assert.Len(t, rec.Sources, 10)
		assert.Equal(t, tray.Records{Read: 489, Loaded: 444, Skipped: 45}, rec.Records)
		assert.Contains(t, rec.Skipped, tray.Skip{Kind: "left-out", Count: 15})
		b.run(0, "verify", "tolls", "--deep")
		got := queryRows(t, s.db, "SELECT "+s.text("min(paid_on)")+", "+s.text("max(paid_on)")+", min(permit) FROM tolls")
		assert.Equal(t, []string{"2025-01-02", "2025-12-31"}, got[0][:2])
		assert.Len(t, got[0][2], 6)
	})
}

func TestExpressions(t *testing.T) {
	b := newBench(t)
	b.write("in.csv", "Day,Lock,Toll,Permit,Note\n1,North,2.50,17,a-12\n2,,3.25,18,b\n31,South,,19,c-3\nx,North,1.00,20,d\n4,Free,9,21,e\n")
	write := func(more string, replace ...string) {
		text := `ambertray: 1
sources:
  - {file: in.csv, header: 1, delimiter: comma, quote: double}
table: {name: t}
columns:
  - {name: paid_on, type: date, value: 'dateOf(2024, 2, field["Day"])', required: true}
  - {name: lock, from: Lock, type: varchar(20), fill: 'filled("", "unknown")'}
  - {name: toll, from: Toll, type: "decimal(6,2)"}
  - {name: doubled, type: "decimal(6,1)", value: 'toll == nil ? nil : toll * 2'}
  - {name: permit, type: char(6), value: 'pad(field["Permit"], 6)'}
  - {name: code, type: integer, value: 'part(field["Note"], "-([0-9]+)")'}
  - {name: side, type: varchar(10), value: 'choose(lock, {"North": "upper", "South": "lower"}, "none")'}
  - {name: place, type: varchar(60), value: 'source.file + ":" + string(record.line)'}
keep: lock != "Free"
` + more
		b.write("p.yaml", strings.NewReplacer(replace...).Replace(text))
	}
	write("")
	r := b.run(0, "look", "p.yaml")
	assert.Contains(t, r.out, "As the plan makes them")
	assert.Contains(t, r.out, "there is no date 2024-02-31")
	rec := b.loaded(3, "p.yaml", "--into", "sqlite:c.db", "--accept-changes")
	assert.Equal(t, tray.Records{Read: 5, Loaded: 2, Rejected: 2, Skipped: 1}, rec.Records)
	assert.Equal(t, [][]string{{"2024-02-01", "North", "2.5", "5", "000017", "12", "upper", "in.csv:2"}, {"2024-02-02", "unknown", "3.25", "6.5", "000018", "<null>", "none", "in.csv:3"}},
		b.query("c.db", "SELECT paid_on || '', lock, toll, doubled, permit, code, side, place FROM t ORDER BY place"))
	rejects := b.rejects(rec.Entry)
	assert.Contains(t, rejects[1][6], "there is no date 2024-02-31")
	assert.Contains(t, rejects[2][6], "not a whole number")
	// A mended record is still the one that it was.
	b.write("tray/"+rec.Entry+"/rejects.csv", strings.Replace(strings.Replace(b.read("tray/"+rec.Entry+"/rejects.csv"), ",31,South", ",29,South", 1), ",x,North", ",3,North", 1))
	b.run(0, "mend", rec.Entry)
	assert.Equal(t, [][]string{{"in.csv:4"}, {"in.csv:5"}}, b.query("c.db", "SELECT place FROM t WHERE permit IN ('000019', '000020') ORDER BY place"))
	b.run(0, "verify", rec.Entry, "--deep")

	for _, tt := range []struct{ old, new, want string }{
		{`toll == nil ? nil : toll * 2`, `toll *`, "line 9"},
		{`toll == nil ? nil : toll * 2`, `tol * 2`, "tol"},
		{`source.file + `, `source.fiel + `, `source has no "fiel"`},
		{`lock != "Free"`, `record.line + 1`, "keep:"},
		{`pad(field["Permit"], 6)`, `pad(field["Permit"], "x")`, "column permit"},
		{`dateOf(2024, 2, field["Day"])`, `dateOf(2024, 2)`, "line 6"},
	} {
		write("", tt.old, tt.new)
		r := b.run(2, "look", "p.yaml")
		assert.Contains(t, r.err, tt.want, tt.new)
		assert.Contains(t, r.err, "p.yaml: line", tt.new)
	}
	write("", `name: lock, from: Lock`, `name: lock, from: Lock, value: '1'`)
	assert.Contains(t, b.run(2, "look", "p.yaml").err, "both from: and value:")
}

// The record's number counts through all sources of a load, so that it can be a
// key, also of a record that is mended; and what tells where a record came from
// goes into a table that exists.
func TestNumbersThroughTheLoad(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("jan.csv", "id,toll\n1,2.50\n2,3.00\n")
		b.write("feb.csv", "id,toll\n3,4.50\n4,5.x\n5,6.00\n")
		args := []string{"--into", s.url, "--row-number", "no", "--key", "no", "--provenance", "--type", "toll=decimal(6,2)", "--table", "tolls", "--json"}
		var rec tray.Receipt
		r := b.run(3, append([]string{"load", "jan.csv", "feb.csv"}, args...)...)
		require.NoError(t, json.Unmarshal([]byte(r.out), &rec), r.out)
		assert.EqualValues(t, []int64{2, 3}, []int64{rec.Sources[0].Records, rec.Sources[1].Records})
		read := "SELECT no, " + s.text("id") + ", " + s.text("source_line") + " FROM tolls ORDER BY no"
		assert.Equal(t, [][]string{{"1", "1", "2"}, {"2", "2", "3"}, {"3", "3", "2"}, {"5", "5", "4"}}, queryRows(t, s.db, read))
		text := b.read("tray/" + rec.Entry + "/rejects.csv")
		b.write("tray/"+rec.Entry+"/rejects.csv", strings.Replace(text, ",4,5.x", ",4,5.25", 1))
		b.run(0, "mend", "tolls")
		assert.Equal(t, [][]string{{"4", "4", "3"}}, queryRows(t, s.db, strings.Replace(read, "ORDER", "WHERE id = 4 ORDER", 1)))
		b.run(0, "verify", "tolls", "--deep")

		b.write("mar.csv", "id,toll\n6,1.25\n")
		b.run(0, "plan", "mar.csv", "--provenance", "--table", "more", "-o", "more.yaml")
		r = b.run(0, "look", "more.yaml")
		assert.Contains(t, r.out, "would reject  0")
		b.run(0, "load", "more.yaml", "--into", s.url)
		b.run(0, "load", "jan.csv", "--into", s.url, "--provenance", "--mode", "append", "--table", "more")
		assert.Equal(t, [][]string{{"3"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM more"))
	})
}

// A workbook of any age is looked at, its ranges are named as people write them, and what
// nobody sees in it is said, or left out.
func TestBooksOfEveryAge(t *testing.T) {
	b := newBench(t)
	for _, name := range []string{"boats.xls", "boats.xlsb", "boats.fods", "boats.xlsx"} {
		data, err := os.ReadFile(filepath.Join("..", "source", "workbook", "testdata", name))
		require.NoError(t, err)
		b.write("old.dat", string(data)) // whatever it is called
		r := b.run(0, "look", "old.dat", "--sheet", "boats", "--range", "A2:I42")
		assert.Contains(t, r.out, "2 rows are hidden or filtered out in the workbook, and read all the same; the first is row 10", name)
		assert.Contains(t, r.out, "Note: the column is hidden", name)
		assert.Contains(t, r.out, "40 numbers are taken as the sheet shows them", name)
		rec := b.loaded(0, "old.dat", "--range", "'Boats'!A2:I42", "--visible", "--into", "sqlite:c.db", "--table", "boats", "--mode", "replace", "--yes")
		assert.EqualValues(t, 38, rec.Records.Loaded, name)
		assert.Equal(t, [][]string{{"38", "00000", "01443"}}, b.query("c.db", "SELECT count(*), min(code), max(code) FROM boats"), name)
		assert.Contains(t, b.read(filepath.Join("tray", rec.Entry, "plan.yaml")), `visible: "yes"`)
		assert.Contains(t, b.read(filepath.Join("tray", rec.Entry, "plan.yaml")), "leave_out:\n  - Note")
		assert.NotContains(t, b.run(0, "peek", "sqlite:c.db", "boats").out, "note")
		assert.Contains(t, b.run(2, "look", "old.dat", "--sheet", "Kept back", "--range", "Boats!A2:I42").err, "is on the sheet")
		if name == "boats.xls" {
			assert.Contains(t, b.run(2, "look", "old.dat").out, "Fleet (Boats A2:I42)")
		}
	}
	// A percentage is the number behind it, and that is said.
	book := excelize.NewFile()
	share, err := book.NewStyle(&excelize.Style{NumFmt: 10})
	require.NoError(t, err)
	for cell, v := range map[string]any{"A1": "lock", "B1": "share", "A2": "Stoke", "B2": 0.05, "A3": "Mere", "B3": 0.125} {
		require.NoError(t, book.SetCellValue("Sheet1", cell, v))
	}
	require.NoError(t, book.SetCellStyle("Sheet1", "B2", "B3", share))
	require.NoError(t, book.SaveAs(filepath.Join(b.dir, "p.xlsx")))
	assert.Contains(t, b.run(0, "look", "p.xlsx").out, "2 numbers are shown as percentages, and taken as what is behind them: 5 % is 0.05")
	// Tabs are listed as what they are.
	_, err = book.NewSheet("More")
	require.NoError(t, err)
	require.NoError(t, book.SetCellValue("More", "A1", "x"))
	require.NoError(t, book.SetSheetVisible("More", false, true))
	require.NoError(t, book.AddPivotTable(&excelize.PivotTableOptions{DataRange: "Sheet1!A1:B3", PivotTableRange: "Sheet1!D1:F5",
		Rows: []excelize.PivotTableField{{Data: "lock"}}, Data: []excelize.PivotTableField{{Data: "share"}}}))
	require.NoError(t, book.AddChartSheet("Picture", &excelize.Chart{Type: excelize.Bar, Series: []excelize.ChartSeries{{Values: "Sheet1!$B$2:$B$3"}}}))
	require.NoError(t, book.SaveAs(filepath.Join(b.dir, "t.xlsx")))
	r := b.run(2, "look", "t.xlsx")
	assert.Contains(t, r.out, "tabs without cells  Picture (chart)")
	assert.Contains(t, r.out, "1 pivot table")
	assert.Contains(t, r.out, "very hidden")
	b.write("a.csv", "a,b\n1,2\n")
	assert.Contains(t, b.run(2, "look", "a.csv", "--visible").err, "nothing is hidden")
}
