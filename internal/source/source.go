// Package source opens what records come from and finds out how it is
// written.
//
// The model: a [Source] is a file with a [Layout], which says all that is
// needed to take it apart: encoding, delimiter, quotes, where the header is
// and what is not data. [Open] decides the layout from the beginning of the
// file, keeps its [Evidence] for every decision, and takes whatever the
// caller already knows as given. [Source.Read] then yields the data as chunks
// of UTF-8, any number of times.
//
// Every line of a file is accounted for: it belongs to the header, to a
// record, or to one of the [Kind]s that are skipped and counted.
package source

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"sync/atomic"
	"time"

	"ambertray/internal/source/delimited"
	"ambertray/internal/source/workbook"
)

// A Layout says how a delimited text file is taken apart.
type Layout struct {
	// Encoding is the IANA name of the character encoding.
	Encoding string
	Form     delimited.Form
	// LineEnd is "lf", "crlf" or "cr". Only cr changes how the file is read.
	LineEnd string
	// Header is the line that the column names stand on, from 1, or 0 where
	// there is none. Lines above it are titles.
	Header int64
	// Skip is how many lines at the top are not data where there is no
	// header.
	Skip int64
	// Footer is how many records at the end are not data: totals and remarks.
	Footer int
	// Lead is how many columns stand before those of the sender: in a file of
	// rejects that come back, the number of each.
	Lead int
	// Pad fills records with blank fields up to the number of columns: in a
	// sheet, blank cells at the end of a row are not there.
	Pad bool
	// Columns are the names in the header, as they stand. Without a header
	// they are column_1, column_2 …
	Columns []string
}

// Evidence is why one decision about the layout was made.
type Evidence struct {
	What  string `json:"what"`  // encoding, delimiter, quote, header, footer …
	Value string `json:"value"` // what was decided
	Why   string `json:"why"`
	Given bool   `json:"given"` // by the caller, not found
}

// A Source is one file of records.
type Source struct {
	// Name is the path as given.
	Name string
	// Path is where the bytes are.
	Path     string
	Size     int64 // bytes of text
	Modified time.Time
	// FileSize is that of the file itself, which may be packed.
	FileSize int64
	// Base is the file's name where Path is no path: that of a link's answer.
	Base string
	// Member is the one of an archive, Sheet and Range of a workbook.
	Member   string
	Sheet    string
	Range    workbook.Range
	Merged   int64 // ranges of cells that are merged
	Layout   Layout
	Evidence []Evidence
	// Titles holds the title lines above the header.
	Titles []string
	// HeaderRuler tells that a ruler line stands under the header.
	HeaderRuler bool
	// Doubt is set where the header was assumed, not recognised.
	Doubt string

	MaxRecord int // bytes; 0 means delimited.DefaultMaxRecord

	flow        *flow  // the rest of a pipe, or nil
	spool       *spool // its text, unpacked; nil: the file itself
	firstColumn int    // of a sheet, that holds something
	unpacked    int64  // bound
	sum         string // of the file itself, if it is packed

	by        string
	start     int64 // bytes of decoded text before the first record of data
	startLine int64
}

// HasCells reports whether records are rows of a sheet, whose places are cells.
func (s *Source) HasCells() bool { return s.Sheet != "" }

// A Problem is an error about a source: what, where and what to do.
type Problem struct {
	Source string
	Line   int64 // 0: the whole source
	What   string
	Do     string
	// Asked is set when it is the caller's decision that is missing.
	Asked bool
	Err   error
}

func (p *Problem) Error() string {
	s := p.Source
	if p.Line > 0 {
		s += fmt.Sprintf(", line %d", p.Line)
	}
	s += ": " + p.What
	if p.Err != nil {
		s += ": " + p.Err.Error()
	}
	if p.Do != "" {
		s += "\n  " + p.Do
	}
	return s
}

func (p *Problem) Unwrap() error { return p.Err }

// Known is what the caller already knows about a source. Nil and zero values
// are found out.
type Known struct {
	Encoding  string
	Delimiter *string
	Quote     *string // "" for none
	Escape    *string // "" for none: quotes are doubled
	Header    *int64  // 0 for none
	Skip      *int64
	Footer    *int
	MaxRecord int // bytes
	// Member of an archive, by its name or a pattern.
	Member string
	// Sheet of a workbook, by its name or number, and Range of its cells, as
	// A5:H200 or by a name of the book's.
	Sheet, Range string
	// MaxUnpacked bounds what is unpacked, in bytes; 0 means DefaultUnpacked.
	MaxUnpacked int64
	// Stdin is what - stands for; Idle how long a server may send nothing.
	Stdin io.Reader
	Idle  time.Duration
	// Once tells that a long pipe need not be kept, since it is read once.
	Once bool
	// By tells who knows it, for the evidence: "as given" if empty.
	By string
}

// Open looks at the beginning of a file and decides its layout.
func Open(ctx context.Context, name string, known Known) (*Source, error) {
	if name == Stdin || IsLink(name) {
		return openAway(ctx, name, known)
	}
	info, err := os.Stat(name)
	if err != nil {
		p := &Problem{Source: name, What: "cannot be read", Err: cause(err), Do: "check the path and its permissions"}
		if errors.Is(err, fs.ErrNotExist) {
			p.What, p.Err, p.Do = "no such file", nil, "check the path; it is taken from the folder the program runs in"
		}
		return nil, p
	}
	if info.IsDir() {
		return nil, &Problem{Source: name, What: "is a folder, not a file", Do: "name a file in it"}
	}
	s := &Source{Name: name, Path: name, Size: info.Size(), FileSize: info.Size(), Modified: info.ModTime(), MaxRecord: known.MaxRecord, Range: workbook.All}
	if s.Size == 0 && info.Mode().IsRegular() {
		return nil, &Problem{Source: name, What: "is empty (0 bytes)", Do: "nothing can be loaded from it; ask for the file again"}
	}
	return s.settle(ctx, known)
}

// openAway opens what is not a file here: it is brought here first.
func openAway(ctx context.Context, name string, known Known) (*Source, error) {
	s := &Source{Name: name, Path: name, Base: "stdin", MaxRecord: known.MaxRecord, Range: workbook.All, unpacked: cmp.Or(known.MaxUnpacked, DefaultUnpacked)}
	if name == Stdin {
		s.Name = "standard input"
		if known.Stdin == nil {
			return nil, &Problem{Source: s.Name, What: "is not there", Asked: true, Do: "name a file"}
		}
		take := s.keep
		if known.Once {
			take = s.pour
		}
		if err := take(ctx, known.Stdin); err != nil {
			return nil, s.unpackProblem(err)
		}
	} else {
		s.Path = redactLink(name)
		s.Name = s.Path
		if err := s.fetch(ctx, name, known.Idle); err != nil {
			return nil, err
		}
	}
	if err := s.origin(); err != nil {
		s.Close()
		return nil, s.unpackProblem(err)
	}
	return s.settle(ctx, known)
}

// settle takes the source out of what it is wrapped in, and decides its layout.
func (s *Source) settle(ctx context.Context, known Known) (*Source, error) {
	s.by = known.By
	if err := s.unpack(ctx, known); err != nil {
		s.Close()
		return nil, err
	}
	if s.spool != nil && s.flow == nil {
		if s.Size = s.spool.size; s.Size == 0 {
			s.Close()
			return nil, &Problem{Source: s.Name, What: "is empty (0 bytes)", Do: "nothing can be loaded from it; ask for the file again"}
		}
	}
	if s.Sheet != "" {
		utf8, delimiter, quote, none := "utf-8", ",", `"`, ""
		known.Encoding, known.Delimiter, known.Quote, known.Escape = utf8, &delimiter, &quote, &none
	}
	if err := s.detect(ctx, known); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// cause takes the path off an error that names it, since ours names it too.
func cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// Sum is the SHA-256 of the file's own bytes, in hexadecimal.
func (s *Source) Sum() (string, error) {
	if s.sum != "" {
		return s.sum, nil
	}
	if s.flow != nil {
		return "", &Problem{Source: s.Name, What: "has not been read to its end"}
	}
	sum, err := sumFile(s.Path)
	if err != nil {
		return "", &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	return sum, nil
}

// Part names what of the file the source is, or is "".
func (s *Source) Part() string {
	part := s.Member
	if s.Sheet != "" {
		if part != "" {
			part += ", "
		}
		part += fmt.Sprintf("sheet %q", s.Sheet)
		if s.Range != workbook.All {
			part += " " + s.Range.String()
		}
	}
	return part
}

// A Stream yields a source's data as chunks.
type Stream struct {
	*delimited.Chunker
	file io.ReadCloser
	src  *Source
	read atomic.Int64
	sum  hash.Hash
	body io.Reader
}

// Read starts at the first record of data. With sum, every byte of the file
// is hashed on the way.
func (s *Source) Read(sum bool) (*Stream, error) {
	opened, err := s.open()
	if err != nil {
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	f := io.ReadCloser(opened)
	if s.flow != nil {
		if s.flow.begun {
			return nil, &Problem{Source: s.Name, What: "can be read only once", Do: "put it into a file first"}
		}
		s.flow.begun = true
		f = flowing{io.MultiReader(f, s.flow.text)}
		sum = false // that is taken on the way
	}
	st := &Stream{file: f, src: s}
	if sum && s.sum == "" {
		st.sum = sha256.New()
	}
	st.body, err = decode(raw{st}, s.Layout.Encoding, s.Layout.LineEnd)
	if err != nil {
		f.Close()
		return nil, &Problem{Source: s.Name, What: err.Error(), Do: "name the encoding with --encoding, like utf-8, utf-16le or windows-1252"}
	}
	if _, err := io.CopyN(io.Discard, st.body, s.start); err != nil && !errors.Is(err, io.EOF) {
		f.Close()
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	st.Chunker = delimited.NewChunker(st.body, s.Layout.Form, s.startLine)
	if s.MaxRecord > 0 {
		st.MaxRecord = s.MaxRecord
	}
	return st, nil
}

// raw reads the file's own bytes, counting and hashing them.
type raw struct{ s *Stream }

func (r raw) Read(p []byte) (int, error) {
	n, err := r.s.file.Read(p)
	r.s.read.Add(int64(n))
	if r.s.sum != nil {
		r.s.sum.Write(p[:n])
	}
	return n, err
}

// Bytes is how many bytes of the file have been read. Any goroutine may ask.
func (s *Stream) Bytes() int64 { return s.read.Load() }

// Sum returns the SHA-256 of the whole file, in hexadecimal, once all of it
// has been read.
func (s *Stream) Sum() string {
	if s.sum == nil {
		return s.src.sum
	}
	return hex.EncodeToString(s.sum.Sum(nil))
}

// flowing is a pipe, which nobody closes.
type flowing struct{ io.Reader }

func (flowing) Close() error { return nil }

// Close ends the reading.
func (s *Stream) Close() error { return s.file.Close() }

// Each calls f for every row, one after the other, for what is small. The
// record is valid until f returns.
func (s *Source) Each(f func(Kind, *delimited.Record) error) error {
	st, err := s.Read(false)
	if err != nil {
		return err
	}
	defer st.Close()
	rows := NewRows(&s.Layout)
	var rec delimited.Record
	for {
		chunk, err := st.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for rows.Reset(chunk); ; {
			kind, ok := rows.Next(&rec)
			if !ok {
				break
			}
			if err := f(kind, &rec); err != nil {
				return err
			}
		}
		chunk.Release()
	}
}

// A Kind is what a row of a source is.
type Kind uint8

// The kinds of row. All but Data are skipped and counted.
const (
	Data Kind = iota
	Title
	Ruler
	BlankLine
	Footer
	// LeftOut is a record that a condition of the plan leaves out.
	LeftOut
	// Kinds is how many there are.
	Kinds
)

// String is the kind as receipts name it.
func (k Kind) String() string {
	return [Kinds]string{"data", "title", "ruler", "blank", "footer", "left-out"}[k]
}

// Rows reads the rows of chunks and tells what each is.
type Rows struct {
	layout   *Layout
	split    *delimited.Splitter
	row      int
	footerAt int
}

// NewRows returns a reader of rows for one goroutine.
func NewRows(l *Layout) *Rows {
	return &Rows{layout: l, split: delimited.NewSplitter(l.Form)}
}

// Reset starts on a chunk.
func (r *Rows) Reset(c *delimited.Chunk) {
	r.row, r.footerAt = 0, -1
	if c.Last && r.layout.Footer > 0 {
		// The footer's rows are counted from the end, blank lines aside.
		var rec delimited.Record
		var filled []int
		r.split.Reset(c)
		for n := 0; r.split.Next(&rec); n++ {
			if !rec.IsBlank() {
				filled = append(filled, n)
			}
		}
		r.footerAt = 0
		if n := len(filled) - r.layout.Footer; n >= 0 {
			r.footerAt = filled[n]
		}
	}
	r.split.Reset(c)
}

// Keep makes fields good until the next Reset, not only the next row.
func (r *Rows) Keep() { r.split.Keep = true }

// Typed reports that quotes tell text from numbers and dates, as in sheets.
func (r *Rows) Typed() bool { return r.layout.Pad }

// ASCII reports whether the chunk at hand has no byte beyond ASCII.
func (r *Rows) ASCII() bool { return r.split.ASCII() }

// Next reads the next row into rec and tells its kind; ok is false at the end
// of the chunk.
func (r *Rows) Next(rec *delimited.Record) (kind Kind, ok bool) {
	if !r.split.Next(rec) {
		return Data, false
	}
	r.row++
	if r.layout.Pad && len(rec.Fields) < len(r.layout.Columns) && len(rec.Raw) > 0 {
		rec.Pad(len(r.layout.Columns))
	}
	if len(rec.Raw) == 0 || rec.Raw[0] <= ' ' && rec.IsBlank() {
		return BlankLine, true
	}
	if r.footerAt >= 0 && r.row > r.footerAt {
		return Footer, true
	}
	switch rec.Raw[0] {
	case '-', '=', '+', '_', '|', '*', '#', ' ', '~':
		if IsRuler(rec) {
			return Ruler, true
		}
	}
	return Data, true
}

// IsRuler reports a row that only draws a line: every field that is not blank
// is at least three times the same one of -=_*#~, perhaps between pluses.
func IsRuler(rec *delimited.Record) bool {
	drawn := false
	for i, f := range rec.Fields {
		if rec.Quoted(i) {
			return false // somebody wrote a value
		}
		f = bytes.Trim(f, " +|:")
		if len(f) == 0 {
			continue
		}
		if len(f) < 3 || bytes.IndexByte([]byte("-=_*#~"), f[0]) < 0 || len(bytes.Trim(f, string(f[0])+"+|")) > 0 {
			return false
		}
		drawn = true
	}
	return drawn
}
