package cli_test

import (
	"database/sql"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
)

// allKinds is a file with a column of each kind of values, of records from one number up to another; what
// every fourth has is the round's.
func allKinds(from, to, round int) string {
	notes := []string{"plain", "it's", `back\slash`, `"quoted"`, "semi;colon", "%s", "tab\there", "Zoë", "naïve café", `\N`, `\.`,
		"a\nb", "x||y", "$1", " lead", "trail ", "ﾊﾞｰｼﾞ"}
	w := &strings.Builder{}
	w.WriteString("id,count,toll,ratio,day,seen,sent,open,note,code,clock\n")
	for i := from; i < to; i++ {
		k := i
		if i%4 == 0 {
			k += round
		}
		code := fmt.Sprintf("%05d", i)
		if i%5 == 0 {
			code = ""
		}
		fmt.Fprintf(w, "%d,%d,%d.%02d,%de-4,%d-%02d-%02d,%d-%02d-%02d %02d:%02d:00.%03d,%d-%02d-%02dT%02d:%02d:00+0%d:30,%t,%q,%s,%02d:%02d:%02d\n",
			i, k*7919%100000, k, k%100, k+1, 2000+k%25, 1+i%12, 1+i%28, 2000+k%25, 1+i%12, 1+i%28, i%24, i%60, i%1000,
			2001+k%25, 1+i%12, 1+i%28, i%24, i%60, i%10, k%3 > 0, "", code, i%24, i%60, k%60)
		s := w.String()
		w.Reset()
		at := strings.LastIndex(s, `""`)
		w.WriteString(s[:at] + `"` + strings.ReplaceAll(notes[k%len(notes)], `"`, `""`) + `"` + s[at+2:])
	}
	return w.String()
}

// same loads, changes and reads back a table of all kinds of values, and returns what is read. Text is without
// letters that the database does not have.
func (b *bench) same(into string, lacks ...string) (exports []string) {
	b.t.Helper()
	for name, text := range map[string]string{"kinds.csv": allKinds(0, 300, 0), "more.csv": allKinds(300, 340, 0), "other.csv": allKinds(60, 360, 1)} {
		for _, s := range lacks {
			text = strings.ReplaceAll(text, s, "plain")
		}
		b.write(name, text)
	}
	export := func() {
		r := b.run(0, "export", into, "kinds", "-o", "out.csv", "--yes")
		assert.NotContains(b.t, r.err, "ambertray:")
		lines := strings.Split(b.read("out.csv"), "\n")
		slices.Sort(lines[1:])
		exports = append(exports, strings.Join(lines, "\n"))
	}
	b.run(0, "load", "kinds.csv", "--into", into, "--key", "id")
	b.run(0, "verify", "latest", "--deep")
	export()
	b.run(0, "load", "more.csv", "--into", into, "--table", "kinds", "--mode", "append")
	rec := b.merged(0, "other.csv", "--into", into, "--table", "kinds", "--mode", "merge")
	assert.Equal(b.t, []int64{20, 70}, []int64{rec.Merge.Inserted, rec.Merge.Changed})
	export()
	b.run(0, "undo", "latest", "--yes")
	b.run(0, "load", "kinds.csv", "--into", into, "--mode", "refill", "--yes")
	export()
	b.run(0, "load", "other.csv", "--into", into, "--mode", "replace", "--table", "kinds", "--key", "id", "--yes", "--prove")
	export()
	assert.Equal(b.t, exports[0], exports[2])
	b.run(0, "load", "kinds.csv", "--into", into, "--table", "steps", "--key", "id", "--commit-every", "100")
	if !strings.HasPrefix(into, "sqlite") {
		b.run(0, "load", "kinds.csv", "--into", into, "--table", "lanes", "--key", "id", "--lanes", "2")
	}
	return exports
}

// What the server, the database or the user has set for sessions has no say in what is loaded and read.
func TestPostgresSetOtherwise(t *testing.T) {
	b, s := on(t, "postgres", testdb.Postgres)
	want := b.same(s.url)
	for name, set := range map[string]string{
		"styles": "datestyle = 'German, DMY'|extra_float_digits = -10|bytea_output = escape|timezone = 'Asia/Kolkata'|" +
			"standard_conforming_strings = off|intervalstyle = sql_standard|transform_null_equals = on|array_nulls = off",
		"plans": "default_transaction_isolation = serializable|plan_cache_mode = force_generic_plan|enable_seqscan = off|" +
			"work_mem = '64kB'|session_replication_role = replica|row_security = off|idle_in_transaction_session_timeout = '5s'",
		"nowhere": "search_path = nowhere", "only to read": "default_transaction_read_only = on",
	} {
		t.Run(name, func(t *testing.T) {
			b, s := on(t, "postgres", testdb.Postgres)
			u, err := url.Parse(s.url)
			require.NoError(t, err)
			for _, x := range strings.Split(set, "|") {
				s.exec(t, "ALTER DATABASE "+u.Path[1:]+" SET "+x)
			}
			if name == "nowhere" || name == "only to read" {
				b.write("a.csv", "id\n1\n")
				r := b.run(1, "load", "a.csv", "--into", s.url)
				assert.Contains(t, r.err, map[string]string{"nowhere": "--schema", "only to read": "standby"}[name])
				return
			}
			assert.Equal(t, want, b.same(s.url))
		})
	}
}

// Texts of a database in another encoding are counted and compared as in UTF-8; letters that it does not have
// are rejects.
func TestPostgresInOtherEncodings(t *testing.T) {
	want := map[string][]string{} // by what is missing
	for encoding, lacks := range map[string]string{"LATIN1": "ﾊﾞｰｼﾞ", "EUC_JP": "Zoë|naïve café", "WIN1252": "ﾊﾞｰｼﾞ"} {
		t.Run(encoding, func(t *testing.T) {
			b, s := on(t, "postgres", testdb.Postgres)
			u, err := url.Parse(s.url)
			require.NoError(t, err)
			in := u.Path[1:] + "_in"
			s.exec(t, "CREATE DATABASE "+in+" TEMPLATE template0 ENCODING '"+encoding+"' LC_COLLATE 'C' LC_CTYPE 'C'")
			t.Cleanup(func() { s.db.Exec("DROP DATABASE " + in + " WITH (FORCE)") })
			if want[lacks] == nil {
				want[lacks] = b.same(s.url, strings.Split(lacks, "|")...)
			}
			u.Path = "/" + in
			assert.Equal(t, want[lacks], b.same(u.String(), strings.Split(lacks, "|")...))

			if encoding == "LATIN1" {
				b.write("tolls.csv", "id,toll,kind\n1,5 €,char\n2,\"6 £\",Char\n3,žluť,a\n4,é,b\n")
				b.run(3, "load", "tolls.csv", "--into", u.String(), "--key", "id", "--type", "kind=char(6)", "--max-rejects", "2")
				assert.Equal(t, 2, strings.Count(b.run(0, "rejects", "latest").out, "has no equivalent in encoding"))
				assert.Equal(t, []string{`["2" "6 £" "Char"]`, `["4" "é" "b"]`}, b.content(u.String(), "tolls")[1:])
			}
		})
	}
}

// An account for which the server sets what it likes, in each session that begins, has sessions as any other.
func TestMySQLSetOtherwise(t *testing.T) {
	b, s := on(t, "mysql", testdb.MySQL)
	want := b.same(s.url)
	u, err := url.Parse(s.url)
	require.NoError(t, err)
	user := "keeper_" + u.Path[len(u.Path)-8:]
	s.exec(t, "CREATE USER '"+user+"'@'127.0.0.1' IDENTIFIED BY '"+testdb.Password+"'", "GRANT ALL ON "+u.Path[1:]+".* TO '"+user+"'@'127.0.0.1'",
		"DROP TABLE kinds, steps, lanes",
		// Accounts that may administer the server, as that of all other tests, are spared.
		"SET GLOBAL init_connect = 'SET autocommit = 0, sql_select_limit = 3, sql_safe_updates = 1, max_join_size = 100, sql_big_selects = 0, "+
			"group_concat_max_len = 4, max_sort_length = 8, sql_mode = ''ORACLE'', time_zone = ''+05:30'', completion_type = CHAIN, "+
			"innodb_strict_mode = 0, tx_isolation = ''READ-UNCOMMITTED'', foreign_key_checks = 0, character_set_results = latin1'")
	defer s.exec(t, "SET GLOBAL init_connect = ''", "DROP USER '"+user+"'@'127.0.0.1'")
	u.User = url.UserPassword(user, testdb.Password)
	assert.Equal(t, want, b.same(u.String()))
	assert.Contains(t, queryRows(t, s.db, "SELECT @@global.init_connect")[0][0], "limit = 3", "it was set")
}

// A file that another program has made in a way of its own is one as any other.
func TestSQLiteSetOtherwise(t *testing.T) {
	var want []string
	for name, set := range map[string]string{
		"plain": "", "UTF-16": "PRAGMA encoding = 'UTF-16'", "UTF-16be": "PRAGMA encoding = 'UTF-16be'", "journal": "PRAGMA journal_mode = WAL",
		"small pages": "PRAGMA page_size = 512|PRAGMA auto_vacuum = FULL", "large pages": "PRAGMA page_size = 65536|PRAGMA auto_vacuum = INCREMENTAL",
		"secure": "PRAGMA secure_delete = ON|PRAGMA journal_mode = PERSIST", "old": "PRAGMA legacy_file_format = ON|PRAGMA user_version = 7|PRAGMA application_id = 9",
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			file := filepath.Join(b.dir, "canal.db")
			db, err := sql.Open("sqlite", "file:"+file)
			require.NoError(t, err)
			db.SetMaxOpenConns(1)
			for _, x := range append(strings.Split(set, "|"), "CREATE TABLE before (id INTEGER PRIMARY KEY, name TEXT)", "INSERT INTO before VALUES (1, 'Zoë')") {
				_, err := db.Exec(x)
				require.NoError(t, err)
			}
			require.NoError(t, db.Close())
			got := b.same("sqlite:" + file)
			if want == nil {
				want = got
			}
			assert.Equal(t, want, got)
			assert.Equal(t, []string{`["id" "name"]`, `["1" "Zoë"]`}, b.content("sqlite:"+file, "before"))
		})
	}
}

// Texts go into columns of any character set of a table that is there, if it has their letters, and are read back as they
// were; each takes the records of the numbers.
func TestMySQLColumnsOfOtherCharacterSets(t *testing.T) {
	_, s := on(t, "mysql", testdb.MySQL)
	const names = "id,name,code\n1,Zoë,a\n2,naïve £ café,b\n3,\"Ann, Lock\",c\n4,back\\slash ~ '|',d\n5,ﾊﾞｰｼﾞ,e\n6,5 €,f\n7,日本,g\n8,😀,h\n"
	for set, takes := range map[string]string{"latin1": "12346", "sjis": "34 57", "cp932": "34 57", "ujis": "1234 57", "ucs2": "1234567", "utf16": "12345678",
		"utf32": "12345678", "utf8mb3": "1234567", "utf8mb4": "12345678", "ascii": "34", "cp1250": "1346", "koi8r": "34", "gbk": "34 7", "big5": "34 7"} {
		t.Run(set, func(t *testing.T) {
			b := benchOf(t, s.url)
			b.write("names.csv", names)
			s.exec(t, "CREATE TABLE "+set+" (id int PRIMARY KEY, name varchar(40) CHARACTER SET "+set+", code char(4) CHARACTER SET "+set+") ENGINE=InnoDB")
			code := 3
			if len(takes) == 8 {
				code = 0
			}
			b.run(code, "load", "names.csv", "--into", s.url, "--table", set, "--mode", "append", "--max-rejects", "8")
			want := "id,name,code\n"
			for _, line := range strings.Split(names, "\n")[1:] {
				if line != "" && strings.Contains(takes, line[:1]) {
					want += line + "\n"
				}
			}
			b.run(0, "export", s.url, set, "-o", "out.csv")
			assert.Equal(t, want, b.read("out.csv"))
			assert.Contains(t, b.run(code, "verify", "latest", "--deep").out, "agrees")
		})
	}
}

// All kinds of values are loaded, changed, taken back and read back on the other databases, too.
func TestAllKinds(t *testing.T) {
	for name, open := range map[string]func(testing.TB) (string, *sql.DB){"sqlserver": testdb.SQLServer, "oracle": testdb.Oracle} {
		t.Run(name, func(t *testing.T) {
			b, s := on(t, name, open)
			b.same(s.url)
		})
	}
}
