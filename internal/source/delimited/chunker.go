package delimited

import (
	"bytes"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/bits"
	"sync"
)

const (
	// DefaultChunkSize is the size in bytes that chunks aim for.
	DefaultChunkSize = 512 << 10
	// DefaultMaxRecord is the longest record in bytes that is read.
	DefaultMaxRecord = 64 << 20
	// tail is how many bytes the last chunk has at least, if the text has
	// them: trailing totals are recognised within the last chunk.
	tail = 32 << 10
	// least is how many bytes there is room for at first.
	least = 8 << 10
)

// A Chunk is a run of whole records.
type Chunk struct {
	// Seq numbers chunks from 0.
	Seq int
	// Line is the line of the source that the chunk starts on, from 1.
	Line int64
	// Offset is where it starts in the text that is cut, in bytes.
	Offset int64
	// Sum is the hash of the text up to its end, where the chunker has one.
	Sum []byte
	// Data holds the records. Whoever holds the chunk owns it, until Release.
	Data []byte
	// Last is set on the last chunk of the text.
	Last bool
	// Unclosed is set on a last chunk whose last record opens a quote that
	// is never closed.
	Unclosed bool

	pool *sync.Pool
}

// Release gives the chunk's memory back to its chunker. Nothing that points
// into Data may be used afterwards.
func (c *Chunk) Release() {
	if c.pool != nil {
		c.pool.Put(c)
	}
}

// TooLongError reports a record longer than the limit.
type TooLongError struct {
	Line  int64 // the record starts here
	Limit int   // bytes
	Quote int64 // the line where a quote was opened and not closed within the limit, or 0
}

func (e *TooLongError) Error() string {
	if e.Quote > 0 {
		return fmt.Sprintf("line %d: a quote is opened here and not closed within %d MiB", e.Quote, e.Limit>>20)
	}
	return fmt.Sprintf("line %d: a record of more than %d MiB starts here", e.Line, e.Limit>>20)
}

// A Chunker cuts a stream of UTF-8 text at record ends.
// Set the exported fields before the first call of Next.
type Chunker struct {
	// Size is what chunks aim for, in bytes. A chunk is larger only when one
	// record is. Where it is more than the default, the first chunks are smaller,
	// so that those who wait for something to do can begin.
	Size int
	// MaxRecord limits the length of one record in bytes; a longer one makes
	// Next return a *TooLongError.
	MaxRecord int
	// Cut is an offset, at a record's end, where a chunk is to end, too; 0 for
	// none.
	Cut int64
	// Hash, if there is one, takes all of the text.
	Hash hash.Hash

	form Form
	r    io.Reader
	err  error // from r; io.EOF at the end
	rest []byte
	seq  int
	line int64
	at   int64 // offset of the next chunk
	pool sync.Pool
	// outside holds the start and end of each stretch outside quotes.
	outside []int
	blocks  ends
}

// NewChunker cuts what r yields. Lines are counted from line, which is 1 for
// a whole text.
func NewChunker(r io.Reader, form Form, line int64) *Chunker {
	return &Chunker{Size: DefaultChunkSize, MaxRecord: DefaultMaxRecord, form: form, r: r, line: line}
}

// Next returns the next chunk, or io.EOF after the last one. A text without
// any bytes has no chunks.
func (c *Chunker) Next() (*Chunk, error) {
	if errors.Is(c.err, io.EOF) && len(c.rest) == 0 {
		return nil, io.EOF
	}
	ch, _ := c.pool.Get().(*Chunk)
	if ch == nil {
		ch = &Chunk{pool: &c.pool}
		if c.seq > 0 { // there may be thousands of short texts: the first chunk grows as there is more of it
			ch.Data = make([]byte, 0, c.Size+tail)
		}
	}
	// The chunk starts with what the one before left over.
	buf := append(ch.Data[:0], c.rest...)
	want := min(c.Size, DefaultChunkSize<<min(c.seq, 16))
	for {
		buf = c.fill(buf, want)
		if c.err != nil && !errors.Is(c.err, io.EOF) {
			return nil, c.err
		}
		atEOF := c.err != nil
		if atEOF && len(buf) == 0 {
			return nil, io.EOF
		}
		// Hold back a little, so that the last chunk is never too small to
		// recognise a trailer in.
		scan := buf
		if !atEOF {
			scan = buf[:max(len(buf)-tail, 0)]
		}
		end, open := c.lastEnd(scan, atEOF)
		if atEOF {
			end = len(buf)
		}
		if end == 0 {
			if len(buf) > c.MaxRecord {
				e := &TooLongError{Line: c.line, Limit: c.MaxRecord}
				if open >= 0 {
					e.Quote = c.line + int64(bytes.Count(buf[:open], newline))
				}
				return nil, e
			}
			want = min(2*len(buf), c.MaxRecord+1)
			continue
		}
		if cut := c.Cut - c.at; cut > 0 && cut < int64(end) {
			end = int(cut)
		}
		c.rest = append(c.rest[:0], buf[end:]...)
		last := atEOF && len(c.rest) == 0
		ch.Data = buf[:end]
		ch.Seq, ch.Line, ch.Offset = c.seq, c.line, c.at
		ch.Last, ch.Unclosed = last, last && open >= 0
		c.seq++
		c.at += int64(end)
		if !last {
			c.line += int64(bytes.Count(ch.Data, newline))
		}
		if c.Hash != nil {
			c.Hash.Write(ch.Data)
			ch.Sum = c.Hash.Sum(ch.Sum[:0])
		}
		return ch, nil
	}
}

var newline = []byte{'\n'}

// fill reads until buf holds want bytes or the reader has no more.
func (c *Chunker) fill(buf []byte, want int) []byte {
	want += tail
	for len(buf) < want && c.err == nil {
		if len(buf) == cap(buf) {
			grown := make([]byte, len(buf), min(max(2*len(buf), least), want))
			copy(grown, buf)
			buf = grown
		}
		n, err := c.r.Read(buf[len(buf):min(cap(buf), want)])
		buf = buf[:len(buf)+n]
		c.err = err
	}
	return buf
}

// lastEnd returns the offset behind the last complete record in data, which
// starts at a record's start, or 0 if there is none. open is the offset of a
// quote that is still open at the end of data, or -1.
func (c *Chunker) lastEnd(data []byte, atEOF bool) (end, open int) {
	f := c.form
	if f.Quote == 0 || f.Blanks {
		return bytes.LastIndexByte(data, '\n') + 1, -1
	}
	if !f.escapes() && f.Comment == "" &&
		bytes.Count(data[:min(len(data), sampled)], []byte{f.Quote}) > sampled/dense {
		if !atEOF && len(f.Delimiter) == 1 {
			if end := c.blocks.lastFeed(data, f.Delimiter[0], f.Quote); end > 0 {
				return end, -1 // whether a quote is open then is of no interest
			}
		}
		return lastEndByMarks(data, f, atEOF)
	}
	c.outside = c.outside[:0]
	open = -1
	for pos := 0; ; {
		q := bytes.IndexByte(data[pos:], f.Quote)
		if q < 0 {
			c.outside = append(c.outside, pos, len(data))
			break
		}
		q += pos
		if !opens(data, q, f) {
			c.outside = append(c.outside, pos, q+1)
			pos = q + 1
			continue
		}
		c.outside = append(c.outside, pos, q)
		after, closed := closing(data, q+1, f)
		if !closed || (after == len(data) && !atEOF) {
			open = q
			break
		}
		pos = after
	}
	for i := len(c.outside) - 2; i >= 0; i -= 2 {
		from, to := c.outside[i], c.outside[i+1]
		if n := bytes.LastIndexByte(data[from:to], '\n'); n >= 0 {
			return from + n + 1, open
		}
	}
	return 0, open
}

// Of so many bytes at the beginning of a chunk it is seen whether quotes are so dense that
// looking for one after the other takes longer than going by blocks.
const (
	sampled = 4096
	dense   = 200
)

// lastEndByMarks is lastEnd where quotes are doubled. It finds quotes and line feeds by blocks.
func lastEndByMarks(data []byte, f Form, atEOF bool) (end, open int) {
	open = -1
	skip := -1 // the second of two quotes
	var rest [blockSize]byte
	for at := 0; at < len(data); at += blockSize {
		b := &rest
		if at+blockSize <= len(data) {
			b = (*[blockSize]byte)(data[at:])
		} else {
			clear(rest[copy(rest[:], data[at:]):])
		}
		for marks := marksOf(b, f.Quote); marks != 0; marks &= marks - 1 {
			i := at + bits.TrailingZeros64(marks)
			switch {
			case i >= len(data) || i == skip:
			case data[i] == '\n':
				if open < 0 {
					end = i + 1
				}
			case open < 0:
				if opens(data, i, f) {
					open = i
				}
			case i+1 < len(data) && data[i+1] == f.Quote:
				skip = i + 1
			case i+1 < len(data) || atEOF: // else what follows is not known yet
				open = -1
			}
		}
	}
	return end, open
}

// opens reports whether the quote at q opens a field. data starts at a
// record's start.
func opens(data []byte, q int, f Form) bool {
	if q == 0 || data[q-1] == '\n' {
		return true
	}
	if f.Comment != "" && bytes.HasPrefix(data[bytes.LastIndexByte(data[:q], '\n')+1:], []byte(f.Comment)) {
		return false
	}
	d := f.Delimiter
	if d == "" || q < len(d) || string(data[q-len(d):q]) != d {
		return false
	}
	if !f.escapes() {
		return true
	}
	// An escaped delimiter is an ordinary character.
	n := 0
	for i := q - len(d) - 1; i >= 0 && data[i] == f.Escape; i-- {
		n++
	}
	return n%2 == 0
}

// closing returns the offset behind the quote that closes the field whose
// content starts at i.
func closing(data []byte, i int, f Form) (after int, closed bool) {
	start := i
	for {
		q := bytes.IndexByte(data[i:], f.Quote)
		if q < 0 {
			return len(data), false
		}
		q += i
		if f.escapes() {
			n := 0
			for j := q - 1; j >= start && data[j] == f.Escape; j-- {
				n++
			}
			if n%2 == 1 {
				i = q + 1
				continue
			}
			return q + 1, true
		}
		if q+1 < len(data) && data[q+1] == f.Quote {
			i = q + 2
			continue
		}
		return q + 1, true
	}
}
