package desk

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// reviewedFile has a column that would be dates but for one, one that would be numbers but for
// one and a word for null, two of one name, and one that holds nothing.
func reviewedFile() string {
	var text strings.Builder
	text.WriteString("id,day,toll,note,note,spare\n")
	for i := range 200 {
		day, toll := "0"+string(rune('1'+i%9))+"/02/2024", "12.50"
		switch i {
		case 17:
			day = "31/02/2024"
		case 30:
			toll = "n/a"
		case 41:
			toll = "1O.50"
		case 42:
			toll = "closed"
		}
		text.WriteString(strings.Join([]string{itoa(i), day, toll, "a" + itoa(i%7), "b" + itoa(i%5), ""}, ",") + "\n")
	}
	return text.String()
}

var asDate = Decision{Wanted: profile.Wanted{Type: sqltype.Type{Kind: sqltype.Date}, Dates: "day-first"}}

func itoa(i int) string {
	return string([]byte{byte('1' + i/100), byte('0' + i/10%10), byte('0' + i%10)})
}

// review opens a file for a person, and lets them do what they want of it.
func (b *bench) review(t *testing.T, in Input, do func(r *Review)) *Opened {
	o, err := b.Plan(context.Background(), in, func(_ context.Context, r *Review) error { do(r); return nil })
	require.NoError(t, err)
	return o
}

func text(t *testing.T, p *plan.Plan, c plan.Comments) string {
	out, err := p.Encode(c)
	require.NoError(t, err)
	return string(out)
}

// What is decided on the screen is what options, or an edit of the plan, would have given.
func TestReviewIsAsByOptions(t *testing.T) {
	b := newBench(t)
	in := input(b.file(t, "tolls.csv", reviewedFile()))
	date, toll := sqltype.Type{Kind: sqltype.Date}, sqltype.Type{Kind: sqltype.Decimal, Precision: 6, Scale: 2}

	none := b.review(t, in, func(r *Review) {})
	plain, err := b.Plan(context.Background(), in, nil)
	require.NoError(t, err)
	assert.Equal(t, text(t, plain.Plan, plain.Comments), text(t, none.Plan, none.Comments), "nothing was decided")

	got := b.review(t, in, func(r *Review) {
		require.Equal(t, 6, r.Size())
		require.NoError(t, r.Decide(1, Decision{Wanted: profile.Wanted{Type: date, Dates: "day-first"}, Name: "passed_on"}))
		require.NoError(t, r.Decide(2, Decision{Wanted: profile.Wanted{Type: toll}}))
		require.NoError(t, r.Decide(5, Decision{LeaveOut: true}))
		c := r.Column(1)
		assert.Equal(t, "passed_on", c.Name)
		assert.True(t, c.Decided)
		assert.False(t, r.Column(0).Decided)
	})
	byOptions := in
	byOptions.Options.Types = map[string]sqltype.Type{"day": date, "toll": toll}
	byOptions.Options.Dates = "day-first"
	byOptions.Wishes.Rename = map[string]string{"day": "passed_on"}
	byOptions.Wishes.LeaveOut = []string{"spare"}
	want, err := b.Plan(context.Background(), byOptions, nil)
	require.NoError(t, err)
	assert.Equal(t, text(t, want.Plan, want.Comments), text(t, got.Plan, got.Comments))

	// And it is a plan that is read as it was written.
	again, err := plan.Parse([]byte(text(t, got.Plan, got.Comments)))
	require.NoError(t, err)
	assert.Equal(t, got.Plan.Columns, again.Columns)
}

// A person sees what the evidence says, and how many values would not fit.
func TestReviewShowsEvidence(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	b.review(t, input(b.file(t, "tolls.csv", reviewedFile())), func(r *Review) {
		assert.Equal(t, "tolls", r.Table())
		assert.EqualValues(t, 200, r.Records())
		require.NotEmpty(t, r.Whole(), "two columns have one name")
		day, toll, spare := r.Column(1), r.Column(2), r.Column(5)
		for _, c := range []ReviewColumn{day, toll, spare} {
			assert.True(t, c.Careful(), c.Header)
		}
		require.Len(t, day.Ways, 2, "nothing tells which of both comes first")
		assert.Equal(t, profile.Wanted{Type: sqltype.Type{Kind: sqltype.Date}, Dates: "month-first"}, day.Ways[1].Wanted)
		assert.Equal(t, []string{"01/02/2024", "02/02/2024"}, r.Values(1)[:2])

		x, err := r.Misfits(ctx, 1, asDate)
		require.NoError(t, err)
		require.EqualValues(t, 1, x.Count)
		assert.Equal(t, "31/02/2024", x.First[0].Value)
		assert.EqualValues(t, 19, x.First[0].Line)

		number := Decision{Wanted: profile.Wanted{Type: sqltype.Type{Kind: sqltype.Decimal, Precision: 6, Scale: 2}}}
		x, err = r.Misfits(ctx, 2, number)
		require.NoError(t, err)
		assert.EqualValues(t, 2, x.Count, "n/a is known as a word for null, closed is not")
		number.Nulls = []string{"closed"}
		x, err = r.Misfits(ctx, 2, number)
		require.NoError(t, err)
		assert.EqualValues(t, 1, x.Count)
		x, err = r.Misfits(ctx, 2, Decision{})
		require.NoError(t, err)
		assert.Zero(t, x.Count)

		// Of two columns of one name, each is asked for itself.
		x, err = r.Misfits(ctx, 4, Decision{Wanted: profile.Wanted{Type: sqltype.Type{Kind: sqltype.Integer}}, Name: "second"})
		require.NoError(t, err)
		assert.EqualValues(t, 200, x.Count)
		assert.Equal(t, "b100", x.First[0].Value)
	})
}

// What cannot be is refused, and what was decided before stays.
func TestReviewRefuses(t *testing.T) {
	b := newBench(t)
	file := b.file(t, "tolls.csv", reviewedFile())
	b.review(t, input(file), func(r *Review) {
		require.NoError(t, r.Decide(1, Decision{Name: "passed_on"}))
		assert.ErrorContains(t, r.Decide(1, Decision{Name: "toll"}), "stands twice")
		assert.Equal(t, "passed_on", r.Column(1).Name)
		for i := range 5 {
			require.NoError(t, r.Decide(i, Decision{LeaveOut: true}))
		}
		assert.ErrorContains(t, r.Decide(5, Decision{LeaveOut: true}), "no column is left")
		require.NoError(t, r.Decide(1, Decision{}), "and it can be taken back")
	})

	left := input(file)
	left.Wishes.LeaveOut = []string{"toll"}
	b.review(t, left, func(r *Review) {
		assert.True(t, r.Column(2).LeaveOut)
		assert.ErrorContains(t, r.Decide(2, Decision{}), "left out by what was asked for")
		assert.Equal(t, "note", r.Column(3).Name, "the names behind are those of their columns")
	})

	gone := errors.New("gone away")
	_, err := b.Plan(context.Background(), input(file), func(context.Context, *Review) error { return gone })
	assert.ErrorIs(t, err, gone)
}

// A key stays one only as long as its column can be one.
func TestReviewOfAKey(t *testing.T) {
	b := newBench(t)
	in := input(b.file(t, "tolls.csv", reviewedFile()))
	for want, d := range map[string]Decision{
		"id":     {},
		"permit": {Name: "permit"},
		"":       {LeaveOut: true},
		"none":   {Nulls: []string{"100"}},
	} {
		got := b.review(t, in, func(r *Review) { require.NoError(t, r.Decide(0, d)) })
		if want == "" || want == "none" {
			assert.Empty(t, got.Plan.Table.Key, want)
			continue
		}
		assert.Equal(t, []string{want}, got.Plan.Table.Key)
	}
	got := b.review(t, in, func(r *Review) { require.NoError(t, r.Decide(0, Decision{Nulls: []string{"100"}})) })
	assert.False(t, got.Plan.Columns[0].Required, "it may be null now")
	assert.Equal(t, []string{"100"}, got.Plan.Columns[0].Nulls)
}

// Several sources are decided as one table.
func TestReviewOfSeveralSources(t *testing.T) {
	b := newBench(t)
	march := b.file(t, "march.csv", reviewedFile())
	april := b.file(t, "april.csv", reviewedFile())
	b.review(t, input(march, april), func(r *Review) {
		assert.EqualValues(t, 400, r.Records())
		x, err := r.Misfits(context.Background(), 1, asDate)
		require.NoError(t, err)
		assert.EqualValues(t, 2, x.Count)
		require.NoError(t, r.Decide(1, asDate))
		p, _, err := r.Plan()
		require.NoError(t, err)
		assert.Equal(t, "date", p.Columns[1].Type)
		assert.Len(t, p.Sources, 2)
	})
	_, err := os.Stat(b.Tray)
	assert.ErrorIs(t, err, os.ErrNotExist, "nothing is written by it")
}

// Where nothing tells what a mark means, both ways are offered, and read differently.
func TestReviewOfMarks(t *testing.T) {
	b := newBench(t)
	var text strings.Builder
	text.WriteString("id\ttoll\n")
	for i := range 100 {
		toll := itoa(i)[:1] + "," + itoa(i)
		if i == 50 {
			toll = "free"
		}
		text.WriteString(itoa(i) + "\t" + toll + "\n")
	}
	b.review(t, input(b.file(t, "tolls.tsv", text.String())), func(r *Review) {
		ways := r.Ways(1, sqltype.Type{Kind: sqltype.Decimal, Precision: 9, Scale: 3}, "as you said")
		require.Len(t, ways, 2)
		read := map[reading.Mark]string{reading.Point: "", reading.Comma: ""}
		for _, w := range ways {
			require.NoError(t, r.Decide(1, Decision{Wanted: w.Wanted}))
			p, _, err := r.Plan()
			require.NoError(t, err)
			require.NotNil(t, p.Columns[1].Reading)
			read[w.Decimal] = p.Columns[1].Reading.Words()
			x, err := r.Misfits(context.Background(), 1, Decision{Wanted: w.Wanted})
			require.NoError(t, err)
			assert.EqualValues(t, 1, x.Count)
		}
		assert.Contains(t, read[reading.Comma], "decimal comma")
		assert.Contains(t, read[reading.Point], `"," between thousands`)
	})
}
