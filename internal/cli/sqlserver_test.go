package cli_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/testdb"
)

// A merge goes by the values themselves, in a table with what only this database has; and what
// it changed can be taken back, number by number and letter by letter.
func TestSQLServerMerge(t *testing.T) {
	b, s := on(t, "sqlserver", testdb.SQLServer)
	s.exec(t, "CREATE TABLE boats (id int IDENTITY(1,1) PRIMARY KEY, name varchar(40) COLLATE Latin1_General_100_CI_AI_SC_UTF8, code char(4), "+
		"length decimal(6,2), twice AS (length * 2), version rowversion, note nvarchar(max))",
		"INSERT INTO boats (name, code, length, note) VALUES (N'Łódź', 'A', 7.5, NULL), (N'Śluza', 'B', 9.25, N''), (N'Heron', 'C', 12, N'x')")
	all := func() [][]string {
		return queryRows(t, s.db, "SELECT CAST(id AS varchar(9)), CAST(name AS nvarchar(40)), code, CAST(length AS varchar(9)), CAST(twice AS varchar(9)), note FROM boats ORDER BY id")
	}
	were := all()
	// Another letter that a Western code page would not tell apart, and another case, are other
	// values.
	b.write("b.csv", "id,name,code,length,note\n1,Łódz,A,7.50,\n2,Śluza,B,9.25,\"\"\n3,heron,C,12.00,x\n7,Ćma,D,5.00,new\n")
	into := []string{"b.csv", "--into", s.url, "--table", "boats", "--mode", "merge", "--keep-identity", "--keep-empty", "quoted", "--yes"}
	rec := b.merged(0, into...)
	assert.EqualValues(t, []int64{1, 2, 1}, []int64{rec.Merge.Inserted, rec.Merge.Changed, rec.Merge.Unchanged})
	assert.Equal(t, [][]string{{"1", "Łódz", "A   ", "7.50", "15.00", "<null>"}, {"2", "Śluza", "B   ", "9.25", "18.50", ""}, {"3", "heron", "C   ", "12.00", "24.00", "x"},
		{"7", "Ćma", "D   ", "5.00", "10.00", "new"}}, all())
	s.exec(t, "INSERT INTO boats (name) VALUES ('Newt')")
	assert.Equal(t, "8", all()[4][0], "the server goes on above what the file brought")
	s.exec(t, "DELETE FROM boats WHERE id = 8")
	b.undone(rec.Entry)
	assert.Equal(t, were, all())

	s.exec(t, "CREATE TABLE old (id int PRIMARY KEY, note text)")
	b.write("o.csv", "id,note\n1,x\n")
	assert.Contains(t, b.run(1, "load", "o.csv", "--into", s.url, "--table", "old", "--mode", "merge", "--yes").err, "note is of type text, which the server does not compare")
}

// A trigger that ends the transaction because of a row ends the merge, and nothing is changed.
func TestSQLServerMergeEnded(t *testing.T) {
	b, s := on(t, "sqlserver", testdb.SQLServer)
	s.exec(t, "CREATE TABLE boats (id int PRIMARY KEY, name varchar(20))", "INSERT INTO boats VALUES (1, 'Heron')",
		"CREATE TRIGGER no_toads ON boats AFTER INSERT, UPDATE AS IF EXISTS (SELECT 1 FROM inserted WHERE name = 'Toad') THROW 50001, 'no toads', 1")
	b.write("b.csv", "id,name\n1,Coot\n2,Toad\n3,Newt\n")
	r := b.run(1, "load", "b.csv", "--into", s.url, "--table", "boats", "--mode", "merge", "--yes", "--max-rejects", "none")
	assert.Contains(t, r.err, "no toads")
	assert.Equal(t, [][]string{{"1", "Heron"}}, queryRows(t, s.db, "SELECT CAST(id AS varchar(9)), name FROM boats"))
}
