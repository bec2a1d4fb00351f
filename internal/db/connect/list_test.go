package connect_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// Whoever adds a database adds all of this, or says what is missing.
func TestEachDatabaseIsWhole(t *testing.T) {
	taken := map[string]string{}
	for _, d := range connect.All {
		t.Run(d.Name, func(t *testing.T) {
			for _, name := range append(append([]string{d.Name}, d.Aliases...), d.Schemes...) {
				assert.Contains(t, []string{"", d.Name}, taken[name], "the name %s leads to two databases", name)
				taken[name] = d.Name
			}
			assert.NotEmpty(t, d.Title)
			assert.Positive(t, d.NameLimit)
			assert.NotEmpty(t, d.OpenQuote)
			assert.NotEmpty(t, d.CloseQuote)

			page, err := os.ReadFile(filepath.Join("../../../docs/databases", d.Name+".md"))
			require.NoError(t, err, "each has a page of its own")
			for _, head := range []string{"# " + d.Title, "## Scripts", "## What it does not do"} {
				if head == "# MySQL/MariaDB" {
					head = "# MySQL and MariaDB"
				}
				assert.Contains(t, string(page), head+"\n")
			}

			if len(d.Schemes) == 0 {
				assert.Nil(t, d.Open)
				assert.NotEmpty(t, d.Lacks, "what it does not do is said")
			} else {
				require.NotNil(t, d.Open)
				assert.Equal(t, d, connect.Of(d.Example), "the example leads to it")
				assert.NotEqual(t, d.File, d.Port != "", "a file or a port")
				assert.Contains(t, connect.Examples(), d.Example)
				_, err := connect.Open(context.Background(), d.Schemes[0]+":", connect.Options{})
				assert.ErrorContains(t, err, d.Example, "a wrong URL is told a right one")
			}
		})
	}
}

// Every kind of type has a name, a literal and a default that the definition
// writes, in every database.
func TestEveryTypeIsWritten(t *testing.T) {
	for _, d := range connect.All {
		for _, kind := range sqltype.Kinds() {
			c := dialect.Column{Name: "c", Type: sqltype.Example(kind), Required: true}
			text, _ := db.Sample(c.Type)
			for _, key := range []bool{false, true} {
				assert.NotEmpty(t, d.Type(c, key), "%s: the type of %s", d.Name, c.Type)
			}
			assert.NotEmpty(t, d.Literal(c, text), "%s: a literal of %s", d.Name, c.Type)
			c.Default = &text
			sql := strings.Join(d.Create(dialect.Table{Name: "t", Columns: []dialect.Column{c}}), ";")
			assert.Contains(t, sql, d.Literal(c, text), "%s: a default of %s", d.Name, c.Type)
		}
	}
}

// Every database's scripts open, check and close.
func TestEveryScriptIsWhole(t *testing.T) {
	for _, d := range connect.All {
		m := d.Script
		assert.NotEmpty(t, m.Before, d.Name)
		after := strings.Join(m.After("tolls", 4711), "\n")
		assert.Contains(t, after, "4711", d.Name)
		assert.Contains(t, after, "COMMIT", d.Name)
		assert.NotEmpty(t, m.Insert, d.Name)
		assert.NotEmpty(t, m.Between, d.Name)
		assert.NotEmpty(t, m.Close, d.Name)
		assert.Contains(t, m.Remarks(dialect.Table{})[0], "run it with", d.Name)
	}
}
