package demo

import (
	"archive/zip"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"time"
)

// TollBook writes the toll book of 2025, an Office Open XML workbook
// (ECMA-376) with a sheet for each month but two that were lost, and one that
// is empty. Two titles stand above each, the rows have only the day of the
// month, permits have lost their zeros, and one keeper called the toll a fee.
func TollBook(w io.Writer) error {
	r := rand.New(rand.NewPCG(1777, 12))
	z := zip.NewWriter(w)
	put := func(name, text string) error {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate,
			Modified: time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC)})
		if err != nil {
			return err
		}
		_, err = io.WriteString(f, `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`+text)
		return err
	}
	const main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
	const office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	var sheets, rels, types, book strings.Builder
	n := 0
	add := func(name, data string) error {
		n++
		fmt.Fprintf(&sheets, `<sheet name="%s" sheetId="%d" r:id="rId%d"/>`, name, n, n)
		fmt.Fprintf(&rels, `<Relationship Id="rId%d" Type="%s/worksheet" Target="worksheets/sheet%d.xml"/>`, n, office,
			n)
		fmt.Fprintf(&types,
			`<Override PartName="/xl/worksheets/sheet%d.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/>`, n)
		return put(fmt.Sprintf("xl/worksheets/sheet%d.xml", n),
			`<worksheet xmlns="`+main+`"><sheetData>`+data+`</sheetData></worksheet>`)
	}
	for m := time.January; m <= time.December; m++ {
		if m == time.April || m == time.September {
			continue
		}
		if err := add(m.String(), tollSheet(r, m)); err != nil {
			return err
		}
	}
	if err := add("Notes", ""); err != nil {
		return err
	}
	fmt.Fprintf(&book, `<workbook xmlns="%s" xmlns:r="%s"><sheets>%s</sheets></workbook>`, main, office,
		sheets.String())
	for _, part := range [][2]string{
		{"xl/workbook.xml", book.String()},
		{"xl/_rels/workbook.xml.rels",
			`<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">` + rels.String() +
				`</Relationships>`},
		{"_rels/.rels",
			`<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="` + office + `/officeDocument" Target="xl/workbook.xml"/></Relationships>`},
		{"[Content_Types].xml",
			`<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/>` + types.String() + `</Types>`},
	} {
		if err := put(part[0], part[1]); err != nil {
			return err
		}
	}
	return z.Close()
}

// tollSheet is the rows of one month.
func tollSheet(r *rand.Rand, m time.Month) string {
	var b strings.Builder
	row := 0
	write := func(cells ...any) {
		row++
		fmt.Fprintf(&b, `<row r="%d">`, row)
		for i, c := range cells {
			at := fmt.Sprintf("%c%d", 'A'+i, row)
			switch v := c.(type) {
			case string:
				if v != "" {
					fmt.Fprintf(&b, `<c r="%s" t="inlineStr"><is><t>%s</t></is></c>`, at, v)
				}
			default:
				fmt.Fprintf(&b, `<c r="%s"><v>%v</v></c>`, at, v)
			}
		}
		b.WriteString("</row>")
	}
	toll := "Toll"
	if m == time.August {
		toll = "Fee"
	}
	write("Harrowmere Canal Trust")
	write(fmt.Sprintf("Tolls taken in %s 2025", m))
	write()
	write("Day", "Lock", "Boat", "Permit", toll, "Remarks")
	days := time.Date(2025, m+1, 0, 0, 0, 0, 0, time.UTC).Day()
	sum := 0.0
	for d := 1; d <= days; d++ {
		for range r.IntN(4) {
			t := float64(50+r.IntN(4000)) / 100
			remark := ""
			if r.IntN(5) == 0 {
				remark = remarks[r.IntN(len(remarks))]
			}
			lock, boat, permit := locks[r.IntN(len(locks))],
				fmt.Sprintf("%s %d", boats[r.IntN(len(boats))], 1+r.IntN(90)), 100+r.IntN(9000)
			if r.IntN(20) == 0 {
				write(d, lock, boat, permit, "", "free passage")
				continue
			}
			sum += t
			write(d, lock, boat, permit, t, remark)
		}
	}
	write("Total", "", "", "", fmt.Sprintf("%.2f", sum))
	return b.String()
}

// TollPlan is the plan that makes one table of the toll book.
const TollPlan = `# Amber Tray plan: the toll book, one table of all its sheets
ambertray: 1
sources:
  - file: toll-book-2025.xlsx
    sheet: all
table:
  name: tolls
columns:
  - name: paid_on # the rows have the day only; year and month are in the names
    type: date
    value: dateOf(part(source.file, "[0-9]{4}"), monthOf(source.sheet), field["Day"])
    required: true
  - name: lock
    from: Lock
    type: varchar(20)
    required: true
  - name: boat
    from: Boat
    type: varchar(40)
    required: true
  - name: permit # zeros that the sheet has lost
    type: char(6)
    value: pad(field["Permit"], 6)
    required: true
  - name: toll
    from: Toll
    also: [Fee] # in August
    type: decimal(8,2)
    required: true
  - name: remarks
    from: Remarks
    type: varchar(50)
    fill: '"none"'
  - name: sheet
    type: varchar(20)
    value: source.sheet
    required: true
keep: remarks != "free passage"
`
