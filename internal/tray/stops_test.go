package tray

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// stepping makes an entry of a load that commits on its way and has no receipt
// yet.
func stepping(t *testing.T, dir, table string, at time.Time) *Entry {
	t.Helper()
	e, err := Create(dir, table, at)
	require.NoError(t, err)
	require.NoError(t, e.Write(LogFile, nil))
	require.NoError(t, e.WriteStops(&Stops{Load: e.Name + "-1", Database: "sqlite:/x.db", Table: Table{Schema: "tolls", Name: table, Mode: "create"},
		Sources: []Source{{Path: "a.csv"}}, Names: []string{"a.csv"}, Every: 500, MaxRejects: -1, Started: at}))
	return e
}

func TestStopsReadBack(t *testing.T) {
	e := stepping(t, t.TempDir(), "passages", noon)
	s, err := e.Stops()
	require.NoError(t, err)
	assert.Equal(t, &Stops{Load: e.Name + "-1", Database: "sqlite:/x.db", Table: Table{Schema: "tolls", Name: "passages", Mode: "create"},
		Sources: []Source{{Path: "a.csv"}}, Names: []string{"a.csv"}, Every: 500, MaxRejects: -1, Started: noon}, s)
	require.NoError(t, os.WriteFile(e.Path(StopsFile), []byte("{"), 0o666))
	_, err = e.Stops()
	assert.ErrorContains(t, err, "not what this program wrote")
	assert.Error(t, e.Look().Error)
	require.NoError(t, os.Remove(e.Path(StopsFile)))
	s, err = e.Stops()
	require.NoError(t, err)
	assert.Nil(t, s)
}

// A load that commits on its way is running, stopped, unsure, or what its
// receipt says, by what lies in its entry.
func TestStatesOfALoadOnItsWay(t *testing.T) {
	dir := t.TempDir()
	e := stepping(t, dir, "passages", noon)
	look := func() State {
		s := e.Look()
		require.NoError(t, s.Error)
		require.NotNil(t, s.Stops)
		assert.Equal(t, noon, s.Started)
		return s.State
	}
	assert.Equal(t, Stopped, look())
	log, err := e.Log()
	require.NoError(t, err)
	assert.Equal(t, Running, look())
	require.NoError(t, log.Close())

	r := &Receipt{Entry: e.Name, Verdict: Clear, Commits: 3, Started: noon, Table: Table{Name: "passages"}}
	require.NoError(t, e.PrepareReceipt(r))
	assert.Equal(t, Unsure, look())
	require.NoError(t, os.WriteFile(e.Path(ReceiptFile+".part"), []byte(`{"entr`), 0o666))
	assert.Equal(t, Stopped, look(), "half a receipt: its commit was not reached")
	require.NoError(t, e.WriteReceipt(r))
	assert.Equal(t, IsClear, look())
	back, err := e.Receipt()
	require.NoError(t, err)
	assert.Equal(t, int64(3), back.Commits)
	r.Verdict = Failed
	require.NoError(t, e.WriteReceipt(r))
	assert.Equal(t, IsFailed, look())
}

func TestStoppedComesFirstAndIsFound(t *testing.T) {
	dir := t.TempDir()
	entry(t, dir, "waiting", noon.Add(time.Hour), func(r *Receipt) { r.Verdict = Waiting })
	e := stepping(t, dir, "gauges", noon)
	unsure := stepping(t, dir, "unsure", noon.Add(-time.Hour))
	require.NoError(t, unsure.PrepareReceipt(&Receipt{Verdict: Clear, Started: noon}))
	list, err := List(dir)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []State{Unsure, Stopped, IsWaiting}, []State{list[0].State, list[1].State, list[2].State})
	for _, name := range []string{"gauges", "tolls.gauges", e.Name, e.Dir} {
		found, err := Find(dir, name)
		require.NoError(t, err, name)
		assert.Equal(t, e.Name, found.Name, name)
	}
	later := stepping(t, dir, "gauges", noon.Add(2*time.Hour))
	found, err := Find(dir, "latest")
	require.NoError(t, err)
	assert.Equal(t, later.Name, found.Name)
	assert.Nil(t, Loaded(list, []string{""}, "gauges", "aa", ""), "what is not done is not loaded")
}
