package db

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/sink"
)

// shore is a table that lanes fill: what is committed, batch by batch.
type shore struct {
	sync.Mutex
	in []string
}

// buoy is a lane that does something else than to take a certain batch.
type buoy struct {
	to    *shore
	odd   string
	does  func() bool
	taken string
}

func (n *buoy) Take(_ context.Context, b sink.Batch) bool {
	if n.taken = string(b.Data); n.taken == n.odd {
		return n.does()
	}
	return true
}

func (n *buoy) End(_ context.Context, commit bool) error {
	if commit {
		n.to.Lock()
		defer n.to.Unlock()
		n.to.in = append(n.to.in, n.taken)
	}
	return nil
}

// Each batch is in once, in order, whatever becomes of one of them: what is not taken as it is, and
// what a fault keeps from it, goes over the load's own connection, with all that follow.
func TestFleet(t *testing.T) {
	for name, does := range map[string]func() bool{"refused": func() bool { return false }, "fault": func() bool { panic("of the driver") },
		"taken": func() bool { return true }} {
		for _, odd := range []string{"a", "c", "f"} {
			table, begun := &shore{}, 0
			f := &Fleet{Fly: func(context.Context) (list []Lane) {
				for range 3 {
					list = append(list, &buoy{to: table, odd: odd, does: does})
				}
				return list
			}, In: func(context.Context) (int64, error) { panic("all commits were answered") }, Begin: func(context.Context) error {
				begun++
				return nil
			}, Write: func(_ context.Context, b sink.Batch) ([]sink.Refusal, error) {
				table.in = append(table.in, string(b.Data))
				if string(b.Data) == odd {
					return []sink.Refusal{{Row: 1}}, nil
				}
				return nil, nil
			}}
			var refused []int
			rows := 0
			for _, x := range []string{"a", "b", "", "c", "d", "e", "f"} {
				n := 10 * len(x)
				got, err := f.Put(context.Background(), sink.Batch{Rows: n, Data: []byte(x)})
				require.NoError(t, err)
				for _, r := range got {
					refused = append(refused, rows+r.Row)
				}
				rows += n
			}
			require.NoError(t, f.Land(context.Background()))
			require.NoError(t, f.Land(context.Background()))
			for _, r := range f.Found {
				refused = append(refused, r.Row)
			}
			assert.Equal(t, []string{"a", "b", "c", "d", "e", "f"}, table.in, "%s, %s", name, odd)
			assert.Equal(t, 1, begun)
			assert.True(t, f.Many())
			if want := 10*int(odd[0]-'a') + 1; name != "taken" {
				assert.Equal(t, []int{want}, refused, "%s, %s", name, odd)
			} else {
				assert.Empty(t, refused)
			}
			f.Close()
		}
	}
}
