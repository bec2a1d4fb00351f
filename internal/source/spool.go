package source

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"

	"ambertray/internal/phrase"
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
	f, gone, err := temporary()
	if err != nil {
		return nil, fmt.Errorf("no temporary file can be made: %w", err)
	}
	if limit <= 0 {
		limit = DefaultUnpacked
	}
	return &spool{f: f, limit: limit, named: !gone}, nil
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
		return fmt.Errorf("the temporary folder %s has room for %s, and %s are needed", os.TempDir(), phrase.Size(free),
			phrase.Size(bytes))
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

// unpackProblem says what is wrong with a source that does not unpack.
func (s *Source) unpackProblem(err error) error {
	var p *Problem
	switch {
	case errors.As(err, &p):
		return err
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, errTooLarge):
		return &Problem{Source: s.Name, What: "unpacks to more than " + phrase.Size(max(s.unpacked, 0)) +
			", which is not allowed", Decision: true,
			Do: "if that is right, raise the limit with --max-unpacked"}
	case errors.Is(err, workbook.ErrEncrypted):
		return &Problem{Source: s.Name, What: "has a password", Do: "open it, and save it without the password"}
	}
	return &Problem{Source: s.Name, What: "cannot be unpacked", Err: err,
		Do: "it may be damaged or cut off; ask for it again, or open and save it anew"}
}
