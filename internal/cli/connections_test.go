package cli_test

import (
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
)

// A database has a name, and what goes with it: where its password is, schema, mode, tray.
func TestConnections(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.env = nil // the password comes from the connection
		raw, secret := s.url, ""
		if u, err := url.Parse(s.url); err == nil && u.User != nil {
			secret, _ = u.User.Password()
			u.User = url.User(u.User.Username())
			raw = u.String()
		}
		b.write("secret", secret+"\n")
		require.NoError(t, os.Chmod(filepath.Join(b.dir, "secret"), 0o600))
		text := "connections:\n  harbour: {url: '" + raw + "', password_file: secret, mode: append, tray: papers}\n" +
			"  gone: {url: 'sqlite:gone.db'}\noptions: {into: harbour, quiet: true}\n"
		if secret == "" {
			text = strings.Replace(text, ", password_file: secret", "", 1)
		}
		b.write("ambertray.yaml", text)
		b.write("a.csv", "id,toll\n1,2.50\n")
		b.write("b.csv", "id,toll\n2,3.50\n")
		b.run(0, "load", "a.csv", "--table", "tolls", "--mode", "create", "--key", "id")
		r := b.run(0, "load", "b.csv", "--table", "tolls")
		assert.Contains(t, r.out, "papers/tolls-")
		assert.Equal(t, [][]string{{"2"}}, queryRows(t, s.db, "SELECT count(*) FROM tolls"))
		b.run(0, "verify", "tolls", "--tray", "papers")
		b.run(0, "peek", "harbour", "tolls")
		b.run(0, "export", "harbour", "tolls", "-o", "x.csv")
		assert.Contains(t, b.run(0, "connections").out, "harbour")
		r = b.run(1, "connections", "--try")
		assert.Regexp(t, `harbour .* yes `, r.out)
		assert.Regexp(t, `gone .* no .*no such file`, r.out)
		b.run(0, "connections", "harbour", "--try")
		if secret != "" {
			assert.NotContains(t, r.out+r.err, secret)
		}
		assert.Contains(t, b.run(2, "peek", "harbuor").err, "did you mean harbour?")
		assert.Contains(t, b.run(2, "connections", "harbuor").err, "did you mean harbour?")
		doc := b.document(0, "connections", "harbour", "--json")
		assert.Len(t, doc["connections"], 1)
	})
	b := newBench(t)
	// A file has no schemas, whether its URL is given or its name.
	b.write("ambertray.yaml", "connections:\n  harbour: {url: 'sqlite:h.db'}\n")
	b.write("a.csv", "id,toll\n1,2.50\n")
	for _, into := range []string{"sqlite:u.db", "harbour"} {
		b.run(0, "load", "a.csv", "--into", into, "--table", "north.tolls", "--mode", "create")
		assert.Contains(t, b.run(0, "peek", into).out, "north.tolls")
	}
	b.write("ambertray.yaml", "options: {yes: true}\n")
	assert.Contains(t, b.run(2, "tray").err, "cannot be settled there")
	b.write("ambertray.yaml", "options: {lock-weight: 5}\n")
	assert.Contains(t, b.run(2, "tray").err, "cannot be settled there")
}

// A server is found by its socket, too.
func TestSockets(t *testing.T) {
	raw, _ := testdb.Postgres(t)
	u, err := url.Parse(raw)
	require.NoError(t, err)
	b := benchOf(t, raw)
	folder := os.Getenv("AMBERTRAY_TEST_POSTGRES_TLS")
	if folder == "" {
		t.Skip("no server of ours, whose socket is known; 'make test' starts one")
	}
	socket := url.Values{"host": {folder}, "port": {u.Port()}}
	at := "postgres://" + u.User.Username() + "@" + u.Path + "?" + socket.Encode()
	b.write("a.csv", "id,toll\n1,2.50\n")
	b.run(0, "load", "a.csv", "--into", at, "--table", "tolls")
	b.run(0, "verify", "tolls")
	assert.Contains(t, b.run(0, "peek", raw).out, "tolls")
	assert.Contains(t, b.run(2, "peek", "postgres:///x").err, "names no host")
	b.env = append(b.env, "PGHOST="+u.Hostname(), "PGPORT="+u.Port(), "PGUSER="+u.User.Username(), "PGDATABASE="+strings.Trim(u.Path, "/"))
	assert.Contains(t, b.run(0, "peek", "postgres:///").out, "tolls")
}

// So is one of MySQL's family, by what its own clients read.
func TestClientFile(t *testing.T) {
	raw, _ := testdb.MySQL(t)
	u, err := url.Parse(raw)
	require.NoError(t, err)
	secret, _ := u.User.Password()
	b := newBench(t)
	b.write(".my.cnf", "[mysqld]\nskip-networking\n[client]\nuser = "+u.User.Username()+"\npassword = "+secret+"\nhost = "+u.Hostname()+"\nport = "+u.Port()+"\n")
	b.env = []string{"HOME=" + b.dir}
	b.write("a.csv", "id,toll\n1,2.50\n")
	at := "mysql://" + u.Path
	b.run(0, "load", "a.csv", "--into", at, "--table", "tolls")
	r := b.run(0, "peek", "mysql://"+u.User.Username()+"@"+u.Host+u.Path)
	assert.Contains(t, r.out, "tolls")
	assert.NotContains(t, r.out+r.err, secret)
	assert.NotEqual(t, 0, b.try("peek", "mysql://someone@"+u.Host+u.Path).code, "the password is another user's")
	b.write(".my.cnf", "[client]\n")
	assert.Contains(t, b.run(2, "peek", at).err, "names no host")
}

// A load can make the schema of its table, and does not leave it behind where it fails.
func TestCreateSchema(t *testing.T) {
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,toll\n1,2.50\n2,x\n")
		into := func(table string, more ...string) []string {
			return append([]string{"load", "a.csv", "--into", s.url, "--table", table}, more...)
		}
		if s.name == "mysql" {
			assert.Contains(t, b.run(2, into("tolls.a", "--create-schema")...).err, "--create-database")
			return
		}
		if s.name == "oracle" { // a schema is a user there
			assert.Contains(t, b.run(2, into("tolls.a", "--create-schema")...).err, "--create-schema")
			return
		}
		schemas := func() [][]string {
			q := "SELECT nspname FROM pg_namespace WHERE nspname IN ('tolls', 'boats') ORDER BY 1"
			if s.name == "sqlserver" {
				q = "SELECT name FROM sys.schemas WHERE name IN ('tolls', 'boats') ORDER BY name"
			}
			return queryRows(t, s.db, q)
		}
		assert.Contains(t, b.run(1, into("tolls.a")...).err, "--create-schema")
		b.run(1, into("boats.a", "--create-schema", "--type", "toll=decimal(5,2)", "--max-rejects", "0")...)
		assert.Empty(t, schemas())
		b.run(0, into("tolls.a", "--create-schema")...)
		b.run(0, into("tolls.b", "--create-schema")...)
		assert.Equal(t, [][]string{{"tolls"}}, schemas())
		assert.Contains(t, b.run(2, into("tolls.a", "--mode", "append", "--create-schema")...).err, "new table")
	})
	b := newBench(t)
	b.write("a.csv", "id\n1\n")
	assert.Contains(t, b.run(2, "load", "a.csv", "--into", "sqlite:c.db", "--create-schema").err, "PostgreSQL")
}

// Help has the options by what they are about, those that most need first, within the screen.
func TestHelp(t *testing.T) {
	b := newBench(t)
	b.env = []string{"COLUMNS=80"}
	short, whole := b.run(0, "load", "--help").out, b.run(0, "load", "--help", "all").out
	for _, want := range []string{"\nSource\n", "\nColumns\n", "\nTable\n", "\nLoad\n", "\nSafety\n", "\nOutput\n", "--into URL", "--help all"} {
		assert.Contains(t, short, want)
	}
	assert.NotContains(t, short, "--marked-formulas")
	for _, want := range []string{"--marked-formulas", "--slow-path", "--log-level"} {
		assert.Contains(t, whole, want)
	}
	for _, line := range strings.Split(whole[strings.Index(whole, "\nSource\n"):], "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 80, line)
	}
	assert.Contains(t, b.run(0, "undo", "--help").out, "--dry-run", "of few options, all")
	assert.Contains(t, b.run(2, "laod").err, "did you mean load?")
	assert.Contains(t, b.run(2, "load", "x.csv", "--tabel", "y").err, "did you mean --table")
}

// What a shell offers is what there is, and the tray says where loads went.
func TestOffered(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,toll\n1,2.50\n2,x\n")
	b.run(3, "load", "a.csv", "--into", "sqlite:c.db", "--table", "tolls", "--type", "toll=decimal(5,2)", "--max-rejects", "none", "--log-format", "json")
	b.run(0, "load", "a.csv", "--into", "sqlite:c.db", "--table", "others")
	offered := func(args ...string) string { return b.try(append([]string{"__complete"}, args...)...).out }
	assert.Contains(t, offered("verify", ""), "tolls-")
	assert.Contains(t, offered("verify", ""), "waiting")
	assert.Contains(t, offered("ddl", "a.csv", "--for", ""), "parquet")
	assert.Contains(t, offered("peek", "sqlite:c.db", ""), "tolls")
	assert.Contains(t, offered("load", "a.csv", "--into", ""), "postgres:")
	assert.Contains(t, offered("load", "a.csv", "--mode", ""), "refill")
	assert.Contains(t, b.run(0, "rejects", "waiting").out, "tolls")
	assert.Contains(t, b.run(2, "rejects", "nothing").err, "say latest, waiting")
	assert.Contains(t, b.run(2, "tray", "--tray", "nowhere").err, "no such folder")
	list := b.run(0, "tray").out
	assert.Contains(t, list, "sqlite:c.db")
	logs, err := filepath.Glob(filepath.Join(b.dir, "tray", "tolls-*", "load.log"))
	require.NoError(t, err)
	require.Len(t, logs, 1)
	text, err := os.ReadFile(logs[0])
	require.NoError(t, err)
	for _, l := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		assert.True(t, json.Valid([]byte(l)), l)
	}
	assert.Contains(t, b.run(2, "tray", "--log-format", "xml").err, "use text or json")
}

// Columns are named, left out and required by names, patterns and what is in them.
func TestColumnsChosen(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "Id,Toll paid,junk_1,junk_2,Unit,Empty,Note,\"Weight, kg\"\n1,2.50,x,y,GBP,,a,1\n2,3.50,z,w,GBP,,,2\n")
	columns := func(more ...string) string {
		out := b.run(0, append([]string{"ddl", "a.csv", "--for", "sqlite"}, more...)...).out
		var names []string
		for _, l := range strings.Split(out, "\n")[1:] {
			if strings.HasPrefix(l, "    ") {
				names = append(names, strings.Fields(l)[0]+map[bool]string{true: "!"}[strings.Contains(l, "NOT NULL")])
			}
		}
		return strings.Join(names, " ")
	}
	assert.Equal(t, "id toll note weight_kg", columns("--rename", "Toll paid=toll", "--leave-out", "junk_*,unit", "--leave-out", "blank in every record"))
	assert.Equal(t, "id toll_paid junk_1 junk_2 empty note", columns("--leave-out", "Weight, kg", "--leave-out", "one value throughout"))
	assert.Equal(t, "id toll_paid weight_kg", columns("--only", "id,toll*", "--only", "Weight, kg", "--nullable", "all"))
	assert.Equal(t, "id! toll_paid!", columns("--only", "id,Toll paid", "--require", "all"))
	assert.Contains(t, b.run(2, "ddl", "a.csv", "--for", "sqlite", "--key", "Idd").err, "did you mean Id?")
	assert.Contains(t, b.run(2, "ddl", "a.csv", "--for", "sqlite", "--leave-out", "x_*").err, "no column is like")
	assert.Contains(t, b.run(2, "ddl", "a.csv", "--for", "sqlite", "--rename", "Id=note").err, "is called note already")
	assert.Contains(t, b.run(0, "ddl", "a.csv", "--for", "sqlite", "--rename", "Id=note", "--rename", "note=id").out, "note ")
	assert.Contains(t, b.run(0, "ddl", "a.csv", "--for", "postgres", "--table", "tolls.a").out, "CREATE TABLE tolls.a (")
	b.write("bare.csv", "1;a\n2;b\n")
	assert.Contains(t, b.run(0, "ddl", "bare.csv", "--for", "sqlite", "--columns", "id,boat").out, "boat VARCHAR")
	b.run(0, "plan", "a.csv", "--rename", "Toll paid=toll", "-o", "a.yaml")
	assert.Contains(t, b.read("a.yaml"), "from: Toll paid")
}
