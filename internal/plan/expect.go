package plan

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/phrase"
)

// Expect is what the sources have to be, whenever the plan is loaded: what is not met
// blocks the load.
type Expect struct {
	// AtLeast and AtMost bound the records of all sources, Files their number.
	AtLeast *int64 `yaml:"at_least,omitempty"`
	AtMost  *int64 `yaml:"at_most,omitempty"`
	Files   int    `yaml:"files,omitempty"`
	// Filled are columns of the table that are never null.
	Filled []string `yaml:"filled,flow,omitempty"`
	// Rejects is the largest share of records that may be rejected, like 1%.
	Rejects string `yaml:"rejects,omitempty"`
	// Deletes is how many rows of the table a load may delete, net of those that it puts in: a
	// number, or a share like 10%.
	Deletes string `yaml:"deletes,omitempty"`
}

// check says what is wrong with it, and at which key.
func (e *Expect) check(p *Plan) (key string, err error) {
	for i, name := range e.Filled {
		if !slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Name == name }) {
			return fmt.Sprintf("filled[%d]", i), fmt.Errorf("expect: filled names %q, which is no column of the plan",
				name)
		}
	}
	if e.AtLeast != nil && e.AtMost != nil && *e.AtLeast > *e.AtMost {
		return "at_most", fmt.Errorf("expect: at_most is less than at_least")
	}
	if e.Rejects != "" && e.Rejects != "0" {
		if _, err := phrase.ParseShare(e.Rejects); err != nil {
			return "rejects", fmt.Errorf("expect: rejects is %q; use a share like 1%%, or 0", e.Rejects)
		}
	}
	if _, err := ParseDeletes(e.Deletes); err != nil {
		return "deletes", fmt.Errorf("expect: deletes is %q; %w", e.Deletes, err)
	}
	return "", nil
}

// A DeleteLimit is how many rows a load may delete from a table, net of what it puts in.
type DeleteLimit struct {
	Given bool
	Count int64   // of rows, where Share is 0
	Share float64 // of the rows that the table has
}

// ParseDeletes reads a number of rows, or a share like 10%; empty: nothing is said.
func ParseDeletes(s string) (l DeleteLimit, err error) {
	if s == "" {
		return l, nil
	}
	l.Given = true
	if share, is := strings.CutSuffix(s, "%"); is {
		v, err := strconv.ParseFloat(share, 64)
		if l.Share = v / 100; err == nil && v > 0 && v <= 100 {
			return l, nil
		}
	} else if l.Count, err = strconv.ParseInt(s, 10, 64); err == nil && l.Count >= 0 {
		return l, nil
	}
	return l, errors.New("use a number of rows from 0, or a share up to 100%, like 10%")
}

// Allows reports whether so many of the rows may be deleted.
func (l DeleteLimit) Allows(deleted, before int64) bool {
	if l.Share > 0 {
		return float64(deleted) <= l.Share*float64(before)
	}
	return deleted <= l.Count
}

// Found is what the sources were found to be.
type Found struct {
	Files             int
	Records, Rejected int64
	// Nulls is how many there are in a column that is loaded; negative: it is not among them.
	Nulls func(column string) int64
}

// Unmet lists what is not as it is expected.
func (e *Expect) Unmet(f Found) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if f.Files < e.Files {
		say("%s, and at least %d are expected", phrase.Count(int64(f.Files), "source"), e.Files)
	}
	if e.AtLeast != nil && f.Records < *e.AtLeast {
		say("%s, and at least %s are expected", phrase.Count(f.Records, "record"), phrase.Grouped(*e.AtLeast))
	}
	if e.AtMost != nil && f.Records > *e.AtMost {
		say("%s, and at most %s are expected", phrase.Count(f.Records, "record"), phrase.Grouped(*e.AtMost))
	}
	if e.Rejects != "" {
		share, _ := phrase.ParseShare(e.Rejects) // check has made sure that it is one, or 0
		if float64(f.Rejected) > share*float64(f.Records) {
			say("%s of %s are rejected, and at most %s are expected", phrase.Grouped(f.Rejected),
				phrase.Count(f.Records, "record"), e.Rejects)
		}
	}
	for _, c := range e.Filled {
		if n := f.Nulls(c); n > 0 {
			say("%s is null in %s, and is expected to be filled", c, phrase.Count(n, "record"))
		} else if n < 0 {
			say("%s is expected to be filled, and does not go into the table", c)
		}
	}
	return out
}
