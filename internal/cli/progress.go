package cli

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"ambertray/internal/desk"
	"ambertray/internal/reading"
	"ambertray/internal/rows"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

// meter shows how far something is, on a terminal; elsewhere it is silent.
type meter struct {
	p     *mpb.Progress
	bar   *mpb.Bar
	now   atomic.Pointer[rows.Progress] // drawn by another goroutine
	start time.Time
}

// newMeter starts a line of progress on standard error.
func (a *app) newMeter(ctx context.Context, name string, size int64) desk.Meter {
	if a.quiet || !isTerminal(a.err) || os.Getenv("TERM") == "dumb" {
		return (*meter)(nil)
	}
	m := &meter{start: time.Now()}
	m.now.Store(&rows.Progress{Size: size, Stage: name})
	m.p = mpb.NewWithContext(ctx, mpb.WithOutput(a.rawErr), mpb.WithWidth(28),
		mpb.WithRefreshRate(120*time.Millisecond))
	m.bar = m.p.New(max(size, 1), mpb.BarStyle().Lbound(" ").Filler("▪").Tip("▪").Padding("·").Rbound(" "),
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Any(
			func(decor.Statistics) string { return reading.Shorten(m.now.Load().Stage, 80) },
			decor.WC{W: 11, C: decor.DindentRight}), decor.Percentage(decor.WC{W: 5})),
		mpb.AppendDecorators(decor.Any(func(s decor.Statistics) string { return m.line(s) })),
	)
	return m
}

func (m *meter) line(s decor.Statistics) string {
	seconds := time.Since(m.start).Seconds()
	now := m.now.Load()
	text := plural(now.Records, "record")
	if seconds > 0.5 {
		text += fmt.Sprintf(", %s/s", grouped(int64(float64(now.Records)/seconds)))
		if now.Bytes > 0 && now.Bytes < now.Size {
			left := time.Duration(seconds * float64(now.Size-now.Bytes) / float64(now.Bytes) * float64(time.Second))
			text += ", " + left.Round(time.Second).String() + " left"
		}
	}
	if now.Rejected > 0 {
		text += ", " + plural(now.Rejected, "reject")
	}
	return text
}

// Set implements desk.Meter.
func (m *meter) Set(p rows.Progress) {
	if m == nil {
		return
	}
	m.now.Store(&p)
	m.bar.SetCurrent(min(p.Bytes, max(p.Size, 1)-1)) // only End removes the line
}

// Shown implements desk.Meter.
func (m *meter) Shown() bool { return m != nil }

// End implements desk.Meter: it takes the line away. It may be called again.
func (m *meter) End() {
	if m == nil {
		return
	}
	m.bar.Abort(true)
	m.p.Wait()
}
