package match

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// planned is a text with the plan that it suggests.
func planned(t *testing.T, text string) (*source.Source, *plan.Plan) {
	t.Helper()
	name := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	src, err := source.Open(context.Background(), name, source.Known{})
	require.NoError(t, err)
	prof, err := profile.Run(context.Background(), src, profile.Options{})
	require.NoError(t, err)
	p, _, err := plan.Build([]*source.Source{src}, prof, plan.Wishes{})
	require.NoError(t, err)
	return src, p
}

// Each row: a column of the file and one of the table; the weight and text of
// their pairing.
func TestMapWeights(t *testing.T) {
	text := "a,b\n1,x\n2,y\n300,z\n"
	sqlType := func(s string) sqltype.Type {
		if s == "" {
			return sqltype.Type{}
		}
		typ, err := sqltype.Parse(s)
		require.NoError(t, err)
		return typ
	}
	for _, tt := range []struct {
		column db.Column
		opt    MapOptions
		weight Weight
		text   string
	}{
		{db.Column{Name: "A", SQL: sqlType("integer")}, MapOptions{}, Fine, ""},
		{db.Column{Name: "a", SQL: sqlType("bigint")}, MapOptions{}, Fine, ""},
		{db.Column{Name: "a", SQL: sqlType("smallint")}, MapOptions{}, Caution, "narrower, but every value fits"},
		{db.Column{Name: "a", SQL: sqlType("smallint"), Lo: -128, Hi: 127}, MapOptions{}, Blocking, "1 value does not fit: outside what the column holds (-128 to 127)"},
		{db.Column{Name: "a", SQL: sqlType("smallint"), Lo: -128, Hi: 127}, MapOptions{Tolerate: 0.4}, Caution, "tolerated"},
		{db.Column{Name: "a", SQL: sqlType("decimal(12,2)")}, MapOptions{}, Fine, ""},
		{db.Column{Name: "a", SQL: sqlType("decimal(4,2)")}, MapOptions{}, Blocking, "more digits before the point"},
		{db.Column{Name: "a", SQL: sqlType("text")}, MapOptions{}, Caution, "goes in as the text"},
		{db.Column{Name: "a", SQL: sqlType("date")}, MapOptions{}, Blocking, "3 values do not fit"},
		{db.Column{Name: "a", SQL: sqlType("boolean")}, MapOptions{}, Blocking, "not a word for true or false"},
		{db.Column{Name: "a", SQL: sqlType("")}, MapOptions{}, Caution, "only the number of values can be verified"},
		{db.Column{Name: "a", SQL: sqlType("integer"), Identity: true}, MapOptions{}, Blocking, "--keep-identity"},
		{db.Column{Name: "a", SQL: sqlType("integer"), Identity: true}, MapOptions{KeepIdentity: true}, Fine, ""},
		{db.Column{Name: "a", SQL: sqlType("integer"), Generated: true}, MapOptions{}, Fine, "left out"},
		{db.Column{Name: "other", SQL: sqlType("integer")}, MapOptions{}, Blocking, "the table has no such column"},
		{db.Column{Name: "other", SQL: sqlType("integer")}, MapOptions{ByPosition: true}, Fine, ""},
	} {
		table := &db.Table{Name: "t", Columns: []db.Column{tt.column, {Name: "b", SQL: sqlType("varchar(9)")}}}
		src, p := planned(t, text)
		mapping, err := Map(context.Background(), []*source.Source{src}, p, table, tt.opt)
		require.NoError(t, err)
		got := mapping.Pairings[0]
		assert.Equal(t, tt.weight, got.Weight, "%+v: %s", tt.column, got.Text)
		assert.Contains(t, got.Text, tt.text)
		assert.Equal(t, tt.weight == Blocking, mapping.Blocked())
		if mapping.Blocked() {
			assert.Contains(t, mapping.Summary(), tt.text)
		}
	}
}

func TestMapTableOnly(t *testing.T) {
	varchar, _ := sqltype.Parse("varchar(9)")
	for _, tt := range []struct {
		column db.Column
		weight Weight
	}{
		{db.Column{Name: "x", SQL: varchar}, Caution},
		{db.Column{Name: "x", SQL: varchar, Required: true}, Blocking},
		{db.Column{Name: "x", SQL: varchar, Required: true, Default: true}, Fine},
		{db.Column{Name: "x", SQL: varchar, Required: true, Identity: true}, Fine},
		{db.Column{Name: "x", SQL: varchar, Generated: true}, Fine},
	} {
		table := &db.Table{Name: "t", Columns: []db.Column{{Name: "b", SQL: varchar}, tt.column}}
		src, p := planned(t, "b\nx\ny\n")
		mapping, err := Map(context.Background(), []*source.Source{src}, p, table, MapOptions{})
		require.NoError(t, err)
		assert.Equal(t, tt.weight, mapping.Pairings[1].Weight, "%+v", tt.column)
	}
	table := &db.Table{Name: "t", Unsafe: "no transactions", Columns: []db.Column{{Name: "b", SQL: varchar}}}
	src, p := planned(t, "b\nx\ny\n")
	mapping, err := Map(context.Background(), []*source.Source{src}, p, table, MapOptions{})
	require.NoError(t, err)
	assert.True(t, mapping.Blocked())
}

// Each row: the file that a plan was made for, another one, and what is said.
func TestChanges(t *testing.T) {
	was := "id,paid_on,toll\n1,2024-01-31,0.50\n2,2024-02-29,1.25\n3,2024-03-01,6.25\n"
	for _, tt := range []struct {
		what, text string
		weight     Weight
		says       string
	}{
		{"the same", was, "", ""},
		{"another order", "toll,id,paid_on\n0.50,1,2024-01-31\n", Fine, "another order"},
		{"a column more", "id,paid_on,toll,lock\n1,2024-01-31,0.50,Alder\n", Caution, "is new"},
		{"a column less", "id,toll\n1,0.50\n", Blocking, "is missing"},
		{"a new name", "id,paid_at,toll\n1,2024-01-31,0.50\n", Blocking, "perhaps a new name"},
		{"another type", "id,paid_on,toll\n1,2024-01-31,x\n2,2024-01-31,y\n", Blocking, "do not fit"},
		{"another form", "id;paid_on;toll\n1;2024-01-31;0.50\n2;2024-01-31;0.60\n", Blocking, "another form"},
		{"short records", "id,paid_on,toll\n1,2024-01-31\n2,2024-01-31\n", Blocking, "has 2 fields"},
	} {
		src, p := planned(t, was)
		p.Sources = []plan.Source{plan.FromLayout(src)}
		name := filepath.Join(t.TempDir(), "next.csv")
		require.NoError(t, os.WriteFile(name, []byte(tt.text), 0o666))
		next, err := source.Open(context.Background(), name, p.Known(&p.Sources[0]))
		require.NoError(t, err, tt.what)
		changes, err := Changes(context.Background(), next, p, true, 0)
		require.NoError(t, err, tt.what)
		if tt.weight == "" {
			assert.Empty(t, changes, tt.what)
			continue
		}
		var said []string
		worst := Fine
		for _, c := range changes {
			said = append(said, c.Text)
			if c.Weight == Blocking || c.Weight == Caution && worst == Fine {
				worst = c.Weight
			}
		}
		assert.Equal(t, tt.weight, worst, "%s: %q", tt.what, said)
		assert.Contains(t, strings.Join(said, "\n"), tt.says, tt.what)
	}
}

// A table's type decides how a column is read; what the evidence leaves open
// then is asked.
func TestMapReadsAsTheTable(t *testing.T) {
	text := "id,day\n1,31/01/2024\n2,28/02/2024\n3,31/02/2024\n4,30/01/2024\n5,29/01/2024\n6,27/01/2024\n7,26/01/2024\n8,25/01/2024\n9,24/01/2024\n10,23/01/2024\n11,22/01/2024\n12,21/01/2024\n"
	name := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	src, err := source.Open(context.Background(), name, source.Known{})
	require.NoError(t, err)
	prof, err := profile.Run(context.Background(), src, profile.Options{})
	require.NoError(t, err)
	p, _, err := plan.Build([]*source.Source{src}, prof, plan.Wishes{})
	require.NoError(t, err)
	typ := func(s string) sqltype.Type {
		x, err := sqltype.Parse(s)
		require.NoError(t, err)
		return x
	}
	table := &db.Table{Name: "t", Columns: []db.Column{{Name: "id", SQL: typ("bigint")}, {Name: "day", SQL: typ("date")}}}
	m, err := Map(context.Background(), []*source.Source{src}, p, table, MapOptions{Profile: prof})
	require.NoError(t, err)
	require.True(t, m.Blocked())
	assert.Contains(t, m.Summary(), "1 value does not fit")
	assert.Contains(t, m.Summary(), "'31/02/2024'")
	assert.Equal(t, "10%", m.Tolerable())
	m, err = Map(context.Background(), []*source.Source{src}, p, table, MapOptions{Profile: prof, Tolerate: 0.1})
	require.NoError(t, err)
	assert.False(t, m.Blocked())
	assert.Empty(t, m.Tolerable())

	for _, tt := range []struct{ want, column, reads string }{
		{"timestamp(3) with time zone", "timestamp(6)", "timestamp(6) with time zone"},
		{"decimal(9,3)", "decimal(1,0)", "decimal(1,3)"},
		{"text", "decimal(1,0)", "decimal(1,10)"},
		{"time(2)", "date", "date"},
	} {
		c := &db.Column{SQL: typ(tt.column), UTC: true, AnyLength: tt.column == "decimal(1,0)" || tt.column == "date"}
		assert.Equal(t, tt.reads, readAs(typ(tt.want), c).String())
	}
	assert.Equal(t, "text", readAs(typ("date"), &db.Column{}).String(), "of a type without a counterpart")
	assert.Equal(t, "boolean", readAs(typ("boolean"), &db.Column{SQL: typ("smallint"), Truth: true}).String())
}
