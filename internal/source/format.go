package source

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"

	"ambertray/internal/source/workbook"
)

// A format is one way in which a file keeps what is in it. Whoever adds one
// writes its line in the table below, and a file beside this one.
//
// A source is opened from the outside in: the first format whose is holds takes
// what is in it out, and what comes of that is looked at again, until it is text.
type format struct {
	name string
	// is recognises it, by its first bytes as far as they tell.
	is func(s *Source, head []byte) (bool, error)
	// open takes out what is in it: into the source's spool, with the evidence
	// for what was chosen. A [Choice] says that a part has to be named first. Nil
	// tells that it is read as it stands.
	open func(s *Source, ctx context.Context, known Known) error
	// wraps tells that what comes out is a file of any format, to be looked at
	// again; else it is text of our own form.
	wraps bool
	// takes names the settings that choose a part of it, see [Settings].
	takes []string
	// lacks tells what to do with a file that is recognised and cannot be read.
	lacks string
}

// formats is what is recognised and read, in the order in which it is tried;
// behind it, what is recognised and not read is tried, see [foreign]. What is none
// of them is text: see detect.
var formats = []*format{
	{name: "gzip", is: begins("\x1f\x8b"), open: (*Source).gunzip, wraps: true},
	{name: "workbook", is: packs(workbook.Holds), open: (*Source).takeSheet, takes: inSheets},
	{name: "workbook", is: compounds(workbook.IsXLS), open: (*Source).takeSheet, takes: inSheets},
	{name: "workbook", is: holdsFlat, open: (*Source).takeSheet, takes: inSheets},
	{name: "a document, and not a workbook", is: packs(workbook.IsDocument),
		lacks: "save its table as .xlsx, .ods or delimited text"},
	{name: "zip archive", is: begins("PK\x03\x04", "PK\x05\x06"), open: (*Source).takeMember, wraps: true,
		takes: []string{"member"}},
}

// inSheets are the settings that choose what of a workbook is read.
var inSheets = []string{"sheet", "range", "visible"}

// mostWraps is how often something may be packed within something.
const mostWraps = 3

// begins recognises a format by one of several beginnings.
func begins(magic ...string) func(*Source, []byte) (bool, error) {
	return func(_ *Source, head []byte) (bool, error) {
		return slices.ContainsFunc(magic, func(m string) bool { return bytes.HasPrefix(head, []byte(m)) }), nil
	}
}

// packs recognises an archive by the members that it holds.
func packs(holds func(r io.ReaderAt, size int64) (bool, error)) func(*Source, []byte) (bool, error) {
	return func(s *Source, head []byte) (bool, error) {
		if !workbook.Is(head) {
			return false, nil
		}
		file, at, size, err := s.inPlaces()
		if err != nil {
			return false, err
		}
		defer file.Close()
		return holds(at, size)
	}
}

// compounds recognises a compound file by the streams that it holds; a damaged one holds
// none.
func compounds(holds func(r io.ReaderAt, size int64) (bool, error)) func(*Source, []byte) (bool, error) {
	return func(s *Source, head []byte) (bool, error) {
		if !bytes.HasPrefix(head, []byte(workbook.Compound)) {
			return false, nil
		}
		file, at, size, err := s.inPlaces()
		if err != nil {
			return false, err
		}
		defer file.Close()
		is, err := holds(at, size)
		return is && err == nil, nil
	}
}

// holdsFlat recognises a spreadsheet in one XML file.
func holdsFlat(_ *Source, head []byte) (bool, error) {
	return workbook.IsFlat(bytes.NewReader(head), int64(len(head)))
}

// formatOf is the format of what the source is now, or nil: text.
func (s *Source) formatOf() (*format, error) {
	f, err := s.open()
	if err != nil {
		return nil, err
	}
	head := make([]byte, 4096)
	n, err := io.ReadFull(f, head)
	f.Close()
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	for _, x := range slices.Concat(formats, foreign) {
		is, err := x.is(s, head[:n])
		if err != nil {
			return nil, s.unpackProblem(err)
		}
		if is {
			return x, nil
		}
	}
	return nil, nil
}

// unpack takes a source out of what it is wrapped in. It does nothing where that
// is text already.
func (s *Source) unpack(ctx context.Context, known Known) error {
	s.unpacked = cmp.Or(known.MaxUnpacked, DefaultUnpacked)
	if s.flow != nil {
		// It is unpacked already; what is packed once more is found to be binary.
		x, err := s.formatOf()
		if err == nil && x != nil && x.open == nil && known.Encoding == "" {
			err = s.isForeign(x)
		}
		return err
	}
	var been []*format
	for {
		x, err := s.formatOf()
		if err != nil {
			return err
		}
		switch {
		case x == nil:
			return s.untaken(been, known)
		case x.open == nil && known.Encoding != "":
			return s.untaken(been, known) // a person says that it is text
		case x.open == nil:
			return s.isForeign(x)
		case len(been) == mostWraps:
			return &Problem{Source: s.Name, What: "is packed within others, " + fmt.Sprint(mostWraps) + " deep",
				Do: "unpack it first"}
		}
		been = append(been, x)
		if !x.wraps {
			if err := s.untaken(been, known); err != nil {
				return err
			}
		}
		if err := s.takeOut(ctx, x, known); err != nil || !x.wraps {
			return err
		}
	}
}

func (s *Source) isForeign(x *format) error {
	return &Problem{Source: s.Name, What: "is " + x.name + ", not delimited text", Do: x.lacks}
}

// takeOut keeps what is known of the file itself, and takes out what is in it.
func (s *Source) takeOut(ctx context.Context, x *format, known Known) error {
	if err := s.origin(); err != nil {
		return s.unpackProblem(err)
	}
	return x.open(s, ctx, known)
}

// untaken is the error of settings that none of the formats takes that a source
// is in.
func (s *Source) untaken(been []*format, known Known) error {
	for _, set := range Settings {
		if set.needs == "" || !set.given(&known) {
			continue
		}
		if !slices.ContainsFunc(been, func(x *format) bool { return slices.Contains(x.takes, set.Key) }) {
			return &Problem{Source: s.Name, What: "is " + set.needs, Decision: true, Do: "leave out --" + set.Option()}
		}
	}
	return nil
}
