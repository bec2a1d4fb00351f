package profile

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
)

// totalFindings asks what becomes of totals among the records, where nobody has said.
func (p *Profile) totalFindings(src *source.Source, all *worker) {
	e := all.skipped[source.Total]
	if e == nil || src.Layout.Totals != "" {
		return
	}
	f := Finding{Weight: Blocker, Code: CodeTotals, Count: e.count, Examples: e.first,
		Text: groupIs(e.count, "line is a total", "lines are totals") + " among the records, by the first words",
		Do:   "say --totals skip to leave them out, or --totals keep to load them as records",
		Answers: []Answer{{"leave them out, and count them", "totals", source.SkipTotals},
			{"they are records", "totals", source.KeepTotals}}}
	if n, columns := p.sumsIn(src); n > 0 {
		f.Text += fmt.Sprintf("; %s the sum of lines above in %s", map[bool]string{true: "each of them holds",
			false: phrase.Grouped(n) + " of them hold"}[n == e.count], strings.Join(columns, ", "))
	}
	p.find(f)
}

// A running is the sum of a column: of all records so far, and since the last total.
type running struct{ all, since float64 }

var errFlows = errors.New("it is read once")

// sumsIn reads a source once more, and counts the totals that hold the sum of records above them:
// of all, or of those since the total before. It names the columns.
//
// Sums are floating point numbers here: what is compared is text for a person, and decides nothing.
func (p *Profile) sumsIn(src *source.Source) (n int64, columns []string) {
	readers := make([]*reading.Reader, len(p.Columns))
	for i, c := range p.Columns {
		if c.Type.IsNumber() {
			readers[i] = &reading.Reader{Type: sqltype.Type{Kind: sqltype.Double}, Number: c.Number,
				NullWords: c.Nulls}
			if readers[i].Prepare() != nil {
				readers[i] = nil
			}
		}
	}
	sums := make([]running, len(readers))
	held := make([]bool, len(readers))
	err := errFlows
	if !src.Flows() {
		err = src.Each(func(kind source.Kind, rec *delimited.Record) error {
			if kind != source.Data && kind != source.Total {
				return nil
			}
			holds := false
			for i, r := range readers {
				if r == nil || i >= len(rec.Fields) {
					continue
				}
				x, is := numberOf(r, rec.Fields[i])
				switch {
				case kind == source.Data:
					sums[i].all += x
					sums[i].since += x
				case is && x != 0 && (near(x, sums[i].all) || near(x, sums[i].since)):
					holds, held[i] = true, true
				}
				if kind == source.Total {
					sums[i].since = 0
				}
			}
			if holds {
				n++
			}
			return nil
		})
	}
	if err != nil {
		return 0, nil
	}
	for i, is := range held {
		if is && len(columns) < 3 {
			columns = append(columns, src.Layout.Columns[i])
		}
	}
	return n, columns
}

func numberOf(r *reading.Reader, field []byte) (x float64, is bool) {
	var v reading.Value
	if r.Read(field, false, &v) != reading.OK || v.Null {
		return 0, false
	}
	x, err := strconv.ParseFloat(v.Plain(r.Type), 64)
	return x, err == nil
}

// near reports whether two sums are the same but for how floating point numbers add up.
func near(a, b float64) bool { return math.Abs(a-b) <= 1e-9*max(1, math.Abs(a), math.Abs(b)) }
