package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
)

// style is how text looks on one output. Colour only repeats what words say.
type style struct {
	colour bool
	amber  text.Color
	green  text.Color
	width  int // columns
}

// The colours of amber and green, of the 256 that terminals share: those for dark grounds
// (#ffaf00, and the terminal's own green), and those that have a contrast of about 4.5 on black
// and on white (#af5f00, #008700; WCAG 2.2, 1.4.3), for where the terminal does not say which
// it has.
const (
	amberOnDark = 214
	amberOnAny  = 130
	greenOnAny  = 28
)

// coloursOn are amber and green for a terminal that says of its ground what COLORFGBG says: the
// colours of letters and ground, of which 7 and those from 9 on are light.
func coloursOn(ground string) (amber, green text.Color) {
	_, of, is := strings.Cut(ground, ";")
	if i := strings.LastIndexByte(of, ';'); i >= 0 {
		of = of[i+1:]
	}
	if n, err := strconv.Atoi(of); is && err == nil && n < 9 && n != 7 {
		return text.Fg256Color(amberOnDark), text.FgGreen
	}
	return text.Fg256Color(amberOnAny), text.Fg256Color(greenOnAny)
}

const unfolded = 120 // width where there is no terminal to ask

func (a *app) style(w io.Writer) style {
	s := style{width: unfolded}
	s.amber, s.green = coloursOn(os.Getenv("COLORFGBG"))
	if a.paging != nil && w == a.out {
		w = a.paging
	}
	if isTerminal(w) {
		s.colour = !a.noColor && os.Getenv("NO_COLOR") == "" && os.Getenv("CLICOLOR") != "0" &&
			os.Getenv("TERM") != "dumb" &&
			colours(fileOf(w))
		if n, _, err := term.GetSize(int(fileOf(w).Fd())); err == nil && n > 0 {
			s.width = n
		}
	} else if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 20 {
		s.width = n
	}
	s.width = max(s.width, 60)
	return s
}

func (s style) paint(t string, c ...text.Color) string {
	if !s.colour || t == "" {
		return t
	}
	return text.Colors(c).Sprint(t)
}

func (s style) title(t string) string { return s.paint(t, text.Bold) }
func (s style) head(t string) string  { return s.paint(t, text.Bold, s.amber) }
func (s style) warn(t string) string  { return s.paint(t, s.amber) }
func (s style) dim(t string) string   { return s.paint(t, text.Faint) }
func (s style) bad(t string) string   { return s.paint(t, text.Bold, text.FgRed) }
func (s style) good(t string) string  { return s.paint(t, s.green) }

func (s style) weight(w profile.Weight) string {
	switch w {
	case profile.Blocker:
		return s.bad(string(w))
	case profile.Caution:
		return s.warn(string(w))
	case profile.Note:
	}
	return s.dim(string(w))
}

// grid is a table without lines: two spaces of margin and between columns,
// names in small print above. Numbers are aligned right.
type grid struct {
	st    style
	w     table.Writer
	heads []string
	rows  [][]string
	// configs say how its columns are set.
	configs []table.ColumnConfig
	// widths are those of its columns, where not all rows are known that will come.
	widths []int
	// less are the columns that go where the screen is narrow, the first of them first.
	less []int
}

// newGrid makes a grid. A head that begins with > is of a column of numbers.
func newGrid(st style, heads ...string) *grid {
	g := &grid{st: st, w: table.NewWriter(), heads: heads}
	var row table.Row
	var cfg []table.ColumnConfig
	for i, h := range heads {
		c := table.ColumnConfig{Number: i + 1}
		if strings.HasPrefix(h, ">") {
			h = h[1:]
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		row = append(row, st.dim(h))
		cfg = append(cfg, c)
	}
	g.configs = cfg
	g.w.SetColumnConfigs(cfg)
	if strings.Trim(strings.Join(heads, ""), ">") != "" {
		g.w.AppendHeader(row)
	}
	box := table.StyleBoxDefault
	box.PaddingLeft, box.PaddingRight, box.MiddleVertical = "  ", "", ""
	g.w.SetStyle(table.Style{Name: "tray", Box: box,
		Format:  table.FormatOptions{Header: text.FormatDefault, Row: text.FormatDefault},
		Options: table.OptionsNoBordersAndSeparators})
	return g
}

func (g *grid) row(cells ...string) { g.rows = append(g.rows, cells) }

// wide is how many columns of the screen the grid takes.
func (g *grid) wide(gone []int) (n int) {
	for i := range g.heads {
		if slices.Contains(gone, i) {
			continue
		}
		n += g.most(i) + 2
	}
	return n
}

// render writes the grid without spaces at line ends, and without columns that may go where
// the screen is too narrow for them.
func (g *grid) render(w io.Writer) {
	var gone []int
	for _, i := range g.less {
		if g.wide(gone) > g.st.width {
			gone = append(gone, i)
		}
	}
	for k := len(gone) - 1; k >= 0; k-- { // what fits nevertheless, the last that went first
		if less := slices.Delete(slices.Clone(gone), k, k+1); g.wide(less) <= g.st.width {
			gone = less
		}
	}
	if len(gone) > 0 {
		var heads []string
		for i, h := range g.heads {
			if !slices.Contains(gone, i) {
				heads = append(heads, h)
			}
		}
		less := newGrid(g.st, heads...)
		for _, r := range g.rows {
			var kept []string
			for i, c := range r {
				if !slices.Contains(gone, i) {
					kept = append(kept, c)
				}
			}
			less.row(kept...)
		}
		g = less
	}
	g.draw(w)
}

// draw writes the rows. Where the widths are set, more of them may come behind.
func (g *grid) draw(w io.Writer) {
	for i, n := range g.widths {
		g.configs[i].WidthMin = n
	}
	g.w.SetColumnConfigs(g.configs)
	for _, cells := range g.rows {
		var r table.Row
		for _, c := range cells {
			r = append(r, c)
		}
		g.w.AppendRow(r)
	}
	for _, l := range strings.Split(g.w.Render(), "\n") {
		fmt.Fprintln(w, strings.TrimRight(l, " "))
	}
	g.w.ResetHeaders()
	g.w.ResetRows()
	g.rows = g.rows[:0]
}

// most is how many columns of the screen a column of the grid takes.
func (g *grid) most(i int) int {
	n := width(strings.TrimPrefix(g.heads[i], ">"))
	for _, r := range g.rows {
		if i < len(r) {
			n = max(n, width(r[i]))
		}
	}
	return n
}

// width is how many columns of the screen a text takes.
func width(s string) int { return text.StringWidthWithoutEscSequences(s) }

// fold breaks text into lines of at most n columns, at spaces.
func fold(s string, n int) []string {
	lines := strings.Split(text.WrapSoft(strings.Join(strings.Fields(s), " "), n), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return lines
}

// The words for numbers that every command uses.
func grouped(n int64) string             { return phrase.Grouped(n) }
func plural(n int64, noun string) string { return phrase.Count(n, noun) }
func size(n int64) string                { return phrase.Size(n) }

// shorten cuts a value to n characters, marking the cut.
func shorten(s string, n int) string { return reading.Shorten(s, n) }

// few lists up to so many names, and shows that there are more.
func few(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:most], ", ") + " …"
}
