package tsql

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for _, s := range []string{
		"SELECT 1", "select top (3) * from [dbo].[boats] b with (nolock) where b.name like N'H%' order by 1 desc",
		"SET XACT_ABORT ON; SET NOCOUNT ON\nBEGIN TRANSACTION; COMMIT",
		"IF (SELECT COUNT_BIG(*) FROM t) <> 3\nBEGIN\n ROLLBACK TRANSACTION;\n THROW 50000, N'no', 1;\nEND;",
		"IF @@TRANCOUNT = 0 SET NOEXEC ON;",
		"CREATE TABLE [t] (\n id int NOT NULL,\n [na me] nvarchar(20) NULL DEFAULT N'x', total AS (a + b) PERSISTED, PRIMARY KEY (id)\n)",
		"EXEC sys.sp_addextendedproperty @name = N'MS_Description', @value = N'x', @level0type = N'SCHEMA'",
		"INSERT INTO t (a, b) VALUES\n(1, N'x' + NCHAR(10) + N'y'),\n(-2.5, CAST(N'' AS nvarchar(max)) + N'y')",
		"insert bulk t ([id] int, [x] varchar(max) collate Latin1_General_CI_AS) with (tablock, KEEP_NULLS)",
		"DECLARE @x int = 3, @y nvarchar(max); SET @x += 1; EXEC @x = sp_getapplock @Resource = 'a', @LockMode = 'Exclusive'",
		"SELECT a, sum(b) OVER (PARTITION BY a ORDER BY b) FROM t GROUP BY a HAVING count(*) > 1",
		"UPDATE t SET a = s.a FROM dbo.t t JOIN #stage s ON s.id = t.id WHERE NOT EXISTS (SELECT 1 FROM u)",
		"BEGIN TRY INSERT t VALUES (1) END TRY BEGIN CATCH THROW; END CATCH",
		"DBCC CHECKIDENT (N'[dbo].[t]', RESEED, 7) WITH NO_INFOMSGS",
		"CREATE TRIGGER g ON t AFTER INSERT, UPDATE AS IF EXISTS (SELECT 1 FROM inserted) THROW 50001, 'no', 1",
		"SELECT CASE WHEN 1 = 1 THEN 'a' ELSE NULL END COLLATE Latin1_General_BIN2, CONVERT(varchar(30), x, 126) FROM (VALUES (1), (2)) v (x)",
		"/* a /* nested */ comment */ PRINT 'x' -- end",
		"sp_who", "ALTER TABLE t ADD CONSTRAINT c CHECK (a > 0)", "ALTER TABLE t ALTER COLUMN a nvarchar(30) NOT NULL",
	} {
		_, err := Parse(s)
		require.NoError(t, err, s)
	}
	for s, want := range map[string]string{
		"SELECT 'a":                     "Unclosed quotation mark",
		"SELEC 1, 2 3":                  "Incorrect syntax near '3'",
		"SELECT * FROM t WITH (FAST)":   "does not know the table hint FAST",
		"MERGE INTO t":                  "Incorrect syntax near 'MERGE'",
		"/* open":                       "Missing end comment mark",
		"WITH x AS (SELECT 1) SELECT 2": "common table expressions",
	} {
		_, err := Parse(s)
		assert.ErrorContains(t, err, want, s)
	}
	e, err := ParseExpr("1 + 2 * -3 = 4 AND NOT a IS NULL OR b BETWEEN 1 AND 2")
	require.NoError(t, err)
	assert.Equal(t, "OR", e.(*Binary).Op)
	list, err := Parse("CREATE TABLE t (a int CHECK (a > 0) DEFAULT (1+1))")
	require.NoError(t, err)
	c := list[0].(*CreateTable).Columns[0]
	assert.Equal(t, "(1+1)", c.Text)
	assert.Equal(t, "(a > 0)", c.More[0].Text)
}

// Whatever text comes, it is read or refused.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"SELECT 1", "INSERT t VALUES (1, N'x')", "BEGIN TRY THROW END TRY BEGIN CATCH END CATCH", "CREATE TABLE t (a int CHECK (a > 0))",
		"EXEC @a = p @b = 1 OUTPUT", "IF 1=1 SELECT CASE WHEN 1 THEN 2 END ELSE PRINT 'x'", "insert bulk t (a int) with (tablock)"} {
		f.Add(s)
	}
	f.Fuzz(func(_ *testing.T, s string) {
		Parse(s)
		ParseExpr(s)
		ParseName(s)
	})
}
