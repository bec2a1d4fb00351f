package load

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// stepping is memory that can commit on the way, and dies at will.
type stepping struct {
	*memory
	notes []string
	dies  func(step int) error // at a step, before it is committed
}

func (s *stepping) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	l, err := s.memory.Begin(ctx, spec)
	if err != nil {
		return nil, err
	}
	if spec.Going {
		l.(*memoryLoad).rows = append([][]string(nil), s.rows...)
	}
	return &steppingLoad{l.(*memoryLoad), s}, nil
}

func (s *stepping) Notes(context.Context, string, string) ([]string, error) { return s.notes, nil }

type steppingLoad struct {
	*memoryLoad
	s *stepping
}

func (l *steppingLoad) Step(_ context.Context, step int, note string) error {
	if l.s.dies != nil {
		if err := l.s.dies(step); err != nil {
			return err
		}
	}
	if step != len(l.s.notes)+1 {
		return fmt.Errorf("step %d after %d", step, len(l.s.notes))
	}
	l.s.rows = append([][]string(nil), l.rows...)
	l.s.notes = append(l.s.notes, note)
	return nil
}

var errDies = errors.New("the power is gone")

// stepJob is a load of several sources that commits on its way.
func stepJob(t *testing.T, s *stepping, texts []string, every int64) Job {
	t.Helper()
	j := job(t, s.memory, texts[0], plan.Wishes{RowNumber: "no"}, profile.Options{})
	for i, text := range texts[1:] {
		name := fmt.Sprintf("%s.%d.csv", j.Sources[0].Path, i)
		require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
		src, err := source.Open(context.Background(), name, source.Known{})
		require.NoError(t, err)
		j.Sources = append(j.Sources, src)
	}
	j.Session, j.Every = s, every
	return again(t, j)
}

// again is the same load once more, with papers of its own.
func again(t *testing.T, j Job) Job {
	t.Helper()
	entry, err := tray.Create(t.TempDir(), "in", time.Now())
	require.NoError(t, err)
	j.Rejects = entry.Rejects(j.Plan.Headers(j.Sources))
	j.Receipt = Started(entry.Name, j.Sources, "memory", "test", time.Now())
	g, err := NotesOf(context.Background(), j.Session, "", "x")
	require.NoError(t, err)
	j.Going, j.Spec.Going = g, g != nil
	return j
}

// spoiled is a text with records that do not fit, and some that the database
// refuses.
func spoiled(from, n int) string {
	text := many(from + n)
	lines := strings.SplitAfter(text, "\n")
	out := append([]string{lines[0]}, lines[from+1:]...)
	for i := 1; i < len(out); i++ {
		switch {
		case i%977 == 5:
			out[i] = strings.Replace(out[i], ",", ",,", 1) // a field too many
		case i%631 == 7:
			out[i] = "-" + out[i] // refused below
		}
	}
	return strings.Join(out, "")
}

func refusesNegative(row []string) string {
	if strings.HasPrefix(row[1], "-") {
		return "no such gauge"
	}
	return ""
}

// However often a load dies, and wherever, going on comes to what one run comes
// to: the same rows in the same order, the same rejects, the same account.
func TestGoingOnIsTheSame(t *testing.T) {
	texts := []string{spoiled(0, 9000), spoiled(9000, 4000), spoiled(13000, 7000)}
	whole := &stepping{memory: &memory{refuse: refusesNegative}}
	want := stepJob(t, whole, texts, 0)
	require.NoError(t, Run(context.Background(), want))
	require.Positive(t, want.Receipt.Records.Rejected)
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 5))
		s := &stepping{memory: &memory{refuse: refusesNegative}}
		s.dies = func(int) error {
			if r.IntN(4) == 0 {
				return errDies
			}
			return nil
		}
		j := stepJob(t, s, texts, 500)
		deaths := 0
		for {
			err := Run(context.Background(), j)
			if err == nil {
				break
			}
			require.ErrorIs(t, err, errDies)
			require.Equal(t, int64(len(s.notes)), j.Receipt.Commits)
			deaths++
			j = again(t, j)
		}
		require.Positive(t, deaths)
		assert.Equal(t, want.Receipt.Records, j.Receipt.Records, "seed %d", seed)
		require.Equal(t, whole.rows, s.rows, "seed %d", seed)
		assert.Equal(t, want.Receipt.Reasons, j.Receipt.Reasons)
		for i := range want.Receipt.Columns {
			assert.Equal(t, want.Receipt.Columns[i], j.Receipt.Columns[i])
		}
		for i := range want.Receipt.Sources {
			assert.Equal(t, want.Receipt.Sources[i].SHA256, j.Receipt.Sources[i].SHA256)
		}
		assert.Equal(t, want.Rejects.Kept(), j.Rejects.Kept())
	}
}

// What was read before the stop has to be the same, to the byte.
func TestGoingOnWithAnother(t *testing.T) {
	text := spoiled(0, 9000)
	for what, change := range map[string]func(string) string{
		"a digit": func(s string) string { return strings.Replace(s, "\n12,", "\n13,", 1) },
		"a space": func(s string) string { return strings.Replace(s, " keeper's", "  keeper's", 1) },
		"cut off": func(s string) string { return s[:3000] },
		"a line less": func(s string) string {
			i := strings.Index(s, "\n12,")
			return s[:i] + s[i+strings.Index(s[i+1:], "\n")+1:]
		},
		"other line end": func(s string) string { return strings.Replace(s, "\n", "\n\n", 3) },
	} {
		s := &stepping{memory: &memory{refuse: refusesNegative}}
		s.dies = func(step int) error {
			if step == 4 {
				return errDies
			}
			return nil
		}
		j := stepJob(t, s, []string{text}, 500)
		require.ErrorIs(t, Run(context.Background(), j), errDies)
		before := len(s.rows)
		require.Positive(t, before)
		require.NoError(t, os.WriteFile(j.Sources[0].Path, []byte(change(text)), 0o666))
		src, err := source.Open(context.Background(), j.Sources[0].Path, source.Known{})
		require.NoError(t, err)
		j.Sources = []*source.Source{src}
		s.dies = nil
		err = Run(context.Background(), again(t, j))
		assert.ErrorIs(t, err, ErrNotTheSame, what)
		assert.ErrorContains(t, err, "stay in the table", what)
		assert.Len(t, s.rows, before, "%s: nothing is written", what)
	}
}

// What an append had found in the table before is not forgotten.
func TestGoingOnWithAppend(t *testing.T) {
	s := &stepping{memory: &memory{}}
	first := stepJob(t, s, []string{many(3000)}, 0)
	require.NoError(t, Run(context.Background(), first))
	s.dies = func(step int) error {
		if step == 3 {
			return errDies
		}
		return nil
	}
	j := stepJob(t, s, []string{many(6000)}, 500)
	j.Spec.Mode = db.Append
	require.ErrorIs(t, Run(context.Background(), j), errDies)
	s.dies = nil
	j = again(t, j)
	require.NotNil(t, j.Going.Before)
	assert.Equal(t, int64(3000), j.Going.Before.Rows)
	require.NoError(t, Run(context.Background(), j))
	assert.Equal(t, int64(3000), j.Receipt.Table.Before)
	assert.Equal(t, int64(9000), j.Receipt.Table.Rows)
	assert.Len(t, s.rows, 9000)

	// A note of another number of columns is not believed.
	j = stepJob(t, s, []string{many(6000)}, 500)
	j.Going = &Going{Steps: 1, Before: &Before{Rows: 3}}
	assert.ErrorContains(t, Run(context.Background(), j), "columns")
	j.Going = &Going{Steps: 1, At: Note{Source: 3}}
	assert.ErrorContains(t, Run(context.Background(), j), "sources")
}

// Rows that somebody else has put among ours are found before the last commit.
func TestGoingOnVerifiesAll(t *testing.T) {
	s := &stepping{memory: &memory{}}
	s.dies = func(step int) error {
		if step == 3 {
			return errDies
		}
		return nil
	}
	j := stepJob(t, s, []string{many(6000)}, 500)
	require.ErrorIs(t, Run(context.Background(), j), errDies)
	s.dies = nil
	s.rows = append(s.rows, append([]string(nil), s.rows[0]...))
	j = again(t, j)
	var unbalanced *Unbalanced
	require.ErrorAs(t, Run(context.Background(), j), &unbalanced)
	assert.Contains(t, unbalanced.Error(), "had been committed on the way")
	assert.Contains(t, unbalanced.Differences[0], "6000 records loaded, but the table has 6001 rows")
}

func TestParseNotes(t *testing.T) {
	g, err := ParseNotes(nil)
	require.NoError(t, err)
	assert.Nil(t, g)
	g, err = ParseNotes([]string{
		`{"source":0,"offset":10,"before":{"rows":7,"columns":[]},"refused":[{"source":0,"line":2,"message":"a"}]}`,
		`{"source":1,"offset":20,"done":["aa"],"records":{"read":5,"loaded":4},"refused":[{"source":1,"line":9,"message":"b"}]}`})
	require.NoError(t, err)
	assert.Equal(t, 2, g.Steps)
	assert.Equal(t, int64(7), g.Before.Rows)
	assert.Equal(t, int64(20), g.At.Offset)
	assert.Equal(t, []string{"aa"}, g.At.Done)
	assert.Len(t, g.Refused, 2)
	_, err = ParseNotes([]string{`{}`, `{"sour`})
	assert.ErrorContains(t, err, "note 2")
	_, err = NotesOf(context.Background(), &memory{}, "", "x")
	assert.ErrorContains(t, err, "cannot tell how far")
}
