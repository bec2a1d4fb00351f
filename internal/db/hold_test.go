package db

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// stalled is a session that knows of nobody it waits for.
type stalled struct{ Session }

func (stalled) Blockers(context.Context) string { return "" }

// blocked waits for another.
type blocked struct{ Session }

func (blocked) Blockers(context.Context) string { return "ann" }

// A session that gets no answer says so, and one that waits for another says for whom.
func TestWatch(t *testing.T) {
	silent = 1500 * time.Millisecond
	t.Cleanup(func() { silent = 10 * time.Second })
	told := make(chan Wait, 2)
	for _, s := range []Session{stalled{}, blocked{}, nil} {
		done := Watch(t.Context(), s, func(w Wait) { told <- w })
		w := <-told
		if _, is := s.(blocked); is {
			assert.Equal(t, Wait{Who: "ann"}, w)
		} else {
			assert.Empty(t, w.Who)
			assert.GreaterOrEqual(t, w.Silent, time.Second)
		}
		done()
	}
	Watch(t.Context(), stalled{}, func(w Wait) { told <- w })()
	time.Sleep(silent + 200*time.Millisecond)
	assert.Empty(t, told, "what is over soon is not told of")
}
