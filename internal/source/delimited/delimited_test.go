package delimited

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"regexp"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// row is a record, copied out of the splitter.
type row struct {
	line   int64
	fields []string
	fault  Fault
}

// split reads text whole, in chunks of about size bytes.
func split(t testing.TB, text string, f Form, size int) []row {
	t.Helper()
	c := NewChunker(iotest.HalfReader(strings.NewReader(text)), f, 1)
	c.Size = size
	s := NewSplitter(f)
	var rows []row
	var joined []byte
	for seq := 0; ; seq++ {
		ch, err := c.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		require.Equal(t, seq, ch.Seq)
		joined = append(joined, ch.Data...)
		s.Reset(ch)
		var rec Record
		for s.Next(&rec) {
			r := row{line: rec.Line, fault: rec.Fault}
			for _, f := range rec.Fields {
				r.fields = append(r.fields, string(f))
			}
			rows = append(rows, r)
		}
		ch.Release()
	}
	require.Equal(t, text, string(joined), "chunks hold every byte once")
	return rows
}

func TestSplit(t *testing.T) {
	comma := DefaultForm
	back := Form{Delimiter: ",", Quote: '"', Escape: '\\'}
	for _, tt := range []struct {
		name, text string
		form       Form
		want       []row
	}{
		{"plain", "a,b\n1,2\n", comma, []row{{1, []string{"a", "b"}, 0}, {2, []string{"1", "2"}, 0}}},
		{"no final line break", "a,b", comma, []row{{1, []string{"a", "b"}, 0}}},
		{"carriage returns", "a,b\r\n\"c\",d\r\n", comma, []row{{1, []string{"a", "b"}, 0}, {2, []string{"c", "d"}, 0}}},
		{"blank fields", ",\n,,\n", comma, []row{{1, []string{"", ""}, 0}, {2, []string{"", "", ""}, 0}}},
		{"blank line", "a\n\nb\n", comma, []row{{1, []string{"a"}, 0}, {2, []string{""}, 0}, {3, []string{"b"}, 0}}},
		{"quoted", `"a,b","say ""no""",""` + "\n", comma, []row{{1, []string{"a,b", `say "no"`, ""}, 0}}},
		{"line breaks in quotes", "\"a\nb\r\nc\",d\ne,f\n", comma, []row{{1, []string{"a\nb\r\nc", "d"}, 0}, {4, []string{"e", "f"}, 0}}},
		{"bare quote is a value", "5\" pipe,a\"b\nx,y\n", comma, []row{{1, []string{`5" pipe`, `a"b`}, 0}, {2, []string{"x", "y"}, 0}}},
		{"text after the quote", "\"a\"b,c\nd,e\n", comma, []row{{1, []string{"\"a\"b", "c"}, AfterQuote}, {2, []string{"d", "e"}, 0}}},
		{"never closed", "a,b\n\"c,d\ne,f\n", comma, []row{{1, []string{"a", "b"}, 0}, {2, []string{"\"c,d\ne,f\n"}, Unclosed}}},
		{"no quotes", "\"a,b\n", Form{Delimiter: ","}, []row{{1, []string{`"a`, "b"}, 0}}},
		{"wide delimiter", "a¦\"b¦c\"¦d\n", Form{Delimiter: "¦", Quote: '"'}, []row{{1, []string{"a", "b¦c", "d"}, 0}}},
		{"one field a record", "a,b\n\"c\nd\"\n", Form{Quote: '"'}, []row{{1, []string{"a,b"}, 0}, {2, []string{"c\nd"}, 0}}},
		{"escaped quote", `"a\"b",c` + "\n", back, []row{{1, []string{`a"b`, "c"}, 0}}},
		{"escaped escape", `"a\\",c` + "\n", back, []row{{1, []string{`a\`, "c"}, 0}}},
		{"escape kept before others", `"C:\temp",D:\x` + "\n", back, []row{{1, []string{`C:\temp`, `D:\x`}, 0}}},
		{"escaped delimiter", `a\,b,"c"` + "\n" + `d\\,"e,f"` + "\n", back, []row{{1, []string{"a,b", "c"}, 0}, {2, []string{`d\`, "e,f"}, 0}}},
		{"wrong byte", "a,b\nc,\xff\nd,e\n", comma, []row{{1, []string{"a", "b"}, 0}, {2, []string{"c", "\xff"}, BadEncoding}, {3, []string{"d", "e"}, 0}}},
		{"NUL byte", "a\x00,b\n", comma, []row{{1, []string{"a\x00", "b"}, NulByte}}},
		{"quotes only", `""""""` + "\n", comma, []row{{1, []string{`""`}, 0}}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			require.NoError(t, tt.form.Validate())
			assert.Equal(t, tt.want, split(t, tt.text, tt.form, DefaultChunkSize))
		})
	}
}

var breaks = regexp.MustCompile(`\r+\n`)

// againstStandard compares with encoding/csv, which knows the same format
// with these differences: it drops empty lines, turns CRLF inside quotes into
// LF, and stops at faults that we keep as values or report.
func againstStandard(t *testing.T, text string) {
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord = -1
	want, err := r.ReadAll()
	if err != nil {
		return
	}
	var got [][]string
	for _, r := range split(t, text, DefaultForm, DefaultChunkSize) {
		if len(r.fields) == 1 && r.fields[0] == "" && !strings.Contains(text, `"`) {
			continue
		}
		got = append(got, r.fields)
	}
	if strings.Contains(text, `"`) {
		drop := func(rows [][]string) (kept [][]string) {
			for _, r := range rows {
				if len(r) != 1 || r[0] != "" {
					kept = append(kept, r)
				}
			}
			return
		}
		want, got = drop(want), drop(got)
	}
	for _, rows := range [][][]string{want, got} {
		for _, r := range rows {
			for i := range r {
				r[i] = breaks.ReplaceAllString(r[i], "\n") // the standard's reader takes one off
			}
		}
	}
	if len(want) == 0 && len(got) == 0 {
		return
	}
	assert.Equal(t, want, got, "%q", text)
}

func TestAgainstEncodingCSV(t *testing.T) {
	for _, text := range []string{
		"a,b,c\n1,2,3\n", "\"x\"\"y\",z\n", "a\r\nb\r\n", "\"l1\nl2\",\"l3\r\nl4\"\nq,r\n", ",,,\n", "\n\n\na\n", "é,日本\n", "a, b ,c\n",
	} {
		againstStandard(t, text)
	}
}

func TestChunksDoNotChangeRecords(t *testing.T) {
	var b strings.Builder
	for i := range 40000 {
		b.WriteString([]string{"1,plain,x\n", "2,\"two\nlines, and \"\"quotes\"\"\",y\r\n", "3,5\" pipe,z\n", "4,\"\",\n"}[i%4])
	}
	whole := split(t, b.String(), DefaultForm, 1<<30)
	assert.Equal(t, whole, split(t, b.String(), DefaultForm, 100))
	assert.Len(t, whole, 40000)
	assert.EqualValues(t, 50000-1, whole[len(whole)-2].line)
}

func TestRecordLimit(t *testing.T) {
	text := "a,b\nc,\"" + strings.Repeat("x\n", 1<<20)
	c := NewChunker(strings.NewReader(text), DefaultForm, 1)
	c.Size, c.MaxRecord = 1024, 1<<20
	var err error
	for err == nil {
		_, err = c.Next()
	}
	var long *TooLongError
	require.ErrorAs(t, err, &long)
	assert.EqualValues(t, 2, long.Quote)
	assert.Contains(t, err.Error(), "line 2")
}

func TestFormValidate(t *testing.T) {
	for _, f := range []Form{{Delimiter: ",,"}, {Delimiter: "\n"}, {Delimiter: "\xff"}, {Delimiter: `"`, Quote: '"'}, {Delimiter: `\`, Escape: '\\'}, {Delimiter: ",", Quote: 0xe9}} {
		assert.Error(t, f.Validate(), "%+v", f)
	}
}

func TestSplitterAllocatesNothing(t *testing.T) {
	text := strings.Repeat("1,\"a \"\"b\"\"\",2026-11-23,x\n", 1000)
	ch := &Chunk{Data: []byte(text), Line: 1}
	s := NewSplitter(DefaultForm)
	var rec Record
	s.Reset(ch)
	s.Next(&rec)
	assert.Zero(t, testing.AllocsPerRun(10, func() {
		s.Reset(ch)
		for s.Next(&rec) {
		}
	}))
}

func FuzzSplit(f *testing.F) {
	f.Add("a,b\n\"c\"\"d\",e\n", byte(0))
	f.Add("\"a\"b,c\r\n\r\n", byte(1))
	f.Add("a\\,b|\"c\\\"d\"|\n", byte(2))
	f.Fuzz(func(t *testing.T, text string, kind byte) {
		form := []Form{DefaultForm, {Delimiter: "\t"}, {Delimiter: "|", Quote: '"', Escape: '\\'}, {Delimiter: "¦", Quote: '\''}}[kind%4]
		whole := split(t, text, form, 1<<20)
		// However the text is cut, the records are the same.
		long := bytes.Repeat([]byte(text), 1)
		assert.Equal(t, whole, split(t, string(long), form, 1))
		if kind%4 == 0 {
			againstStandard(t, text)
		}
	})
}

func BenchmarkSplit(b *testing.B) {
	text := bytes.Repeat([]byte("1204331,2026-03-14,Nether Lock,\"Heron, The\",004417,up,1250.00,14,\n"), 100000)
	b.Run("ours", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		s := NewSplitter(DefaultForm)
		var rec Record
		for b.Loop() {
			c := NewChunker(bytes.NewReader(text), DefaultForm, 1)
			for {
				ch, err := c.Next()
				if err != nil {
					break
				}
				s.Reset(ch)
				for s.Next(&rec) {
				}
				ch.Release()
			}
		}
	})
	b.Run("encoding-csv", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			r := csv.NewReader(bytes.NewReader(text))
			r.ReuseRecord = true
			for {
				if _, err := r.Read(); err != nil {
					break
				}
			}
		}
	})
}
