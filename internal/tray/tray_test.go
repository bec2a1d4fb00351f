package tray

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEntriesHaveNamesOfTheirOwn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a", "tray")
	at := time.Date(2026, 11, 23, 6, 17, 8, 0, time.FixedZone("", 3600))
	var names []string
	for _, table := range []string{"tolls", "tolls", "tolls", "../x/y", "Größe", strings.Repeat("n", 300)} {
		e, err := Create(dir, table, at)
		require.NoError(t, err)
		assert.Equal(t, dir, filepath.Dir(e.Dir), "no name leaves the tray")
		names = append(names, e.Name)
	}
	assert.Equal(t, []string{"tolls-20261123-051708", "tolls-20261123-051708-2", "tolls-20261123-051708-3", "___x_y-20261123-051708"}, names[:4])
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o666))
	_, err := Create(file, "x", at)
	assert.ErrorContains(t, err, "--tray")
}

func TestFilesAreWholeOrNotThere(t *testing.T) {
	e, err := Create(t.TempDir(), "x", time.Now())
	require.NoError(t, err)
	require.NoError(t, e.Write(PlanFile, []byte("one")))
	require.NoError(t, e.Write(PlanFile, []byte("two")))
	b, err := os.ReadFile(e.Path(PlanFile))
	require.NoError(t, err)
	assert.Equal(t, "two", string(b))

	r := e.Rejects([]string{"a", "b"})
	require.NoError(t, r.Add(Reject{Source: "in.csv", Line: 7, Column: "a", Reason: "not a number", Value: "x", Fields: []string{"x", "y\nz, \"q\""}}))
	_, err = os.Stat(e.Path(RejectsFile))
	assert.Error(t, err, "until it is whole it has another name")
	require.NoError(t, r.Add(Reject{Source: "in.csv", Line: 9, Reason: "has 1 field", Fields: []string{"x"}}))
	require.NoError(t, r.Add(Reject{Source: "in.csv", Line: 10, Reason: "has 3 fields", Fields: []string{"x", "y", "z"}}))
	require.NoError(t, r.Finish())
	f, err := os.Open(e.Path(RejectsFile))
	require.NoError(t, err)
	defer f.Close()
	c := csv.NewReader(f)
	c.FieldsPerRecord = -1
	rows, err := c.ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{
		{"reject", "source", "line", "column", "reason", "value", "a", "b"},
		{"1", "in.csv", "7", "a", "not a number", "x", "x", "y\nz, \"q\""},
		{"2", "in.csv", "9", "", "has 1 field", "", "x", ""},
		{"3", "in.csv", "10", "", "has 3 fields", "", "x", "y", "z"},
	}, rows)
	left, err := filepath.Glob(e.Path("*.part"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestNoRejectsNoFile(t *testing.T) {
	e, err := Create(t.TempDir(), "x", time.Now())
	require.NoError(t, err)
	require.NoError(t, e.Rejects([]string{"a"}).Finish())
	_, err = os.Stat(e.Path(RejectsFile))
	assert.ErrorIs(t, err, os.ErrNotExist)
	none := (*Entry)(nil).Rejects(nil)
	require.NoError(t, none.Add(Reject{}))
	assert.EqualValues(t, 1, none.Count)
	require.NoError(t, none.Finish())
}

func TestReceipt(t *testing.T) {
	r := Receipt{Entry: "e", Source: Source{Path: "a.csv", Size: 3, SHA256: "00"}, Records: Records{Read: 5, Loaded: 3, Rejected: 1, Skipped: 1},
		Table: Table{Name: "t", Rows: 3}, Columns: []Column{{Name: "n", Type: "integer", Sum: "6", Smallest: "1", Largest: "3", Agrees: true}}, Verdict: Waiting}
	assert.True(t, r.Records.Balanced())
	assert.False(t, Records{Read: 5, Loaded: 5, Rejected: 1}.Balanced())
	b, err := r.Encode()
	require.NoError(t, err)
	var m map[string]any
	require.NoError(t, json.Unmarshal(b, &m))
	for _, k := range []string{"source", "records", "table", "columns", "verdict", "started", "finished", "version"} {
		assert.Contains(t, m, k)
	}
	for _, k := range []string{"name", "type", "nulls", "sum", "smallest", "largest", "agrees"} {
		assert.Contains(t, m["columns"].([]any)[0], k)
	}
}
