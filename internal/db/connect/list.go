package connect

import (
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/mysql"
	"ambertray/internal/db/oracle"
	"ambertray/internal/db/parquet"
	"ambertray/internal/db/postgres"
	"ambertray/internal/db/sqlite"
	"ambertray/internal/db/sqlserver"
	"ambertray/internal/db/standard"
)

// All lists the databases, one line each.
var All = []*db.Database{
	sqlite.Database,
	postgres.Database,
	mysql.Database,
	sqlserver.Database,
	oracle.Database,
	parquet.Database,
	standard.Database,
}

// ByName finds a database by its name or a usual other one.
func ByName(name string) (*db.Database, error) {
	n := strings.ToLower(name)
	for _, d := range All {
		if d.Name == n || slices.Contains(d.Aliases, n) {
			return d, nil
		}
	}
	return nil, fmt.Errorf("database %q is not known; the databases are %s", name, strings.Join(names(All), ", "))
}

func names(list []*db.Database) (out []string) {
	for _, d := range list {
		out = append(out, d.Name)
	}
	return
}

// Names are those of all databases, as a sentence has them.
func Names() string { return either(names(All)) }

// Examples are the URLs of those that can be connected to, as a sentence has
// them.
func Examples() string {
	var out []string
	for _, d := range All {
		if d.Open != nil {
			out = append(out, d.Example)
		}
	}
	return either(out)
}

// Titles are the databases' own names, of those for which is holds.
func Titles(is func(*db.Database) bool) string {
	var out []string
	for _, d := range All {
		if is(d) {
			out = append(out, d.Title)
		}
	}
	return either(out)
}

// either joins words with commas and, before the last, or.
func either(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
