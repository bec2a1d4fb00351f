package report

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func dictionary() *Dictionary {
	def := "n/a | <b>"
	return &Dictionary{Table: "toll_book", Description: "Tolls *of* the <canal>", Origin: "in_1.csv", Rows: 1234, Columns: []Entry{
		{Name: "toll_id", Type: "decimal(8,2)", Required: true, Key: 1, From: "Toll | Id", Smallest: "1", Largest: strings.Repeat("9", 60), Example: "12"},
		{Name: "od`d", Type: "text", Default: &def, Description: "two\nlines", Blanks: 1500, Example: "<script>alert(1)</script>"},
	}}
}

func TestDictionaryAsMarkdown(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, dictionary().Markdown(&b))
	text := b.String()
	for _, want := range []string{`# toll\_book`, `Tolls \*of\* the \<canal\>`, "1,234 rows, 2 columns, from in\\_1.csv", "| `toll_id` | `decimal(8,2)` | yes | 1 |", `Toll \| Id`,
		strings.Repeat("9", 39) + "…", "od\\`d", `n/a \| \<b\>`, "two lines", `\<script\>`, "---:"} {
		assert.Contains(t, text, want)
	}
	for _, l := range strings.Split(text, "\n") {
		if strings.HasPrefix(l, "|") {
			assert.Equal(t, 12, strings.Count(l, "|")-strings.Count(l, `\|`), "every line has as many cells: %s", l)
		}
	}
	d := dictionary()
	d.Columns = d.Columns[:1]
	b.Reset()
	require.NoError(t, d.Markdown(&b))
	assert.NotContains(t, b.String(), "| default", "columns without anything are left out")
}

func TestDictionaryAsHTML(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, dictionary().HTML(&b))
	text := b.String()
	assert.NotContains(t, text, "<script>")
	assert.NotContains(t, text, "<canal>")
	assert.Contains(t, text, "&lt;script&gt;")
	assert.Contains(t, text, "1,500")
	assert.Contains(t, text, `Content-Security-Policy" content="default-src 'none'`)
	assert.NotContains(t, strings.ReplaceAll(text, "http-equiv", ""), "http", "it needs nothing else")
	assert.Equal(t, strings.Count(text, "<td"), strings.Count(text, "</td>"))
	assert.Equal(t, strings.Count(text, "<th"), strings.Count(text, "</th>")+1, "and thead")
}

func TestDictionaryAsCSV(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, dictionary().CSV(&b, false))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3)
	assert.Equal(t, head, rows[0])
	assert.Equal(t, []string{"toll_id", "decimal(8,2)", "yes", "1", "", "", "Toll | Id", "0", "1", strings.Repeat("9", 60), "12"}, rows[1], "values are whole")
	assert.Equal(t, "two\nlines", rows[2][5])
}
