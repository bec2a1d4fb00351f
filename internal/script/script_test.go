package script

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/mysql"
	"ambertray/internal/db/oracle"
	"ambertray/internal/db/postgres"
	"ambertray/internal/db/sqlite"
	"ambertray/internal/db/sqlserver"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

func table(columns int) dialect.Table {
	t := dialect.Table{Name: "tolls"}
	for i := range columns {
		t.Columns = append(t.Columns, dialect.Column{Name: fmt.Sprintf("c%d", i), Type: sqltype.Type{Kind: sqltype.Text}, ASCII: true})
	}
	return t
}

// written writes rows of the same text.
func written(t *testing.T, d *db.Database, columns, rows int, text string) string {
	var out bytes.Buffer
	w, err := New(&out, Options{Database: d, Table: table(columns), Rows: int64(rows), Head: []string{"a head", "with a\nline break; DROP TABLE x"}})
	require.NoError(t, err)
	e := w.Encoder()
	row := make([]reading.Value, columns)
	for i := range row {
		row[i].Text = []byte(text)
	}
	var data []byte
	for range rows {
		data = e.Append(data, row)
	}
	_, err = w.Write(context.Background(), sink.Batch{Rows: rows, Data: data})
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.String()
}

func TestStatementsStayWithinLimits(t *testing.T) {
	for _, tt := range []struct {
		d                           *db.Database
		columns, rows, length, want int
		begin                       string
	}{
		{sqlite.Database, 3, 1200, 1, 3, "INSERT INTO"},
		{postgres.Database, 3, 500, 1, 1, "INSERT INTO"},
		{postgres.Database, 3, 501, 1, 2, "INSERT INTO"},
		{mysql.Database, 1, 30, 100 << 10, 10, "INSERT INTO"},
		{sqlserver.Database, 2, 1000, 1, 2, "INSERT INTO"},
		{oracle.Database, 9, 250, 1, 3, "INSERT ALL"},
		{oracle.Database, 400, 10, 1, 5, "INSERT ALL"},
		{oracle.Database, 999, 3, 1, 3, "INSERT ALL"},
		{sqlite.Database, 1, 2, 1 << 20, 2, "INSERT INTO"},
	} {
		text := written(t, tt.d, tt.columns, tt.rows, strings.Repeat("x", tt.length))
		body := text[strings.Index(text, "CREATE TABLE"):]
		body = body[strings.Index(body, "\n\n") : strings.LastIndex(body, "\n\n")+1]
		assert.Equal(t, tt.want, strings.Count(body, tt.begin), "%s, %d rows of %d columns", tt.d.Name, tt.rows, tt.columns)
		for _, s := range strings.Split(body, ";\n") {
			if tt.length < 1<<19 {
				assert.Less(t, len(s), 600<<10, tt.d.Name)
			}
		}
		assert.True(t, strings.HasPrefix(text, "-- a head\n-- with a line break; DROP TABLE x\n\n"), "a comment stays one")
	}
}

func TestBatchesOfSQLServerEndWithATransactionOpen(t *testing.T) {
	text := written(t, sqlserver.Database, 1, 500*41, "x")
	assert.Equal(t, 1+2, strings.Count(text, "GO\nIF @@TRANCOUNT = 0 SET NOEXEC ON;\nGO\n"), "after the definition, and after each 20 statements")
	assert.True(t, strings.HasSuffix(text, "COMMIT TRANSACTION;\nGO\nSET NOEXEC OFF;\nGO\n"))
}

func TestTheNumberOfRowsIsChecked(t *testing.T) {
	for _, d := range connect.All {
		var out bytes.Buffer
		w, err := New(&out, Options{Database: d, Table: table(1), Rows: 2})
		require.NoError(t, err)
		assert.ErrorContains(t, w.Close(), "2 rows were announced, and 0 written", d.Name)
		text := written(t, d, 1, 3, "x")
		assert.Regexp(t, `(<>|=) 3\b`, text, d.Name)
		assert.NotEmpty(t, d.Script.Remarks(table(1)))
	}
	_, err := New(&bytes.Buffer{}, Options{Database: mysql.Database, Table: table(1), CopyBlock: true})
	assert.ErrorContains(t, err, "MySQL/MariaDB reads no block of COPY")
}

// A table's name cannot end the block that checks it.
func TestNamesStayInTheirBlock(t *testing.T) {
	var out bytes.Buffer
	tab := table(1)
	tab.Name = `x$check$; DROP TABLE y; --`
	w, err := New(&out, Options{Database: postgres.Database, Table: tab})
	require.NoError(t, err)
	require.NoError(t, w.Close())
	assert.Contains(t, out.String(), "DO $ccheck$ BEGIN")
}

// full is a disk that fills up.
type full struct{ left int }

func (f *full) Write(p []byte) (int, error) {
	if f.left -= len(p); f.left < 0 {
		return 0, errors.New("no space left on device")
	}
	return len(p), nil
}

func TestAFullDiskIsAnError(t *testing.T) {
	for left := 0; left < 700; left += 60 {
		w, err := New(&full{left}, Options{Database: sqlite.Database, Table: table(2), Rows: 1})
		if err == nil {
			_, err = w.Write(context.Background(), sink.Batch{Rows: 1, Data: w.Encoder().Append(nil, make([]reading.Value, 2))})
		}
		if err == nil {
			err = w.Close()
		}
		if left < 300 {
			assert.ErrorContains(t, err, "no space left", "%d bytes", left)
		}
	}
}
