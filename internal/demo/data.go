// Package demo makes the sample data: the files of the Harrowmere Canal
// Trust, an invented canal with locks, boats, tolls and water gauges. What it
// writes is the same at every call. The files hold the traps that real ones
// do, small enough to read.
package demo

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"
)

var locks = []string{"Nether Lock", "Harrow Top", "Mere Bridge", "Cinder Staircase", "Alder Gate", "Old Basin",
	"Withy Cut", "Quarry Lock"}

var boats = []string{"Kingfisher", "Heron", "Patient Ada", "Second Wind", "Marigold", "Iron Duchess", "Slow Thunder",
	"Otter", "Morning Tide", "Wren", "Tansy", "Lantern"}

var remarks = []string{"", "", "", "", "", "", "waited for water", "tail gate leaking", "night passage", "horse-drawn",
	"paid in advance"}

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
		line = fmt.Appendf(line[:0], "%d,%02d/%02d/%d,%s,", i, at.Day(), at.Month(), at.Year(),
			locks[r.IntN(len(locks))])
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

var owners = []string{"A. Thornbury", "Wm. Oakes & Sons", "M. Señor", "Harrowmere Coal Co.", "J. Köhler", "Trust",
	"E. Lacey", "Withy Cut Brickworks"}

// Register writes the boat register as a pipe-delimited list in Windows-1252:
// titles above the header, a ruler under it, padded fields, permits with
// leading zeros, names of months, fees with a pound sign and refunds in
// brackets, a blank line, and a total at the end.
func Register(w io.Writer, n int) error {
	b := bufio.NewWriter(charmap.Windows1252.NewEncoder().Writer(w))
	r := rand.New(rand.NewPCG(1790, 1821))
	const form = "%-6s | %-20s | %-21s | %-11s | %9s | %-4s | %10s\r\n"
	fmt.Fprint(b, "HARROWMERE CANAL TRUST\r\nBoat register, printed 14 Mar 2025\r\n\r\n")
	fmt.Fprintf(b, form, "Permit", "Boat", "Owner", "Registered", "Length ft", "Paid", "Fee")
	fmt.Fprint(b,
		"-------+----------------------+-----------------------+-------------+-----------+------+-----------\r\n")
	permit, total := 101, 0
	for i := range n {
		permit += 1 + r.IntN(40)
		day := start.AddDate(-20, 0, r.IntN(7600))
		pence := 4500 + 25*r.IntN(600)
		if r.IntN(30) == 0 {
			pence += 100000
		}
		fee := fmt.Sprintf("£%d.%02d", pence/100, pence%100)
		if pence >= 100000 {
			fee = fmt.Sprintf("£%d,%03d.%02d", pence/100000, pence/100%1000, pence%100)
		}
		if r.IntN(25) == 0 {
			pence = 2500
			fee, pence = "(£25.00)", -pence
		}
		total += pence
		length := fmt.Sprintf("%d.%d", 18+r.IntN(52), r.IntN(10))
		if r.IntN(40) == 0 {
			length = ""
		}
		name := fmt.Sprintf("%s %d", boats[r.IntN(len(boats))], i+1)
		if r.IntN(20) == 0 {
			name = "Señorita Ünal"
		}
		fmt.Fprintf(b, form, fmt.Sprintf("%06d", permit), name, owners[r.IntN(len(owners))], day.Format("2 Jan 2006"),
			length, []string{"yes", "no"}[r.IntN(2)], fee)
		if i == n/2 {
			fmt.Fprint(b, "\r\n")
		}
	}
	fmt.Fprintf(b, "Total: %d boats, £%d.%02d\r\n", n, total/100, total%100)
	return b.Flush()
}

// RegisterAgain writes the register as it comes a month later: two boats have changed, one is
// new, one is gone.
func RegisterAgain(w io.Writer, n int) error {
	var before bytes.Buffer
	if err := Register(&before, n); err != nil {
		return err
	}
	b := bufio.NewWriter(w)
	for i, line := range strings.SplitAfter(before.String(), "\r\n") {
		switch i {
		case 1:
			line = strings.Replace(line, "14 Mar", "14 Apr", 1)
		case 5:
			line = strings.Replace(line, "Trust   ", "E. Lacey", 1)
		case 7:
			line = strings.Replace(line, "163.50", "171.25", 1)
		case n + 4:
			continue // sold
		case n + 5:
			line +=
				"009017 | Lapwing 413          | J. K\xf6hler             " +
					"| 2 Apr 2025  |      44.5 | yes  |    \xa3121.00\r\n"
		}
		if _, err := b.WriteString(line); err != nil {
			return err
		}
	}
	return b.Flush()
}

// Gauges writes n rounds of water gauge readings, tab-delimited, with decimal
// commas, points between thousands, a dash where a gauge was frozen, and no
// single column that identifies a reading.
func Gauges(w io.Writer, n int) error {
	b := bufio.NewWriter(w)
	r := rand.New(rand.NewPCG(1805, 1830))
	fmt.Fprint(b, "Gauge\tRead at\tLevel m\tFlow l/s\tChange\tObserver\n")
	comma := strings.NewReplacer(".", ",")
	for i := range n {
		at := start.Add(time.Duration(i) * 6 * time.Hour)
		for g := range 4 {
			level := comma.Replace(fmt.Sprintf("%.2f", 0.4+r.Float64()*2))
			flow := 200 + r.IntN(900)
			if r.IntN(10) == 0 {
				flow += 1000
			}
			tenth := r.IntN(10)
			text := fmt.Sprintf("%d,%d", flow, tenth)
			if flow >= 1000 {
				text = fmt.Sprintf("%d.%03d,%d", flow/1000, flow%1000, tenth)
			}
			change := r.IntN(41) - 20
			sign := fmt.Sprint(change)
			if change < 0 {
				sign = fmt.Sprintf("%d-", -change)
			}
			if r.IntN(50) == 0 {
				level, text = "-", "-"
			}
			fmt.Fprintf(b, "G%02d\t%s\t%s\t%s\t%s\t%s\n", g+1, at.Format("2006-01-02 15:04"), level, text, sign,
				[]string{"Ada", "Bert", "Cyril", ""}[r.IntN(4)])
		}
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

// Corrected writes the rejects of the passages as the lock keepers send them
// back: three corrected, from a spreadsheet that separates by semicolons, and
// one taken out.
func Corrected(w io.Writer) error {
	_, err := io.WriteString(w,
		"\ufeffreject;source;line;record;column;code;reason;value;Passage ID;Passed "+
			"on;Lock;Boat;Permit;Direction;Toll;Draught m;Remarks\r\n"+
			"1;lock-passages.csv;1206;1204;passed_on;no-such-date;no such date;31/04/2024;1204;30/04/2024;Alder "+
			"Gate;Heron 7;000412;up;8.40;0.91;\r\n"+
			"2;lock-passages.csv;2121;2117;toll;not-a-number;not a number;1O.50;2117;21/10/2024;Old Basin;Otter "+
			"31;001187;down;10.50;1.02;\r\n"+
			"4;lock-passages.csv;4102;4096;boat;after-quote;text follows the closing quote;;4096;19/07/2025;Withy "+
			"Cut;Marigold 2;002206;up;7.75;1.10;\r\n")
	return err
}
