package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"ambertray/internal/desk"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/sqltype"
)

// deciding is the screen on which a person goes through the columns of a plan: first what is
// to be said of the source, then each column that has a caution, and in the end the list of all
// of them. What is drawn is in decidingview.go.
type deciding struct {
	ctx    context.Context
	review *desk.Review
	st     style
	height int

	pages  []int // ofWhole, columns, ofAll
	at     int   // in pages
	opened int   // a column that was opened from the list, or none
	row    int   // of the list
	pick   int   // of the choices

	field textinput.Model
	asks  asks
	said  string // about what was typed last

	// typedWays are those of types that were typed, by column; last is the type of the last.
	typedWays map[int][]desk.Way
	last      sqltype.Type

	fits    map[string]fit
	written bool
}

// Pages that are no column.
const (
	ofWhole = -1
	ofAll   = -2
	none    = -3
)

// asks is what the field is for.
type asks string

const (
	asksNothing asks = ""
	asksType    asks = "type"
	asksName    asks = "name"
	asksWord    asks = "word for null"
)

// A fit is how many values do not fit a column as it would be.
type fit struct {
	rows.Misfits
	err error
}

// counted is a fit that was asked for.
type counted struct {
	key string
	fit fit
}

// A way is one of those that a column can go.
type way struct {
	desk.Way
	found bool // as the evidence has it
	leave bool
}

// decides goes through the columns with the person at the terminal.
func (a *app) decides(in *os.File) func(context.Context, *desk.Review) error {
	return func(ctx context.Context, r *desk.Review) error {
		m := &deciding{ctx: ctx, review: r, st: a.style(a.err), height: 24, opened: none, fits: map[string]fit{},
			typedWays: map[int][]desk.Way{}}
		if len(r.Whole()) > 0 {
			m.pages = append(m.pages, ofWhole)
		}
		for i := range r.Size() {
			if c := r.Column(i); c.Careful() && !c.LeaveOut {
				m.pages = append(m.pages, i)
			}
		}
		m.pages = append(m.pages, ofAll)
		m.field = textinput.New()
		m.field.Prompt = ""
		m.begin()
		_, err := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(a.rawErr),
			tea.WithoutSignalHandler()).Run()
		if err == nil && m.written {
			return nil
		}
		if err == nil || errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
			return needed("not decided to the end; nothing was written")
		}
		return err
	}
}

// page is what is shown.
func (m *deciding) page() int {
	if m.opened != none {
		return m.opened
	}
	return m.pages[m.at]
}

// ways are those that a column can go: as it was found, as the findings say, as the person does,
// or not at all.
func (m *deciding) ways(i int, c *desk.ReviewColumn) []way {
	found := c.Found.Type
	out := []way{{Way: desk.Way{Wanted: profile.Wanted{Type: found}, Text: "as its values are"}, found: true}}
	for _, list := range [][]desk.Way{c.Ways, m.typedWays[i]} {
		for _, x := range list {
			if !slices.ContainsFunc(out, func(w way) bool { return w.Wanted == x.Wanted }) {
				out = append(out, way{Way: x})
			}
		}
	}
	return append(out, way{Way: desk.Way{Text: "it is not loaded"}, leave: true})
}

// begin shows a page anew: the way is picked that was decided.
func (m *deciding) begin() {
	m.said, m.pick = "", 0
	i := m.page()
	if i < 0 {
		return
	}
	c := m.review.Column(i)
	all := m.ways(i, &c)
	m.pick = slices.IndexFunc(all, func(w way) bool {
		if c.LeaveOut || w.leave {
			return c.LeaveOut && w.leave
		}
		return w.Wanted == c.Wanted || w.found && c.Wanted.Type.Kind == sqltype.None
	})
	m.pick = max(m.pick, 0)
}

// Init implements tea.Model.
func (m *deciding) Init() tea.Cmd { return m.count() }

// count asks how many values do not fit the way that is picked.
func (m *deciding) count() tea.Cmd {
	i := m.page()
	if i < 0 {
		return nil
	}
	c := m.review.Column(i)
	w := m.ways(i, &c)[m.pick]
	key := m.key(i, &c, w)
	if _, is := m.fits[key]; is || w.leave {
		return nil
	}
	d := c.Decision
	d.Wanted = w.Wanted
	review, ctx := m.review, m.ctx
	return func() tea.Msg {
		x, err := review.Misfits(ctx, i, d)
		return counted{key, fit{x, err}}
	}
}

func (m *deciding) key(i int, c *desk.ReviewColumn, w way) string {
	return fmt.Sprintf("%d %v %q", i, w.Wanted, c.Decision.Nulls)
}

// Update implements tea.Model.
func (m *deciding) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.st.width, m.height = max(msg.Width, 40), msg.Height
		return m, nil
	case counted:
		m.fits[msg.key] = msg.fit
		return m, nil
	case tea.KeyPressMsg:
		if msg.String() == "ctrl+c" {
			return m, tea.Quit
		}
		if m.asks != asksNothing {
			return m, m.typed(msg)
		}
		if m.page() == ofAll {
			return m, m.inList(msg.String())
		}
		return m, m.pressed(msg.String())
	}
	var cmd tea.Cmd
	m.field, cmd = m.field.Update(msg)
	return m, cmd
}

// pressed is a key on the page of the source, or of a column.
func (m *deciding) pressed(key string) tea.Cmd {
	i := m.page()
	switch key {
	case "q":
		return tea.Quit
	case "a":
		m.at, m.opened = len(m.pages)-1, none
		m.begin()
		return nil
	case "b", "left":
		if m.opened == none {
			m.at = max(m.at-1, 0)
		}
		m.opened = none
		m.begin()
		return m.count()
	case "enter", "right":
		return m.taken(i)
	}
	if i < 0 {
		return nil
	}
	c := m.review.Column(i)
	all := m.ways(i, &c)
	switch key {
	case "up", "k":
		m.pick = max(m.pick-1, 0)
	case "down", "j":
		m.pick = min(m.pick+1, len(all)-1)
	case "l":
		m.pick = len(all) - 1
	case "t":
		return m.ask(asksType, c.Type.String())
	case "r":
		return m.ask(asksName, c.Name)
	case "n":
		return m.ask(asksWord, "")
	default:
		if n := int(key[0] - '1'); len(key) == 1 && n >= 0 && n < len(all) {
			m.pick = n
		}
	}
	return m.count()
}

// taken goes on with what is picked on a page.
func (m *deciding) taken(i int) tea.Cmd {
	if i >= 0 {
		c := m.review.Column(i)
		d, w := c.Decision, m.ways(i, &c)[m.pick]
		d.LeaveOut, d.Wanted = w.leave, profile.Wanted{}
		if !w.found && !w.leave {
			d.Wanted = w.Wanted
		}
		if err := m.review.Decide(i, d); err != nil {
			m.said = err.Error()
			return nil
		}
	}
	if m.opened == none {
		m.at = min(m.at+1, len(m.pages)-1)
	}
	m.opened = none
	m.begin()
	return m.count()
}

// inList is a key on the list of all columns.
func (m *deciding) inList(key string) tea.Cmd {
	last := m.review.Size() - 1
	switch key {
	case "q":
		return tea.Quit
	case "w":
		m.written = true
		return tea.Quit
	case "up", "k":
		m.row = max(m.row-1, 0)
	case "down", "j":
		m.row = min(m.row+1, last)
	case "pgup":
		m.row = max(m.row-m.listed(), 0)
	case "pgdown":
		m.row = min(m.row+m.listed(), last)
	case "home":
		m.row = 0
	case "end":
		m.row = last
	case "b", "left":
		m.at = max(m.at-1, 0)
		m.begin()
	case "enter", "right":
		m.opened = m.row
		m.begin()
		return m.count()
	}
	return nil
}

// ask opens the field.
func (m *deciding) ask(what asks, now string) tea.Cmd {
	m.asks, m.said = what, ""
	m.field.SetValue(now)
	m.field.CursorEnd()
	return m.field.Focus()
}

// typed is a key in the field.
func (m *deciding) typed(key tea.KeyPressMsg) tea.Cmd {
	switch key.String() {
	case "esc":
		m.asks, m.said = asksNothing, ""
		return nil
	case "enter":
		i := m.page()
		if err := m.answer(i, strings.TrimSpace(m.field.Value())); err != nil {
			m.said = err.Error()
			return nil
		}
		picked := m.pick
		if m.asks == asksType {
			c := m.review.Column(i)
			picked = slices.IndexFunc(m.ways(i, &c), func(w way) bool { return w.Wanted.Type == m.last })
		}
		m.asks = asksNothing
		m.begin()
		m.pick = picked
		return m.count()
	}
	var cmd tea.Cmd
	m.field, cmd = m.field.Update(key)
	return cmd
}

// answer takes what was typed for a column.
func (m *deciding) answer(i int, text string) error {
	c := m.review.Column(i)
	d := c.Decision
	switch m.asks {
	case asksType:
		t, err := sqltype.Parse(text)
		if err != nil {
			return err
		}
		// It is a way more, that is picked; the enter behind takes it.
		m.typedWays[i], m.last = append(m.typedWays[i], m.review.Ways(i, t, "as you said")...), t
		return nil
	case asksName:
		d.Name = text
	case asksWord:
		if text == "" {
			d.Nulls = nil // none but those of the evidence
		} else if !slices.Contains(d.Nulls, text) {
			d.Nulls = append(slices.Clone(d.Nulls), text)
		}
	case asksNothing:
	}
	return m.review.Decide(i, d)
}
