package dialect

import (
	"fmt"
	"path/filepath"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/mozillazg/go-unidecode"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// nameLimit is the longest name that SafeNames makes, in ASCII characters: as
// long as PostgreSQL allows, less room for a number.
const nameLimit = 56

// letters that do not decompose into a plain one and a mark.
var letters = strings.NewReplacer("ß", "ss", "æ", "ae", "Æ", "Ae", "œ", "oe", "Œ", "Oe", "ø", "o", "Ø", "O",
	"đ", "d", "Đ", "D", "ł", "l", "Ł", "L", "þ", "th", "Þ", "Th", "ð", "d", "Ð", "D", "ı", "i",
	"£", " gbp ", "€", " eur ", "$", " usd ", "%", " percent ", "°", " deg ", "&", " and ", "#", " no ", "№", " no ",
	"²", "2", "³", "3", "µ", "u", "'", "", "’", "")

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// SafeName makes a name that every database takes unquoted, unless it is a
// reserved word: lower-case ASCII letters, digits and underscores, beginning
// with a letter. Letters of other scripts are written in Latin ones. It returns ""
// for a text without any.
func SafeName(s string) string {
	if s = letters.Replace(s); !isASCII(s) {
		s, _, _ = transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC), s)
		s = unidecode.Unidecode(s)
	}
	var b strings.Builder
	var last rune // the last character written, or '_' for a gap
	rs := []rune(s)
	for i, r := range rs {
		switch {
		case r >= 'A' && r <= 'Z':
			// camelCase is two words, and so is the end of an acronym.
			if i > 0 && last != '_' && last != 0 &&
				(rs[i-1] >= 'a' && rs[i-1] <= 'z' || rs[i-1] >= 'A' && rs[i-1] <= 'Z' && i+1 < len(rs) &&
					rs[i+1] >= 'a' && rs[i+1] <= 'z') {
				b.WriteByte('_')
			}
			r += 'a' - 'A'
			b.WriteRune(r)
			last = r
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
			last = r
		case last != '_' && last != 0:
			b.WriteByte('_')
			last = '_'
		}
	}
	name := strings.Trim(b.String(), "_")
	if name == "" {
		return ""
	}
	if name[0] >= '0' && name[0] <= '9' {
		name = "n" + name
	}
	if len(name) > nameLimit {
		name = strings.TrimRight(name[:nameLimit], "_")
	}
	return name
}

// SafeNames makes a different safe name of each header, or keeps headers as
// they are. Headers without a usable character become column_1 and so on, by
// their place; of names that would be the same, the later ones get a number.
func SafeNames(headers []string, keep bool) []string {
	out := make([]string, len(headers))
	used := make(map[string]bool, len(headers))
	next := map[string]int{}
	for i, h := range headers {
		name := SafeName(h)
		if keep {
			name = strings.TrimSpace(h)
		}
		if name == "" {
			name = fmt.Sprintf("column_%d", i+1)
		}
		base := name
		for used[strings.ToLower(name)] {
			n := max(next[base], 1) + 1
			next[base] = n
			name = fmt.Sprintf("%s_%d", base, n)
		}
		used[strings.ToLower(name)] = true
		out[i] = name
	}
	return out
}

// TableName makes a safe table name of a file's.
func TableName(path string) string {
	base := filepath.Base(path)
	for _, ext := range []string{".gz", ".zip"} {
		base = strings.TrimSuffix(base, ext)
	}
	if e := filepath.Ext(base); e != base {
		base = strings.TrimSuffix(base, e)
	}
	if n := SafeName(base); n != "" {
		return n
	}
	return "loaded"
}

// Reserved are words that the SQL standard (ISO/IEC 9075-2, 5.2) or one of
// the databases here reserves; a name among them is quoted everywhere.
var Reserved = wordSet(`
ACCESS ADD ALL ALTER ANALYSE ANALYZE AND ANY ARRAY AS ASC ASYMMETRIC AUDIT AUTHORIZATION
BACKUP BEFORE BEGIN BETWEEN BIGINT BINARY BLOB BOTH BREAK BROWSE BULK BY CALL CASCADE CASE CAST CHANGE CHAR CHARACTER
CHECK CHECKPOINT CLOSE CLUSTER CLUSTERED COLLATE COLLATION COLUMN COMMENT COMMIT COMPRESS CONCURRENTLY CONDITION CONNECT
CONSTRAINT CONTAINS CONTINUE CONVERT CREATE CROSS CUBE CURRENT CURRENT_CATALOG CURRENT_DATE CURRENT_ROLE CURRENT_SCHEMA
CURRENT_TIME CURRENT_TIMESTAMP CURRENT_USER CURSOR DATABASE DATABASES DATE DAY DBCC DEALLOCATE DEC DECIMAL DECLARE DEFAULT
DEFERRABLE DELAYED DELETE DENY DESC DESCRIBE DETERMINISTIC DISK DISTINCT DISTINCTROW DISTRIBUTED DIV DO DOUBLE DROP DUAL DUMP
EACH ELSE ELSEIF ENCLOSED END ERRLVL ESCAPE ESCAPED EXCEPT EXCLUSIVE EXEC EXECUTE EXISTS EXIT EXPLAIN EXTERNAL FALSE FETCH FILE
FILLFACTOR FLOAT FOR FORCE FOREIGN FREETEXT FREEZE FROM FULL FULLTEXT FUNCTION GENERATED GET GLOB GOTO GRANT GROUP GROUPS HAVING
HIGH_PRIORITY HOLDLOCK HOUR IDENTIFIED IDENTITY IF IGNORE ILIKE IMMEDIATE IN INCREMENT INDEX INDEXED INFILE INITIAL INITIALLY
INNER INOUT INSERT INT INTEGER INTERSECT INTERVAL INTO IS ISNULL ITERATE JOIN KEY KEYS KILL LATERAL LEAD LEADING LEAVE LEFT LEVEL
LIKE LIMIT LINEAR LINENO LINES LOAD LOCALTIME LOCALTIMESTAMP LOCK LONG LOOP MATCH MAXEXTENTS MERGE MINUS MINUTE MOD MODE MODIFIES
MODIFY MONTH NATIONAL NATURAL NOAUDIT NOCHECK NOCOMPRESS NONCLUSTERED NOT NOTNULL NOWAIT NULL NULLIF NUMBER NUMERIC OF OFF OFFLINE
OFFSET ON ONLINE ONLY OPEN OPTION OPTIONALLY OR ORDER OUT OUTER OUTFILE OVER OVERLAPS PARTITION PCTFREE PERCENT PIVOT PLACING PLAN
PRAGMA PRECISION PRIMARY PRINT PRIOR PROC PROCEDURE PUBLIC PURGE RAISERROR RANGE RANK RAW READ READS READTEXT REAL RECURSIVE
REFERENCES REGEXP RELEASE RENAME REPEAT REPLACE REPLICATION REQUIRE RESOURCE RESTRICT RETURN RETURNING REVERT REVOKE RIGHT RLIKE
ROLLBACK ROLLUP ROW ROWID ROWNUM ROWS RULE SAVE SAVEPOINT SCHEMA SCHEMAS SECOND SELECT SENSITIVE SEPARATOR SESSION SESSION_USER SET
SETUSER SHARE SHOW SHUTDOWN SIMILAR SIZE SMALLINT SOME SPATIAL SPECIFIC SQL SSL START STARTING STATISTICS SUCCESSFUL SYMMETRIC
SYNONYM SYSDATE SYSTEM SYSTEM_USER TABLE TABLESAMPLE TERMINATED TEXTSIZE THEN TIME TIMESTAMP TO TOP TRAILING TRAN TRANSACTION TRIGGER
TRUE TRUNCATE UID UNDO UNION UNIQUE UNLOCK UNPIVOT UNSIGNED UPDATE UPDATETEXT USAGE USE USER USING VALIDATE VALUES VARCHAR VARCHAR2
VARIADIC VARYING VERBOSE VIEW WAITFOR WHEN WHENEVER WHERE WHILE WINDOW WITH WITHIN WRITE XOR YEAR ZEROFILL ZONE`)

func wordSet(s string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(s) {
		m[w] = true
	}
	return m
}
