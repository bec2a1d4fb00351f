package desk

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/rows"
	"ambertray/internal/script"
	"ambertray/internal/source"
)

// fromFile is how the server is to read the file of a script; or an error that says what of
// it, or of the plan, it would read otherwise.
func (r *ScriptRequest) fromFile(o *Opened, check *rows.Check) (*script.FromFile, error) {
	const instead = "\n  leave out --from-file: the script then has the rows themselves"
	no := func(format string, args ...any) (*script.FromFile, error) {
		return nil, need("--from-file: "+format+instead, args...)
	}
	f := r.For.Script.File
	if f == nil {
		return no("%s reads no file of its own", r.For.Title)
	}
	src := o.First()
	if len(o.Sources) > 1 {
		return no("a statement reads one file, and these are %s", phrase.Count(int64(len(o.Sources)), "source"))
	}
	if why := otherwise(src); why != "" {
		return no("the server would not read the file as it is: %s", why)
	}
	if why := derives(o.Plan); why != "" {
		return no("SQL does not do what the plan does: %s", why)
	}
	if n := check.Records; n.Rejected > 0 {
		return no("%s of %s do not fit, and the server would end at the first\n  mend the file first", phrase.Grouped(
			n.Rejected), phrase.Count(n.Read, "record"))
	}
	for _, x := range check.Skipped {
		if x.Kind != source.Title.String() { // which stand above the header
			return no("%s, which the server would take for rows", x.Words())
		}
	}
	form := src.Layout.Form
	out := &script.FromFile{Fields: len(src.Layout.Columns)}
	out.Path, out.Delimiter, out.Quote = r.FromFile, form.Delimiter, form.Quote
	out.CRLF, out.Skip = src.Layout.LineEnd == "crlf", max(src.Layout.Header, src.Layout.Skip)
	known := false
	if out.Encoding, known = f.Encodings[strings.ToLower(src.Layout.Encoding)]; !known {
		return no("%s has no name for the encoding %s", r.For.Title, src.Layout.Encoding)
	}
	if f.OneLine && out.Skip > 1 {
		return no("%s passes over one line at most, and the header is line %d", r.For.Title, out.Skip)
	}
	if f.NeedsQuotes && out.Quote == 0 {
		return no("%s reads quotes, and the file has none that mean something", r.For.Title)
	}
	if marked, err := hasMark(src.Path); err != nil || marked && out.Skip == 0 {
		return no("the file begins with a byte order mark, and has no header that it would go with (%v)", cmp.Or(err,
			errors.New("U+FEFF")))
	}
	bound, err := plan.Bind(o.Plan, o.Sources)
	if err != nil {
		return nil, err
	}
	for i, c := range o.Plan.Columns {
		reader, err := c.Reader()
		if err != nil {
			return nil, err
		}
		out.Columns = append(out.Columns, script.FileColumn{Name: c.Name, At: bound.At[0][i], Reader: reader})
	}
	if why := out.Cannot(r.For); len(why) > 0 {
		return no("%s does not read what the plan says: %s", r.For.Title, strings.Join(why, "; "))
	}
	return out, nil
}

// otherwise says what of a source only this program reads; nothing: a server does, too.
func otherwise(s *source.Source) string {
	l := &s.Layout
	switch {
	case s.Member != "" || s.Sheet != "" || s.Size != s.FileSize:
		return "it is packed, or a workbook"
	case l.Form.Starts != nil || l.Form.Blanks:
		return "its columns are of fixed width"
	case l.Form.Escape != 0:
		return fmt.Sprintf("%q takes the meaning from what follows it", l.Form.Escape)
	case l.Form.Comment != "":
		return "it has lines of comment"
	case l.Form.Marked:
		return "it has marked formulas"
	case l.Footer > 0:
		return phrase.Count(int64(l.Footer), "record") + " at its end are no data"
	case l.ShortNull || l.Pad || l.Lead > 0:
		return "it has records with fields left out"
	case l.LineEnd != "lf" && l.LineEnd != "crlf":
		return "its lines end in " + l.LineEnd
	case s.HeaderRuler:
		return "a ruler stands under its header"
	}
	return ""
}

// derives says what of a plan is done by this program; nothing: SQL can do it all.
func derives(p *plan.Plan) string {
	switch {
	case p.Table.RowNumber != "":
		return "it numbers the rows"
	case p.Keep != "":
		return "it leaves out records"
	}
	for _, c := range p.Columns {
		if c.Value != "" || c.Fill != "" {
			return "the column " + c.Name + " is made by an expression"
		}
	}
	return ""
}

// hasMark reports whether a file begins with the byte order mark of UTF-8.
func hasMark(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	head := make([]byte, 3)
	n, err := io.ReadFull(f, head)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = nil
	}
	return string(head[:n]) == "\ufeff", err
}
