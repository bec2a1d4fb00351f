// Package fault lets tests make a load fail, or end the program, at the points
// where that matters most: around the commit.
//
// The model: code that passes such a point says so with [At]. Nothing happens,
// unless a test has put a function into the context with [With].
package fault

import "context"

// A Point is a place in a load.
type Point string

// The points, in the order in which a load passes them.
const (
	InBatch      Point = "in a batch"
	BeforeCommit Point = "before the commit"
	AtCommit     Point = "at the commit" // the receipt is prepared, nothing is sent
	AfterCommit  Point = "after the commit"
	AtReceipt    Point = "at the receipt" // before it gets its name
)

// Of a load into several servers, within its commit:
const (
	Prepared  Point = "prepared on the other servers"
	Undecided Point = "committed on the first server only"
)

// Points are all that every load passes.
var Points = []Point{InBatch, BeforeCommit, AtCommit, AfterCommit, AtReceipt}

type key struct{}

// With makes f be called at each point. An error of its ends what is going on
// there as a failure of that step would.
func With(ctx context.Context, f func(Point) error) context.Context {
	return context.WithValue(ctx, key{}, f)
}

// At tells that a point is passed.
func At(ctx context.Context, p Point) error {
	if f, ok := ctx.Value(key{}).(func(Point) error); ok {
		return f(p)
	}
	return nil
}
