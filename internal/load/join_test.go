package load

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tray"
)

// sharedNotes are the notes of a load that programs share, of two sources of three chunks.
func sharedNotes(t *testing.T, shares ...Share) (notes []string) {
	t.Helper()
	first, err := json.Marshal(opening{Shared: json.RawMessage(`{"plan": ""}`), Chunk: 100, Chunks: 1})
	require.NoError(t, err)
	notes = append(notes, string(first))
	for _, s := range shares {
		b, err := json.Marshal(s)
		require.NoError(t, err)
		notes = append(notes, string(b))
	}
	return notes
}

func sumOf(text string) string {
	x := sha256.Sum256([]byte(text))
	return hex.EncodeToString(x[:])
}

func chunkOf(text string, from int64, all string) *delimited.Chunk {
	x := sha256.Sum256([]byte(all))
	return &delimited.Chunk{Offset: from, Data: []byte(text), Sum: x[:]}
}

// What the notes say is held against the text, step by step, whatever their order.
func TestSharesAreHeldAgainstTheText(t *testing.T) {
	one := tray.Records{Read: 2, Loaded: 1, Rejected: 1}
	good := []Share{
		{Source: 1, From: 0, To: 4, SHA256: sumOf("e,f\n"), Records: one, By: "lock"},
		{Source: 0, From: 4, To: 8, SHA256: sumOf("a,b\nc,d\n"), Records: one, By: "boat",
			Refused: []Refused{{Line: 3, Message: "twice"}}},
		{Source: 0, From: 0, To: 4, SHA256: sumOf("a,b\n"), Records: one, By: "gate"},
	}
	for what, tt := range map[string]struct {
		change func(s []Share) []Share
		want   string
	}{
		"as it was":        {func(s []Share) []Share { return s }, ""},
		"another text":     {func(s []Share) []Share { s[2].SHA256 = sumOf("x,y\n"); return s }, "others than gate had"},
		"another account":  {func(s []Share) []Share { s[1].Records.Loaded++; return s }, "when boat"},
		"cut otherwise":    {func(s []Share) []Share { s[0].To = 3; return s }, "others than lock had"},
		"a step is not in": {func(s []Share) []Share { return append(s[:1], s[1]) }, "bytes 0 to 4 are not in yet"},
		"a text that ends": {func(s []Share) []Share { return append(s, Share{Source: 1, From: 4, To: 9, By: "weir"}) }, "weir had bytes 4 to 9"},
	} {
		shares := tt.change(append([]Share(nil), good...))
		g, err := ParseNotes(sharedNotes(t, shares...))
		require.NoError(t, err, what)
		assert.Equal(t, len(shares), g.Steps)
		assert.Len(t, g.Refused, 1)
		r := &run{Feed: &rows.Feed{}, job: Job{Every: 5, Receipt: &tray.Receipt{}, Going: g}}
		r.Sources = []*source.Source{{Name: "upper.csv"}, {Name: "lower.csv"}}
		r.job.Sources = r.Sources
		err = r.goOn()
		for k, text := range [][]string{{"a,b\n", "c,d\n"}, {"e,f\n"}} {
			at, all := int64(0), ""
			for _, part := range text {
				all += part
				c := chunkOf(part, at, all)
				if err == nil {
					written, _ := r.Written(k, c)
					assert.True(t, written, "all is in")
					r.Records.Add(one)
					err = r.Chunk(t.Context(), k, c)
				}
				at += int64(len(part))
			}
		}
		if err == nil {
			err = r.steps.shares.all(r)
		}
		if tt.want == "" {
			assert.NoError(t, err, what)
		} else {
			assert.ErrorContains(t, err, tt.want, what)
		}
	}
}

// The note of a load that is done says so, and by whom; others are no notes of such loads.
func TestSharedDone(t *testing.T) {
	done := &SharedDone{Entry: "gauges-20261127-110000", Ends: "A", By: "keeper@lock", At: time.Date(2026, 11, 27, 11, 0, 0, 0, time.UTC)}
	assert.True(t, done.Of("gauges-20261127-110000", "A"))
	assert.False(t, done.Of("gauges-20261127-110000", "B"), "it has the same name, on another tray")
	g, err := ParseNotes([]string{done.Note()})
	require.NoError(t, err)
	assert.Equal(t, done, g.Done)
	assert.ErrorContains(t, g.Done, "verified by another program, of keeper@lock, at 2026-11-27T11:00:00Z, as gauges-")
	g, err = ParseNotes([]string{`{"source": 0, "offset": 7}`, `{"source": 0, "offset": 9}`})
	require.NoError(t, err)
	assert.Nil(t, g.Done)
	assert.Nil(t, g.Shares)
	assert.Equal(t, int64(9), g.At.Offset)
	_, err = ParseNotes(append(sharedNotes(t), "{"))
	assert.ErrorContains(t, err, "note 2")
}
