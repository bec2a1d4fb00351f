package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/tray"
)

// Where rows have the names of their files, all programs have to name them alike.
func TestSharedNames(t *testing.T) {
	of := func(plan string) *shared {
		return &shared{Plan: plan, Stops: &tray.Stops{Load: "night",
			Sources: []tray.Source{{Path: "/here/upper.csv"}, {Path: "/here/lower.csv"}}}}
	}
	same, moved, other := []string{"/here/upper.csv", "/here/lower.csv"}, []string{"/there/upper.csv", "/there/lower.csv"},
		[]string{"/here/upper.csv", "/here/low.csv"}
	for plan, allowed := range map[string][3]bool{"from: Level": {true, true, true}, "value: source.file": {true, true, false},
		"value: source.path": {true, false, false}} {
		for i, paths := range [][]string{same, moved, other} {
			err := of(plan).sameNames(paths)
			assert.Equal(t, allowed[i], err == nil, "%s, %v: %v", plan, paths, err)
			if err != nil {
				assert.ErrorContains(t, err, "name it so")
			}
		}
	}
}
