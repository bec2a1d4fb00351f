package delimited

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFormula(t *testing.T) {
	for text, want := range map[string]bool{"=1": true, "=": true, "@SUM(A1)": true, "+49 30": true, "-cmd|x": true, "\tx": true, "\r=1": true,
		"＝1": true, "--1+x": true, "+1+2": true, "": false, "x": false, "-5": false, "+5.25": false, "-1,234.5": false, "-1e5": false,
		"-5%": false, "-": false, "--": false, "'": false, "'=1": false, "5-3": false, "－x": true} {
		assert.Equal(t, want, Formula([]byte(text)), text)
	}
}

// What is marked for a spreadsheet comes back as it was, whatever it was.
func TestMarksComeOffAgain(t *testing.T) {
	form := DefaultForm
	form.Marked = true
	var b []byte
	all := []string{"=1", "'=1", "''=1", "'", "''", "'tis", "@", "-5", "-x", "+", "", "\t", "\r\n=1", "a,b", "=\"x\"", "＝"}
	for i, text := range all {
		if i > 0 {
			b = append(b, ',')
		}
		b = form.AppendField(b, []byte(text), text == "")
	}
	var rec Record
	s := NewSplitter(form)
	s.Reset(&Chunk{Data: append(b, '\n'), Line: 1})
	assert.True(t, s.Next(&rec))
	var got []string
	for _, f := range rec.Fields {
		got = append(got, string(f))
	}
	assert.Equal(t, all, got)
}
