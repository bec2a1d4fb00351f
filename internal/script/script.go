// Package script writes a whole load as one SQL script, to be run by someone
// else: the definition, the rows as literals, and a check of their number that
// undoes everything if it fails.
//
// The model: a [Writer] is a sink of rows, as a load into a database is. What
// differs from database to database is its [db.Manner] and its dialect.
package script

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// Options say what a script is of.
type Options struct {
	Database *db.Database
	Table    dialect.Table
	// Head is lines of comment at the top.
	Head []string
	Rows int64 // that will be written
	// Into, if not nil, is the table that the rows are merged into by a key; Table is their
	// stage then, and Missing tells that rows go which the stage does not have.
	Into    *dialect.Merge
	Missing bool
	// Target is the quoted name of a table that exists, which the rows of the stage are added
	// to; Emptied tells that it is emptied first.
	Target  string
	Emptied bool
	// Numbered is the column of the target that its database numbers; empty: none.
	Numbered string
	// Like is the quoted name of a table whose structure the new one takes.
	Like string
	// File has the server read a file; there are no rows in the script then.
	File *FromFile
	// CopyBlock writes the rows as a block for the database's own client.
	CopyBlock bool
}

// A statement holds no more rows or bytes than this, so that no server's limit
// is met; a row that is longer by itself stands alone.
const (
	mostRows  = 500
	mostBytes = 400 << 10
)

// Writer writes one script. It is a sink.Sink.
type Writer struct {
	Options
	w          io.Writer
	manner     db.Manner
	name       string // quoted
	most       int
	buf        bytes.Buffer // the statement at hand
	inBuf      int          // rows in it
	written    int64
	statements int
	// before, behind and last stand before the rows, behind them and behind the commit.
	before, behind, last []string
	err                  error
}

// New begins a script: all that stands before the rows.
func New(w io.Writer, opt Options) (*Writer, error) {
	s := &Writer{Options: opt, w: w, manner: opt.Database.Script,
		name: opt.Database.Qualified(opt.Table.Schema, opt.Table.Name)}
	if opt.CopyBlock && opt.Database.Script.Copy == nil {
		return nil, fmt.Errorf("%s reads no block of COPY", opt.Database.Title)
	}
	m := &s.manner
	var names []string
	for _, c := range opt.Table.Columns {
		names = append(names, opt.Database.Quote(c.Name))
	}
	for _, part := range []*string{&m.Insert, &m.Row, &m.Between} {
		if strings.Contains(*part, "%s") {
			*part = fmt.Sprintf(*part, s.name, strings.Join(names, ", "))
		}
	}
	s.most = mostRows
	if m.Rows != nil {
		s.most = max(1, m.Rows(len(names)))
	}
	for _, l := range opt.Head {
		s.put("-- " + oneLine(l) + "\n")
	}
	s.put("\n")
	for _, l := range m.Before {
		s.put(l + "\n")
	}
	s.put("\n")
	for _, l := range s.definition() {
		s.put(l + ";\n")
	}
	s.put("\n")
	for _, l := range m.AfterDefinition {
		s.put(l + "\n")
	}
	switch s.numbered(); {
	case opt.Into != nil:
		s.behind, s.last = nil, nil // the stage numbers nothing
	case opt.Target == "":
		s.lines(s.before)
	}
	if opt.File != nil {
		for _, l := range opt.File.fill(opt.Database, s.raw(), s.name) {
			s.put(l + ";\n")
		}
	}
	if opt.CopyBlock {
		s.put(fmt.Sprintf("COPY %s (%s) FROM stdin;\n", s.name, strings.Join(names, ", ")))
	}
	return s, s.err
}

// staged tells that the rows go into a stage first.
func (s *Writer) staged() bool { return s.Into != nil || s.Target != "" }

// raw is the stage of the texts of a file.
func (s *Writer) raw() string { return rawStage(s.Database, s.Table.Schema) }

// definition is the statements that make what the rows go into.
func (s *Writer) definition() (out []string) {
	switch {
	case s.staged():
		_, sql := s.Database.StageOf(s.Table, s.Table.Key)
		out = []string{sql}
	case s.Like != "":
		out = []string{s.manner.Like(s.name, s.Like)}
	default:
		out = s.Database.Create(s.Table)
	}
	if s.File != nil {
		out = append(out, s.File.define(s.Database, s.raw())...)
	}
	return out
}

// numbered finds out what a column takes that the database numbers.
func (s *Writer) numbered() {
	numbered := s.Numbered
	for _, c := range s.Table.Columns {
		if c.Identity {
			numbered = c.Name
		}
	}
	if numbered != "" && s.manner.Numbered != nil {
		s.before, s.behind, s.last = s.manner.Numbered(cmp.Or(s.Target, s.name), numbered)
	}
}

func (s *Writer) lines(list []string) {
	for _, l := range list {
		s.put(l + "\n")
	}
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

// Encoder implements sink.Sink.
func (s *Writer) Encoder() sink.Encoder {
	if s.CopyBlock {
		var types []sqltype.Type
		for _, c := range s.Table.Columns {
			types = append(types, c.Type)
		}
		return s.manner.Copy(types)
	}
	return &encoder{d: s.Database.Dialect, columns: s.Table.Columns}
}

// encoder writes the literals of a row between commas, behind their length.
type encoder struct {
	d       *dialect.Dialect
	columns []dialect.Column
	buf     []byte
}

// Append implements sink.Encoder.
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

// Write implements sink.Sink.
func (s *Writer) Write(_ context.Context, b sink.Batch) ([]sink.Refusal, error) {
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
			s.buf.WriteString(s.manner.Insert)
			s.buf.WriteString(s.manner.Row)
		} else {
			s.buf.WriteString(s.manner.Between)
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
	s.buf.WriteString(s.manner.Close)
	s.buf.WriteString(";\n")
	if s.statements++; s.manner.Every > 0 && s.statements%s.manner.Every == 0 {
		s.buf.WriteString(s.manner.Pause)
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
	if s.File == nil && s.err == nil && s.written != s.Rows {
		return fmt.Errorf("%d rows were announced, and %d written", s.Rows, s.written)
	}
	s.put("\n")
	if s.Target == "" {
		s.lines(s.behind)
	}
	check, commit := s.after(s.name)
	if s.staged() {
		// The stage is counted, and then its rows go in before the commit.
		s.lines(check)
		check = nil
		s.fromStage()
		s.put("\n")
	}
	s.lines(check)
	s.lines(commit)
	s.lines(s.last)
	if s.Database.Temporary == "" && s.Database.TemporaryName == "" {
		if s.staged() {
			s.put("DROP TABLE " + s.name + ";\n")
		}
		if s.File != nil {
			s.put("DROP TABLE " + s.raw() + ";\n")
		}
	}
	return s.err
}

// after is what checks the number of a table's rows, and what commits.
func (s *Writer) after(table string) (check, commit []string) {
	after := s.manner.After(table, s.Rows)
	at := len(after) - 1
	for i, l := range after {
		if strings.HasPrefix(l, "COMMIT") {
			at = i
		}
	}
	return after[:at], after[at:]
}

// fromStage brings the rows of the stage into a table that exists.
func (s *Writer) fromStage() {
	if s.Into != nil {
		for _, l := range s.Into.Statements(s.Missing) {
			s.put("\n" + l + ";\n")
		}
		return
	}
	if s.put("\n"); s.Emptied {
		s.put("DELETE FROM " + s.Target + ";\n")
	}
	var names []string
	for _, c := range s.Table.Columns {
		names = append(names, c.Name)
	}
	list := s.Database.List(names)
	s.lines(s.before)
	given := ""
	if s.Numbered != "" {
		given = strings.TrimRight(" "+s.Database.GiveIdentity, " ")
	}
	s.put(fmt.Sprintf("INSERT INTO %s (%s)%s\nSELECT %s\nFROM %s;\n", s.Target, list, given, list, s.name))
	if s.lines(s.behind); s.Emptied {
		check, _ := s.after(s.Target)
		s.lines(check)
	}
}
