package connect_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
)

// onJoiners runs a test on each database in which programs can share a load.
func onJoiners(t *testing.T, test func(t *testing.T, connected func() db.Session)) {
	onTargets(t, func(t *testing.T, connected func() db.Session) {
		if _, is := connected().(db.Joiner); !is {
			t.Skip("there a load is one program's")
		}
		test(t, connected)
	})
}

// A name is had by one session, until it gives it back or ends.
func TestNamesAreTaken(t *testing.T) {
	onJoiners(t, func(t *testing.T, connected func() db.Session) {
		ctx := context.Background()
		one, two := connected(), connected()
		take := func(s db.Session, name string) bool {
			taken, err := s.(db.Joiner).Take(ctx, "", name)
			require.NoError(t, err)
			return taken
		}
		assert.True(t, take(one, "night 1"))
		assert.False(t, take(two, "night 1"))
		assert.True(t, take(two, "night 2"))
		require.NoError(t, one.(db.Joiner).GiveBack(ctx, "", "night 1"))
		assert.True(t, take(two, "night 1"))
		require.NoError(t, two.Close())
		assert.Eventually(t, func() bool { return take(one, "night 1") && take(one, "night 2") }, 20*time.Second, 10*time.Millisecond)
		require.NoError(t, one.(db.Joiner).GiveBack(ctx, "", "night 1"))
		require.NoError(t, one.(db.Joiner).GiveBack(ctx, "", "night 2"))
	})
}

// A step is in once: not while the load goes on, and not when another program has ended it, or
// another load of its name has begun, while this one was at the step.
func TestStepsAreInOnce(t *testing.T) {
	for _, again := range []bool{false, true} {
		onJoiners(t, func(t *testing.T, connected func() db.Session) {
			ctx := context.Background()
			table := passages()
			table.Key = nil // so that the rows of a step could be in twice
			part := func(conn db.Session, s db.Spec) db.Load {
				s.Mode, s.Table, s.Steps = db.Create, table, "night"
				return begin(t, conn, s)
			}
			first := func(s db.Spec, opening string) {
				s.Shared = true
				l := part(connected(), s)
				require.NoError(t, l.(db.Stepper).Step(ctx, 1, opening))
				require.NoError(t, l.Rollback())
			}
			first(db.Spec{}, "opening")
			taker := db.Spec{Going: true, Shared: true, Opening: "opening"}
			l, early, late := part(connected(), taker), part(connected(), taker), part(connected(), taker)
			put(t, l, ids(1, 10)...)
			require.NoError(t, l.(db.Stepper).Step(ctx, 2, "mine"))
			require.NoError(t, l.Rollback())

			var e *db.Error
			put(t, early, ids(1, 10)...)
			require.ErrorAs(t, early.(db.Stepper).Step(ctx, 2, "mine"), &e)
			assert.True(t, e.Twice, e)
			require.NoError(t, early.Rollback())

			stays := "is done"
			last := db.Spec{Going: true, Leaves: stays, Noted: 7}
			conn := connected()
			l = part(conn, last)
			assert.ErrorContains(t, l.Commit(ctx), "other notes of the load than before")
			require.NoError(t, l.Rollback())
			last.Noted = 2
			if again {
				last.Leaves = ""
			}
			// As in a cluster, where another server's lock of the load does not keep it away.
			second := part(connected(), db.Spec{Going: true, Shared: true, Leaves: "is done twice", Noted: 2})
			rows, _, err := second.Tally(ctx) // which has the table as it is before the first ends the load
			require.NoError(t, err)
			assert.Equal(t, int64(10), rows)
			require.NoError(t, part(conn, last).Commit(ctx))
			assert.Error(t, second.Commit(ctx), "the load is ended once")
			require.NoError(t, second.Rollback())
			if again {
				table.Name, stays = "others", "another"
				first(db.Spec{}, stays)
				table.Name = "passages"
			}
			put(t, late, ids(1, 10)...)
			require.ErrorAs(t, late.(db.Stepper).Step(ctx, 2, "mine"), &e)
			assert.True(t, e.Clash, e)
			assert.Contains(t, e.Error(), "ended by another program")
			require.NoError(t, late.Rollback())

			notes, err := conn.(db.Joiner).Notebook("", "night").Steps(ctx)
			require.NoError(t, err)
			assert.Equal(t, map[int]string{1: stays}, notes)
			assert.Equal(t, joined(ids(1, 10)), content(t, conn))
		})
	}
}
