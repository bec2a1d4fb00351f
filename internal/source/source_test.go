package source

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"

	"ambertray/internal/source/delimited"
)

func write(t testing.TB, text string) string {
	name := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	return name
}

func open(t testing.TB, text string, k Known) *Source {
	s, err := Open(context.Background(), write(t, text), k)
	require.NoError(t, err)
	return s
}

// data reads all rows of data; other kinds are counted.
func data(t testing.TB, s *Source) (rows [][]string, kinds map[Kind]int) {
	st, err := s.Read(true)
	require.NoError(t, err)
	defer st.Close()
	kinds = map[Kind]int{}
	r := NewRows(&s.Layout)
	for {
		c, err := st.Next()
		if errors.Is(err, io.EOF) {
			require.Len(t, st.Sum(), 64)
			return rows, kinds
		}
		require.NoError(t, err)
		r.Reset(c)
		var rec delimited.Record
		for {
			k, ok := r.Next(&rec)
			if !ok {
				break
			}
			if kinds[k]++; k == Data {
				var row []string
				for _, f := range rec.Fields {
					row = append(row, string(f))
				}
				rows = append(rows, row)
			}
		}
		c.Release()
	}
}

func (s *Source) why(what string) string {
	for _, e := range s.Evidence {
		if e.What == what {
			return e.Value
		}
	}
	return ""
}

const many = "7,2.5,x\n8,3.5,y\n9,4.5,z\n"

func TestForm(t *testing.T) {
	for _, tt := range []struct {
		name, text       string
		delimiter, quote string
		header           int64
		columns          string
	}{
		{"comma", "a,b,c\n" + many, ",", "double", 1, "a b c"},
		{"tab", "a\tb\n1\t2,5\n2\t3,5\n", "\t", "double", 1, "a b"},
		{"pipe", "a|b\n1|x, y\n2|z, w\n", "|", "double", 1, "a b"},
		{"semicolon, decimal commas", "a;b;c\n1;2,5;3,5\n2;3,5;4,5\n", ";", "double", 1, "a b c"},
		{"comma, though semicolons stand in quotes", "a,b\n1,\"x;y;z\"\n2,\"u;v;w\"\n", ",", "double", 1, "a b"},
		{"unusual delimiter", "a^b\n1^2\n3^4\n", "^", "double", 1, "a b"},
		{"several bytes wide", "a¦b\n1¦2\n3¦4\n", "¦", "double", 1, "a b"},
		{"single quotes", "'a';'b'\n'1';'x;y'\n'2';'z;w'\n", ";", "single", 1, "a b"},
		{"quotes are values", "size,pipe\n1,5\" x 3\n2,\"7\" x 4\n3,\"9\" x 1\n", ",", "none", 1, "size pipe"},
		{"no header", many, ",", "double", 0, "column_1 column_2 column_3"},
		{"one column", "name\nann\nbob\n", "", "double", 1, "name"},
		{"titles above", "Report of May\n\nprinted today\na,b,c\n" + many, ",", "double", 4, "a b c"},
		{"years as names", "place,2023,2024\nx,1,2\ny,3,4\n", ",", "double", 1, "place 2023 2024"},
		{"a header short of names", "a,b\n" + many, ",", "double", 1, "row_name a b"},
		{"names that are blank", "id,,name,\n1,2,a,4\n2,3,b,4\n3,4,c,4\n4,5,d,5\n", ",", "double", 1, "id  name "},
		{"names over what is numbers in three columns, and a remark", "a,b,c,52\n1,2,3,x\n4,5,6,y\n7,8,9,z\n", ",", "double", 1,
			"a b c 52"},
		{"a label of the first record again", "say it,text\n12,text\n1.5,number\nabc,number\n", ",", "double", 0,
			"column_1 column_2"},
		{"a sum above, with names of its own", "batch,records,sum,,\nB7,2,30,,\nname,boat,toll,id,by\nann,x,10,1,q\nbob,y,20,2,q\n",
			",", "double", 3, "name boat toll id by"},
		{"a link is no name", "https://a.example\nhttps://b.example\n", "", "double", 0, "column_1"},
		{"carriage returns alone", "a,b\r1,2\r3,4\r", ",", "double", 1, "a b"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			s := open(t, tt.text, Known{})
			assert.Equal(t, tt.delimiter, s.Layout.Form.Delimiter, s.Evidence)
			assert.Equal(t, tt.quote, s.why("quote"))
			assert.Equal(t, tt.header, s.Layout.Header)
			assert.Equal(t, tt.columns, strings.Join(s.Layout.Columns, " "))
		})
	}
}

func TestEscape(t *testing.T) {
	s := open(t, `a,b`+"\n"+`1,"say \"no\", he said"`+"\n"+`2,"\"x\" y"`+"\n", Known{})
	assert.EqualValues(t, '\\', s.Layout.Form.Escape)
	rows, _ := data(t, s)
	assert.Equal(t, [][]string{{"1", `say "no", he said`}, {"2", `"x" y`}}, rows)
}

func TestSkippedRows(t *testing.T) {
	text := "List of boats\n\nid|name\n---+-----\n1|a\n\n2|b\n===|====\n3|c\nTotal|3\n(3 rows)\n"
	s := open(t, text, Known{})
	assert.Equal(t, "List of boats", Beginnings(s.Titles, 2))
	assert.Equal(t, 2, s.Layout.Footer)
	rows, kinds := data(t, s)
	assert.Equal(t, [][]string{{"1", "a"}, {"2", "b"}, {"3", "c"}}, rows)
	assert.Equal(t, map[Kind]int{Data: 3, Ruler: 2, BlankLine: 1, Footer: 2}, kinds)
	// Files that were joined have their header again, perhaps behind a mark.
	s = open(t, "id,name\n1,a\nid,name\n2,id\n\ufeffid , name\n3,c\n", Known{})
	rows, kinds = data(t, s)
	assert.Equal(t, [][]string{{"1", "a"}, {"2", "id"}, {"3", "c"}}, rows)
	assert.Equal(t, 2, kinds[Header])
}

// A lone column whose values hold a delimiter is not cut in two unasked.
func TestOneColumnOrTwo(t *testing.T) {
	for text, want := range map[string]string{
		"price\n1,50\n2,75\n4,10\n":                   "asked",
		"1,50\n2,75\n13,10\n":                         "asked",
		"name\nSmith, Ann\nJones, Bob\nBrown, Cid\n":  "asked",
		"\"toll\"\n\"a\",1.5\n\"b\",2.5\n":            ",",
		"toll\n1,15\n2,16\n3,17\n":                    ",",
		"toll\na\t15\nb\t16\nd\t17\n":                 "\t",
		"at\n10:00\n11:30\n12:15\n":                   "",
		"10:00\n11:30\n12:15\n":                       "",
		"mac\naa:bb:cc:dd:ee:ff\n11:22:33:44:55:66\n": "",
		"path\nC:\\a\nD:\\b\nE:\\c\n":                 "",
		"size\n3*4\n5*6\n7*8\n":                       "",
		"name:id\nann:1\nbob:2\n":                     ":",
	} {
		s := open(t, text, Known{})
		if want == "asked" {
			require.NotNil(t, s.Undecided, text)
			assert.Contains(t, s.Undecided.Do, "--delimiter none", text)
			continue
		}
		assert.Nil(t, s.Undecided, text)
		assert.Equal(t, want, s.Layout.Form.Delimiter, text)
	}
}

func TestRemarksBelowAreNoRecords(t *testing.T) {
	s := open(t, "id,name,toll\n1,a,2.50\n2,b,3.50\nTotal,,6.00\n\nNotes: tolls of May.,,\n", Known{})
	assert.Equal(t, 2, s.Layout.Footer)
	rows, _ := data(t, s)
	assert.Len(t, rows, 2)
}

func TestFooterIsOnlyAtTheEnd(t *testing.T) {
	s := open(t, "id,name,n\n1,Total loss,3\n2,Sum of parts,4\n3,b,5\n", Known{})
	assert.Zero(t, s.Layout.Footer, "a full record that begins like a total is data")
	zero := 0
	s = open(t, "id,name\n1,a\nTotal,\n", Known{Footer: &zero})
	assert.Zero(t, s.Layout.Footer)
	// The footer is found however long the file is.
	var b strings.Builder
	b.WriteString("id,name\n")
	for range 200000 {
		b.WriteString("12345,\"a name, of some length\"\n")
	}
	b.WriteString("Total,\n")
	s = open(t, b.String(), Known{})
	rows, kinds := data(t, s)
	assert.Len(t, rows, 200000)
	assert.Equal(t, 1, kinds[Footer])
}

func TestGiven(t *testing.T) {
	d, q, h, skip, f := ";", "", int64(0), int64(2), 1
	s := open(t, "x\ny\n1;2\n3;4\nend;\n", Known{Delimiter: &d, Quote: &q, Header: &h, Skip: &skip, Footer: &f, Encoding: "latin1"})
	for _, e := range s.Evidence {
		assert.True(t, e.Given, e)
	}
	rows, _ := data(t, s)
	assert.Equal(t, [][]string{{"1", "2"}, {"3", "4"}}, rows)
	four := int64(3)
	s = open(t, "x\ny\na;b\n3;4\n", Known{Delimiter: &d, Header: &four})
	assert.Equal(t, []string{"a", "b"}, s.Layout.Columns)
	// That no line is the header does not make records of the titles above; a plan, or
	// whoever says so, does.
	text := "Boats of May\n\nGull,Basin\nTern,Reach\nRuff,Wharf\n"
	for name, known := range map[string]struct {
		Known
		titles int
	}{"asked": {Known{Header: &h}, 1}, "with --skip": {Known{Header: &h, Skip: &h}, 0},
		"by a plan": {Known{Header: &h, By: "the plan"}, 0}} {
		s = open(t, text, known.Known)
		rows, _ := data(t, s)
		assert.Len(t, rows, 4-known.titles, name)
		assert.Len(t, s.Titles, known.titles, name)
	}
}

func TestEncodings(t *testing.T) {
	text := "id,name,price\n1,Señor Köhler,\"12,50 €\"\n2,Œuvre élégante à l'été,\"3,00 €\"\n"
	encode := func(e interface{ String(string) (string, error) }) string {
		s, err := e.String(text)
		require.NoError(t, err)
		return s
	}
	utf16le := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder()
	for _, tt := range []struct{ name, raw, given, want string }{
		{"UTF-8", text, "", "utf-8"},
		{"UTF-8 with mark", "\xef\xbb\xbf" + text, "", "utf-8"},
		{"UTF-16 with mark", encode(utf16le), "", "utf-16le"},
		{"UTF-16 LE", encode(unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder()), "", "utf-16le"},
		{"UTF-16 BE", encode(unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder()), "", "utf-16be"},
		{"Windows-1252", encode(charmap.Windows1252.NewEncoder()), "", "windows-1252"},
		{"ISO-8859-15", encode(charmap.ISO8859_15.NewEncoder()), "iso-8859-15", "iso-8859-15"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			s := open(t, tt.raw, Known{Encoding: tt.given})
			assert.Equal(t, tt.want, s.Layout.Encoding)
			rows, _ := data(t, s)
			assert.Equal(t, [][]string{{"1", "Señor Köhler", "12,50 €"}, {"2", "Œuvre élégante à l'été", "3,00 €"}}, rows)
		})
	}
	// Lines that end with CR, and one of these within quotes; stray quotes open nothing.
	s := open(t, "id,name\r1,\"two\rlines\"\r2,a \"\"b\r3,\"say \"\"x\"\"\rit\"\r", Known{})
	rows, _ := data(t, s)
	assert.Equal(t, "cr", s.Layout.LineEnd)
	assert.Equal(t, [][]string{{"1", "two\rlines"}, {"2", "a \"\"b"}, {"3", "say \"x\"\rit"}}, rows)
	back := "\\"
	s = open(t, "id,name\r1,\"a\\\"\rb\"\r2,c\\\r3,d\r", Known{Escape: &back})
	rows, _ = data(t, s)
	assert.Equal(t, [][]string{{"1", "a\"\rb"}, {"2", "c\\"}, {"3", "d"}}, rows)
	sjis, err := japanese.ShiftJIS.NewEncoder().String("番号,名\n1,運河\n2,水門\n")
	require.NoError(t, err)
	rows, _ = data(t, open(t, sjis, Known{Encoding: "Shift_JIS"}))
	assert.Equal(t, [][]string{{"1", "運河"}, {"2", "水門"}}, rows)
}

func TestWrongBytesStayWrong(t *testing.T) {
	for name, raw := range map[string]string{"windows-1252": "a,b\n1,x\x81y\n", "utf-8": "a,b\n1,x\xe9y\n", "utf-16le": "a\x00,\x00b\x00\n\x001\x00,\x00\x00\xd8\n\x00"} {
		s := open(t, raw, Known{Encoding: name})
		st, err := s.Read(false)
		require.NoError(t, err)
		c, err := st.Next()
		require.NoError(t, err)
		sp := delimited.NewSplitter(s.Layout.Form)
		sp.Reset(c)
		var rec delimited.Record
		require.True(t, sp.Next(&rec))
		assert.Equal(t, delimited.BadEncoding, rec.Fault, name)
		st.Close()
	}
}

func TestRefused(t *testing.T) {
	dir := t.TempDir()
	for name, tt := range map[string]struct {
		content string
		k       Known
		says    string
	}{
		"empty":    {"", Known{}, "is empty"},
		"blank":    {"\n \n\n", Known{}, "nothing but blank lines"},
		"zip":      {"PK\x03\x04rest", Known{}, "zip archive"},
		"binary":   {strings.Repeat("\x00\x01\x02\x03abc", 400), Known{}, "binary"},
		"controls": {strings.Repeat("\x02\x03\x05ab\x07c", 400), Known{}, "binary"},
		"encoding": {"a,b\n1,2\n", Known{Encoding: "klingon"}, "not known"},
	} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(tt.content), 0o666))
		_, err := Open(context.Background(), path, tt.k)
		var p *Problem
		require.ErrorAs(t, err, &p, name)
		assert.Contains(t, err.Error(), tt.says)
		assert.Contains(t, err.Error(), path, "says where")
	}
	_, err := Open(context.Background(), dir, Known{})
	assert.ErrorContains(t, err, "is a folder")
	_, err = Open(context.Background(), filepath.Join(dir, "none"), Known{})
	assert.ErrorContains(t, err, "no such file")
}

func TestUnreplace(t *testing.T) {
	var b bytes.Buffer
	r, err := decode(iotestOneByte{strings.NewReader(strings.Repeat("a\x00\x00\xd8b\x00", 5000))}, "utf-16le", "lf", delimited.DefaultForm)
	require.NoError(t, err)
	_, err = io.Copy(&b, r)
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("a\xffb", 5000), b.String())
}

// iotestOneByte yields one byte a read.
type iotestOneByte struct{ r io.Reader }

func (o iotestOneByte) Read(p []byte) (int, error) { return o.r.Read(p[:min(1, len(p))]) }

// Rows that are not data are known by what they are, padded with delimiters or
// not, quoted or not.
func TestPaddedTitles(t *testing.T) {
	for name, x := range map[string]struct {
		text    string
		header  int64
		columns int
		skipped map[Kind]int
	}{
		"padded titles":    {"Tolls register,,,\nas of March,,,\n,,,\nid,toll,lock,day\n1,0.50,Old Basin,2024-01-31\n,,,\n3,1.00,Withy Cut,2024-02-03\nTotal,1.50,,\n", 4, 4, map[Kind]int{BlankRecord: 1, Footer: 1}},
		"all text":         {"Boats,\n,\nname,home\nWren,Old Basin\nHeron,Withy Cut\n", 3, 2, nil},
		"quoted ruler":     {"\"id\",\"name\"\n\"----\",\"----\"\n\"1\",\"a\"\n\"2\",\"b\"\n", 1, 2, map[Kind]int{Ruler: 1}},
		"ruler at the top": {"-----,-----\nid,name\n-----,-----\n1,a\n2,b\n", 2, 2, map[Kind]int{Ruler: 1}},
		"no header":        {"1,,\n2,a,b\n3,c,d\n", 0, 3, nil},
		"quoted blanks":    {"id,name\n1,a\n\"\",\"\"\n", 1, 2, nil},
		"dashes as values": {"id\n\"---\"\n\"b\"\n", 1, 1, nil},
		"tabs only":        {"id\tname\n1\ta\n\t\n2\tb\n", 1, 2, map[Kind]int{BlankRecord: 1}},
	} {
		path := filepath.Join(t.TempDir(), "x.csv")
		require.NoError(t, os.WriteFile(path, []byte(x.text), 0o666))
		s, err := Open(t.Context(), path, Known{})
		require.NoError(t, err, name)
		assert.Equal(t, x.header, s.Layout.Header, name)
		assert.Len(t, s.Layout.Columns, x.columns, name)
		got := map[Kind]int{}
		require.NoError(t, s.Each(func(k Kind, _ *delimited.Record) error { got[k]++; return nil }))
		delete(got, Data)
		if x.skipped == nil {
			x.skipped = map[Kind]int{}
		}
		assert.Equal(t, x.skipped, got, name)
		s.Close()
	}
	keep := true
	path := filepath.Join(t.TempDir(), "x.csv")
	require.NoError(t, os.WriteFile(path, []byte("id,name\n1,a\n,\n"), 0o666))
	s, err := Open(t.Context(), path, Known{KeepBlank: &keep})
	require.NoError(t, err)
	defer s.Close()
	n := 0
	require.NoError(t, s.Each(func(k Kind, _ *delimited.Record) error { n++; assert.Equal(t, Data, k); return nil }))
	assert.Equal(t, 2, n)
}

// A file that is written to in place, at equal size and with its old time, is told from
// what it was; so is another of its name.
func TestChangedInPlace(t *testing.T) {
	for what, change := range map[string]func(name string, was os.FileInfo) error{
		"written to in place": func(name string, was os.FileInfo) error {
			f, err := os.OpenFile(name, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			_, err = f.WriteAt([]byte("9"), 4)
			return errors.Join(err, f.Close(), os.Chtimes(name, was.ModTime(), was.ModTime()))
		},
		"replaced": func(name string, was os.FileInfo) error {
			return errors.Join(os.WriteFile(name+".new", []byte("a,b\n9,2\n"), 0o666),
				os.Chtimes(name+".new", was.ModTime(), was.ModTime()), os.Rename(name+".new", name))
		},
		"removed": func(name string, _ os.FileInfo) error { return os.Remove(name) },
	} {
		s := open(t, "a,b\n1,2\n", Known{})
		assert.False(t, s.Changed())
		was, err := os.Stat(s.Path)
		require.NoError(t, err)
		time.Sleep(20 * time.Millisecond) // the clock of a file system has steps
		require.NoError(t, change(s.Path, was))
		assert.True(t, s.Changed(), what)
	}
}
