package workbook

import (
	"errors"
	"fmt"
	"io"

	"github.com/richardlehane/mscfb"
)

// Compound begins a compound file ([MS-CFB] 2.2), in which older workbooks lie.
const Compound = "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"

// paged reads a file by pages, of which it keeps a few: a compound file is read by sectors
// of 512 bytes, and of its table by four bytes.
type paged struct {
	r     io.ReaderAt
	size  int64
	pages [32]page
	now   uint64
}

type page struct {
	at   int64 // -1: none
	used uint64
	data []byte
}

const pageSize = 64 << 10

func newPaged(r io.ReaderAt, size int64) *paged {
	p := &paged{r: r, size: size}
	for i := range p.pages {
		p.pages[i].at = -1
	}
	return p
}

// ReadAt implements io.ReaderAt.
func (p *paged) ReadAt(b []byte, off int64) (n int, err error) {
	for n < len(b) {
		if off < 0 || off >= p.size {
			return n, io.EOF
		}
		data, err := p.page(off / pageSize)
		if err != nil {
			return n, err
		}
		in := int(off % pageSize)
		if in >= len(data) {
			return n, io.EOF
		}
		k := copy(b[n:], data[in:])
		n, off = n+k, off+int64(k)
	}
	return n, nil
}

func (p *paged) page(at int64) ([]byte, error) {
	p.now++
	oldest := &p.pages[0]
	for i := range p.pages {
		x := &p.pages[i]
		if x.at == at {
			x.used = p.now
			return x.data, nil
		}
		if x.used < oldest.used {
			oldest = x
		}
	}
	if oldest.data == nil {
		oldest.data = make([]byte, pageSize)
	}
	oldest.at = -1
	data := oldest.data[:pageSize]
	n, err := p.r.ReadAt(data, at*pageSize)
	if err != nil && err != io.EOF {
		return nil, err
	}
	oldest.at, oldest.used, oldest.data = at, p.now, data[:n]
	return oldest.data, nil
}

// stream is what is in a compound file under one of some names, or nil. What it says of
// its size is not believed.
func stream(r io.ReaderAt, size int64, names ...string) (f *mscfb.File, err error) {
	defer func() {
		if x := recover(); x != nil {
			f, err = nil, fmt.Errorf("the compound file is damaged: %v", x)
		}
	}()
	c, err := mscfb.New(newPaged(r, size))
	if err != nil {
		return nil, fmt.Errorf("the compound file is damaged: %w", err)
	}
	for _, n := range names {
		for _, f := range c.File {
			if f.Name == n && len(f.Path) == 0 && !f.FileInfo().IsDir() {
				if f.Size > size {
					return nil, errors.New("the compound file is damaged: a stream is longer than the file")
				}
				return f, nil
			}
		}
	}
	return nil, nil
}
