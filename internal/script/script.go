// Package script writes a whole load as one SQL script, to be run by someone
// else: the definition, the rows as literals, and a check of their number that
// undoes everything if it fails.
//
// The model: a [Writer] is a sink of rows, as a load into a database is. What
// differs from database to database is its [db.Manner] and its dialect.
package script

import (
	"bytes"
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
	definition := opt.Database.Create(opt.Table)
	if opt.Into != nil {
		_, sql := opt.Database.StageOf(opt.Table, opt.Into.Key)
		definition = []string{sql}
	}
	for _, l := range definition {
		s.put(l + ";\n")
	}
	s.put("\n")
	for _, l := range m.AfterDefinition {
		s.put(l + "\n")
	}
	if s.numbered(); opt.Into != nil {
		s.behind, s.last = nil, nil // the stage numbers nothing
	} else if len(s.before) > 0 {
		s.lines(s.before)
	}
	if opt.CopyBlock {
		s.put(fmt.Sprintf("COPY %s (%s) FROM stdin;\n", s.name, strings.Join(names, ", ")))
	}
	return s, s.err
}

// numbered finds out what a column takes that the database numbers.
func (s *Writer) numbered() {
	for _, c := range s.Table.Columns {
		if c.Identity && s.manner.Numbered != nil {
			s.before, s.behind, s.last = s.manner.Numbered(s.name, c.Name)
		}
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
	if s.err == nil && s.written != s.Rows {
		return fmt.Errorf("%d rows were announced, and %d written", s.Rows, s.written)
	}
	s.put("\n")
	s.lines(s.behind)
	after := s.manner.After(s.name, s.Rows)
	if s.Into != nil {
		// The stage is counted, and then its rows go in before the commit.
		at := len(after) - 1
		for i, l := range after {
			if strings.HasPrefix(l, "COMMIT") {
				at = i
			}
		}
		for _, l := range after[:at] {
			s.put(l + "\n")
		}
		after = after[at:]
		for _, l := range s.Into.Statements(s.Missing) {
			s.put("\n" + l + ";\n")
		}
		s.put("\n")
	}
	for _, l := range after {
		s.put(l + "\n")
	}
	s.lines(s.last)
	if s.Into != nil && s.Database.Temporary == "" && s.Database.TemporaryName == "" {
		s.put("DROP TABLE " + s.name + ";\n")
	}
	return s.err
}
