package source

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"

	"ambertray/internal/phrase"
)

// origin keeps size and sum of the file itself, before it is unpacked.
func (s *Source) origin() error {
	if s.sum != "" || s.flow != nil {
		return nil
	}
	f, err := s.open()
	if err != nil {
		return err
	}
	defer f.Close()
	h := sha256.New()
	if s.FileSize, err = io.Copy(h, f); err != nil {
		return err
	}
	s.sum = hex.EncodeToString(h.Sum(nil))
	return nil
}

func (s *Source) swap(sp *spool) {
	if s.spool != nil {
		s.spool.close()
	}
	s.spool = sp
}

// gunzip unpacks gzip data (RFC 1952).
func (s *Source) gunzip(ctx context.Context, _ Known) error {
	if err := s.ungzip(ctx); err != nil {
		return s.unpackProblem(err)
	}
	return nil
}

func (s *Source) ungzip(ctx context.Context) error {
	f, err := s.open()
	if err != nil {
		return err
	}
	defer f.Close()
	z, err := gzip.NewReader(bufio.NewReaderSize(f, 256<<10))
	if err != nil {
		return err
	}
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	if _, err := io.Copy(sp, &cancelled{ctx, z}); err != nil {
		sp.close()
		return err
	}
	s.swap(sp)
	s.Evidence = append(s.Evidence, Evidence{What: "packing", Value: "gzip", Why: "begins with 1F 8B; " +
		phrase.Size(sp.size) + " unpacked", Given: false})
	return nil
}

// cancelled ends a copy when its context does.
type cancelled struct {
	ctx context.Context
	r   io.Reader
}

func (c *cancelled) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// inPlaces opens the source for being read in places, with its size.
func (s *Source) inPlaces() (f io.ReadSeekCloser, at io.ReaderAt, size int64, err error) {
	if f, err = s.open(); err != nil {
		return nil, nil, 0, err
	}
	at, ok := f.(io.ReaderAt)
	if !ok {
		f.Close()
		return nil, nil, 0, fmt.Errorf("the file cannot be read in places")
	}
	size = s.FileSize
	if s.spool != nil { // of a part, or of what was brought here
		size = s.spool.size
	}
	return f, at, size, nil
}

func (s *Source) given() string { return cmp.Or(s.by, "as given") }
