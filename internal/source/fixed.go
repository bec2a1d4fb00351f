package source

import (
	"bytes"
	"fmt"
	"slices"
	"unicode/utf8"

	"ambertray/internal/phrase"
	"ambertray/internal/source/delimited"
)

// Text in columns of fixed width has nothing between its fields but blanks. Where
// the columns start is told by a person, by a ruler line under the header, or by
// columns of blanks that run through all lines.

// columnsFound is where the columns of a text start, and on what evidence.
type columnsFound struct {
	starts []int
	why    string
	header int64 // the line that the ruler stands under, or 0
	// unsure says why it may be otherwise, or is "".
	unsure string
}

const (
	fewestLines  = 5  // through which a column of blanks means something
	certainLines = 25 // through which it can be no chance
)

// linesOf are the lines that columns are looked for in, without blanks at their
// ends.
func linesOf(text []byte, whole bool) [][]byte {
	lines := bytes.Split(text, []byte("\n"))
	if len(lines) > 0 && (!whole || len(lines[len(lines)-1]) == 0) {
		lines = lines[:len(lines)-1] // it may be cut off, or is none
	}
	lines = lines[:min(len(lines), sampleRecords)]
	for i := range lines {
		lines[i] = bytes.TrimRight(lines[i], " \r")
	}
	return lines
}

// fixedColumns looks for columns of fixed width; nil: there are none.
func fixedColumns(text []byte, whole bool) *columnsFound {
	lines := linesOf(text, whole)
	if found := byRuler(lines); found != nil {
		return found
	}
	return byBlanks(lines)
}

// byRuler finds the columns under a line that draws each of them.
func byRuler(lines [][]byte) *columnsFound {
	for k, line := range lines[:min(len(lines), titleLimit)] {
		starts := drawn(line)
		if len(starts) < 2 || k == 0 || k+1 >= len(lines) || len(lines[k-1]) == 0 {
			continue
		}
		apart, filled := 0, 0
		for _, l := range lines[k+1:] {
			if len(l) == 0 {
				continue
			}
			filled++
			if keepsApart(l, starts) {
				apart++
			}
		}
		if filled == 0 || apart*20 < filled*19 {
			continue
		}
		return &columnsFound{starts: starts, header: int64(k),
			why: fmt.Sprintf("a ruler in line %d draws %d columns, and the lines below keep to it", k+1, len(starts))}
	}
	return nil
}

// drawn is where the parts of a ruler start, that only blanks separate; nil: the
// line is none.
func drawn(line []byte) (starts []int) {
	for i, c := range line {
		switch c {
		case '-', '=', '_':
			if i == 0 || line[i-1] == ' ' {
				starts = append(starts, i)
			}
		case ' ':
		default:
			return nil
		}
	}
	return starts
}

// keepsApart reports whether a line has a blank before each column but the
// first.
func keepsApart(line []byte, starts []int) bool {
	at, characters := 0, 0
	for _, start := range starts {
		last := byte(' ')
		for characters < start && at < len(line) {
			_, n := utf8.DecodeRune(line[at:])
			last = line[at]
			at += n
			characters++
		}
		if characters == start && start > 0 && last != ' ' {
			return false
		}
	}
	return true
}

// byBlanks finds the columns between columns of blanks that run through all
// lines.
func byBlanks(lines [][]byte) *columnsFound {
	var blank []bool // by character: in all lines
	filled, longest := 0, 0
	for _, l := range lines {
		if len(l) == 0 {
			continue
		}
		if bytes.IndexByte(l, '\t') >= 0 || l[0] == ' ' && drawn(l) != nil {
			return nil
		}
		filled++
		n := 0
		for len(l) > 0 {
			r, size := utf8.DecodeRune(l)
			l = l[size:]
			if n == len(blank) {
				blank = append(blank, true)
			}
			blank[n] = blank[n] && r == ' '
			n++
		}
		longest = max(longest, n)
	}
	if filled < fewestLines {
		return nil
	}
	found := &columnsFound{}
	narrow := false // some columns are only one blank apart
	for i := range longest {
		if blank[i] || i > 0 && !blank[i-1] {
			continue
		}
		found.starts = append(found.starts, i)
		narrow = narrow || i > 1 && !blank[i-2]
	}
	if len(found.starts) < 2 || !filledAlike(lines, found.starts) {
		return nil
	}
	found.starts[0] = 0
	found.why = fmt.Sprintf("%s through all of the first %s",
		map[bool]string{true: "a column of blanks runs",
			false: fmt.Sprintf("%d columns of blanks run", len(found.starts)-1)}[len(found.starts) == 2],
		phrase.Plain(filled, "line"))
	if narrow && filled < certainLines {
		found.unsure = found.why + ", some only one blank wide, which may be chance"
	}
	return found
}

// filledIn is in how many lines each column holds something, and how many lines there
// are, but blank ones.
func filledIn(lines [][]byte, starts []int) (counts []int, all int) {
	counts = make([]int, len(starts))
	s := delimited.NewSplitter(delimited.Form{Starts: starts})
	for _, l := range lines {
		if len(l) == 0 {
			continue
		}
		all++
		var rec delimited.Record
		s.Reset(&delimited.Chunk{Data: l, Line: 1})
		s.Next(&rec)
		for i, f := range rec.Fields {
			if len(f) > 0 {
				counts[i]++
			}
		}
	}
	return counts, all
}

// filledAlike reports whether each column holds something in at least a third of
// the lines.
func filledAlike(lines [][]byte, starts []int) bool {
	counts, all := filledIn(lines, starts)
	return !slices.ContainsFunc(counts, func(n int) bool { return n*3 < all })
}

// filledAll reports whether each column holds something in every line.
func filledAll(lines [][]byte, starts []int) bool {
	counts, all := filledIn(lines, starts)
	return !slices.ContainsFunc(counts, func(n int) bool { return n < all })
}

// takeColumns makes a text one of fixed columns.
func (s *Source) takeColumns(found *columnsFound) {
	s.Layout.Form = delimited.Form{Starts: found.starts, Apart: true}
	s.note("columns", widthsOf(found.starts), found.why, false)
	s.ruled = found.header
	if found.unsure != "" {
		s.Undecided = &Undecided{What: "it may be text in columns of fixed width: " + found.unsure,
			Do: "say --columns " + widthsOf(found.starts) +
				" if that is right, --delimiter none if each line is one value, or name what separates them: " +
				"--delimiter space"}
	}
}
