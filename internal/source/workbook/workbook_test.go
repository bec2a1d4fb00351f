package workbook

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// pack makes a zip archive of parts.
func pack(t testing.TB, parts map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range parts {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// xlsx makes a workbook of one sheet from the XML within its worksheet.
func xlsx(t testing.TB, sheet string, more map[string]string) []byte {
	parts := map[string]string{
		"[Content_Types].xml":        `<Types/>`,
		"_rels/.rels":                `<Relationships><Relationship Id="a" Type="http://x/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml":            `<workbook xmlns:r="r"><sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId1" Type="http://x/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Type="http://x/styles" Target="styles.xml"/><Relationship Id="rId3" Type="http://x/sharedStrings" Target="sharedStrings.xml"/></Relationships>`,
		"xl/styles.xml":              `<styleSheet><numFmts><numFmt numFmtId="164" formatCode="dd\/mm\/yyyy hh:mm"/><numFmt numFmtId="165" formatCode="[h]:mm:ss"/><numFmt numFmtId="166" formatCode="#,##0.00 &quot;days&quot;"/></numFmts><cellStyleXfs><xf numFmtId="14"/></cellStyleXfs><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/><xf numFmtId="164"/><xf numFmtId="165"/><xf numFmtId="20"/><xf numFmtId="9"/><xf numFmtId="166"/></cellXfs></styleSheet>`,
		"xl/sharedStrings.xml": `<sst><si><t>plain</t></si><si><r><t>rich </t></r><r><rPr><b/></rPr><t xml:space="preserve">text </t></r><rPh sb="0"><t>hint</t></rPh></si><si><t>a_x000D_
b_x0041__x00ZZ_ &amp; &lt;c&gt; &#233;&#x20AC;</t></si></sst>`,
		"xl/worksheets/sheet1.xml": `<worksheet>` + sheet + `</worksheet>`,
	}
	for k, v := range more {
		parts[k] = v
	}
	return pack(t, parts)
}

// Parts are found whatever the case of their names is, and with backslashes; a binary
// workbook is refused as one.
func TestNamesOfParts(t *testing.T) {
	sheet := `<sheetData><row r="1"><c r="A1"><v>7</v></c></row></sheetData>`
	for what, rename := range map[string]func(string) string{
		"backslashes": func(n string) string { return strings.ReplaceAll(n, "/", `\\`) }, "capitals": strings.ToUpper,
	} {
		z, err := zip.NewReader(bytes.NewReader(xlsx(t, sheet, nil)), int64(len(xlsx(t, sheet, nil))))
		require.NoError(t, err)
		parts := map[string]string{}
		for _, f := range z.File {
			r, err := f.Open()
			require.NoError(t, err)
			b, err := io.ReadAll(r)
			require.NoError(t, err)
			parts[rename(f.Name)] = string(b)
		}
		got, err := read(t, pack(t, parts), 0)
		require.NoError(t, err, what)
		assert.Equal(t, []string{"A1=7"}, got, what)
	}
}

// read lists the cells of a book's n-th sheet; text in quotes.
func read(t testing.TB, data []byte, n int) ([]string, error) {
	b, err := Open(bytes.NewReader(data), int64(len(data)), Limits{Part: 1 << 24})
	if err != nil {
		return nil, err
	}
	if b == nil {
		return nil, fmt.Errorf("no workbook")
	}
	var out []string
	err = b.Sheets[n].Rows(context.Background(), func(r *Row) error {
		for _, c := range r.Cells {
			v := string(c.Value)
			if c.Text {
				v = fmt.Sprintf("%q", v)
			}
			if out = append(out, fmt.Sprintf("%s%d=%s", ColumnName(c.Column), r.Number, v)); len(out) > 2e4 {
				return fmt.Errorf("too many")
			}
		}
		return nil
	})
	return out, err
}

func TestCellsOfEveryKind(t *testing.T) {
	for cell, want := range map[string]string{
		`<c r="A1"><v>42</v></c>`:                                           `42`,
		`<c r="A1"><v>-12.5</v></c>`:                                        `-12.5`,
		`<c r="A1"><v>0.29999999999999999</v></c>`:                          `0.3`,
		`<c r="A1"><v>0.30000000000000004</v></c>`:                          `0.3`,
		`<c r="A1"><v>1.0000000000000001E-2</v></c>`:                        `0.01`,
		`<c r="A1"><v>9007199254740991</v></c>`:                             `9007199254740991`,
		`<c r="A1"><v>1E+100</v></c>`:                                       `1e+100`,
		`<c r="A1"><v>007</v></c>`:                                          `7`,
		`<c r="A1" t="s"><v>0</v></c>`:                                      `"plain"`,
		`<c r="A1" t="s"><v>1</v></c>`:                                      `"rich text "`,
		`<c r="A1" t="s"><v>2</v></c>`:                                      `"a\nbA_x00ZZ_ & <c> é€"`,
		`<c r="A1" t="inlineStr"><is><t>in &amp; line</t></is></c>`:         `"in & line"`,
		`<c r="A1" t="str"><f>A2&amp;"x"</f><v>00042</v></c>`:               `"00042"`,
		`<c r="A1"><f>1+1</f><v>2</v></c>`:                                  `2`,
		`<c r="A1" t="b"><v>1</v></c>`:                                      `true`,
		`<c r="A1" t="b"><v>0</v></c>`:                                      `false`,
		`<c r="A1" t="e"><v>#DIV/0!</v></c>`:                                `#DIV/0!`,
		`<c r="A1" t="d"><v>2024-02-29T10:11:12Z</v></c>`:                   `2024-02-29 10:11:12`,
		`<c r="A1" s="1"><v>45351</v></c>`:                                  `2024-02-29`,
		`<c r="A1" s="1"><v>45351.5</v></c>`:                                `2024-02-29 12:00:00`,
		`<c r="A1" s="1"><v>59</v></c>`:                                     `1900-02-28`,
		`<c r="A1" s="1"><v>60</v></c>`:                                     `1900-02-29`,
		`<c r="A1" s="1"><v>61</v></c>`:                                     `1900-03-01`,
		`<c r="A1" s="1"><v>1</v></c>`:                                      `1900-01-01`,
		`<c r="A1" s="1"><v>2958465</v></c>`:                                `9999-12-31`,
		`<c r="A1" s="2"><v>45351</v></c>`:                                  `2024-02-29 00:00:00`,
		`<c r="A1" s="2"><v>45351.42444444444</v></c>`:                      `2024-02-29 10:11:12`,
		`<c r="A1" s="3"><v>1.5</v></c>`:                                    `36:00:00`,
		`<c r="A1" s="4"><v>0.25</v></c>`:                                   `06:00:00`,
		`<c r="A1" s="4"><v>1.25</v></c>`:                                   `30:00:00`,
		`<c r="A1" s="4"><v>45351.25</v></c>`:                               `2024-02-29 06:00:00`,
		`<c r="A1" s="4"><v>0.999994212962963</v></c>`:                      `23:59:59.500`,
		`<!-- > --><c r="A1"><v>8</v></c>`:                                  `8`,
		`<c r="A1" s="5"><v>0.05</v></c>`:                                   `0.05`,
		`<c r="A1" s="6"><v>3</v></c>`:                                      `3`,
		`<x:c r="A1"><x:v><![CDATA[5]]></x:v></x:c>`:                        `5`,
		`<c r='A1' t='str' extra="a>b"><v xml:space="preserve"> x </v></c>`: `" x "`,
	} {
		got, err := read(t, xlsx(t, `<dimension ref="A1:XFD1048576"/><sheetData><row r="1">`+cell+`</row></sheetData>`, nil), 0)
		require.NoError(t, err, cell)
		assert.Equal(t, []string{"A1=" + want}, got, cell)
	}
	// The name of a type of document, as older programs write it, defines nothing.
	old, err := read(t, xlsx(t, "", map[string]string{"xl/worksheets/sheet1.xml": `<!DOCTYPE worksheet PUBLIC "-//Harrowmere//DTD 1.0//EN" "w.dtd"><worksheet><sheetData><row r="1"><c r="A1"><v>1</v></c></row></sheetData></worksheet>`}), 0)
	require.NoError(t, err)
	assert.Equal(t, []string{"A1=1"}, old)
	// Nothing, and what is nothing.
	got, err := read(t, xlsx(t, `<sheetData><row r="3"/><row r="5" ht="2"><c r="B5"/><c r="C5" s="1"><v/></c><c t="str"><v>d</v></c></row><!-- > --><row><c><v>1</v></c></row></sheetData>`, nil), 0)
	require.NoError(t, err)
	assert.Equal(t, []string{`D5="d"`, `A6=1`}, got)
	// The 1904 system.
	got, err = read(t, xlsx(t, `<sheetData><row r="1"><c r="A1" s="1"><v>0</v></c><c r="B1" s="1"><v>43889</v></c></row></sheetData>`,
		map[string]string{"xl/workbook.xml": `<workbook xmlns:r="r"><workbookPr date1904="true"/><sheets><sheet name="S" r:id="rId1"/></sheets></workbook>`}), 0)
	require.NoError(t, err)
	assert.Equal(t, []string{"A1=1904-01-01", "B1=2024-02-29"}, got)
}

func TestNumberFormats(t *testing.T) {
	for code, want := range map[string]style{
		"General": plain, "0.00": plain, "#,##0.00;[Red]-#,##0.00": plain, `0.0E+00`: plain, `"day" 0`: plain, `0\d`: plain, "0%": percent, "# ?/?": plain,
		"yyyy-mm-dd": date, "dd/mm/yy": date, "[$-809]d mmmm yyyy": date, "mmm-yy": date, "mmmm": date, `yyyy"年"m"月"`: date, "[Red]dd.mm.yyyy": date,
		"hh:mm": clock, "h:mm AM/PM": clock, "mm:ss.0": clock, "yyyy-mm-dd hh:mm:ss": dateTime, "m/d/yy h:mm": dateTime, "[h]:mm": duration, "[mm]:ss": duration, "@": isText,
	} {
		assert.Equal(t, want, styleOf(code), code)
	}
}

// Workbooks that another hand wrote.
func TestWrittenByALibrary(t *testing.T) {
	f := excelize.NewFile()
	defer f.Close()
	require.NoError(t, f.SetSheetName("Sheet1", "The tolls"))
	day, err := f.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	set := func(sheet, cell string, v any) { require.NoError(t, f.SetCellValue(sheet, cell, v)) }
	set("The tolls", "B2", "Day")
	set("The tolls", "C2", "Toll")
	set("The tolls", "B3", time.Date(2024, 2, 29, 0, 0, 0, 0, time.UTC))
	require.NoError(t, f.SetCellStyle("The tolls", "B3", "B3", day))
	set("The tolls", "C3", 12.34)
	set("The tolls", "C4", "0042")
	set("The tolls", "D4", true)
	set("The tolls", "D5", "ünï \"q\"\nx")
	set("The tolls", "E5", time.Date(2024, 2, 29, 13, 14, 15, 0, time.UTC))
	require.NoError(t, f.MergeCell("The tolls", "A7", "C7"))
	require.NoError(t, f.SetDefinedName(&excelize.DefinedName{Name: "tolls", RefersTo: "'The tolls'!$B$2:$C$4"}))
	require.NoError(t, f.AddTable("The tolls", &excelize.Table{Range: "B2:C4", Name: "paid"}))
	_, err = f.NewSheet("Hidden")
	require.NoError(t, err)
	require.NoError(t, f.SetSheetVisible("Hidden", false))
	var buf bytes.Buffer
	require.NoError(t, f.Write(&buf))
	got, err := read(t, buf.Bytes(), 0)
	require.NoError(t, err)
	assert.Equal(t, []string{`B2="Day"`, `C2="Toll"`, "B3=2024-02-29", "C3=12.34", `C4="0042"`, "D4=true", `D5="ünï \"q\"\nx"`, "E5=2024-02-29 13:14:15"}, got)
	b, err := Open(bytes.NewReader(buf.Bytes()), int64(buf.Len()), Limits{})
	require.NoError(t, err)
	assert.Equal(t, []string{"The tolls", "Hidden"}, []string{b.Sheets[0].Name, b.Sheets[1].Name})
	assert.Equal(t, []bool{false, true}, []bool{b.Sheets[0].Hidden, b.Sheets[1].Hidden})
	require.NoError(t, b.Sheets[0].Rows(context.Background(), func(*Row) error { return nil }))
	assert.EqualValues(t, 1, b.Sheets[0].Merged())
	r := Range{2, 4, 1, 2}
	assert.Equal(t, []Name{{"tolls", "The tolls", r}, {"paid", "The tolls", r}}, b.Names)
}

// odsFile makes a spreadsheet from the XML within office:spreadsheet.
func odsFile(t testing.TB, inside string) []byte {
	return pack(t, map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet", "META-INF/manifest.xml": `<manifest:manifest/>`,
		"content.xml": `<?xml version="1.0"?><office:document-content><office:automatic-styles><style:style style:name="ta2"><style:table-properties table:display="false"/></style:style></office:automatic-styles><office:body><office:spreadsheet>` + inside + `</office:spreadsheet></office:body></office:document-content>`})
}

func TestOpenDocument(t *testing.T) {
	data := odsFile(t, `<table:table table:name="First"><table:table-column/><table:table-row table:number-rows-repeated="3"><table:table-cell table:number-columns-repeated="16384"/></table:table-row>
<table:table-row><table:table-cell/><table:table-cell office:value-type="string"><text:p>Toll <text:span>book</text:span></text:p><text:p>a<text:s text:c="3"/>b<text:tab/>c<text:line-break/>d</text:p></table:table-cell>
<table:table-cell office:value-type="float" office:value="12.340"><text:p>12,34</text:p></table:table-cell><table:table-cell office:value-type="date" office:date-value="2024-02-29"><text:p>29/02/24</text:p></table:table-cell></table:table-row>
<table:table-row table:number-rows-repeated="2"><table:table-cell office:value-type="date" office:date-value="2024-02-29T10:11:12"/><table:table-cell office:value-type="time" office:time-value="PT26H30M05S"/><table:table-cell office:value-type="boolean" office:boolean-value="true"><text:p>WAHR</text:p></table:table-cell>
<table:table-cell office:value-type="percentage" office:value="0.05"/><table:table-cell office:value-type="currency" office:value="-3.5"/><table:table-cell office:value-type="string" calcext:value-type="error"><text:p>#DIV/0!</text:p></table:table-cell></table:table-row>
<table:table-row><table:table-cell table:number-columns-spanned="2" office:value-type="string"><office:annotation><text:p>a remark</text:p></office:annotation><text:p>merged</text:p></table:table-cell><table:covered-table-cell/><table:table-cell table:number-columns-repeated="2" office:value-type="float" office:value="7"/></table:table-row>
<table:table-row table:number-rows-repeated="1048000"><table:table-cell table:number-columns-repeated="16384"/></table:table-row></table:table>
<table:table table:name="Second" table:style-name="ta2"><table:table-row><table:table-cell office:value-type="string" office:string-value="x"/></table:table-row></table:table>
<table:named-expressions><table:named-range table:name="tolls" table:cell-range-address="$First.$B$4:.$D$4"/></table:named-expressions>`)
	got, err := read(t, data, 0)
	require.NoError(t, err)
	again := []string{"=2024-02-29 10:11:12", "=26:30:05", "=true", "=0.05", "=-3.5", "=#DIV/0!"}
	want := []string{`B4="Toll book\na   b\tc\nd"`, "C4=12.34", "D4=2024-02-29"}
	for _, row := range []string{"5", "6"} {
		for i, v := range again {
			want = append(want, ColumnName(i)+row+v)
		}
	}
	assert.Equal(t, append(want, `A7="merged"`, "C7=7", "D7=7"), got)
	got, err = read(t, data, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{`A1="x"`}, got)
	b, err := Open(bytes.NewReader(data), int64(len(data)), Limits{})
	require.NoError(t, err)
	assert.True(t, b.Sheets[1].Hidden)
	assert.Equal(t, []Name{{"tolls", "First", Range{4, 4, 1, 3}}}, b.Names)
}

func TestRanges(t *testing.T) {
	for s, want := range map[string]Range{"A5:H200": {5, 200, 0, 7}, "$A$5:$H$200": {5, 200, 0, 7}, "b2:c": {2, 0, 1, 2}, "A:H": {1, 0, 0, 7}, "5:9": {5, 9, 0, -1}, "C3": {3, 3, 2, 2}, "AA1:XFD1048576": {1, 1048576, 26, 16383}} {
		r, err := ParseRange(s)
		require.NoError(t, err, s)
		assert.Equal(t, want, r, s)
	}
	for _, s := range []string{"", "A", "5", "A0:B2", "H5:A9", "A9:B5", "XFE1:XFF2", "A1:B1048577", "A1:", "A1:5", "tolls"} {
		_, err := ParseRange(s)
		assert.Error(t, err, s)
	}
	assert.Equal(t, []string{"A", "Z", "AA", "XFD", ""}, []string{ColumnName(0), ColumnName(25), ColumnName(26), ColumnName(16383), ColumnName(-1)})
	assert.Equal(t, "B2:C4", Range{2, 4, 1, 2}.String())
}

// What is damaged, or means harm, is an error, in bounded time and memory.
func TestBadWorkbooks(t *testing.T) {
	sheet := func(rows string) []byte { return xlsx(t, "<sheetData>"+rows+"</sheetData>", nil) }
	deep := strings.Repeat("<a>", 1<<16)
	for what, tt := range map[string]struct {
		data []byte
		want string
	}{
		"a shared text out of range":   {sheet(`<row r="1"><c r="A1" t="s"><v>3</v></c></row>`), "cell A1: there is no shared text 3"},
		"a shared text below zero":     {sheet(`<row r="1"><c r="A1" t="s"><v>-1</v></c></row>`), "no shared text"},
		"a shared text without number": {sheet(`<row r="1"><c r="A1" t="s"><v>x</v></c></row>`), "no number of a shared text"},
		"a row beyond all":             {sheet(`<row r="2147483648"><c><v>1</v></c></row>`), "row 2147483648"},
		"rows out of order":            {sheet(`<row r="5"><c><v>1</v></c></row><row r="4"/>`), "row 4 follows row 5"},
		"a column beyond all":          {sheet(`<row r="1"><c r="XFE1"><v>1</v></c></row>`), "out of order"},
		"columns out of order":         {sheet(`<row r="1"><c r="B1"><v>1</v></c><c r="A1"><v>1</v></c></row>`), "A1 is out of order"},
		"a cell of another row":        {sheet(`<row r="1"><c r="A2"><v>1</v></c></row>`), `"A2"`},
		"entities of its own":          {xlsx(t, "", map[string]string{"xl/worksheets/sheet1.xml": `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><worksheet/>`}), "DOCTYPE"},
		"an entity of the system":      {xlsx(t, "", map[string]string{"xl/workbook.xml": `<!DOCTYPE x SYSTEM "file:///etc/passwd"><workbook/>`}), "DOCTYPE"},
		"cut within a cell":            {xlsx(t, "", map[string]string{"xl/worksheets/sheet1.xml": `<worksheet><sheetData><row r="1"><c r="A1"><v>1`}), "damaged"},
		"cut within a tag":             {xlsx(t, "", map[string]string{"xl/worksheets/sheet1.xml": `<worksheet><sheetData><row r="1"><c r="A1`}), "damaged"},
		"more than is allowed":         {xlsx(t, strings.Repeat(" ", 1<<25), nil), "unpacks to more than is allowed"},
		"no sheet part":                {xlsx(t, "", map[string]string{"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId1" Type="x/worksheet" Target="worksheets/none.xml"/></Relationships>`}), "is missing"},
		"no sheets":                    {xlsx(t, "", map[string]string{"xl/workbook.xml": `<workbook/>`}), "has no sheets"},
		"deep":                         {xlsx(t, `<sheetData><row r="1"><c r="A1">`+deep, nil), "damaged"},
		"a password":                   {pack(t, map[string]string{"content.xml": "x", "META-INF/manifest.xml": `<m:manifest><m:file-entry><m:encryption-data/></m:file-entry></m:manifest>`}), "password"},
		"too many rows":                {odsFile(t, `<table:table table:name="a"><table:table-row table:number-rows-repeated="2000000000"><table:table-cell office:value-type="float" office:value="1"/></table:table-row></table:table>`), "more than 1048576 rows"},
		"too many columns":             {odsFile(t, `<table:table table:name="a"><table:table-row><table:table-cell table:number-columns-repeated="2000000000" office:value-type="float" office:value="1"/></table:table-row></table:table>`), "more than 16384 columns"},
		"a cut sheet":                  {odsFile(t, `<table:table table:name="a"><table:table-row><table:table-cell office:value-type="float`), "damaged"},
		"not a workbook":               {pack(t, map[string]string{"a.csv": "x"}), "no workbook"},
		"not even a zip archive":       {[]byte("PK\x03\x04 and so on"), "zip archive is damaged"},
	} {
		start := time.Now()
		_, err := read(t, tt.data, 0)
		assert.ErrorContains(t, err, tt.want, what)
		assert.Less(t, time.Since(start), 10*time.Second, what)
	}
	// Two cells in the farthest corners.
	got, err := read(t, sheet(`<row r="1"><c r="A1"><v>1</v></c></row><row r="1048576"><c r="XFD1048576"><v>2</v></c></row>`), 0)
	require.NoError(t, err)
	assert.Equal(t, []string{"A1=1", "XFD1048576=2"}, got)
	// A damaged member.
	data := sheet(strings.Repeat(`<row><c><v>1</v></c></row>`, 19000))
	for i := len(data) / 3; i < len(data)/2; i += 7 {
		data[i] ^= 0xff
	}
	_, err = read(t, data, 0)
	assert.Error(t, err)
}

func FuzzOOXML(f *testing.F) {
	f.Add(`<sheetData><row r="1"><c r="A1" s="1"><v>45351.5</v></c><c t="s"><v>1</v></c><c t="inlineStr"><is><t>x&amp;y</t></is></c></row></sheetData><mergeCell/>`)
	f.Add(`<sheetData><row><c><f>1</f><v><![CDATA[1]]></v></c></row>`)
	f.Fuzz(func(t *testing.T, inside string) { read(t, xlsx(t, inside, nil), 0) })
}

func FuzzOpenDocument(f *testing.F) {
	f.Add(`<table:table table:name="a"><table:table-row table:number-rows-repeated="3"><table:table-cell office:value-type="string"><text:p>x<text:s text:c="2"/></text:p></table:table-cell></table:table-row></table:table>`)
	f.Fuzz(func(t *testing.T, inside string) {
		data := odsFile(t, inside)
		b, err := Open(bytes.NewReader(data), int64(len(data)), Limits{Part: 1 << 24})
		if err == nil && b != nil && len(b.Sheets) > 0 {
			read(t, data, 0)
		}
	})
}

// Elements of other namespaces are passed over, whatever their names are (Namespaces
// in XML 1.0).
func TestNamespaces(t *testing.T) {
	const main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
	date := `<sheetData><row r="1"><c r="A1" s="1"><v>36526</v></c></row></sheetData>`
	for name, text := range map[string]string{
		"plain":           `<workbook xmlns="` + main + `" xmlns:r="r" xmlns:z="urn:z"><workbookPr date1904="1"/><sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets></workbook>`,
		"a later element": `<workbook xmlns="` + main + `" xmlns:r="r" xmlns:z="urn:z"><workbookPr date1904="1"/><sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets><extLst><ext><z:workbookPr chartTrackingRefBase="1"/></ext></extLst></workbook>`,
		"declared there":  `<workbook xmlns="` + main + `" xmlns:r="r"><workbookPr date1904="1"/><sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets><extLst><ext><workbookPr xmlns="urn:z"/><q:workbookPr xmlns:q="urn:q"/></ext></extLst></workbook>`,
		"with a prefix":   `<x:workbook xmlns:x="` + main + `" xmlns:r="r" xmlns="urn:z"><x:workbookPr date1904="1"/><x:sheets><x:sheet name="S" sheetId="1" r:id="rId1"/></x:sheets></x:workbook>`,
	} {
		got, err := read(t, xlsx(t, date, map[string]string{"xl/workbook.xml": text}), 0)
		require.NoError(t, err, name)
		assert.Equal(t, []string{"A1=2004-01-02"}, got, name)
	}
}

func TestMasks(t *testing.T) {
	for code, want := range map[string]string{"00000": "00042", "000-00-0000": "000-00-0042", `"KN-"0000`: "KN-0042", `\(00\)`: "", "0": "", "00.00": "", "#,##0": "", `00" kg"`: "", "00000;@": "00042", "00;-00": "", "0%": "", "000E+00": "", "General": "", "00/00": "00/42"} {
		got, ok := maskOf(code).append(nil, []byte("42"))
		assert.Equal(t, want, string(got), code)
		assert.Equal(t, want != "", ok && maskOf(code) != "", code)
	}
	got, _ := maskOf("00-00").append(nil, []byte("1234567"))
	assert.Equal(t, "12345-67", string(got), "more digits than places")
	_, ok := maskOf("0000").append(nil, []byte("-5"))
	assert.False(t, ok)
}
