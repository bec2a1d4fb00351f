package source

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"regexp"
	"strings"
	"time"

	"ambertray/internal/source/workbook"
)

// Known is what the caller already knows about a source. Nil and zero values
// are found out.
type Known struct {
	Encoding  string
	Delimiter *string
	Quote     *string // "" for none
	Escape    *string // "" for none: quotes are doubled
	// Columns are the characters, from 0, at which the columns of a text of fixed
	// columns start; nil: it is not known to be one.
	Columns []int
	// Header is the line of the column names, 0 for none, or Found: the row that has Names, wherever
	// it stands.
	Header *int64
	// Skip is how many lines at the top are titles where there is no header, or Found.
	Skip *int64
	// Footer is how many records at the end are totals and remarks, or Found: as many as are told by
	// their words. FooterUnsaid takes none, and finds out whether there are any.
	Footer       *int
	FooterUnsaid bool
	// Totals is SkipTotals or KeepTotals, or empty.
	Totals string
	// Names are what the row of column names has, if that is known.
	Names Names
	// KeepBlank takes records of delimiters only as data.
	KeepBlank *bool
	// ShortNull takes fields that are left out at the end of a record as blank.
	ShortNull *bool
	// Marked takes the apostrophe off fields that a spreadsheet would take for formulas.
	Marked *bool
	// Comment begins lines that are no records; empty: none does.
	Comment   *string
	MaxRecord int // bytes
	// Member of an archive, by its name or a pattern.
	Member string
	// Sheet of a workbook, by its name or number, and Range of its cells, as
	// A5:H200 or by a name of the book's.
	Sheet, Range string
	// Visible leaves out rows of a sheet that are hidden or filtered out.
	Visible bool
	// MaxUnpacked bounds what is unpacked, in bytes; 0 means DefaultUnpacked.
	MaxUnpacked int64
	// Stdin is what - stands for; Idle how long a server may send nothing.
	Stdin io.Reader
	Idle  time.Duration
	// Once tells that a long pipe need not be kept, since it is read once.
	Once bool
	// Asked are the patterns that led to the source.
	Asked Asked
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
		if scheme := schemeOf(name); scheme != "" {
			return nil, notFetched(name, scheme)
		}
		p := &Problem{Source: name, What: "cannot be read", Err: cause(err), Do: "check the path and its permissions"}
		if errors.Is(err, fs.ErrNotExist) {
			p.What, p.Err, p.Do = "no such file", nil, "check the path; it is taken from the folder the program runs in"
		}
		return nil, p
	}
	if info.IsDir() {
		return nil, &Problem{Source: name, What: "is a folder, not a file", Do: "name a file in it"}
	}
	s := &Source{Name: name, Path: name, Size: info.Size(), FileSize: info.Size(), Modified: info.ModTime(),
		MaxRecord: known.MaxRecord, Range: workbook.All, stamp: stampOf(name, info)}
	if s.Size == 0 && info.Mode().IsRegular() {
		return nil, &Problem{Source: name, What: "is empty (0 bytes)",
			Do: "nothing can be loaded from it; ask for the file again"}
	}
	return s.settle(ctx, known)
}

var scheme = regexp.MustCompile(`^([a-z][a-z0-9+.-]+)://|^(sqlite|sqlserver|oracle|jdbc:[a-z]+|mailto|s3):`)

// schemeOf is the scheme of what is written like a link (RFC 3986, 3.1), or empty.
func schemeOf(name string) string {
	m := scheme.FindStringSubmatch(strings.ToLower(name))
	if m == nil {
		return ""
	}
	return cmp.Or(m[1], m[2])
}

// notFetched says what to do about a link of another kind.
func notFetched(name, scheme string) error {
	p := &Problem{Source: redactLink(name), What: "is a link of " + scheme + ", which is not fetched", Decision: true,
		Do: "fetch it with the tool for that, or pipe it in: … | ambertray look -"}
	switch strings.TrimPrefix(scheme, "jdbc:") {
	case "sqlite", "postgres", "postgresql", "mysql", "mariadb", "sqlserver", "oracle":
		p.What, p.Do = "is the URL of a database, not a file",
			"a database is named with --into; 'ambertray peek' and 'ambertray export' read one"
	case "file":
		p.What, p.Do = "is a link to a file here", "write its path instead"
	}
	return p
}

// openAway opens what is not a file here: it is brought here first.
func openAway(ctx context.Context, name string, known Known) (*Source, error) {
	s := &Source{Name: name, Path: name, Base: "stdin", MaxRecord: known.MaxRecord, Range: workbook.All,
		unpacked: cmp.Or(known.MaxUnpacked, DefaultUnpacked)}
	if name == Stdin {
		s.Name = "standard input"
		if known.Stdin == nil {
			return nil, &Problem{Source: s.Name, What: "is not there", Decision: true, Do: "name a file"}
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
	s.by, s.Asked = known.By, known.Asked
	if err := s.unpack(ctx, known); err != nil {
		s.Close()
		return nil, err
	}
	if s.spool != nil && s.flow == nil {
		if s.Size = s.spool.size; s.Size == 0 {
			s.Close()
			return nil, &Problem{Source: s.Name, What: "is empty (0 bytes)",
				Do: "nothing can be loaded from it; ask for the file again"}
		}
	}
	if s.spool != nil {
		s.stamp = "" // what is read is our own copy
	}
	if err := s.detect(ctx, known); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
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
