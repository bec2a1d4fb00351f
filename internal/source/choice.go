package source

import (
	"fmt"
	"strconv"
	"strings"
)

// A Part is one of several that a file has: a sheet, or a member of an
// archive.
type Part struct {
	Name   string `json:"name"`
	Hidden bool   `json:"hidden,omitempty"`
	Kept   bool   `json:"very_hidden,omitempty"` // no menu shows it
	Pivots int    `json:"pivots,omitempty"`      // tables that are summaries of others
	Used   string `json:"used,omitempty"`        // range of a sheet's cells
	Rows   int64  `json:"rows,omitempty"`        // of a sheet that have cells
	Size   int64  `json:"size,omitempty"`        // of a member, unpacked
	View   string `json:"view,omitempty"`        // its beginning, on one line
	Merged int64  `json:"merged,omitempty"`
}

// A Choice is needed where a file has several parts and none is named.
type Choice struct {
	Source string
	What   string // sheet or member
	Parts  []Part
	// Names are ranges of a workbook that have a name, tables among them.
	Names []Named
	// Others are tabs of a workbook without cells, in words.
	Others []string
}

// A Named is a range that has a name.
type Named struct {
	Name  string `json:"name"`
	Sheet string `json:"sheet"`
	Range string `json:"range"`
}

func (c *Choice) Error() string {
	var names []string
	for i, p := range c.Parts {
		if i == 12 {
			names = append(names, fmt.Sprintf("and %d more", len(c.Parts)-i))
			break
		}
		names = append(names, strconv.Quote(p.Name))
	}
	if len(names) == 0 {
		return fmt.Sprintf("%s: has no %s with data", c.Source, c.What)
	}
	return fmt.Sprintf("%s: has several %ss; say which with --%s\n  %s", c.Source, c.What, c.What,
		strings.Join(names, ", "))
}
