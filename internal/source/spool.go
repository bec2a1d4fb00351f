package source

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/source/delimited"
	"ambertray/internal/source/workbook"
)

// A spool is a private temporary file with the text of a source that cannot be
// read in places and more than once by itself. It has no name any more where
// the system allows that, so that it is gone however the program ends.
type spool struct {
	f     *os.File
	size  int64
	limit int64
	named bool // it has to be removed
}

// DefaultUnpacked bounds what a source may unpack to.
const DefaultUnpacked = 64 << 30

func newSpool(limit int64) (*spool, error) {
	f, err := os.CreateTemp("", "ambertray-")
	if err != nil {
		return nil, fmt.Errorf("no temporary file can be made: %w", err)
	}
	if limit <= 0 {
		limit = DefaultUnpacked
	}
	return &spool{f: f, limit: limit, named: os.Remove(f.Name()) != nil}, nil
}

// errTooLarge says that a source unpacks to more than is allowed.
var errTooLarge = errors.New("it unpacks to too much")

// Write implements io.Writer.
func (s *spool) Write(p []byte) (int, error) {
	if s.size+int64(len(p)) > s.limit {
		return 0, errTooLarge
	}
	n, err := s.f.Write(p)
	s.size += int64(n)
	return n, err
}

func (s *spool) close() error {
	err := s.f.Close()
	if s.named {
		os.Remove(s.f.Name())
	}
	return err
}

// room makes sure that so many bytes fit on the disk of temporary files, as
// far as the system tells.
func (s *spool) room(bytes int64) error {
	if free, ok := freeSpace(os.TempDir()); ok && bytes > free {
		return fmt.Errorf("the temporary folder %s has room for %s, and %s are needed", os.TempDir(), phrase.Size(free), phrase.Size(bytes))
	}
	return nil
}

// open begins to read the source's text, from its beginning.
func (s *Source) open() (io.ReadSeekCloser, error) {
	if s.spool == nil {
		return os.Open(s.Path)
	}
	return keptOpen{io.NewSectionReader(s.spool.f, 0, s.spool.size)}, nil
}

// keptOpen is a reader whose file stays open for the next.
type keptOpen struct{ *io.SectionReader }

func (keptOpen) Close() error { return nil }

// Close removes what a source has kept in a temporary file.
func (s *Source) Close() error {
	if s.spool == nil {
		return nil
	}
	return s.spool.close()
}

// sumFile is the SHA-256 of a file.
func sumFile(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// lineBreak stands for a line break within a cell, so that a row of a sheet is
// one line.
const lineBreak = 0x1e

var sheetForm = delimited.Form{Delimiter: ",", Quote: '"', Breaks: lineBreak}

// spoolSheet writes a sheet as delimited text: a line for each row, from the
// first on, text in quotes and all else without.
func (s *Source) spoolSheet(ctx context.Context, sheet *workbook.Sheet, within workbook.Range) error {
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(sp, 256<<10)
	var b []byte
	line, least := 1, -1
	err = sheet.Rows(ctx, func(r *workbook.Row) error {
		if !within.Row(r.Number) {
			return nil
		}
		b = b[:0]
		for ; line < r.Number; line++ {
			b = append(b, '\n')
		}
		start, column := len(b), 0
		for i := range r.Cells {
			c := &r.Cells[i]
			if !within.Column(c.Column) || len(c.Value) == 0 {
				continue
			}
			if least < 0 || c.Column < least {
				least = c.Column
			}
			for ; column < c.Column; column++ {
				b = append(b, ',')
			}
			b = appendCell(b, c)
		}
		if len(b) > start {
			b = append(b, '\n')
			line++
		}
		_, err := w.Write(b)
		return err
	})
	if err == nil {
		err = w.Flush()
	}
	if err == nil && least > 0 {
		err = sp.cutLeft(least, s.unpacked)
	}
	if err != nil {
		sp.close()
		return s.unpackProblem(err)
	}
	s.spool, s.firstColumn = sp, max(least, 0)
	return nil
}

func appendCell(b []byte, c *workbook.Cell) []byte {
	if !c.Text {
		return append(b, c.Value...)
	}
	b = append(b, '"')
	for i, x := range c.Value {
		switch x {
		case '"':
			b = append(b, '"', '"')
		case '\n':
			b = append(b, lineBreak)
		case '\r':
			if i+1 >= len(c.Value) || c.Value[i+1] != '\n' {
				b = append(b, lineBreak)
			}
		case lineBreak:
			b = append(b, "\ufffd"...)
		default:
			b = append(b, x)
		}
	}
	return append(b, '"')
}

// cutLeft takes n delimiters off every line that is not blank: columns that
// are empty throughout.
func (s *spool) cutLeft(n int, limit int64) error {
	out, err := newSpool(limit)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(out, 256<<10)
	r := bufio.NewReaderSize(io.NewSectionReader(s.f, 0, s.size), 256<<10)
	fresh := true
	for {
		part, err := r.ReadSlice('\n')
		if len(part) > 0 {
			if fresh && part[0] != '\n' {
				part = part[min(n, len(part)):]
			}
			fresh = part[len(part)-1] == '\n'
			if _, err := w.Write(part); err != nil {
				out.close()
				return err
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil && err != bufio.ErrBufferFull {
			out.close()
			return err
		}
	}
	if err := w.Flush(); err != nil {
		out.close()
		return err
	}
	s.close()
	*s = *out
	return nil
}

// unpackProblem says what is wrong with a source that does not unpack.
func (s *Source) unpackProblem(err error) error {
	var p *Problem
	switch {
	case errors.As(err, &p):
		return err
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, errTooLarge):
		return &Problem{Source: s.Name, What: "unpacks to more than " + phrase.Size(max(s.unpacked, 0)) + ", which is not allowed", Asked: true,
			Do: "if that is right, raise the limit with --max-unpacked"}
	case errors.Is(err, workbook.ErrEncrypted):
		return &Problem{Source: s.Name, What: "has a password", Do: "open it, and save it without the password"}
	}
	return &Problem{Source: s.Name, What: "cannot be unpacked", Err: err, Do: "it may be damaged or cut off; ask for it again, or open and save it anew"}
}

// FullName is the name of a source: its file, and what of that it is.
func (s *Source) FullName() string {
	name := s.Path
	if s.Member != "" {
		name += ", " + s.Member
	}
	if s.Sheet != "" {
		name += fmt.Sprintf(", sheet %q", s.Sheet)
	}
	return name
}

// Place is where a field is: its line, or the cell of a sheet. A field below 0
// is the whole record.
func (s *Source) Place(line int64, field int) string {
	if s.Sheet == "" {
		return "line " + phrase.Grouped(line)
	}
	if field < 0 {
		return fmt.Sprintf("row %d", line)
	}
	return s.Cell(line, field)
}

// Cell is the name of a cell, or "" where there are no sheets.
func (s *Source) Cell(line int64, field int) string {
	if s.Sheet == "" || field < 0 {
		return ""
	}
	return fmt.Sprintf("%s%d", workbook.ColumnName(s.firstColumn+field), line)
}

// sheetView is the beginning of a sheet on one line.
func sheetView(rows [][]string) string {
	var parts []string
	for _, r := range rows {
		var cells []string
		for _, c := range r {
			if c = strings.TrimSpace(c); c != "" {
				cells = append(cells, c)
			}
		}
		if len(cells) > 0 {
			parts = append(parts, strings.Join(cells, ", "))
		}
	}
	return strings.Join(parts, " / ")
}
