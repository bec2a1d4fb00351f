package delimited

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFieldsAreQuotedWhereTheyHaveTo(t *testing.T) {
	f := DefaultForm
	for field, want := range map[string]string{
		"": ``, "plain": `plain`, "a,b": `"a,b"`, `say "a"`: `"say ""a"""`, "a\nb": "\"a\nb\"", "a\rb": "\"a\rb\"", " a": `" a"`, "a ": `"a "`, "\ta": "\"\ta\"",
		"---": `"---"`, "-5": `-5`, "-": `"-"`, "=1+1": `=1+1`, "|+-+|": `"|+-+|"`, "ü;": `ü;`, "#": `"#"`, "#7": `#7`,
	} {
		assert.Equal(t, want, string(f.AppendField(nil, []byte(field), false)), field)
	}
	assert.Equal(t, `""`, string(f.AppendField(nil, nil, true)))
	f.Delimiter = "¦"
	assert.Equal(t, `"a¦b"`, string(f.AppendField(nil, []byte("a¦b"), false)))
	f = Form{Delimiter: ";", Quote: '\'', Escape: '\\'}
	assert.Equal(t, `'a\'b\\'`, string(f.AppendField(nil, []byte(`a'b\`), false)))
}

// Whatever is written reads back, in every form.
func TestWhatIsWrittenReadsBack(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	letters := []string{"a", "\"", "'", ",", ";", "\t", "\n", "\r", "\\", " ", "-", "=", "|", "ü", "¦", "0", "x1e\x1e"}
	for _, f := range []Form{DefaultForm, {Delimiter: ";", Quote: '\''}, {Delimiter: "\t", Quote: '"'}, {Delimiter: "¦", Quote: '"'}, {Delimiter: ",", Quote: '"', Escape: '\\'}} {
		var want [][]string
		var text []byte
		for range 3000 {
			var row []string
			for i := range 3 {
				var b strings.Builder
				for range r.IntN(6) {
					b.WriteString(letters[r.IntN(len(letters))])
				}
				if i > 0 {
					text = append(text, f.Delimiter...)
				}
				row = append(row, b.String())
				text = f.AppendField(text, []byte(b.String()), false)
			}
			text = append(text, '\n')
			want = append(want, row)
		}
		s := NewSplitter(f)
		s.Reset(&Chunk{Data: text, Line: 1})
		var rec Record
		for i, w := range want {
			require.True(t, s.Next(&rec))
			require.Equal(t, NoFault, rec.Fault, "%q", w)
			var got []string
			for _, x := range rec.Fields {
				got = append(got, string(x))
			}
			require.Equal(t, w, got, "row %d, %q", i, f)
		}
		require.False(t, s.Next(&rec))
	}
}

func TestBreaksWithinOneLine(t *testing.T) {
	f := Form{Delimiter: ",", Quote: '"', Breaks: 0x1e}
	s := NewSplitter(f)
	s.Reset(&Chunk{Data: []byte("\"a\x1eb\",c\x1ed,\"\"\"\x1e\"\n\nx\n"), Line: 4})
	var rec Record
	require.True(t, s.Next(&rec))
	assert.Equal(t, []string{"a\nb", "c\x1ed", "\"\n"}, []string{string(rec.Fields[0]), string(rec.Fields[1]), string(rec.Fields[2])})
	require.True(t, s.Next(&rec))
	assert.EqualValues(t, 5, rec.Line, "the row is one line")
	assert.True(t, rec.IsBlank())
	rec.Pad(3)
	assert.Len(t, rec.Fields, 3)
	assert.False(t, rec.Quoted(2))
	assert.False(t, rec.Quoted(-1))
}

// A pen writes what the form does, whatever the field and the form are.
func TestPenIsTheForm(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 2))
	letters := []string{"a", "é", " ", "\t", ",", ";", "¦", `"`, "'", `\`, "\n", "\r", "-", "=", "=1", "0", "\x00"}
	for _, f := range []Form{DefaultForm, {Delimiter: ";", Quote: '\''}, {Delimiter: "¦", Quote: '"'}, {Delimiter: "||", Quote: '"'},
		{Delimiter: "\t", Quote: '"', Escape: '\\'}, {Delimiter: ",", Quote: '"', Marked: true}, {Quote: '"'}} {
		p := NewPen(f)
		for range 3000 {
			var field []byte
			for range r.IntN(6) {
				field = append(field, letters[r.IntN(len(letters))]...)
			}
			quoted := r.IntN(5) == 0
			require.Equal(t, string(f.AppendField([]byte("x"), field, quoted)), string(p.Append([]byte("x"), field, quoted)), "%q in %+v", field, f)
		}
	}
}
