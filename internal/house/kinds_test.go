package house

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/plan"
	"ambertray/internal/proof"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// Each kind of type is walked through all that has to know it. A kind that is
// added in one place only fails here by its name: it would be read as something
// else, or lost on the way.
func TestEveryKindIsKnownEverywhere(t *testing.T) {
	for _, kind := range sqltype.Kinds() {
		typ := sqltype.Example(kind)
		t.Run(typ.String(), func(t *testing.T) {
			parsed, err := sqltype.Parse(typ.String())
			require.NoError(t, err)
			assert.Equal(t, typ, parsed, "a plan reads what it writes")
			families := 0
			for _, is := range []bool{typ.IsNumber(), typ.IsTemporal(), typ.IsText(), kind == sqltype.Boolean, kind == sqltype.UUID} {
				if is {
					families++
				}
			}
			assert.Equal(t, 1, families, "it is of one family, or one of those that have none")

			text, value := db.Sample(typ)
			require.NotEmpty(t, text, "db.Sample")
			assert.Equal(t, text, string(value.Append(nil, typ)), "reading.Value.Append writes what the reader read")
			for name, r := range map[string]*reading.Reader{"Plain": reading.Plain(typ), "Strict": reading.Strict(typ), "a plan's": planned(t, typ)} {
				var v reading.Value
				assert.Equal(t, reading.OK, r.Read([]byte(text), true, &v), "%s reader", name)
				if !typ.IsText() {
					assert.NotEqual(t, reading.OK, r.Read([]byte("oops"), false, &v), "%s reader takes no text for a value", name)
				}
			}

			var c, other tally.Tally
			c.Type, other.Type = typ, typ
			c.Add(&value)
			assert.Equal(t, text, c.Smallest(), "tally.Tally")
			other.Add(&reading.Value{Null: true})
			assert.NotEmpty(t, c.Differs(&other), "a null differs from a value")
			spread := tally.NewSpread(typ, c.Smallest(), c.Largest())
			spread.Add(&value)
			_, bars := spread.Bars()
			if kind == sqltype.UUID {
				assert.Empty(t, bars, "they are all different")
			} else {
				assert.Len(t, bars, 1, "tally.Spread")
			}
			facts := tray.FactsOf(&c)
			again, err := facts.Tally(typ.String(), 1)
			require.NoError(t, err)
			assert.Empty(t, c.Differs(again), "a receipt keeps what was tallied")

			assert.True(t, compare(t, typ, value, value), "proof: equal values are equal")
			assert.False(t, compare(t, typ, value, reading.Value{Null: true}), "proof: a null is no value")

			for _, d := range connect.All {
				col := dialect.Column{Name: "c", Type: typ}
				assert.NotEmpty(t, d.Type(col, false), d.Name)
				assert.NotEmpty(t, d.Literal(col, text), d.Name)
			}
		})
	}
}

// planned is the reader of a plan's column.
func planned(t *testing.T, typ sqltype.Type) *reading.Reader {
	c := plan.Column{Name: "c", From: "c", Type: typ.String()}
	if typ.IsTemporal() {
		return reading.Strict(typ) // it needs a pattern, which the type does not say
	}
	if typ.Kind == sqltype.Boolean {
		c.Reading = &plan.Reading{True: []string{"true"}, False: []string{"false"}}
	}
	r, err := c.Reader()
	require.NoError(t, err)
	return r
}

// one is a side of a comparison, of one row with one value.
type one struct{ v reading.Value }

func (o one) Rows(_ context.Context, encoder func() sink.Encoder, take func(int, []byte) error) error {
	return take(1, encoder().Append(nil, []reading.Value{o.v}))
}

func compare(t *testing.T, typ sqltype.Type, a, b reading.Value) bool {
	r, err := proof.Compare(context.Background(), one{a}, one{b}, proof.Options{Types: []sqltype.Type{typ}})
	require.NoError(t, err)
	return r.Same()
}

// Reasons have codes, all different, and words.
func TestEveryReasonHasACode(t *testing.T) {
	seen := map[tray.Code]bool{}
	for _, c := range tray.Codes() {
		assert.Regexp(t, `^[a-z]+(-[a-z]+)*$`, string(c))
		assert.False(t, seen[c], "%s stands twice", c)
		seen[c] = true
	}
	for _, m := range reading.Misfits() {
		assert.NotContains(t, m.Reason(sqltype.Example(sqltype.VarChar), []byte("x")), "misfit ", m.Code())
	}
	for _, f := range delimited.Faults() {
		assert.NotContains(t, f.String(), "fault ", f.Code())
		assert.True(t, tray.Code(f.Code()).Broken(""), "%s: a record that is none", f.Code())
		assert.True(t, tray.Code("").Broken(f.String()), "as files of before have it")
	}
}
