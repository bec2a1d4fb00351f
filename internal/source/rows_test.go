package source

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source/delimited"
)

// Rows that are taken at once, without a look at each, are those that Next calls data.
func TestTakePlainTakesDataOnly(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 6))
	pieces := []string{"1", "Lock", "lock", "", " ", "\t", "---", "-5", "--", "===", "+--+", "|", "#", "# note", "~~~", "***", "__",
		`"Lock"`, `" Lock "`, `"---"`, `""`, `" "`, `"a,b"`, "\u00a0", "\ufeffLock", "é", "x", "=1", "+1", ":", `"-"`, `"--"`,
		`"Lo""ck"`, "Lock2", "-a", "*1", `"*"`, `"+"`}
	names := [][]string{{"Lock", "Toll", "x"}, {"", "Toll", "x"}, {`Lo"ck`, "Toll", "x"}, {"é", "Toll", "x"}, {"-5", "y", "x"}}
	taken := 0
	for round := range 6000 {
		columns := names[r.IntN(len(names))]
		l := &Layout{Form: delimited.DefaultForm, Header: int64(r.IntN(2)), Columns: columns, Pad: r.IntN(4) == 0,
			KeepBlank: r.IntN(4) == 0}
		if r.IntN(3) == 0 {
			l.Form.Comment = "#"
		}
		if r.IntN(5) == 0 {
			l.Form.Delimiter = "\t"
		}
		var b strings.Builder
		for range 30 {
			switch r.IntN(8) {
			case 0:
				b.WriteString(strings.Join(columns, l.Form.Delimiter))
			case 1:
				b.WriteString([]string{"", " ", l.Form.Delimiter + l.Form.Delimiter, "---,---,---", "-----", "#x"}[r.IntN(6)])
			default:
				for c := range len(columns) {
					if c > 0 {
						b.WriteString(l.Form.Delimiter)
					}
					b.WriteString(pieces[r.IntN(len(pieces))])
				}
			}
			b.WriteString("\n")
		}
		chunk := &delimited.Chunk{Data: []byte(b.String()), Line: 1}
		rows := NewRows(l)
		rows.Reset(chunk)
		var rec delimited.Record
		kinds := map[int64]Kind{}
		for {
			kind, ok := rows.Next(&rec)
			if !ok {
				break
			}
			kinds[rec.Line] = kind
		}
		rows.Reset(chunk)
		c := delimited.NewColumns(len(columns), 40)
		seen := 0
		for {
			rows.TakePlain(c)
			kind, ok := rows.Next(&rec)
			if !ok {
				break
			}
			require.Equal(t, kinds[rec.Line], kind, "round %d, line %d of %q", round, rec.Line, b.String())
			seen++
		}
		for _, line := range c.Lines[:c.N] {
			require.Equal(t, Data, kinds[line], "round %d, line %d of %q, %+v", round, line, b.String(), l)
		}
		require.Equal(t, len(kinds), seen+c.N, "%q", b.String())
		taken += c.N
	}
	assert.Greater(t, taken, 20_000)
}
