// Package report writes pages about tables and loads, to be read by people.
package report

import (
	_ "embed"
	"encoding/csv"
	"fmt"
	"html/template"
	"io"
	"strconv"
	"strings"
	"sync"

	"ambertray/internal/phrase"
	"ambertray/internal/source/delimited"
)

// A Dictionary describes a table.
type Dictionary struct {
	Table       string  `json:"table"`
	Description string  `json:"description"`
	Origin      string  `json:"origin"` // the file or database that the facts are from
	Rows        int64   `json:"rows"`
	Columns     []Entry `json:"columns"`
}

// An Entry describes a column.
type Entry struct {
	Name        string  `json:"name"`
	Type        string  `json:"type"`
	Required    bool    `json:"required"`
	Key         int     `json:"key"` // its place in the primary key, from 1, or 0
	Default     *string `json:"default"`
	Description string  `json:"description"`
	From        string  `json:"from"` // the source's column
	Blanks      int64   `json:"blanks"`
	Smallest    string  `json:"smallest"`
	Largest     string  `json:"largest"`
	Example     string  `json:"example"`
}

// head are the columns of every form.
var head = []string{"column", "type", "required", "key", "default", "description", "source column", "blanks",
	"smallest", "largest", "example"}

// cells are an entry's in the order of head; long values are cut to n
// characters, if n is not 0.
func (e *Entry) cells(n int) []string {
	short := func(s string) string {
		if r := []rune(s); n > 0 && len(r) > n {
			return string(r[:n-1]) + "…"
		}
		return s
	}
	required, key, def := "", "", ""
	if e.Required {
		required = "yes"
	}
	if e.Key > 0 {
		key = strconv.Itoa(e.Key)
	}
	if e.Default != nil {
		def = *e.Default
	}
	return []string{e.Name, e.Type, required, key, def, e.Description, e.From, strconv.FormatInt(e.Blanks, 10),
		short(e.Smallest), short(e.Largest), short(e.Example)}
}

// CSV writes a delimited text by RFC 4180, with values whole; for a spreadsheet, with
// an apostrophe before those that it would take for formulas.
func (d *Dictionary) CSV(w io.Writer, forSpreadsheet bool) error {
	c := csv.NewWriter(w)
	c.Write(head)
	for i := range d.Columns {
		cells := d.Columns[i].cells(0)
		for k := range cells {
			if forSpreadsheet {
				cells[k] = string(delimited.Mark([]byte(cells[k])))
			}
		}
		c.Write(cells)
	}
	c.Flush()
	return c.Error()
}

// shown is up to how many characters of a value are shown on a page.
const shown = 40

// Markdown writes a page with one table, as CommonMark's readers with tables
// show it.
func (d *Dictionary) Markdown(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n", mark(d.Table))
	if d.Description != "" {
		fmt.Fprintf(&b, "%s\n\n", mark(d.Description))
	}
	fmt.Fprintf(&b, "%s, %s, from %s\n\n", phrase.Count(d.Rows, "row"), phrase.Count(int64(len(d.Columns)), "column"),
		mark(d.Origin))
	used := d.used()
	line := func(cells []string, change func(string) string) {
		for i, c := range cells {
			if used[i] {
				b.WriteString("| " + change(c) + " ")
			}
		}
		b.WriteString("|\n")
	}
	line(head, mark)
	rule := make([]string, len(head))
	for i := range rule {
		rule[i] = "---"
	}
	rule[7] = "---:" // blanks
	line(rule, func(s string) string { return s })
	for i := range d.Columns {
		cells := d.Columns[i].cells(shown)
		for k := range cells {
			if cells[k] = mark(cells[k]); k < 2 && !strings.ContainsAny(cells[k], "`|") {
				cells[k] = "`" + strings.ReplaceAll(cells[k], "\\", "") + "`"
			}
		}
		line(cells, func(s string) string { return s })
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// used tells which columns of the page have anything in them.
func (d *Dictionary) used() []bool {
	used := make([]bool, len(head))
	used[0], used[1], used[2] = true, true, true
	for i := range d.Columns {
		for k, c := range d.Columns[i].cells(0) {
			used[k] = used[k] || c != ""
		}
	}
	return used
}

// mark keeps text from being read as Markdown.
func mark(s string) string {
	s = strings.NewReplacer("\r\n", " ", "\n", " ", "\r", " ").Replace(s)
	var b strings.Builder
	for _, r := range s {
		if strings.ContainsRune("\\`*_{}[]<>#|~", r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

//go:embed dictionary.html
var dictionaryPage string

//go:embed style.css
var styleSheet string

// style is that of all pages.
var style = template.CSS(styleSheet)

var functions = template.FuncMap{
	"grouped": phrase.Grouped, "count": phrase.Count, "len64": func(list []int64) int64 { return int64(len(list)) },
	"short": func(s string) string {
		if r := []rune(s); len(r) > shown {
			return string(r[:shown-1]) + "…"
		}
		return s
	},
}

var dictionaryTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("dictionary").Funcs(functions).Parse(dictionaryPage))
})

// HTML writes a page that needs nothing else.
func (d *Dictionary) HTML(w io.Writer) error {
	used := map[string]bool{}
	for i, is := range d.used() {
		used[strings.ReplaceAll(head[i], " ", "")] = is
	}
	return dictionaryTemplate().Execute(w,
		map[string]any{"D": d, "Used": used, "Columns": int64(len(d.Columns)), "Style": style})
}
