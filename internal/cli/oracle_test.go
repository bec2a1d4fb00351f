package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	standin "ambertray/internal/standin/oracle"
	"ambertray/internal/standin/oracle/engine"
	"ambertray/internal/testdb"
)

// Each row that the server refuses is a reject with its number, and the others go in.
func TestOracleRefusals(t *testing.T) {
	b, s := on(t, "oracle", testdb.Oracle)
	s.exec(t, "CREATE TABLE gates (id NUMBER(4) PRIMARY KEY)", "INSERT INTO gates VALUES (7)",
		"CREATE TABLE locks (id NUMBER(4) PRIMARY KEY, code VARCHAR2(4 BYTE), gate NUMBER REFERENCES gates (id), fall NUMBER(4,2) CONSTRAINT falls CHECK (fall > 0), name NVARCHAR2(9) UNIQUE)",
		"CREATE TRIGGER no_tens BEFORE INSERT ON locks FOR EACH ROW WHEN (new.id = 10) BEGIN RAISE_APPLICATION_ERROR(-20010, 'no tens'); END;")
	b.write("locks.csv", "id,code,gate,fall,name\n1,a,7,1.5,one\n1,b,7,2,two\n3,c,8,3,three\n4,d,7,-1,four\n5,e,7,2.25,one\n10,f,7,1,ten\n6,,,,\n")
	rec := b.loaded(3, "locks.csv", "--into", s.url, "--table", "locks", "--mode", "append")
	assert.Equal(t, [][]string{{"1", "a", "1.5", "one"}, {"6", "<null>", "<null>", "<null>"}}, queryRows(t, s.db, "SELECT to_char(id), code, to_char(fall), name FROM locks ORDER BY id"))
	var refused []string
	for _, r := range b.rejects(rec.Entry) {
		refused = append(refused, strings.Join(r, " "))
	}
	all := strings.Join(refused, "\n")
	for line, code := range map[string]string{"3": "ORA-00001", "4": "ORA-02291", "5": "ORA-02290", "6": "ORA-00001", "7": "ORA-20010"} {
		assert.Regexp(t, `(?m)^.*\b`+line+`\b.*`+code, all)
	}
	// A text of too many bytes is found out here, before a row is sent, where bytes are counted.
	b.write("long.csv", "id,code\n20,abcd\n21,éé\n22,ééé\n")
	r := b.run(2, "load", "long.csv", "--into", s.url, "--table", "locks", "--mode", "append")
	assert.Contains(t, r.err, "code: 1 value does not fit: more bytes than the column holds: 6 in UTF-8, first on line 4 'ééé'")
}

// An empty text is a null: that is said, and where a column is required it stands in the way.
func TestOracleEmptyTexts(t *testing.T) {
	b, s := on(t, "oracle", testdb.Oracle)
	b.write("e.csv", "id,name\n1,Heron\n2,\"\"\n3,\n")
	b.run(0, "plan", "e.csv", "-o", "e.yaml", "--table", "empties")
	b.write("e.yaml", strings.Replace(b.read("e.yaml"), "- name: name\n", "- name: name\n    keep_empty: quoted\n", 1))
	r := b.run(0, "load", "e.yaml", "--into", s.url)
	assert.Contains(t, r.err, "name: empty texts go in as nulls: Oracle Database keeps none")
	assert.Regexp(t, `emptied +1  of the nulls in name are empty texts of the file`, r.out)
	assert.Equal(t, [][]string{{"1"}}, queryRows(t, s.db, "SELECT to_char(count(name)) FROM empties"))
	b.run(0, "verify", "empties", "--deep")
	s.exec(t, "CREATE TABLE named (id NUMBER(4), name VARCHAR2(9) NOT NULL)")
	r = b.run(2, "load", "e.yaml", "--into", s.url, "--table", "named", "--mode", "append")
	assert.Contains(t, r.err, "name: 2 values do not fit: blank, and the column is required, first on line 3")
	// Into a database that keeps them, nothing of this is said.
	assert.NotContains(t, b.run(0, "load", "e.yaml", "--into", "sqlite:e.db").err, "empty texts")

	b.write("e.csv", "id,name\n4,\"\"\n5,\"\"\n6,\n7,Coot\n")
	rec := b.loaded(0, "e.yaml", "--into", s.url, "--mode", "append")
	assert.EqualValues(t, []int64{3, 2}, []int64{rec.Columns[1].Nulls, rec.Columns[1].Emptied})
}

// Texts longer than a VARCHAR2 go in as CLOBs, among short ones and nulls, and come back whole.
func TestOracleLongTexts(t *testing.T) {
	b, s := on(t, "oracle", testdb.Oracle)
	var text strings.Builder
	text.WriteString("id,note,more\n")
	long := []string{strings.Repeat("é", 2001), strings.Repeat("x", 70000), "", "short", strings.Repeat("日", 1334), strings.Repeat("y", 4000)}
	for i := range 60 {
		text.WriteString(strings.Join([]string{string(rune('0'+i/10)) + string(rune('0'+i%10)), long[i%6], long[(i+1)%6]}, ",") + "\n")
	}
	b.write("notes.csv", text.String())
	b.loaded(0, "notes.csv", "--into", s.url, "--table", "notes", "--type", "id=char(2)")
	b.run(0, "verify", "notes", "--deep")
	assert.Equal(t, [][]string{{"60", "50", "50"}}, queryRows(t, s.db, "SELECT to_char(count(*)), to_char(count(note)), to_char(count(more)) FROM notes"))
	b.run(0, "export", s.url, "notes", "-o", "back.csv")
	assert.Equal(t, text.String(), b.read("back.csv"))
}

// The definition of a table says what it is made of, as the server would take it again.
func TestOracleDefinition(t *testing.T) {
	b, s := on(t, "oracle", testdb.Oracle)
	s.exec(t, "CREATE TABLE meters (no NUMBER(6) GENERATED ALWAYS AS IDENTITY PRIMARY KEY, other NUMBER(6) UNIQUE, mark RAW(16), part FLOAT(63), note VARCHAR2(9 BYTE) DEFAULT 'x' NOT NULL, twice NUMBER GENERATED ALWAYS AS (other * 2), CHECK (other > 0 OR mark IS NOT NULL))",
		"CREATE INDEX by_both ON meters (mark, note)")
	b.write("n.csv", "other\n1\n")
	b.loaded(0, "n.csv", "--into", s.url, "--table", "copied", "--like", "meters")
	own, copied := b.run(0, "ddl", s.url, "meters").out, b.run(0, "ddl", s.url, "copied").out
	for _, line := range []string{"no number(6,0) GENERATED ALWAYS AS IDENTITY", "mark raw(16)", "part float(63)", "note varchar2(9 byte) DEFAULT 'x' NOT NULL",
		"PRIMARY KEY (no)", "UNIQUE (other)", "CHECK (other > 0 OR mark IS NOT NULL)"} {
		assert.Contains(t, own, line)
		assert.Contains(t, copied, line)
	}
	assert.Contains(t, own, "CREATE INDEX by_both ON meters (mark, note)")
	assert.Contains(t, copied, "(mark, note)")
}

// What a table is not made for is said before anything is done.
func TestOracleLimits(t *testing.T) {
	b, s := on(t, "oracle", testdb.Oracle)
	s.exec(t, "CREATE TABLE boats (no NUMBER(6) GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name VARCHAR2(9))", "INSERT INTO boats (name) VALUES ('old')",
		"CREATE TABLE crews (id NUMBER(4) PRIMARY KEY, name VARCHAR2(9))", "INSERT INTO crews VALUES (1, 'old')", "CREATE TABLE trips (crew NUMBER(4) REFERENCES crews (id))", "CREATE VIEW names AS SELECT name FROM boats")
	b.write("b.csv", "no,name\n5,Heron\n")
	load := func(more ...string) string {
		return b.run(2, append([]string{"load", "b.csv", "--into", s.url, "--table", "boats", "--mode", "append"}, more...)...).err
	}
	assert.Contains(t, load(), "--keep-identity")
	assert.Contains(t, load("--keep-identity"), "it is GENERATED ALWAYS AS IDENTITY")
	b.write("b.csv", "name\nHeron\n")
	assert.Contains(t, b.run(2, "load", "b.csv", "--into", s.url, "--table", "names", "--mode", "append").err, "view")
	// A table that others refer to is refilled as long as no row of theirs would be left alone.
	b.write("c.csv", "id,name\n1,Ann\n2,Bob\n")
	b.loaded(0, "c.csv", "--into", s.url, "--table", "crews", "--mode", "refill", "--yes")
	s.exec(t, "INSERT INTO trips VALUES (1)")
	for mode, code := range map[string]int{"refill": 1, "replace": 2} {
		r := b.run(code, "load", "c.csv", "--into", s.url, "--table", "crews", "--mode", mode, "--yes", "--again")
		assert.Contains(t, r.err, "trips", mode)
		assert.Equal(t, [][]string{{"Ann"}, {"Bob"}}, queryRows(t, s.db, "SELECT name FROM crews ORDER BY id"))
	}
	assert.Contains(t, load("--create-schema"), "schema")
	_, err := s.db.Exec("SELECT 1 FROM boats;")
	require.ErrorContains(t, err, "ORA-00933", "the stand-in is as strict as the server")
}

// Over TLS, the server has to be proved, unless the URL says otherwise, which the receipt tells.
func TestOracleTLS(t *testing.T) {
	o, err := standin.Start(standin.Options{TLS: true, Logins: map[string]engine.Login{"tray": {Password: testdb.Password}}})
	require.NoError(t, err)
	t.Cleanup(o.Close)
	url := "oracle://tray@" + o.Addr + "/" + standin.Service
	b := benchOf(t, "oracle://tray:"+testdb.Password+"@"+o.Addr)
	b.write("a.csv", "id,name\n1,Heron\n")
	into := func(more string) []string { return []string{"load", "a.csv", "--into", url + more, "--table", "boats"} }
	assert.Contains(t, b.run(1, into("?ssl=true")...).err, "name a wallet that has the certificate of its authority, with wallet=FOLDER in the URL")
	for _, no := range []string{"false", "no", "0"} { // all of which the driver takes for no
		rec := b.loaded(0, append(into("?ssl=enable&ssl+verify=" + no)[1:], "--mode", "replace", "--yes")...)
		assert.Equal(t, "TLS, the server not checked", rec.Connection)
		b.run(0, "verify", rec.Entry, "--deep")
	}
}
