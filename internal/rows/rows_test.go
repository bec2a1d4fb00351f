package rows

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/source"
	"ambertray/internal/tray"
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

// many is a text of n records over several chunks, with what people do to it.
func many(n int) string {
	var b strings.Builder
	b.WriteString("id,day,toll,note\n")
	for i := range n {
		fmt.Fprintf(&b, "%d,%02d/%02d/2024,%d.%02d,a note of the keeper's that takes some room %d\n", i, i%28+1, i%12+1, i%977, i%100, i)
	}
	return b.String()
}

func TestDryRunCountsMisfits(t *testing.T) {
	src, p := planned(t, "id,day,who\n1,2024-01-31,ann\n2,2024-02-30,bob\nx,2024-02-31,far too long\n4\n\n")
	p.Columns[0].Type, p.Columns[1].Type, p.Columns[2].Type = "integer", "date", "varchar(5)"
	c, err := DryRun(context.Background(), Job{Sources: []*source.Source{src}, Plan: p, MaxRejects: -1})
	require.NoError(t, err)
	assert.Equal(t, tray.Records{Read: 5, Loaded: 1, Rejected: 3, Skipped: 1}, c.Records)
	assert.True(t, c.Records.Balanced())
	assert.EqualValues(t, 1, c.Misfits[0].Count)
	assert.EqualValues(t, 2, c.Misfits[1].Count)
	assert.Equal(t, 12, c.Misfits[2].Longest)
	assert.Equal(t, []tray.Skip{{Kind: "blank", Count: 1}}, c.Skipped)
}

func TestConvertAllocatesNothingPerField(t *testing.T) {
	src, p := planned(t, many(2000))
	bound, err := plan.Bind(p, []*source.Source{src})
	require.NoError(t, err)
	c, err := newConverter(src, p, bound.At[0], nil)
	require.NoError(t, err)
	st, err := src.Read(false)
	require.NoError(t, err)
	defer st.Close()
	chunk, err := st.Next()
	require.NoError(t, err)
	var x part
	c.convert(chunk, &x, nil)
	allocs := testing.AllocsPerRun(5, func() { c.convert(chunk, &x, nil) })
	assert.Less(t, allocs, 20.0, "2,000 records of 4 fields")
}

// Whatever characters a value has, a preview shows it as it is.
func TestPreviewShowsAnything(t *testing.T) {
	src, p := planned(t, "a,b\none\x01two,\x02\n\"x\x00\x01y\",\x01\nlast,z\n")
	got, err := Preview(context.Background(), src, p, 2)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, []string{"one\x01two", "\x02"}, got[0].Fields)
	assert.Equal(t, []string{"last", "z"}, got[1].Fields, "a record with NUL is no record")
}
