// Package demo makes the sample data: the files of the Harrowmere Canal
// Trust, an invented canal with locks, boats, tolls and water gauges. What it
// writes is the same at every call. The files hold the traps that real ones
// do, small enough to read.
package demo

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"time"
)

var locks = []string{"Nether Lock", "Harrow Top", "Mere Bridge", "Cinder Staircase", "Alder Gate", "Old Basin", "Withy Cut", "Quarry Lock"}

var boats = []string{"Kingfisher", "Heron", "Patient Ada", "Second Wind", "Marigold", "Iron Duchess", "Slow Thunder", "Otter", "Morning Tide", "Wren", "Tansy", "Lantern"}

var remarks = []string{"", "", "", "", "", "", "waited for water", "tail gate leaking", "night passage", "horse-drawn", "paid in advance"}

var start = time.Date(2024, 1, 1, 5, 0, 0, 0, time.UTC)

// Passages writes n lock passages as CSV. With traps, some records hold what
// makes loading hard: quoted commas, doubled quotes, line breaks, blanks, and
// five values that no table can take as they stand.
func Passages(w io.Writer, n int, traps bool) error {
	b := bufio.NewWriterSize(w, 1<<16)
	r := rand.New(rand.NewPCG(1777, 1843))
	fmt.Fprintln(b, "Passage ID,Passed on,Lock,Boat,Permit,Direction,Toll,Draught m,Remarks")
	span := 690 * 24 * time.Hour / time.Duration(max(n, 1))
	line := make([]byte, 0, 256)
	for i := 1; i <= n; i++ {
		at := start.Add(time.Duration(i) * span)
		line = fmt.Appendf(line[:0], "%d,%02d/%02d/%d,%s,", i, at.Day(), at.Month(), at.Year(), locks[r.IntN(len(locks))])
		boat := boats[r.IntN(len(boats))]
		switch k := r.IntN(40); {
		case traps && k == 0:
			line = fmt.Appendf(line, `"%s, of Harrowmere",`, boat)
		case traps && k == 1:
			line = fmt.Appendf(line, `"The ""%s""",`, boat)
		default:
			line = fmt.Appendf(line, "%s %d,", boat, r.IntN(90)+1)
		}
		line = fmt.Appendf(line, "%06d,", r.IntN(9000)+101)
		line = append(line, []string{"up,", "down,"}[r.IntN(2)]...)
		pence := 50 + r.IntN(4000)
		if r.IntN(300) == 0 {
			pence = 100000 + r.IntN(1148000)
		}
		switch {
		case traps && r.IntN(60) == 0:
			line = append(line, ',') // not yet charged
		case traps && pence >= 100000:
			line = fmt.Appendf(line, `"%d,%03d.%02d",`, pence/100000, pence/100%1000, pence%100)
		default:
			line = fmt.Appendf(line, "%d.%02d,", pence/100, pence%100)
		}
		line = fmt.Appendf(line, "%d.%02d,", r.IntN(2), r.IntN(100))
		remark := remarks[r.IntN(len(remarks))]
		if traps && i%701 == 0 {
			remark = "\"keeper wrote:\nwater low, \"\"hold\"\" below\""
		}
		line = append(line, remark...)
		line = append(line, '\n')
		if traps {
			line = spoil(i, line)
		}
		b.Write(line)
	}
	return b.Flush()
}

// spoil returns the record that stands in the place of number i, if one does.
func spoil(i int, line []byte) []byte {
	switch i {
	case 1204:
		return []byte("1204,31/04/2024,Alder Gate,Heron 7,000412,up,8.40,0.91,\n") // April has 30 days
	case 2117:
		return []byte("2117,21/10/2024,Old Basin,Otter 31,001187,down,1O.50,1.02,\n") // the letter O
	case 3300:
		return []byte("3300,02/04/2025,Nether Lock,Wren 5,004410,up,6.20,0.88\n") // a field short
	case 3301:
		return []byte("3301,02/04/2025,Nether Lock,Tansy 18,000733,down,n/a,0.95,\n")
	case 4096:
		return []byte("4096,19/07/2025,Withy Cut,\"Marigold\" 2,002206,up,7.75,1.10,\n") // text after the quote
	}
	return line
}
