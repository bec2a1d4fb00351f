package source

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"time"

	"github.com/klauspost/compress/gzip"

	"ambertray/internal/phrase"
	"ambertray/internal/source/workbook"
)

// A flow is what is left of a pipe that is too long to be kept. Its beginning
// is in the source's spool, for the layout to be decided from; the rest is read
// once, as it comes. Nothing can be told from its end beforehand.
type flow struct {
	raw   *counter
	text  io.Reader // of raw, unpacked; behind what is in the spool
	begun bool
}

// counter counts and hashes what is read.
type counter struct {
	r io.Reader
	n int64
	h hash.Hash
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	c.h.Write(p[:n])
	return n, err
}

// flowFrom is up to how many bytes a pipe is kept, and read as a file is.
var flowFrom int64 = 64 << 20

// Flows reports that the source can be read but once, and that neither its size
// nor its end is known before.
func (s *Source) Flows() bool { return s.flow != nil }

// pour takes the beginning of a pipe into the spool, all of it if it is short,
// or if it is of a kind that can only be read in places.
func (s *Source) pour(ctx context.Context, r io.Reader) error {
	raw := &counter{r: &cancelled{ctx, r}, h: sha256.New()}
	head := bufio.NewReader(raw)
	magic, err := head.Peek(4)
	if err != nil && err != io.EOF {
		return err
	}
	text, packed := io.Reader(head), bytes.HasPrefix(magic, []byte("\x1f\x8b"))
	if packed {
		if text, err = gzip.NewReader(head); err != nil {
			return err
		}
	}
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	most := flowFrom
	if workbook.Is(magic) {
		most = 1 << 62
	}
	_, err = io.CopyN(sp, text, most)
	if err == nil {
		s.flow = &flow{raw: raw, text: text}
	} else if err != io.EOF {
		sp.close()
		return err
	}
	s.swap(sp)
	s.Modified = time.Now()
	if packed {
		size := "more than " + phrase.Size(sp.size)
		if s.flow == nil {
			size = phrase.Size(sp.size)
		}
		s.Evidence = append(s.Evidence, Evidence{What: "packing", Value: "gzip", Why: "begins with 1F 8B; " + size +
			" unpacked", Given: false})
	}
	if s.flow == nil {
		s.flowed(raw)
	}
	return nil
}

// flowed takes over what is known when all of a pipe has been read.
func (s *Source) flowed(raw *counter) {
	s.FileSize, s.sum = raw.n, hex.EncodeToString(raw.h.Sum(nil))
}

// Ended tells the source that a stream of it has been read to its end.
func (s *Source) Ended(st *Stream) {
	if s.flow != nil {
		s.Size = st.Bytes()
		s.flowed(s.flow.raw)
	}
}
