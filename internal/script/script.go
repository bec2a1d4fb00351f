// Package script writes a whole load as one SQL script, to be run by someone
// else: the definition, the rows as literals, and a check of their number that
// undoes everything if it fails.
//
// The model: a [Writer] is a sink of rows, as a target's load is. What differs
// from database to database is a [manner]; literals and definitions come from
// package dialect.
package script

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"ambertray/internal/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/target"
)

// Options say what a script is of.
type Options struct {
	Dialect *dialect.Dialect
	Table   dialect.Table
	// Head is lines of comment at the top.
	Head []string
	Rows int64 // that will be written
	// CopyBlock writes the rows as PostgreSQL's COPY reads them.
	CopyBlock bool
	// CopyEncoder makes them, then.
	CopyEncoder func() target.Encoder
}

// A statement holds no more rows or bytes than this, so that no server's limit
// is met; a row that is longer by itself stands alone.
const (
	mostRows  = 500
	mostBytes = 400 << 10
)

// manner is how a database's scripts are written.
type manner struct {
	// before opens, end closes; both get the table's quoted name.
	before func(w *Writer) []string
	// after checks the number of rows and commits.
	after func(w *Writer) []string
	// afterDefinition stands between definition and rows.
	afterDefinition []string
	// insert is the head of a statement, row what stands before a row's
	// literals, between between rows, close at the end.
	insert, row, between, close string
	statementEnd                string
	rows                        func(columns int) int
	// every tells after how many statements pause stands.
	every int
	pause string
}

var manners = map[string]manner{
	"sqlite": {
		before: func(*Writer) []string { return []string{"PRAGMA foreign_keys = ON;", "BEGIN IMMEDIATE;"} },
		after: func(w *Writer) []string {
			// A check that fails rolls back, and the COMMIT finds nothing open.
			return []string{
				fmt.Sprintf("CREATE TEMP TABLE ambertray_check (loaded INTEGER CHECK (loaded = %d));", w.Rows),
				fmt.Sprintf("INSERT OR ROLLBACK INTO ambertray_check SELECT count(*) FROM %s;", w.name),
				"DROP TABLE temp.ambertray_check;", "COMMIT;"}
		},
		insert: "INSERT INTO %s (%s) VALUES\n", row: "(", between: "),\n(", close: ")", statementEnd: ";\n",
	},
	"postgres": {
		before: func(*Writer) []string {
			return []string{"SET client_encoding = 'UTF8';", "SET standard_conforming_strings = on;", "SET datestyle = ISO;", "SET timezone = 'UTC';", "BEGIN;"}
		},
		after: func(w *Writer) []string {
			quote := "$check$"
			for strings.Contains(w.name, quote) {
				quote = "$c" + quote[1:]
			}
			return []string{fmt.Sprintf("DO %[1]s BEGIN IF (SELECT count(*) FROM %[2]s) <> %[3]d THEN RAISE EXCEPTION 'the table does not have %[3]d rows; nothing is committed'; END IF; END %[1]s;",
				quote, w.name, w.Rows), "COMMIT;"}
		},
		insert: "INSERT INTO %s (%s) VALUES\n", row: "(", between: "),\n(", close: ")", statementEnd: ";\n",
	},
	"mysql": {
		before: func(*Writer) []string {
			return []string{"SET NAMES utf8mb4;", "SET time_zone = '+00:00';",
				"SET sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO';"}
		},
		afterDefinition: []string{"START TRANSACTION;"}, // definitions are committed at once there
		after: func(w *Writer) []string {
			// A null where none may be ends the script, and the transaction.
			return []string{"CREATE TEMPORARY TABLE ambertray_check (loaded INT NOT NULL);",
				fmt.Sprintf("INSERT INTO ambertray_check SELECT IF(count(*) = %d, 1, NULL) FROM %s;", w.Rows, w.name),
				"DROP TEMPORARY TABLE ambertray_check;", "COMMIT;"}
		},
		insert: "INSERT INTO %s (%s) VALUES\n", row: "(", between: "),\n(", close: ")", statementEnd: ";\n",
	},
	"sqlserver": {
		before: func(*Writer) []string {
			return []string{"SET XACT_ABORT ON;", "SET NOCOUNT ON;", "SET ANSI_PADDING ON;", "BEGIN TRANSACTION;"}
		},
		afterDefinition: []string{"GO", "IF @@TRANCOUNT = 0 SET NOEXEC ON;", "GO"},
		after: func(w *Writer) []string {
			return []string{fmt.Sprintf("IF (SELECT COUNT_BIG(*) FROM %s) <> %d\nBEGIN\n    ROLLBACK TRANSACTION;\n    THROW 50000, N'the table does not have %d rows; nothing is committed', 1;\nEND;",
				w.name, w.Rows, w.Rows), "COMMIT TRANSACTION;", "GO", "SET NOEXEC OFF;", "GO"}
		},
		insert: "INSERT INTO %s (%s) VALUES\n", row: "(", between: "),\n(", close: ")", statementEnd: ";\n",
		// A batch ends now and then. If it failed, the transaction is gone, and
		// nothing that follows is run.
		every: 20, pause: "GO\nIF @@TRANCOUNT = 0 SET NOEXEC ON;\nGO\n",
	},
	"oracle": {
		before: func(*Writer) []string {
			return []string{"WHENEVER SQLERROR EXIT FAILURE ROLLBACK", "SET DEFINE OFF", "SET SQLBLANKLINES ON", "SET FEEDBACK OFF",
				"ALTER SESSION SET NLS_NUMERIC_CHARACTERS = '.,';", "ALTER SESSION SET TIME_ZONE = '+00:00';"}
		},
		after: func(w *Writer) []string {
			return []string{fmt.Sprintf("DECLARE\n    n NUMBER;\nBEGIN\n    SELECT COUNT(*) INTO n FROM %s;\n    IF n <> %d THEN\n        RAISE_APPLICATION_ERROR(-20000, 'the table does not have %d rows; nothing is committed');\n    END IF;\nEND;\n/",
				w.name, w.Rows, w.Rows), "COMMIT;"}
		},
		insert: "INSERT ALL\n", row: "INTO %s (%s) VALUES (", between: ")\nINTO %s (%s) VALUES (", close: ")\nSELECT 1 FROM dual", statementEnd: ";\n",
		// No more than 999 columns altogether (Oracle, INSERT, "Restrictions on
		// Multitable Inserts"), and few rows, which are parsed faster.
		rows: func(columns int) int { return min(100, 999/max(columns, 1)) },
	},
}

// Writer writes one script. It is a load.Sink.
type Writer struct {
	Options
	w          io.Writer
	manner     manner
	name       string // quoted
	most       int
	buf        bytes.Buffer // the statement at hand
	inBuf      int          // rows in it
	written    int64
	statements int
	err        error
}

// New begins a script: all that stands before the rows.
func New(w io.Writer, opt Options) (*Writer, error) {
	s := &Writer{Options: opt, w: w, manner: manners[opt.Dialect.Name], name: opt.Dialect.Qualified(opt.Table.Schema, opt.Table.Name)}
	if opt.CopyBlock && opt.Dialect.Name != "postgres" {
		return nil, fmt.Errorf("only PostgreSQL reads a block of COPY")
	}
	m := &s.manner
	var names []string
	for _, c := range opt.Table.Columns {
		names = append(names, opt.Dialect.Quote(c.Name))
	}
	for _, part := range []*string{&m.insert, &m.row, &m.between} {
		if strings.Contains(*part, "%s") {
			*part = fmt.Sprintf(*part, s.name, strings.Join(names, ", "))
		}
	}
	s.most = mostRows
	if m.rows != nil {
		s.most = max(1, m.rows(len(names)))
	}
	for _, l := range opt.Head {
		s.put("-- " + oneLine(l) + "\n")
	}
	s.put("\n")
	for _, l := range m.before(s) {
		s.put(l + "\n")
	}
	s.put("\n")
	for _, l := range opt.Dialect.Create(opt.Table) {
		s.put(l + ";\n")
	}
	s.put("\n")
	for _, l := range m.afterDefinition {
		s.put(l + "\n")
	}
	if opt.CopyBlock {
		s.put(fmt.Sprintf("COPY %s (%s) FROM stdin;\n", s.name, strings.Join(names, ", ")))
	}
	return s, s.err
}

// oneLine keeps a comment a comment.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\u0085' || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, s)
}

func (s *Writer) put(text string) {
	if s.err == nil {
		_, s.err = io.WriteString(s.w, text)
	}
}

// Encoder implements load.Sink.
func (s *Writer) Encoder() target.Encoder {
	if s.CopyBlock {
		return s.CopyEncoder()
	}
	return &encoder{d: s.Dialect, columns: s.Table.Columns}
}

// encoder writes the literals of a row between commas, behind their length.
type encoder struct {
	d       *dialect.Dialect
	columns []dialect.Column
	buf     []byte
}

// Append implements target.Encoder.
func (e *encoder) Append(dst []byte, row []reading.Value) []byte {
	at := len(dst)
	dst = append(dst, 0, 0, 0, 0)
	for i := range row {
		if i > 0 {
			dst = append(dst, ", "...)
		}
		c := &e.columns[i]
		switch {
		case row[i].Null:
			dst = append(dst, "NULL"...)
		case c.Type.IsInteger():
			dst = row[i].Append(dst, c.Type)
		default:
			e.buf = row[i].Append(e.buf[:0], c.Type)
			dst = append(dst, e.d.Literal(*c, string(e.buf))...)
		}
	}
	binary.LittleEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
	return dst
}

// Write implements load.Sink.
func (s *Writer) Write(_ context.Context, b target.Batch) ([]target.Refusal, error) {
	s.written += int64(b.Rows)
	if s.CopyBlock {
		if s.err == nil {
			_, s.err = s.w.Write(b.Data)
		}
		return nil, s.err
	}
	data := b.Data
	for range b.Rows {
		n := int(binary.LittleEndian.Uint32(data))
		row := data[4 : 4+n]
		data = data[4+n:]
		if s.inBuf > 0 && (s.inBuf == s.most || s.buf.Len()+n > mostBytes) {
			s.flush()
		}
		if s.inBuf == 0 {
			s.buf.WriteString(s.manner.insert)
			s.buf.WriteString(s.manner.row)
		} else {
			s.buf.WriteString(s.manner.between)
		}
		s.buf.Write(row)
		s.inBuf++
	}
	return nil, s.err
}

func (s *Writer) flush() {
	if s.inBuf == 0 {
		return
	}
	s.buf.WriteString(s.manner.close)
	s.buf.WriteString(s.manner.statementEnd)
	if s.statements++; s.manner.every > 0 && s.statements%s.manner.every == 0 {
		s.buf.WriteString(s.manner.pause)
	}
	if s.err == nil {
		_, s.err = s.w.Write(s.buf.Bytes())
	}
	s.buf.Reset()
	s.inBuf = 0
}

// Close ends the script with the check of the number of rows.
func (s *Writer) Close() error {
	if s.CopyBlock {
		s.put("\\.\n")
	}
	s.flush()
	if s.err == nil && s.written != s.Rows {
		return fmt.Errorf("%d rows were announced, and %d written", s.Rows, s.written)
	}
	s.put("\n")
	for _, l := range s.manner.after(s) {
		s.put(l + "\n")
	}
	return s.err
}

// Remarks are what somebody who runs the script has to know.
func Remarks(d *dialect.Dialect, t dialect.Table) (out []string) {
	switch d.Name {
	case "sqlite":
		out = append(out, "run it with: sqlite3 -bail DATABASE < FILE")
	case "postgres":
		out = append(out, "run it with: psql -v ON_ERROR_STOP=1 -f FILE DATABASE")
	case "mysql":
		out = append(out, "run it with: mysql --default-character-set=utf8mb4 DATABASE < FILE",
			"the definition is committed at once; if the rows fail, drop the table before the next attempt")
	case "sqlserver":
		out = append(out, "run it with: sqlcmd -b -f 65001 -i FILE")
	case "oracle":
		out = append(out, "run it with SQL*Plus and NLS_LANG=.AL32UTF8: @FILE",
			"the definition is committed at once; if the rows fail, drop the table before the next attempt")
		for _, c := range t.Columns {
			if c.Type.IsText() {
				out = append(out, "an empty text is a null there")
				break
			}
		}
	}
	return
}
