package source

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"

	"ambertray/internal/phrase"
	"ambertray/internal/source/workbook"
)

// unpack takes a source out of what it is wrapped in. It returns without
// doing anything where that is a plain file.
func (s *Source) unpack(ctx context.Context, known Known) error {
	s.unpacked = cmp.Or(known.MaxUnpacked, DefaultUnpacked)
	for depth := 0; ; depth++ {
		f, err := s.open()
		if err != nil {
			return err
		}
		head := make([]byte, 512)
		n, err := io.ReadFull(f, head)
		f.Close()
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return err
		}
		head = head[:n]
		switch {
		case s.flow != nil:
			// It is unpacked already; what is packed once more is found to be binary.
			return nil
		case bytes.HasPrefix(head, []byte("\x1f\x8b")) && depth < 3:
			if err := s.gunzip(ctx); err != nil {
				return s.unpackProblem(err)
			}
		case workbook.Is(head) && depth < 3:
			done, err := s.unzip(ctx, known)
			if err != nil || done {
				return err
			}
		default:
			if known.Sheet != "" || known.Range != "" {
				return &Problem{Source: s.Name, What: "is no workbook, so that it has no sheets", Asked: true, Do: "leave out --sheet and --range"}
			}
			if known.Member != "" && s.Member == "" {
				return &Problem{Source: s.Name, What: "is no zip archive, so that it has no members", Asked: true, Do: "leave out --member"}
			}
			return nil
		}
	}
}

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

func (s *Source) gunzip(ctx context.Context) error {
	if err := s.origin(); err != nil {
		return err
	}
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
	s.Evidence = append(s.Evidence, Evidence{"packing", "gzip", "begins with 1F 8B; " + phrase.Size(sp.size) + " unpacked", false})
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

// unzip takes a sheet out of a workbook, or a member out of an archive. done
// tells that it was a workbook.
func (s *Source) unzip(ctx context.Context, known Known) (done bool, err error) {
	if err := s.origin(); err != nil {
		return false, err
	}
	f, err := s.open()
	if err != nil {
		return false, err
	}
	defer f.Close()
	at, ok := f.(io.ReaderAt)
	if !ok {
		return false, fmt.Errorf("the file cannot be read in places")
	}
	size := s.FileSize
	if s.spool != nil { // of a part, or of what was brought here
		size = s.spool.size
	}
	book, err := workbook.Open(at, size, workbook.Limits{Part: s.unpacked})
	if err != nil {
		return false, s.unpackProblem(err)
	}
	if book != nil {
		if known.Member != "" && s.Member == "" {
			return false, &Problem{Source: s.Name, What: "is " + book.Kind + ", which has sheets and no members", Asked: true, Do: "use --sheet"}
		}
		return true, s.chooseSheet(ctx, book, known)
	}
	z, err := zip.NewReader(at, size)
	if err != nil {
		return false, s.unpackProblem(err)
	}
	return false, s.chooseMember(ctx, z, known)
}

func (s *Source) given() string { return cmp.Or(s.by, "as given") }
