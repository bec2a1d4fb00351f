package cli_test

import (
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each case is one of the table in docs/reference.md: what was done, and the status.
func TestExitStatuses(t *testing.T) {
	b := newBench(t)
	b.run(0, "demo", ".", "--files-only")
	b.write("open.csv", "id,day\n1,01/02/2024\n2,03/04/2024\n")
	b.write("good.csv", "id,toll\n1,0.50\n2,1.25\n")
	b.write("more.csv", "id,toll\n3,0.75\n")
	b.write("odd.csv", "id,toll\n4,free\n5,2.00\n")
	b.write("torn.csv", "id,toll\n6,0.50,\n7,1.00\n")
	b.write("wrong.yaml", "connections:\n  a: {url: 'sqlite:a.db', colour: red}\n")
	into := func(file string, more ...string) []string {
		return append([]string{"load", file, "--into", "sqlite:canal.db", "--table", "tolls"}, more...)
	}
	for _, c := range []struct {
		status int
		args   []string
	}{
		{0, []string{"look", "good.csv"}},
		{1, []string{"look", "none.csv"}},
		{2, []string{"look", "open.csv"}},
		{2, []string{"look", "toll-book-2025.xlsx"}},
		{0, []string{"plan", "good.csv", "-o", "good.yaml"}},
		{1, []string{"plan", "none.csv"}},
		{2, []string{"plan", "open.csv"}},
		{2, []string{"plan", "good.csv", "-o", "good.yaml"}},
		{0, []string{"ddl", "good.csv", "--for", "postgres"}},
		{2, []string{"ddl", "good.csv", "--for", "nothing"}},
		{0, []string{"dictionary", "good.csv"}},
		{0, into("good.csv", "--dry-run")},
		{0, into("good.csv", "--key", "id")},
		{2, into("good.csv")},
		{2, into("good.csv", "--mode", "append")},
		{2, into("odd.csv", "--mode", "append")},
		{2, into("torn.csv", "--mode", "append", "--strict")},
		{2, into("open.csv")},
		{2, into("more.csv", "--mode", "sideways")},
		{1, []string{"load", "good.csv", "--into", "postgres://keeper@127.0.0.1:1/canal"}},
		{1, into("torn.csv", "--mode", "append", "--max-rejects", "0", "--yes")},
		{3, into("torn.csv", "--mode", "append", "--yes")},
		{3, []string{"verify", "latest"}},
		{2, []string{"mend", "latest", "--waive", "1"}},
		{0, []string{"mend", "latest", "--waive", "1", "--because", "torn"}},
		{2, []string{"mend", "latest", "--waive", "1", "--because", "torn"}},
		{0, []string{"verify", "latest"}},
		{2, []string{"verify", "nothing"}},
		{2, []string{"rejects", "nothing"}},
		{0, []string{"rejects", "latest"}},
		{0, []string{"report", "latest", "-o", "page.html"}},
		{0, []string{"tray"}},
		{0, []string{"tray", "--check"}},
		{0, []string{"peek", "sqlite:canal.db"}},
		{2, []string{"peek", "sqlite:canal.db", "nothing"}},
		{0, []string{"schema", "plan"}},
		{2, []string{"schema", "nothing"}},
		{0, []string{"export", "sqlite:canal.db", "tolls", "-o", "out.csv"}},
		{2, []string{"export", "sqlite:canal.db", "tolls", "-o", "out.csv"}},
		{2, []string{"export", "sqlite:canal.db", "nothing"}},
		{0, []string{"script", "good.csv", "--for", "sqlite", "-o", "good.sql"}},
		{3, []string{"script", "torn.csv", "--for", "sqlite", "-o", "torn.sql"}},
		{2, []string{"script", "open.csv", "--for", "sqlite"}},
		{0, []string{"undo", "latest", "--dry-run"}},
		{2, []string{"undo", "latest"}},
		{2, []string{"undo", "nothing"}},
		{0, []string{"connections"}},
		{2, []string{"connections", "nothing"}},
		{2, []string{"sideways"}},
		{2, []string{"tray", "--sideways"}},
	} {
		r := b.try(c.args...)
		assert.Equal(t, c.status, r.code, "%s\n%s", strings.Join(c.args, " "), r.err)
	}
	// A row of the load that somebody has taken out.
	c, err := sql.Open("sqlite", filepath.Join(b.dir, "canal.db"))
	require.NoError(t, err)
	_, err = c.Exec("DELETE FROM tolls WHERE id = 7")
	require.NoError(t, errors.Join(err, c.Close()))
	b.run(2, "undo", "latest", "--yes")
	b.run(4, "verify", "latest", "--deep")
	b.env = []string{"AMBERTRAY_CONFIG=wrong.yaml"}
	b.run(2, "connections")
}

// The page has a row for each command, and each variable that the program reads.
func TestReferenceIsComplete(t *testing.T) {
	page := doc(t, "docs/reference.md")
	help := newBench(t).run(0, "--help").out
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+) +[A-Z]`).FindAllStringSubmatch(help, -1) {
		if m[1] != "help" {
			assert.Regexp(t, `(?m)^\| .*`+"`"+m[1]+"`", page, m[1])
		}
	}
	for _, name := range variablesRead(t) {
		assert.Contains(t, page, "`"+name+"`")
	}
}

// variablesRead are the variables of the environment that the program's own code names.
func variablesRead(t *testing.T) (names []string) {
	read := regexp.MustCompile(`(?:Getenv|LookupEnv)\("([A-Za-z_]+)"\)`)
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "/bench/") || strings.Contains(path, "/testdb/") || strings.Contains(path, "/dist/") {
			return err
		}
		b, err := os.ReadFile(path)
		for _, m := range read.FindAllStringSubmatch(string(b), -1) {
			names = append(names, m[1])
		}
		return err
	})
	require.NoError(t, err)
	require.Greater(t, len(names), 8)
	return names
}
