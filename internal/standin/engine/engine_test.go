package engine

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told keeps what a batch tells, as lines: rows with bars between, counts, and errors by
// their numbers.
type told struct {
	cols  []Out
	lines []string
}

func (s *told) Columns(cols []Out) { s.cols = cols }
func (s *told) Row(v []Value) error {
	var row []string
	for i := range v {
		x, err := convert(v[i], s.cols[i].Type, Type{Kind: NVarChar, Len: Max}, 121)
		if s.cols[i].Type.IsFloat() || s.cols[i].Type.IsBytes() {
			x, err = convert(v[i], s.cols[i].Type, Type{Kind: NVarChar, Len: Max}, 1)
		}
		if err != nil {
			return err
		}
		if row = append(row, x.S); v[i].Null {
			row[i] = "NULL"
		}
	}
	s.lines = append(s.lines, strings.Join(row, "|"))
	return nil
}
func (s *told) Done(int64, bool, DoneKind) {}
func (s *told) Message(e *Error) {
	if e.Class > 10 {
		s.lines = append(s.lines, fmt.Sprintf("error %d", e.Number))
	} else if e.Number == 0 {
		s.lines = append(s.lines, e.Message)
	}
}
func (s *told) Changed(Change, string, string)   {}
func (s *told) Status(int64)                     {}
func (s *told) Output(n string, t Type, v Value) {}

func session(t *testing.T, srv *Server) *Session {
	s, err := srv.Connect("tray", "x", "", "", "")
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func run(s *Session, batch string) string {
	var out told
	s.Batch(batch, &out)
	return strings.Join(out.lines, "; ")
}

func newSession(t *testing.T) *Session {
	return session(t, New(map[string]Login{"tray": {Password: "x"}}, Settings{}))
}

// Batches, one after the other in one session, and what comes of each.
func TestBatches(t *testing.T) {
	s := newSession(t)
	for _, x := range [][2]string{
		// Types and conversions.
		{"SELECT CAST(2.5 AS int), CAST(-2.5 AS decimal(3,0)), CAST('  7 ' AS int), 7 / 2, 7 / 2.0", "2|-3|7|3|3.500000"},
		{"SELECT CAST(1e300 AS real)", "error 8115"},
		{"SELECT CAST(300 AS tinyint)", "error 8115"},
		{"SELECT CAST('x' AS int)", "error 245"},
		{"SELECT CAST('x' AS decimal(3,1))", "error 8114"},
		{"SELECT CAST('2024-02-30' AS date)", "error 241"},
		{"SELECT CAST('1752-12-31' AS datetime)", "error 242"},
		{"SELECT TRY_CAST('x' AS int), TRY_CONVERT(date, '20240229')", "NULL|2024-02-29"},
		{"SELECT CAST('2024-01-01 10:00:00.005' AS datetime), CAST('2024-01-01T10:00:30' AS smalldatetime)", "2024-01-01 10:00:00.007|2024-01-01 10:01:00.000"},
		{"SELECT CAST('2024-01-01 10:00:00 +02:00' AS datetimeoffset(0)), CAST(SWITCHOFFSET(CAST('2024-01-01 10:00:00 +02:00' AS datetimeoffset(0)), '+00:00') AS datetime2(0))", "2024-01-01 10:00:00 +02:00|2024-01-01 08:00:00"},
		{"SELECT LEN(N'😀 '), DATALENGTH(N'😀'), DATALENGTH('é'), DATALENGTH(CAST(N'é' COLLATE Latin1_General_100_BIN2_UTF8 AS varchar(9)))", "2|4|1|2"},
		{"SELECT CAST(N'ψé' AS varchar(5)), CAST('abc' AS varchar(2)), CAST('ab' AS char(4)) + '|'", "?é|ab|ab  |"},
		{"SELECT CASE WHEN 'a' = 'A ' THEN 1 ELSE 0 END, CASE WHEN 'a' COLLATE Latin1_General_BIN2 = 'A' THEN 1 ELSE 0 END, CASE WHEN N'é' = N'e' COLLATE Latin1_General_CI_AI THEN 1 ELSE 0 END", "1|0|1"},
		{"SELECT CAST(99999999999999999999999999999999999999 AS decimal(38,0)) + 1", "error 8115"},
		{"SELECT 1 / 0", "error 8134"},
		{"SELECT DATEDIFF_BIG(microsecond, CAST('0001-01-01' AS datetime2), CAST('9999-12-31 23:59:59.999999' AS datetime2)), DATEDIFF(day, '1970-01-01', '2000-01-01')", "315537897599999999|10957"},
		{"SELECT CONVERT(varchar(40), HASHBYTES('MD5', 'abc'), 2), CAST(N'a' AS varbinary(4))", "900150983CD24FB0D6963F7D28E17F72|0x6100"},
		{"SELECT CONVERT(char(36), CAST('6F9619FF-8B86-D011-B42D-00C04FC964FF' AS uniqueidentifier))", "6F9619FF-8B86-D011-B42D-00C04FC964FF"},
		// Names.
		{"SELECT * FROM nowhere", "error 208"}, {"SELECT nothing", "error 207"}, {"SELECT t.a FROM (SELECT 1 AS a) x", "error 4104"},
		{"SELECT a FROM (SELECT 1 AS a) x, (SELECT 2 AS a) y", "error 209"},
		// Tables.
		{"CREATE TABLE t (id int IDENTITY PRIMARY KEY, code varchar(3) NOT NULL UNIQUE, n decimal(5,2) DEFAULT 1.5 CHECK (n > 0), twice AS (n * 2), stamp rowversion)", ""},
		{"INSERT t (code) VALUES ('a'), ('b'); SELECT id, code, n, twice, stamp FROM t", "1|a|1.50|3.00|0x0000000000000001; 2|b|1.50|3.00|0x0000000000000002"},
		{"INSERT t (code) VALUES ('A')", "error 2627"}, {"INSERT t (code) VALUES (NULL)", "error 515"}, {"INSERT t (code) VALUES ('long')", "error 2628"},
		{"INSERT t (code) VALUES ('x  ')", ""}, {"INSERT t (code, n) VALUES ('c', -1)", "error 547"}, {"INSERT t (code, n) VALUES ('c', 1000)", "error 8115"},
		{"INSERT t (id, code) VALUES (9, 'c')", "error 544"}, {"INSERT t (code, twice) VALUES ('c', 1)", "error 271"}, {"INSERT t (code, stamp) VALUES ('c', 0x01)", "error 273"},
		{"SET IDENTITY_INSERT t ON; INSERT t (id, code) VALUES (40, 'c'); SET IDENTITY_INSERT t OFF; INSERT t (code) VALUES ('d'); SELECT MAX(id), SCOPE_IDENTITY() FROM t", "41|41"},
		{"CREATE TABLE t (a int)", "error 2714"}, {"CREATE INDEX by_n ON t (n); DROP INDEX by_n ON t", ""},
		{"CREATE TABLE bad (v nvarchar(max) PRIMARY KEY)", "error 1919"},
		{"CREATE TABLE kid (id int PRIMARY KEY, t int REFERENCES t ON DELETE CASCADE); INSERT kid VALUES (1, 1), (2, 2), (3, NULL)", ""},
		{"INSERT kid VALUES (4, 99)", "error 547"}, {"TRUNCATE TABLE t", "error 4712"}, {"DROP TABLE t", "error 3726"},
		{"DELETE t WHERE id = 1; SELECT id FROM kid ORDER BY id", "2; 3"},
		{"UPDATE t SET code = CASE code WHEN 'b' THEN 'c' WHEN 'c' THEN 'b' ELSE code END WHERE code IN ('b', 'c'); SELECT id, code FROM t ORDER BY id", "2|c; 5|x  ; 40|b; 41|d"},
		{"UPDATE t SET code = 'z' WHERE id > 2", "error 2627"}, {"SELECT COUNT(*) FROM t WHERE code = 'z'", "0"},
		{"SELECT k.id, t.code FROM kid k LEFT JOIN t ON t.id = k.t ORDER BY k.id DESC", "3|NULL; 2|c"},
		{"SELECT t, COUNT(*), STRING_AGG(id, ',') FROM kid GROUP BY t HAVING COUNT(*) > 0 ORDER BY t", "NULL|1|3; 2|1|2"},
		{"SELECT id, COUNT(*) FROM kid", "error 8120"}, {"SELECT MIN(CAST(1 AS bit))", "error 8117"},
		{"SELECT TOP (1) id FROM kid UNION ALL SELECT 7 ORDER BY id DESC", "7; 2"}, {"SELECT * FROM (SELECT 1 AS a ORDER BY a) x", "error 1033"},
		{"SELECT v.a FROM (VALUES (1), (2)) v (a) WHERE NOT EXISTS (SELECT 1 FROM kid WHERE id = v.a)", "1"},
		{"SELECT k.id, x.c FROM kid k CROSS APPLY (SELECT COUNT(*) AS c FROM t WHERE t.id = k.t) x ORDER BY 1", "2|1; 3|0"},
		// Transactions, and what dooms them.
		{"BEGIN TRAN; DELETE kid; SAVE TRAN a; INSERT kid VALUES (9, NULL); ROLLBACK TRAN a; SELECT COUNT(*), @@TRANCOUNT, XACT_STATE() FROM kid; ROLLBACK; SELECT COUNT(*), @@TRANCOUNT FROM kid", "0|1|1; 2|0"},
		{"COMMIT", "error 3902"}, {"ROLLBACK TRAN nothing", "error 3903"},
		{"BEGIN TRAN; CREATE TABLE gone (a int); DROP TABLE kid; ROLLBACK; SELECT COUNT(*) FROM kid; SELECT OBJECT_ID('gone')", "2; NULL"},
		{"BEGIN TRAN; INSERT kid VALUES (2, NULL); SELECT XACT_STATE(); ROLLBACK", "error 2627; 1"},
		{"BEGIN TRAN; SELECT CAST('x' AS int); SELECT 1", "error 245"}, {"SELECT @@TRANCOUNT", "0"},
		{"BEGIN TRAN; BEGIN TRY; SELECT CAST('x' AS int); END TRY BEGIN CATCH SELECT ERROR_NUMBER(), XACT_STATE(); INSERT kid VALUES (7, NULL); END CATCH", "245|-1; error 3930; error 3998"},
		{"SELECT @@TRANCOUNT", "0"},
		{"SET XACT_ABORT ON; BEGIN TRAN; INSERT kid VALUES (2, NULL); SELECT 1", "error 2627"}, {"SELECT @@TRANCOUNT; SET XACT_ABORT OFF", "0"},
		{"BEGIN TRY THROW 50001, 'no', 1 END TRY BEGIN CATCH PRINT ERROR_MESSAGE(); THROW END CATCH", "no; error 50001"},
		{"RAISERROR ('so %s', 16, 1, 'it is'); SELECT 1", "error 50000; 1"},
		// Triggers.
		{"CREATE TRIGGER g ON kid AFTER INSERT AS IF EXISTS (SELECT 1 FROM inserted WHERE id > 99) THROW 50002, 'too large', 1", ""},
		{"BEGIN TRAN; INSERT kid VALUES (100, NULL); SELECT 1", "error 50002"}, {"SELECT @@TRANCOUNT; INSERT kid VALUES (50, NULL)", "0"},
		{"SELECT name, is_disabled FROM sys.triggers", "g|0"},
		// Variables, procedures, flow.
		{"DECLARE @a int = 1, @s nvarchar(20); WHILE @a < 4 SET @a += 1; SELECT @s = N'n' + CAST(@a AS nvarchar(5)); SELECT @s", "n4"},
		{"DECLARE @n int; EXEC sp_executesql N'SET @x = @y * 2', N'@x int OUTPUT, @y int', @n OUTPUT, 21; SELECT @n", "42"},
		{"EXEC ('SET LOCK_TIMEOUT 7; SELECT @@LOCK_TIMEOUT'); SELECT @@LOCK_TIMEOUT", "7; -1"},
		{"SELECT @none", "error 137"}, {"EXEC nothing_known", "error 2812"},
		{"DECLARE @r int; EXEC @r = sp_getapplock 'a', 'Exclusive', 'Session', 0; SELECT @r", "0"},
		{"SET NOEXEC ON; DROP TABLE kid", ""}, {"SET NOEXEC OFF; SELECT COUNT(*) FROM kid", "3"},
		{"CREATE VIEW few AS SELECT id FROM kid WHERE t IS NOT NULL", ""}, {"SELECT * FROM few", "2"}, {"INSERT few VALUES (1)", "error 40517"},
		{"SELECT 1; CREATE VIEW v AS SELECT 1 AS a", "error 111"},
		{"EXEC sp_addextendedproperty N'MS_Description', N'x', N'SCHEMA', N'dbo', N'TABLE', N'kid'; SELECT value FROM sys.extended_properties", "x"},
		{"ALTER TABLE kid ADD note varchar(5) NULL; UPDATE kid SET note = 'abcde' WHERE id = 2; ALTER TABLE kid ALTER COLUMN note varchar(3)", "error 2628"},
		{"ALTER TABLE kid ALTER COLUMN note varchar(9) NULL; SELECT TYPE_NAME(user_type_id), max_length FROM sys.columns WHERE name = 'note'", "varchar|9"},
		{"CREATE SEQUENCE q START WITH 5; SELECT NEXT VALUE FOR q; ALTER SEQUENCE q RESTART WITH 50; SELECT NEXT VALUE FOR q", "5; 50"},
		// What is not known is said, and never done in silence.
		{"MERGE INTO t USING kid ON 1 = 1", "error 102"}, {"SELECT LAG(id) OVER (ORDER BY id) FROM kid", "error 40517"}, {"SELECT SOUNDEX('a')", "error 195"},
		{"SELECT * FROM sys.dm_os_wait_stats", "error 208"}, {"SET STATISTICS IO ON", "error 102"}, {"SELECT id, COUNT(*) OVER (PARTITION BY id % 2) AS n, ROW_NUMBER() OVER (PARTITION BY id % 2 ORDER BY id DESC) AS place INTO x FROM (VALUES (1), (2), (3)) v (id); SELECT * FROM x ORDER BY id; DROP TABLE x", "1|2|2; 2|1|1; 3|2|1"},
		{"SELECT ROW_NUMBER() OVER (PARTITION BY id) FROM kid", "error 4112"},
		{"SELECT 'open", "error 102"}, {"SELECT CONVERT(varchar(30), GETDATE(), 9)", "error 40517"},
	} {
		assert.Equal(t, x[1], run(s, x[0]), x[0])
	}
}

// Who changes a table is waited for; who waits too long is told, and a circle is broken.
func TestLocks(t *testing.T) {
	srv := New(map[string]Login{"tray": {Password: "x"}}, Settings{})
	a, b := session(t, srv), session(t, srv)
	require.Empty(t, run(a, "CREATE TABLE one (id int); CREATE TABLE two (id int); INSERT one VALUES (1)"))
	require.Empty(t, run(a, "BEGIN TRAN; UPDATE one SET id = 2"))
	assert.Equal(t, "error 1222", run(b, "SET LOCK_TIMEOUT 50; SELECT id FROM one"))
	assert.Equal(t, "2", run(b, "SELECT id FROM one WITH (NOLOCK)"), "what is not committed is seen by who asks for it")
	var wait sync.WaitGroup
	wait.Go(func() { assert.Equal(t, "1", run(b, "SET LOCK_TIMEOUT -1; SELECT id FROM one")) })
	time.Sleep(50 * time.Millisecond)
	run(a, "ROLLBACK")
	wait.Wait()

	run(a, "BEGIN TRAN; INSERT one VALUES (3)")
	run(b, "BEGIN TRAN; INSERT two VALUES (3)")
	wait.Go(func() { run(a, "INSERT two VALUES (4)") })
	time.Sleep(50 * time.Millisecond)
	assert.Equal(t, "error 1205; 0", run(b, "INSERT one VALUES (4)")+"; "+run(b, "SELECT @@TRANCOUNT"), "the one that closes the circle")
	wait.Wait()
	run(a, "COMMIT")
	assert.Equal(t, "2|1", run(a, "SELECT (SELECT COUNT(*) FROM one), (SELECT COUNT(*) FROM two)"))

	// A definition that is not committed is waited for, by its name.
	run(a, "BEGIN TRAN; CREATE TABLE three (id int)")
	assert.Equal(t, "error 1222", run(b, "SET LOCK_TIMEOUT 50; SELECT * FROM three"))
	assert.Equal(t, "2", run(b, "SELECT COUNT(*) FROM sys.tables"), "and not in the lists yet")
	run(a, "COMMIT; BEGIN TRAN; DROP TABLE three")
	assert.Equal(t, "error 1222", run(b, "SELECT OBJECT_ID('three')"))
	a.Close()
	assert.Equal(t, "0", run(b, "SELECT COUNT(*) FROM three"), "whose session ends has done nothing")

	// Locks by name.
	require.Equal(t, "0", run(b, "DECLARE @r int; EXEC @r = sp_getapplock 'x', 'Exclusive', 'Session', 0; SELECT @r"))
	c := session(t, srv)
	assert.Equal(t, "-1", run(c, "DECLARE @r int; EXEC @r = sp_getapplock 'x', 'Exclusive', 'Session', 0; SELECT @r"))
	b.Reset()
	assert.Equal(t, "0", run(c, "DECLARE @r int; EXEC @r = sp_getapplock 'x', 'Exclusive', 'Session', 0; SELECT @r"))
}

// Who may not do something is told what right is missing.
func TestRights(t *testing.T) {
	srv := New(map[string]Login{"tray": {Password: "x"}, "reader": {Password: "y", May: []string{"SELECT"}}}, Settings{})
	a := session(t, srv)
	run(a, "CREATE TABLE one (id int)")
	r, err := srv.Connect("reader", "y", "master", "", "")
	require.NoError(t, err)
	for batch, want := range map[string]string{"SELECT * FROM one": "", "INSERT one VALUES (1)": "error 229", "DELETE one": "error 229", "TRUNCATE TABLE one": "error 229",
		"CREATE TABLE two (id int)": "error 262", "CREATE TABLE #mine (id int); INSERT #mine VALUES (1)": "", "DROP TABLE one": "error 229",
		"SELECT * FROM sys.dm_tran_locks": "error 300"} {
		assert.Equal(t, want, run(r, batch), batch)
	}
	_, err = srv.Connect("reader", "z", "", "", "")
	assert.ErrorContains(t, err, "18456")
	_, err = srv.Connect("tray", "x", "nowhere", "", "")
	assert.ErrorContains(t, err, "4060")
}
