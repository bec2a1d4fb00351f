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
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"

	"ambertray/internal/phrase"
	"ambertray/internal/source/workbook"
)

// A Part is one of several that a file has: a sheet, or a member of an
// archive.
type Part struct {
	Name   string `json:"name"`
	Hidden bool   `json:"hidden,omitempty"`
	Used   string `json:"used,omitempty"` // range of a sheet's cells
	Rows   int64  `json:"rows,omitempty"` // of a sheet that have cells
	Size   int64  `json:"size,omitempty"` // of a member, unpacked
	View   string `json:"view,omitempty"` // its beginning, on one line
	Merged int64  `json:"merged,omitempty"`
}

// A Choice is needed where a file has several parts and none is named.
type Choice struct {
	Source string
	What   string // sheet or member
	Parts  []Part
}

func (c *Choice) Error() string {
	var names []string
	for i, p := range c.Parts {
		if i == 12 {
			names = append(names, fmt.Sprintf("and %d more", len(c.Parts)-i))
			break
		}
		names = append(names, strconv.Quote(p.Name))
	}
	if len(names) == 0 {
		return fmt.Sprintf("%s: has no %s with data", c.Source, c.What)
	}
	return fmt.Sprintf("%s: has several %ss; say which with --%s\n  %s", c.Source, c.What, c.What, strings.Join(names, ", "))
}

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

// SafeMember reports whether a member's name stays within the archive.
func safeMember(name string) bool {
	return name != "" && !strings.HasPrefix(name, "/") && !strings.Contains(name, `\`) && !strings.Contains(name, ":") && path.Clean(name) == strings.TrimSuffix(name, "/") && !strings.HasPrefix(path.Clean(name), "..")
}

func (s *Source) chooseMember(ctx context.Context, z *zip.Reader, known Known) error {
	var all []*zip.File
	choice := &Choice{Source: s.Name, What: "member"}
	for _, f := range z.File {
		if f.FileInfo().IsDir() || strings.HasPrefix(path.Base(f.Name), ".") || strings.HasPrefix(f.Name, "__MACOSX/") {
			continue
		}
		if !safeMember(f.Name) {
			return &Problem{Source: s.Name, What: fmt.Sprintf("has a member %q, whose name leads out of the archive", f.Name), Do: "do not trust this archive; ask where it comes from"}
		}
		if len(choice.Parts) < 1000 {
			choice.Parts = append(choice.Parts, Part{Name: f.Name, Size: int64(f.UncompressedSize64)})
		}
		if known.Member == "" || f.Name == known.Member {
			all = append(all, f)
			continue
		}
		if ok, err := path.Match(known.Member, f.Name); err == nil && ok {
			all = append(all, f)
		} else if ok, err := path.Match(known.Member, path.Base(f.Name)); err == nil && ok {
			all = append(all, f)
		}
	}
	if len(all) == 0 && known.Member != "" {
		return &Problem{Source: s.Name, What: fmt.Sprintf("has no member %q", known.Member), Asked: true, Do: choice.Error()}
	}
	if len(all) != 1 {
		return choice
	}
	f := all[0]
	if f.Flags&1 != 0 {
		return &Problem{Source: s.Name, What: fmt.Sprintf("its member %q has a password", f.Name), Do: "unpack it by hand"}
	}
	if int64(f.UncompressedSize64) > s.unpacked {
		return s.unpackProblem(errTooLarge)
	}
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	if err := sp.room(int64(f.UncompressedSize64)); err != nil {
		sp.close()
		return s.unpackProblem(err)
	}
	r, err := f.Open()
	if err == nil {
		_, err = io.Copy(sp, &cancelled{ctx, r})
		r.Close()
	}
	if err != nil {
		sp.close()
		return s.unpackProblem(fmt.Errorf("%s: %w", f.Name, err))
	}
	s.swap(sp)
	s.Member = f.Name
	if known.Member != "" {
		s.Evidence = append(s.Evidence, Evidence{"member", f.Name, s.given(), true})
	} else {
		s.Evidence = append(s.Evidence, Evidence{"member", f.Name, "the only one in the archive; " + phrase.Size(sp.size) + " unpacked", false})
	}
	s.Name = s.FullName()
	return nil
}

func (s *Source) given() string { return cmp.Or(s.by, "as given") }

// chooseSheet finds the sheet that is wanted, and reads it.
func (s *Source) chooseSheet(ctx context.Context, book *workbook.Book, known Known) error {
	within := workbook.All
	sheet := known.Sheet
	asked := func(format string, args ...any) error {
		var names []string
		for _, x := range book.Sheets {
			names = append(names, strconv.Quote(x.Name))
		}
		return &Problem{Source: s.Name, What: fmt.Sprintf(format, args...), Asked: true, Do: "its sheets are " + strings.Join(names, ", ")}
	}
	if known.Range != "" {
		r, err := workbook.ParseRange(known.Range)
		if err != nil {
			i := slices.IndexFunc(book.Names, func(n workbook.Name) bool { return strings.EqualFold(n.Name, known.Range) })
			if i < 0 {
				var names []string
				for _, n := range book.Names {
					names = append(names, n.Name)
				}
				return asked("has no range %q: neither cells like A5:H200 nor one of its named ranges and tables (%s)", known.Range, cmp.Or(strings.Join(names, ", "), "none"))
			}
			r = book.Names[i].Range
			if sheet == "" {
				sheet = book.Names[i].Sheet
			} else if !strings.EqualFold(sheet, book.Names[i].Sheet) {
				return asked("the range %s is on the sheet %q, not %q", known.Range, book.Names[i].Sheet, sheet)
			}
		}
		within = r
	}
	at := -1
	why, given := "the only one", false
	switch {
	case sheet != "":
		given = true
		if at = slices.IndexFunc(book.Sheets, func(x workbook.Sheet) bool { return x.Name == sheet }); at < 0 {
			at = slices.IndexFunc(book.Sheets, func(x workbook.Sheet) bool { return strings.EqualFold(x.Name, sheet) })
		}
		if n, err := strconv.Atoi(sheet); at < 0 && err == nil && n >= 1 && n <= len(book.Sheets) {
			at = n - 1
		}
		if at < 0 {
			return asked("has no sheet %q", sheet)
		}
	case len(book.Sheets) == 1:
		at = 0
	default:
		// The only one with data will do.
		for i := range book.Sheets {
			some := false
			err := book.Sheets[i].Rows(ctx, func(*workbook.Row) error { some = true; return errEnough })
			if err != nil && err != errEnough {
				return s.unpackProblem(fmt.Errorf("sheet %q: %w", book.Sheets[i].Name, err))
			}
			if some && at >= 0 {
				parts, err := s.sheets(ctx, book)
				if err != nil {
					return err
				}
				return &Choice{Source: s.Name, What: "sheet", Parts: parts}
			}
			if some {
				at, why = i, "the only one with data"
			}
		}
		if at < 0 {
			return &Problem{Source: s.Name, What: "its sheets are all empty", Do: "nothing can be loaded from it; ask for the file again"}
		}
	}
	x := &book.Sheets[at]
	s.Sheet = x.Name
	if given {
		why = s.given()
	}
	if x.Hidden {
		why += "; it is hidden"
	}
	s.Name = s.FullName()
	old := s.spool
	s.spool = nil
	if err := s.spoolSheet(ctx, x, within); err != nil {
		s.spool = old
		return err
	}
	if old != nil {
		old.close()
	}
	s.Range = within
	s.Merged = x.Merged()
	s.Evidence = append(s.Evidence, Evidence{"workbook", book.Kind, "by its parts", false}, Evidence{"sheet", x.Name, why, given})
	if within != workbook.All {
		s.Evidence = append(s.Evidence, Evidence{"range", within.String(), s.given(), true})
	}
	return nil
}

var errEnough = fmt.Errorf("enough")

// sheets describes all sheets.
func (s *Source) sheets(ctx context.Context, book *workbook.Book) (parts []Part, err error) {
	for i := range book.Sheets {
		x := &book.Sheets[i]
		p := Part{Name: x.Name, Hidden: x.Hidden}
		used := workbook.Range{FromColumn: -1}
		var view [][]string
		err := x.Rows(ctx, func(r *workbook.Row) error {
			first, last := -1, -1
			var cells []string
			for _, c := range r.Cells {
				if len(c.Value) == 0 {
					continue
				}
				if first < 0 {
					first = c.Column
				}
				last = c.Column
				if len(view) < 3 && len(cells) < 12 {
					cells = append(cells, string(c.Value))
				}
			}
			if first < 0 {
				return nil
			}
			if len(view) < 3 {
				view = append(view, cells)
			}
			if p.Rows++; used.FromColumn < 0 {
				used = workbook.Range{FromRow: r.Number, ToRow: r.Number, FromColumn: first, ToColumn: last}
			}
			used.ToRow = r.Number
			used.FromColumn, used.ToColumn = min(used.FromColumn, first), max(used.ToColumn, last)
			return nil
		})
		if err != nil {
			return nil, s.unpackProblem(fmt.Errorf("sheet %q: %w", x.Name, err))
		}
		if p.Rows > 0 {
			p.Used, p.View, p.Merged = used.String(), sheetView(view), x.Merged()
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// Sheets lists the sheets of a workbook that a pattern names: all, or those
// whose names match, in the order of the book. Hidden and empty ones are left
// out of all.
func Sheets(ctx context.Context, name, pattern string, known Known) ([]string, error) {
	s := &Source{Name: name, Path: name, unpacked: cmp.Or(known.MaxUnpacked, DefaultUnpacked)}
	f, err := os.Open(name)
	if err != nil {
		return nil, &Problem{Source: name, What: "cannot be read", Err: cause(err)}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	book, err := workbook.Open(f, info.Size(), workbook.Limits{Part: s.unpacked})
	if err != nil {
		return nil, s.unpackProblem(err)
	}
	if book == nil {
		return nil, &Problem{Source: name, What: "is no workbook", Asked: true, Do: "leave out --sheet"}
	}
	var out []string
	for i := range book.Sheets {
		x := &book.Sheets[i]
		if pattern != "all" {
			if ok, err := filepath.Match(strings.ToLower(pattern), strings.ToLower(x.Name)); err != nil || !ok {
				continue
			}
		} else if x.Hidden {
			continue
		}
		some := false
		if err := x.Rows(ctx, func(*workbook.Row) error { some = true; return errEnough }); err != nil && err != errEnough {
			return nil, s.unpackProblem(fmt.Errorf("sheet %q: %w", x.Name, err))
		}
		if some {
			out = append(out, x.Name)
		}
	}
	if len(out) == 0 {
		return nil, &Problem{Source: name, What: fmt.Sprintf("has no sheet with data that matches %q", pattern), Asked: true, Do: "'ambertray look " + name + "' lists them"}
	}
	return out, nil
}
