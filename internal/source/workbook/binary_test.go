package workbook

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func fixture(t testing.TB, name string) []byte {
	b, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return b
}

// The same book in every form, as programs of other hands have written it, has the same
// cells. See testdata/README.md.
func TestOneBookInEveryForm(t *testing.T) {
	want, err := read(t, fixture(t, "boats.xlsx"), 0)
	require.NoError(t, err)
	require.Greater(t, len(want), 300)
	assert.Contains(t, want, "A4=00037")
	assert.Contains(t, want, `B5="a\nb"`)
	assert.Contains(t, want, "H3=2009-07-06 12:45:00")
	assert.Contains(t, want, "A43=#DIV/0!")
	assert.Contains(t, want, "I43=36:00:00")
	for _, name := range []string{"boats.xlsx", "boats.xls", "boats-8.xls", "boats.xlsb", "plain.xlsb", "obscured.xls", "boats.ods", "boats.fods", "boats-5.xls"} {
		data := fixture(t, name)
		got, err := read(t, data, 0)
		require.NoError(t, err, name)
		if strings.HasSuffix(name, "-5.xls") { // that writer has but ASCII there
			for i := range want {
				want[i] = regexp.MustCompile(`[^\x00-\x7f]`).ReplaceAllString(want[i], "_")
			}
			for i := range got {
				got[i] = regexp.MustCompile(`[^\x00-\x7f]`).ReplaceAllString(got[i], "_")
			}
		}
		assert.Equal(t, want, got, name)
		b, err := Open(bytes.NewReader(data), int64(len(data)), Limits{})
		require.NoError(t, err)
		require.Len(t, b.Sheets, 2, name)
		assert.Equal(t, []string{"Boats", "Kept back"}, []string{b.Sheets[0].Name, b.Sheets[1].Name}, name)
		assert.Equal(t, []bool{false, true}, []bool{b.Sheets[0].Hidden, b.Sheets[1].Hidden}, name)
		if !strings.HasPrefix(name, "boats-") && !strings.HasSuffix(name, "b") { // which have no names
			assert.Contains(t, b.Names, Name{"Fleet", "Boats", Range{2, 42, 0, 8}}, name)
		}
		var rows []int
		columns := map[int]bool{}
		require.NoError(t, b.Sheets[0].Rows(context.Background(), func(r *Row) error {
			if r.Hidden {
				rows = append(rows, r.Number)
			}
			for _, c := range r.Cells {
				if c.Hidden {
					columns[c.Column] = true
				}
			}
			return nil
		}))
		if !strings.HasPrefix(name, "boats-") { // of which that writer hides nothing
			assert.Equal(t, []int{10, 11}, rows, name)
			assert.Equal(t, map[int]bool{6: true}, columns, name)
		}
		if !strings.HasSuffix(name, "-5.xls") { // which has none
			assert.EqualValues(t, 1, b.Sheets[0].Merged(), name)
		}
	}
	_, err = read(t, fixture(t, "locked.xls"), 0)
	assert.ErrorIs(t, err, ErrEncrypted)
}

// A record of an older workbook.
func rec(typ int, data ...any) []byte {
	var b []byte
	for _, d := range data {
		switch d := d.(type) {
		case string:
			b = append(b, d...)
		case int:
			b = binary.LittleEndian.AppendUint16(b, uint16(d))
		case byte:
			b = append(b, d)
		case uint32:
			b = binary.LittleEndian.AppendUint32(b, d)
		}
	}
	out := binary.LittleEndian.AppendUint16(nil, uint16(typ))
	return append(binary.LittleEndian.AppendUint16(out, uint16(len(b))), b...)
}

// records8 reads a sheet from its records alone, behind texts that are shared.
func records8(t testing.TB, shared []byte, sheet ...[]byte) ([]string, error) {
	x := &xls{page: codePage(1252), codes: map[int]string{}}
	r := newBIFF(bytes.NewReader(shared), 0, nil)
	for {
		more, err := r.read()
		if err != nil {
			return nil, err
		}
		if !more {
			break
		}
		if err := x.global(r); err != nil {
			return nil, err
		}
	}
	x.settle()
	var out []string
	g := &gathering{ctx: context.Background(), f: func(r *Row) error {
		for _, c := range r.Cells {
			out = append(out, ColumnName(c.Column)+"="+string(c.Value))
		}
		return nil
	}}
	in := newBIFF(bytes.NewReader(bytes.Join(sheet, nil)), 0, nil)
	for {
		more, err := in.read()
		if err != nil || !more {
			return out, cmp.Or(err, g.end())
		}
		row, first, _, is := placeOf(in)
		if !is {
			continue
		}
		if row+1 != g.at.Number {
			if err := g.row(row + 1); err != nil {
				return out, err
			}
		}
		b, c, err := x.value(in, g.begin(), Cell{Column: first})
		if err == nil {
			err = g.cell(c, b)
		}
		if err != nil {
			return out, err
		}
	}
}

// Texts go on in other records, each part with flags of its own ([MS-XLS] 2.5.293).
func TestTextsThatGoOn(t *testing.T) {
	shared := append(rec(recSST, uint32(3), uint32(3), 6, byte(0), "abc"), rec(recContinue, byte(1), "d\x00e\x00\x53\x6f", 2, byte(8), 1, "hi")...)
	shared = append(shared, rec(recContinue, "\x00\x00\x00\x00", 1, byte(4), uint32(3), "x\x01")...)
	shared = append(shared, rec(recContinue, "\x02\x03")...)
	got, err := records8(t, shared, rec(recLabelSST, 0, 0, 0, uint32(0)), rec(recLabelSST, 0, 1, 0, uint32(1)), rec(recLabelSST, 0, 2, 0, uint32(2)))
	require.NoError(t, err)
	assert.Equal(t, []string{"A=abcde潓", "B=hi", "C=x"}, got)

	// The result of a formula stands behind it, also behind what several formulas share.
	got, err = records8(t, nil, rec(recFormula, 0, 0, 0, "\x00\x00\x00\x00\x00\x00\xff\xff", 0, uint32(0), 0), rec(0x4bc, 0), rec(recString, 5, byte(0), "ab"), rec(recContinue, byte(1), "c\x00d\x00e\x00"),
		rec(recFormula, 0, 1, 0, "\x01\x00\x01\x00\x00\x00\xff\xff", 0, uint32(0), 0), rec(recFormula, 0, 2, 0, "\x02\x00\x2a\x00\x00\x00\xff\xff", 0, uint32(0), 0),
		rec(recFormula, 0, 3, 0, "\x00\x00\x00\x00\x00\x00\xff\xff", 0, uint32(0), 0), rec(recRk, 1, 0, 0, uint32(125<<2|3)))
	require.NoError(t, err)
	assert.Equal(t, []string{"A=abcde", "B=true", "C=#N/A", "D=", "A=1.25"}, got)
}

// brt is a record of a binary workbook ([MS-XLSB] 2.1.4).
func brt(typ int, data string) string {
	head := string(rune(typ))
	if typ >= 0x80 {
		head = string([]byte{byte(typ&0x7f | 0x80), byte(typ >> 7)})
	}
	return head + string([]byte{byte(len(data))}) + data
}

// Names of ranges and tables, and cells whose column is not said, as the standard has them.
func TestXLSBByHand(t *testing.T) {
	wide := func(s string) string {
		out := string([]byte{byte(len(s)), 0, 0, 0})
		for _, c := range s {
			out += string([]byte{byte(c), 0})
		}
		return out
	}
	u32 := func(n ...byte) (out string) {
		for _, x := range n {
			out += string([]byte{x, 0, 0, 0})
		}
		return
	}
	area := "\x3b\x00\x00" + u32(1, 41) + "\x00\x00\x08\x00"
	data := pack(t, map[string]string{"[Content_Types].xml": `<Types/>`,
		"_rels/.rels": `<Relationships><Relationship Id="a" Type="http://x/officeDocument" Target="xl/workbook.bin"/></Relationships>`,
		"xl/workbook.bin": brt(brtBundleSh, u32(0, 1)+wide("r")+wide("S")) + brt(brtSupSelf, "") + brt(brtExternSheet, u32(1, 0, 0, 0)) +
			brt(brtName, u32(0)+"\x00\xff\xff\xff\xff"+wide("Fleet")+u32(byte(len(area)))+area+u32(0)) +
			brt(brtName, u32(0x20)+"\x00\xff\xff\xff\xff"+wide("Print_Area")+u32(byte(len(area)))+area+u32(0)),
		"xl/_rels/workbook.bin.rels":          `<Relationships><Relationship Id="r" Type="http://x/worksheet" Target="worksheets/sheet1.bin"/></Relationships>`,
		"xl/worksheets/_rels/sheet1.bin.rels": `<Relationships><Relationship Id="t" Type="http://x/table" Target="../tables/table1.bin"/></Relationships>`,
		"xl/tables/table1.bin":                brt(brtBeginList, u32(2, 9, 1, 3)+strings.Repeat("\x00", 48)+"\xff\xff\xff\xff"+wide("Tolls")),
		"xl/worksheets/sheet1.bin": brt(brtBeginSheet, "") + brt(brtRowHdr, u32(4)) + brt(brtCellRk, u32(2, 0)+u32(42<<2|2)) + brt(brtShortBool, u32(0)+"\x01") +
			brt(brtShortBlank, u32(0)) + brt(brtShortSt, u32(0)+wide("x")) + brt(brtCellError, u32(9, 0)+"\x17") + brt(brtEndSheet, "")})
	b, err := Open(bytes.NewReader(data), int64(len(data)), Limits{})
	require.NoError(t, err)
	assert.ElementsMatch(t, []Name{{"Fleet", "S", Range{2, 42, 0, 8}}, {"Tolls", "S", Range{3, 10, 1, 3}}}, b.Names)
	got, err := read(t, data, 0)
	require.NoError(t, err)
	assert.Equal(t, []string{"C5=42", "D5=true", `F5="x"`, "J5=#REF!"}, got)
}

// Texts of the form before are bytes of a code page.
func TestCodePages(t *testing.T) {
	x := &xls{old: true, page: codePage(1251)}
	r := newBIFF(bytes.NewReader(rec(recLabel, 0, 0, 0, 5, "\xd8\xeb\xfe\xe7\r")), 0, nil)
	_, err := r.read()
	require.NoError(t, err)
	b, c, err := x.value(r, nil, Cell{})
	require.NoError(t, err)
	assert.True(t, c.Text)
	assert.Equal(t, "Шлюз", string(b))
}

// What is damaged is said to be; nothing is believed that a file says of its size.
func TestDamagedBooks(t *testing.T) {
	for _, name := range []string{"boats.xls", "boats.xlsb", "boats-5.xls"} {
		data := fixture(t, name)
		for n := 0; n < len(data); n += 97 {
			_, _ = read(t, data[:n], 0)
			cut := bytes.Clone(data)
			for k := range 4 {
				cut[(n+k*31)%len(cut)] ^= byte(1 << (n % 8))
			}
			_, _ = read(t, cut, 0)
		}
	}
	for what, in := range map[string][]byte{
		"a text longer than its records": rec(recSST, uint32(1), uint32(1), 60000, byte(0), "abc"),
		"four billion of them":           rec(recSST, uint32(1), uint32(0xffffffff), 1, byte(0), "a"),
		"runs of fonts without end":      rec(recSST, uint32(1), uint32(1), 1, byte(12), 0xffff, uint32(0xffffff), "a"),
	} {
		_, err := records8(t, in)
		if what != "four billion of them" {
			assert.Error(t, err, what)
		}
	}
	_, err := records8(t, nil, rec(recNumber, 5, 1, 0, uint32(0), uint32(0)), rec(recNumber, 5, 1, 0, uint32(0), uint32(0)))
	assert.ErrorContains(t, err, "out of order")
}

// FuzzXLS reads what may stand in the stream of a workbook.
func FuzzXLS(f *testing.F) {
	bof := func(kind int) []byte { return rec(recBOF, 0x600, kind, 0, 0) }
	sheet := bytes.Join([][]byte{bof(16), rec(recNumber, 0, 0, 0, uint32(0), uint32(0x3ff00000)), rec(recLabelSST, 0, 1, 0, uint32(0)),
		rec(recMulRk, 1, 0, 0, uint32(6), 0, uint32(10), 1), rec(recFormula, 2, 0, 0, "\x00\x00\x00\x00\x00\x00\xff\xff", 0), rec(recString, 2, byte(0), "ab"), rec(recEOF)}, nil)
	globals := bytes.Join([][]byte{bof(5), rec(recFormat, 164, 2, byte(0), "00"), rec(recXF, 0, 164), rec(recSST, uint32(1), uint32(1), 3, byte(0), "abc")}, nil)
	at := len(globals) + len(rec(recBoundSheet, uint32(0), byte(0), byte(0), byte(1), byte(0), "S")) + len(rec(recEOF))
	f.Add(bytes.Join([][]byte{globals, rec(recBoundSheet, uint32(at), byte(0), byte(0), byte(1), byte(0), "S"), rec(recEOF), sheet}, nil))
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := bookOf(func(at int64) (io.Reader, error) {
			return bytes.NewReader(data[min(max(at, 0), int64(len(data))):]), nil
		})
		if err != nil {
			return
		}
		for i := range b.Sheets {
			_ = b.Sheets[i].Rows(context.Background(), func(*Row) error { return nil })
		}
	})
}

// FuzzCompound reads what may be a compound file.
func FuzzCompound(f *testing.F) {
	f.Add(fixture(f, "boats-5.xls"))
	f.Fuzz(func(t *testing.T, data []byte) { _, _ = read(t, data, 0) })
}

func FuzzXLSB(f *testing.F) {
	f.Add([]byte("\x91\x01\x00\x00\x19\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x0c\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x00\x00\x92\x01\x00"), []byte("\x13\x09\x00\x02\x00\x00\x00a\x00b\x00"))
	f.Fuzz(func(t *testing.T, sheet, shared []byte) {
		data := pack(t, map[string]string{"[Content_Types].xml": `<Types/>`,
			"_rels/.rels":                `<Relationships><Relationship Id="a" Type="http://x/officeDocument" Target="xl/workbook.bin"/></Relationships>`,
			"xl/workbook.bin":            "\x9c\x01\x18\x00\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00r\x00\x01\x00\x00\x00S\x00",
			"xl/_rels/workbook.bin.rels": `<Relationships><Relationship Id="r" Type="http://x/worksheet" Target="worksheets/sheet1.bin"/><Relationship Id="s" Type="http://x/sharedStrings" Target="sharedStrings.bin"/></Relationships>`,
			"xl/worksheets/sheet1.bin":   string(sheet), "xl/sharedStrings.bin": string(shared)})
		_, _ = read(t, data, 0)
	})
}

// Other workbooks that formulas refer to are counted.
func TestLinks(t *testing.T) {
	data := xlsx(t, `<sheetData/>`, map[string]string{"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId1" Type="http://x/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId9" Type="http://x/externalLink" Target="externalLinks/externalLink1.xml"/></Relationships>`})
	b, err := Open(bytes.NewReader(data), int64(len(data)), Limits{})
	require.NoError(t, err)
	assert.Equal(t, 1, b.Links)
	x := &xls{page: codePage(1252), codes: map[int]string{}}
	r := newBIFF(bytes.NewReader(bytes.Join([][]byte{rec(recSupBook, 1, 0x3a01), rec(recSupBook, 3, 0x0401), rec(recSupBook, 1, 7, "\x00a.xls")}, nil)), 0, nil)
	for range 3 {
		_, err := r.read()
		require.NoError(t, err)
		require.NoError(t, x.global(r))
	}
	assert.Equal(t, []int{1, 1}, []int{x.links, x.self})
}
