package cli

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"ambertray/internal/desk"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
)

// View implements tea.Model.
func (m *deciding) View() tea.View {
	var body strings.Builder
	switch i := m.page(); i {
	case ofWhole:
		m.drawWhole(&body)
	case ofAll:
		m.drawAll(&body)
	default:
		m.drawColumn(&body, i)
	}
	lines := strings.Split(strings.TrimRight(body.String(), "\n"), "\n")
	keys := m.keys()
	if most := m.height - len(keys) - 1; len(lines) > most {
		lines = append(lines[:max(most-1, 1)], m.st.dim("  … the window is too low for the rest"))
	}
	for len(lines) < m.height-len(keys) {
		lines = append(lines, "")
	}
	// Values, headers and names may have what steers a terminal.
	var shown bytes.Buffer
	safe := &visible{Writer: &shown, colours: true, plain: asciiOnly()}
	safe.Write([]byte(strings.Join(append(lines, keys...), "\n")))
	v := tea.NewView(shown.String())
	v.AltScreen = true
	return v
}

// head is the first line: what is decided on, and how far it is.
func (m *deciding) head(w *strings.Builder, title, where string) {
	gap := m.st.width - width(title) - width(where) - 2
	fmt.Fprintf(w, " %s%s%s\n\n", m.st.head(title), strings.Repeat(" ", max(gap, 2)), m.st.dim(where))
}

func (m *deciding) step() string {
	if len(m.pages) == 1 {
		return ""
	}
	return fmt.Sprintf("%d of %d", m.at+1, len(m.pages))
}

func (m *deciding) drawWhole(w *strings.Builder) {
	m.head(w, "Plan of "+shorten(m.review.Source(), 60), m.step())
	fmt.Fprintf(w, "  %s\n\n", plural(m.review.Records(), "record")+", "+plural(int64(m.review.Size()), "column"))
	printFindings(w, m.st, m.review.Whole())
	fmt.Fprintf(w, "\n  %s\n", "This is about the file as a whole: what helps is an option, or the file.")
}

func (m *deciding) drawColumn(w *strings.Builder, i int) {
	c := m.review.Column(i)
	where := "column " + grouped(int64(i+1)) + " of " + grouped(int64(m.review.Size()))
	if m.opened == none {
		where = m.step() + " · " + where
	}
	m.head(w, shorten(c.Header, 40)+m.st.dim("  →  ")+m.st.head(shorten(c.Name, 40)), where)
	for _, f := range c.Findings {
		f.Column = ""
		if len(f.Answers) > 0 {
			f.Do = "" // they are below
		}
		printFindings(w, m.st, []profile.Finding{f})
	}
	if len(c.Findings) > 0 {
		fmt.Fprintln(w)
	}
	m.drawValues(w, i, &c)
	fmt.Fprintln(w)
	all := m.ways(i, &c)
	widest := 0
	for _, x := range all {
		widest = max(widest, width(x.name()))
	}
	for k, x := range all {
		mark, name := "   ", x.name()
		pad := strings.Repeat(" ", widest-width(name))
		if k == m.pick {
			mark, name = " "+m.st.head(">")+" ", m.st.head(name)
		}
		says := m.fit(i, &c, x, k == m.pick)
		margin := widest + 8
		for n, l := range fold(says, m.st.width-margin-1) {
			if n > 0 {
				fmt.Fprintf(w, "%*s%s\n", margin, "", l)
				continue
			}
			fmt.Fprintf(w, "%s%d  %s%s  %s\n", mark, k+1, name, pad, l)
		}
	}
	if m.asks != asksNothing {
		fmt.Fprintf(w, "\n  %s %s\n", m.st.title(string(m.asks)+":"), m.field.View())
	}
	if m.said != "" {
		fmt.Fprintln(w)
		for _, l := range fold(m.said, m.st.width-4) {
			fmt.Fprintf(w, "  %s\n", m.st.bad(l))
		}
	}
}

func (x *way) name() string {
	if x.leave {
		return "left out"
	}
	name := x.Type.String()
	if x.Dates != "" {
		name += ", " + x.Dates
	}
	if x.Decimal != reading.NoMark {
		name += ", decimal mark " + x.Decimal.String()
	}
	return name
}

// fit says what a way means, and how many values do not fit it, if that is known or looked for.
func (m *deciding) fit(i int, c *desk.ReviewColumn, x way, picked bool) string {
	f, is := m.fits[m.key(i, c, x)]
	switch {
	case x.leave, !is && !picked:
		return x.Text
	case !is:
		return x.Text + "; counting what does not fit …"
	case f.err != nil:
		return f.err.Error()
	case f.Count == 0:
		return x.Text + "; every value fits"
	}
	first := f.First[0]
	at := first.Place() + " '" + shorten(first.Value, 24) + "'"
	if f.Count == 1 {
		return "1 value does not fit, and becomes a reject: " + at
	}
	return plural(f.Count, "value") + " do not fit, and become rejects; the first: " + at
}

// drawValues shows what is in the column.
func (m *deciding) drawValues(w *strings.Builder, i int, c *desk.ReviewColumn) {
	row := func(what, text string) {
		for k, l := range fold(text, m.st.width-14) {
			if k > 0 {
				what = ""
			}
			fmt.Fprintf(w, "  %-10s%s\n", what, l)
		}
	}
	f := c.Found
	text := "no value"
	if f.Blanks < f.Fields {
		text = "≈ " + plural(f.Distinct, "different value")
		if f.DistinctExact {
			text = plural(f.Distinct, "different value")
		}
		if r := f.Range(); r != "" {
			text += ", " + shorten(r, 60)
		}
	}
	if f.Blanks > 0 {
		text += "; " + grouped(f.Blanks) + " blank"
	}
	row("values", text)
	if f.Why != "" {
		row("evidence", f.Why)
	}
	var often []string
	for _, v := range f.Values[:min(len(f.Values), 8)] {
		often = append(often, shorten(v.Value, 24)+" "+grouped(v.Count))
	}
	if len(often) > 0 {
		row("most", strings.Join(often, " · "))
	}
	var first []string
	for _, v := range m.review.Values(i) {
		if v = shorten(strings.TrimSpace(v), 24); v != "" && !slices.Contains(first, v) {
			first = append(first, v)
		}
		if len(first) == 5 {
			break
		}
	}
	row("first", strings.Join(first, " · "))
	if words := append(slices.Clone(f.Nulls), c.Decision.Nulls...); len(words) > 0 {
		row("null", "'"+strings.Join(words, "', '")+"'")
	}
}

// listed is how many columns the list shows at once.
func (m *deciding) listed() int { return max(m.height-8, 3) }

func (m *deciding) drawAll(w *strings.Builder) {
	m.head(w, "Table "+shorten(m.review.Table(), 60)+", "+plural(int64(m.review.Size()), "column"), m.step())
	from := max(0, min(m.row-m.listed()/2, m.review.Size()-m.listed()))
	g := newGrid(m.st, "", ">#", "column", "name", "type", "")
	g.less = []int{2, 5}
	for i := from; i < min(from+m.listed(), m.review.Size()); i++ {
		c := m.review.Column(i)
		mark := " "
		if i == m.row {
			mark = m.st.head(">")
		}
		name, typ := shorten(c.Name, 30), c.Type.String()
		if c.LeaveOut {
			name, typ = "left out", ""
		}
		g.row(mark, grouped(int64(i+1)), shorten(c.Header, 30), name, typ, m.state(&c))
	}
	g.render(w)
}

// state is what was decided of a column, in a few words.
func (m *deciding) state(c *desk.ReviewColumn) string {
	var by []string
	add := func(is bool, text string) {
		if is {
			by = append(by, text)
		}
	}
	add(c.Type != c.Found.Type && !c.LeaveOut, "was "+c.Found.Type.String())
	add(c.Decision.Name != "", "renamed")
	add(len(c.Decision.Nulls) > 0, "null: '"+strings.Join(c.Decision.Nulls, "', '")+"'")
	if len(by) > 0 {
		return strings.Join(by, "; ")
	}
	if c.Careful() && !c.LeaveOut {
		return m.st.warn("as its values are, with a caution")
	}
	return ""
}

// keys are the last lines.
func (m *deciding) keys() []string {
	var pairs []string
	switch {
	case m.asks == asksType:
		pairs = []string{"enter take it", "esc leave it",
			"like integer, decimal(10,2), date, timestamp, varchar(40), text"}
	case m.asks == asksWord:
		pairs = []string{"enter take it", "esc leave it", "nothing: no words of yours"}
	case m.asks != asksNothing:
		pairs = []string{"enter take it", "esc leave it"}
	case m.page() == ofAll:
		pairs = []string{"w write the plan", "↑↓ enter open a column", "b back", "q stop, and write nothing"}
	case m.page() == ofWhole:
		pairs = []string{"enter go on", "a all columns", "q stop, and write nothing"}
	default:
		pairs = []string{"↑↓ enter take it", "t type", "r rename", "n word for null", "l leave out", "b back",
			"a all columns",
			"q stop"}
	}
	var lines []string
	line := " "
	for _, p := range pairs {
		if width(line)+width(p)+3 > m.st.width {
			lines = append(lines, m.st.dim(line))
			line = " "
		}
		line += " " + p + "  "
	}
	return append(lines, m.st.dim(line))
}
