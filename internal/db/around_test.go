package db

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db/dialect"
)

// answers is an Asker that says what it was asked, and answers in turn.
type answers struct {
	asked []string
	next  [][][]*string
}

func (a *answers) Ask(_ context.Context, sql string, _ ...any) ([][]*string, error) {
	a.asked = append(a.asked, sql)
	if len(a.next) == 0 {
		return nil, nil
	}
	out := a.next[0]
	a.next = a.next[1:]
	return out, nil
}

func texts(list ...string) (out []*string) {
	for _, s := range list {
		out = append(out, &s)
	}
	return out
}

var plainDialect = &dialect.Dialect{Name: "plain", Title: "Plain", OpenQuote: `"`, CloseQuote: `"`, NameLimit: 100}

// What others refer to a table by, in words, and whether their rules act.
func TestReferences(t *testing.T) {
	r := Reference{Schema: "tolls", Table: "passes", Columns: []string{"gauge", "day"}, To: []string{"id", "day"}, OnDelete: "no action"}
	assert.Equal(t, "tolls.passes (gauge, day)", r.String())
	assert.False(t, r.Acts())
	r.OnDelete = "CASCADE"
	assert.Equal(t, "tolls.passes (gauge, day) ON DELETE CASCADE", r.String())
	assert.True(t, r.Acts())
	r.OnDelete, r.OnUpdate = "RESTRICT", "set null"
	assert.True(t, r.Acts())
	assert.NotContains(t, r.String(), "SET NULL")
}

// A row that is referred to is found by its key, and named.
func TestReferredTo(t *testing.T) {
	a := &answers{next: [][][]*string{nil, {texts("G02", "2024-03-01")}}}
	q := Questions{Dialect: plainDialect, Asker: a}
	refs := []Reference{{Table: "readings", Columns: []string{"gauge"}, To: []string{"gauge"}},
		{Table: "days", Columns: []string{"gauge", "day"}, To: []string{"gauge", "read_at"}, OnDelete: "CASCADE"}}
	err := q.ReferredTo(context.Background(), refs, `"gauges"`, "gone(p)")
	var held *ReferredTo
	require.ErrorAs(t, err, &held)
	assert.Equal(t, "days", held.Table)
	assert.Contains(t, err.Error(), "days (gauge, day) ON DELETE CASCADE refers to 'G02, 2024-03-01', which the file does not have; nothing was changed")
	assert.Contains(t, err.Error(), "could not account for")
	require.Len(t, a.asked, 2)
	assert.Equal(t, `SELECT c.gauge, c."day" FROM days c WHERE c.gauge IS NOT NULL AND c."day" IS NOT NULL AND EXISTS (SELECT 1 FROM "gauges" p `+
		`WHERE p.gauge = c.gauge AND p.read_at = c."day" AND gone(p)) LIMIT 1`, a.asked[1])
	assert.NoError(t, q.ReferredTo(context.Background(), refs, `"gauges"`, "gone(p)"), "nothing refers to what goes")
	a.next = [][][]*string{{texts("")}}
	assert.ErrorAs(t, q.ReferredTo(context.Background(), refs, `"gauges"`, "gone(p)"), &held, "an empty text is a key, too")
	a.next = [][][]*string{{texts("")}}
	var orphan *Orphan
	assert.ErrorAs(t, q.Orphans(context.Background(), refs, `"gauges"`, ""), &orphan)
}

// Only keys whose rules change rows are watched, and what moved is told from what did not.
func TestLeaning(t *testing.T) {
	refs := []Reference{{Table: "quiet", Columns: []string{"g"}}, {Table: "passes", Columns: []string{"g"}, OnDelete: "SET NULL"},
		{Table: "days", Columns: []string{"g"}, OnUpdate: "CASCADE"}}
	row := func(n string) [][]*string { return [][]*string{append(texts(n, n, "2", "1"), nil)} }
	a := &answers{next: [][][]*string{row("4"), row("7"), row("4"), row("6")}}
	q := Questions{Dialect: plainDialect, Asker: a}
	before, err := q.Leaning(context.Background(), refs)
	require.NoError(t, err)
	require.Len(t, before, 2)
	assert.Contains(t, before[0], "null", "a null is one, and no text")
	after, err := q.Leaning(context.Background(), refs)
	require.NoError(t, err)
	assert.NoError(t, Moved(refs, before, before))
	moved := Moved(refs, before, after)
	var went *Went
	require.ErrorAs(t, moved, &went)
	assert.Equal(t, "days", went.Table)
	assert.Contains(t, moved.Error(), "nothing was changed")
	assert.Len(t, a.asked, 4)
	assert.Error(t, Moved(refs, before, nil), "what is not known is no proof")
}
