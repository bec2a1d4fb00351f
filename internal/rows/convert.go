package rows

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ambertray/internal/derive"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A converter turns the records of chunks into rows for a sink. It is for
// one goroutine.
type converter struct {
	rows    *source.Rows
	src     *source.Source
	plan    *plan.Plan
	at      []int // the field of each column
	readers []*reading.Reader
	enc     sink.Encoder // nil: only look
	rec     delimited.Record
	row     []reading.Value
	number  bool  // the first column is the record's number in the load
	before  int64 // records of the sources before
	origins map[string]Origin
	slots   []int          // the place of each field among the headers of rejects, or nil
	index   int            // of the source
	place   sink.Placer    // the encoder, if it wants to know, or nil
	summer  sink.Summer    // the encoder, if it adds up checksums, or nil
	without map[int64]bool // lines to pass over
	wrong   []wrongValue   // memory
	unmet   []int          // conditions that the record at hand does not meet, and is loaded
	empty   []tally.Tally  // of a row
	base    int64          // records before the chunk, where each needs it
	habits  bool           // what the values are like is counted, too
	block   *block         // nil: records are read one by one

	exprs  *plan.Expressions // nil: none
	record *derive.Record
	mended map[string]*derive.Record // by source
	plain  []*reading.Reader         // of what expressions yield
}

func newConverter(src *source.Source, p *plan.Plan, at []int, enc sink.Encoder) (*converter, error) {
	c := &converter{rows: source.NewRows(&src.Layout), src: src, plan: p, at: at, enc: enc,
		number: p.Table.RowNumber != ""}
	for i := range p.Columns {
		r, err := p.Columns[i].Reader()
		if err != nil {
			return nil, err
		}
		c.readers = append(c.readers, r)
	}
	c.row = make([]reading.Value, len(c.readers)+c.first())
	c.place, _ = enc.(sink.Placer)
	c.summer, _ = enc.(sink.Summer)
	return c, nil
}

// first is how many columns stand before those of the plan.
func (c *converter) first() int {
	if c.number {
		return 1
	}
	return 0
}

// A part is what became of one chunk. Its memory is used again for another
// chunk once the collector has given it back.
type part struct {
	chunk   *delimited.Chunk
	data    []byte // encoded rows
	rows    int
	sum     uint64 // of their checksums
	read    int64  // rows of the source of any kind
	records int64  // of data
	first   int64  // number of the first record, less one
	skipped [source.Kinds]int64
	firsts  [source.Kinds][]string // the first texts of those that are skipped
	rejects []tray.Reject
	tally   []tally.Tally
	likes   []tally.Habit // of the columns, if that is asked for
	misfits []misfits     // by column
	unmet   []Unmet       // by rule of the plan
}

// Unmet counts records that do not meet a condition of the plan's and are loaded.
type Unmet struct {
	Count int64
	Line  int64 // of the first
}

// emptyTally has a column for each of a row.
func (c *converter) emptyTally() []tally.Tally {
	if c.empty == nil {
		for i := range c.row {
			t := rowNumberType
			if k := i - c.first(); k >= 0 {
				t = c.readers[k].Type
			}
			c.empty = append(c.empty, tally.Tally{Type: t})
		}
	}
	return slices.Clone(c.empty)
}

// misfits counts values of one column that do not fit.
type misfits struct {
	count   int64
	first   []profile.Example
	reason  string // of the first
	kind    reading.Misfit
	tooLong int64
	longest int // characters, of those that are too long
}

// merge adds the misfits of a later chunk.
func (m *misfits) merge(x *misfits) {
	if m.count == 0 {
		m.reason, m.kind = x.reason, x.kind
	}
	m.count += x.count
	m.tooLong += x.tooLong
	m.longest = max(m.longest, x.longest)
	m.first = append(m.first, x.first[:min(len(x.first), 3-min(3, len(m.first)))]...)
}

// convert reads a chunk into p. Rows whose number is in skip are left out,
// because the sink refused them.
func (c *converter) convert(chunk *delimited.Chunk, p *part, skip map[int]bool) {
	p.chunk, p.data, p.rows, p.read, p.records = chunk, p.data[:0], 0, 0, 0
	p.skipped, p.firsts, p.rejects = [source.Kinds]int64{}, [source.Kinds][]string{}, p.rejects[:0]
	if cap(p.tally) < len(c.row) {
		p.tally = make([]tally.Tally, len(c.row))
	}
	p.tally = p.tally[:len(c.row)]
	if p.misfits == nil {
		p.misfits = make([]misfits, len(c.readers))
	}
	for i := range p.misfits {
		p.misfits[i] = misfits{first: p.misfits[i].first[:0]}
	}
	if p.unmet == nil {
		p.unmet = make([]Unmet, len(c.plan.Rules))
	}
	clear(p.unmet)
	if c.empty == nil {
		c.emptyTally()
	}
	copy(p.tally, c.empty)
	if c.habits {
		if p.likes == nil {
			p.likes = make([]tally.Habit, len(c.row))
		}
		for i := range p.likes {
			p.likes[i].Reset(c.empty[i].Type)
		}
	}
	c.rows.Reset(chunk)
	if c.summer != nil {
		c.summer.Sum()
		defer func() { p.sum = c.summer.Sum() }()
	}
	accepted, byColumn := 0, c.byColumn()
	for {
		if byColumn {
			c.blocks(p, skip, &accepted)
		}
		kind, ok := c.rows.Next(&c.rec)
		if !ok {
			return
		}
		p.read++
		if kind != source.Data {
			if p.skipped[kind]++; p.skipped[kind] <= shownSkips && kind.Tells() {
				p.firsts[kind] = append(p.firsts[kind], Clip(c.src.TextOf(&c.rec)))
			}
			continue
		}
		p.records++
		if c.without != nil && c.without[c.rec.Line] || !c.read(p) {
			continue
		}
		if accepted++; !skip[accepted-1] {
			c.accept(p)
			for _, k := range c.unmet {
				if p.unmet[k].Count++; p.unmet[k].Line == 0 {
					p.unmet[k].Line = c.rec.Line
				}
			}
		}
	}
}

// read reads the record at hand into c.row, and reports whether it is a row;
// else it is skipped or rejected.
func (c *converter) read(p *part) bool {
	rec := &c.rec
	if rec.Fault != delimited.NoFault {
		p.rejects = append(p.rejects, c.faulty(rec, p.records))
		return false
	}
	if fields := len(c.src.Layout.Columns); len(rec.Fields) != fields {
		p.rejects = append(p.rejects, c.reject(rec, p.records, "", tray.FieldCount,
			fmt.Sprintf("has %s, the header has %d", plural(len(rec.Fields)-c.lead(), "field"), fields-c.lead()),
			string(rec.Raw)))
		return false
	}
	if c.number {
		c.row[0].Null, c.row[0].Int = false, c.recordNumber(p)
	}
	verdict, wrong := c.values(rec, p.first+p.records)
	switch verdict {
	case leftOut:
		p.skipped[source.LeftOut]++
	case wrongValues:
		for i := range wrong {
			if w := &wrong[i]; w.misfit != reading.OK { // else an expression failed; there is no value to show
				p.misfits[w.column].add(w, rec.Line)
			}
		}
		w := &wrong[0]
		column := ""
		if w.column >= 0 {
			column = c.plan.Columns[w.column].Name
		}
		p.rejects = append(p.rejects, c.reject(rec, p.records, column, w.code(), w.reason, string(w.field)))
	case goodValues:
	}
	return verdict == goodValues
}

// accept takes c.row into the account, and encodes it.
func (c *converter) accept(p *part) {
	for i := range c.row {
		p.tally[i].Add(&c.row[i])
	}
	if c.habits {
		for i := range c.row {
			p.likes[i].Add(&c.row[i])
		}
	}
	if c.enc != nil {
		if c.place != nil {
			c.place.Place(c.index, c.rec.Line)
		}
		p.data = c.enc.Append(p.data, c.row)
	}
	p.rows++
}

// add counts a value that does not fit.
func (m *misfits) add(w *wrongValue, line int64) {
	if m.count++; w.misfit == reading.TooLong {
		m.tooLong++
		m.longest = max(m.longest, utf8.RuneCount(w.shown))
	}
	if len(m.first) == 0 {
		m.reason, m.kind = w.reason, w.misfit
	}
	if len(m.first) < 3 {
		m.first = append(m.first, profile.Example{Line: line, Value: string(w.field)})
	}
}

// refused turns rows that the sink refused into rejects: it reads the chunk
// once more, since nothing of a record is kept while all goes well.
func (c *converter) refused(p *part, refusals []sink.Refusal) {
	byRow := map[int]*sink.Refusal{}
	skip := map[int]bool{}
	for i := range refusals {
		byRow[refusals[i].Row] = &refusals[i]
		skip[refusals[i].Row] = true
	}
	c.convert(p.chunk, p, skip)
	c.base = p.first
	accepted := 0
	c.each(p.chunk, func(_, record int64) {
		if x := byRow[accepted]; x != nil {
			value := ""
			for i, pc := range c.plan.Columns {
				if pc.Name == x.Column && c.at[i] >= 0 {
					value = string(c.rec.Fields[c.at[i]])
				}
			}
			r := c.reject(&c.rec, record, x.Column, tray.Refused, x.Message, value)
			r.Kind, r.Before, r.Skip = x.Kind, x.Before, x.Skip
			p.rejects = append(p.rejects, r)
		}
		accepted++
	})
}

// refusedBefore makes of the rows of a chunk that is in already what became of
// them then. known are those that were refused, by line.
func (c *converter) refusedBefore(x *part, known map[int64]sink.Refusal) {
	if len(known) == 0 || x.rows == 0 {
		return
	}
	var refusals []sink.Refusal
	row := 0
	c.base = x.first
	c.each(x.chunk, func(line, _ int64) {
		if n, is := known[line]; is {
			n.Row = row
			refusals = append(refusals, n)
		}
		row++
	})
	if len(refusals) > 0 {
		c.refused(x, refusals)
	}
}

// each calls f for every record of the chunk that becomes a row, with its line
// and its number in the chunk, from 1; c.rec is the record.
func (c *converter) each(chunk *delimited.Chunk, f func(line, record int64)) {
	c.rows.Reset(chunk)
	record := int64(0)
records:
	for {
		kind, ok := c.rows.Next(&c.rec)
		if !ok {
			return
		}
		if kind != source.Data {
			continue
		}
		record++
		if c.without[c.rec.Line] || c.rec.Fault != delimited.NoFault || len(c.rec.Fields) != len(c.src.Layout.Columns) {
			continue
		}
		if verdict, _ := c.values(&c.rec, c.base+record); verdict != goodValues {
			continue records
		}
		f(c.rec.Line, record)
	}
}

// A verdict is what becomes of a record's values.
type verdict uint8

const (
	goodValues verdict = iota
	wrongValues
	leftOut
)

// wrongValue is one that does not fit its column.
type wrongValue struct {
	column int
	misfit reading.Misfit // OK: an expression failed
	unmet  bool           // or a condition is not met
	reason string
	field  []byte
	shown  []byte // without spaces around
}

func (w *wrongValue) code() tray.Code {
	switch {
	case w.unmet:
		return tray.Unmet
	case w.misfit == reading.OK:
		return tray.Expression
	}
	return tray.Code(w.misfit.Code())
}

// values reads the fields of a record into c.row, and computes what
// expressions make. number is the record's.
func (c *converter) values(rec *delimited.Record, number int64) (verdict, []wrongValue) {
	first := c.first()
	wrong := c.wrong[:0]
	c.unmet = c.unmet[:0]
	for i, r := range c.readers {
		at := c.at[i]
		var f []byte // of a column that the source lacks: nothing
		if at >= 0 {
			f = rec.Fields[at]
		} else if c.exprs != nil && c.exprs.Value[i] != nil {
			continue
		}
		m := r.Read(f, rec.Quoted(at), &c.row[first+i])
		if m == reading.OK || m == reading.Blank && c.exprs != nil && c.exprs.Fill[i] != nil {
			continue
		}
		shown := f
		if r.Trim {
			shown = reading.TrimSpace(f)
		}
		wrong = append(wrong, wrongValue{i, m, false, r.Reason(m, shown), f, shown})
	}
	if c.exprs != nil {
		var out bool
		if out, wrong = c.express(rec, number, wrong); out {
			return leftOut, nil
		}
	}
	c.wrong = wrong
	if len(wrong) > 0 {
		return wrongValues, wrong
	}
	return goodValues, nil
}

// express evaluates the plan's expressions for a record whose fields have been
// read.
//
// It is long because what expressions may use has to be set before any is evaluated.
func (c *converter) express(rec *delimited.Record, number int64, wrong []wrongValue) (out bool, _ []wrongValue) {
	first, lead := c.first(), c.lead()
	x, line := c.record, rec.Line
	if lead > 0 {
		// A record that was mended is still the one that it was.
		number, _ = strconv.ParseInt(string(rec.Fields[1]), 10, 64)
		line, _ = strconv.ParseInt(string(rec.Fields[3]), 10, 64)
		if was := c.mended[string(rec.Fields[2])]; was != nil {
			x = was
		}
	}
	x.Next(number, line)
	for i, h := range c.src.Layout.Columns {
		if i >= lead && i < len(rec.Fields) {
			x.Field(h, rec.Fields[i])
		}
	}
	misread := map[int]bool{}
	for _, w := range wrong {
		misread[w.column] = true
	}
	for i, pc := range c.plan.Columns {
		if c.exprs.Value[i] != nil {
			continue
		}
		var v *reading.Value
		if r := &c.row[first+i]; !misread[i] && !(c.exprs.Fill[i] != nil && c.blank(rec, i)) {
			v = r
		}
		x.Set(pc.Name, c.readers[i].Type, v)
	}
	fail := func(i int, err error) {
		wrong = append(wrong, wrongValue{column: i, reason: err.Error()})
	}
	if c.exprs.Keep != nil {
		keep, err := c.exprs.Keep.Keep(x)
		if err != nil {
			fail(-1, err)
			return false, wrong[len(wrong)-1:]
		}
		if !keep {
			return true, nil
		}
	}
	for i := range c.plan.Columns {
		p := c.exprs.Value[i]
		if p == nil && c.exprs.Fill[i] != nil && !misread[i] && c.blank(rec, i) {
			p = c.exprs.Fill[i]
		}
		if p == nil {
			continue
		}
		text, err := p.Text(x, c.readers[i].Type)
		if err != nil {
			fail(i, err)
			continue
		}
		v := &c.row[first+i]
		if text == nil {
			if v.Null, v.Emptied = true, false; c.readers[i].Required {
				wrong = append(wrong, wrongValue{column: i, misfit: reading.Blank,
					reason: reading.Blank.Reason(c.readers[i].Type, nil)})
			}
			continue
		}
		if m := c.plain[i].Read(text, true, v); m != reading.OK {
			wrong = append(wrong, wrongValue{i, m, false, c.readers[i].Reason(m, text), text, text})
		} else if r := c.readers[i]; (r.Lo != 0 || r.Hi != 0) && r.Type.IsInteger() && (v.Int < r.Lo || v.Int > r.Hi) {
			wrong = append(wrong, wrongValue{i, reading.OutOfRange, false, r.Reason(reading.OutOfRange, text), text,
				text})
		} else if len(v.Text) > 0 {
			v.Text = append([]byte(nil), v.Text...)
		}
	}
	if len(wrong) == 0 {
		wrong = c.rules(x, wrong)
	}
	return false, wrong
}

// rules looks whether the record meets the conditions of the plan.
func (c *converter) rules(x *derive.Record, wrong []wrongValue) []wrongValue {
	for k, p := range c.exprs.Rules {
		met, err := p.Keep(x)
		rule := &c.plan.Rules[k]
		switch {
		case err != nil:
			return append(wrong, wrongValue{column: -1, reason: err.Error()})
		case met:
		case rule.What == plan.RuleCaution:
			c.unmet = append(c.unmet, k)
		default:
			return append(wrong, wrongValue{column: -1, reason: rule.Say, unmet: true})
		}
	}
	return wrong
}

// blank reports whether a column's field holds nothing.
func (c *converter) blank(rec *delimited.Record, i int) bool {
	if c.at[i] < 0 {
		return true
	}
	return len(reading.TrimSpace(rec.Fields[c.at[i]])) == 0 || c.row[c.first()+i].Null
}

// lead is how many fields stand before those of the record itself.
func (c *converter) lead() int { return c.src.Layout.Lead }

// recordNumber is the number of the record at hand among those of all sources.
// Records that are mended carry theirs in their source with them.
func (c *converter) recordNumber(p *part) int64 {
	if c.lead() > 0 {
		n, _ := strconv.ParseInt(string(c.rec.Fields[1]), 10, 64)
		return c.origins[string(c.rec.Fields[2])].Before + n
	}
	return c.before + p.first + p.records
}

func (c *converter) reject(rec *delimited.Record, record int64, column string, code tray.Code, reason,
	value string) tray.Reject {
	x := tray.Reject{Source: c.src.Name, Line: rec.Line, Record: record, Column: column, Code: code, Reason: reason,
		Value: readable(value)}
	var fields []tray.Field
	if c.src.HasCells() {
		at := -1
		for k, pc := range c.plan.Columns {
			if pc.Name == column && column != "" {
				at = c.at[k]
			}
		}
		if x.Cell = c.src.Cell(rec.Line, at); x.Cell == "" {
			x.Cell = c.src.Place(rec.Line, -1)
		}
	}
	for i, f := range rec.Fields {
		if i < c.lead() {
			x.Lead = append(x.Lead, string(f))
			continue
		}
		fields = append(fields, tray.Field{Text: readable(string(f)), Quoted: rec.Quoted(i)})
	}
	x.Fields = fields
	if c.slots != nil && len(fields) == len(c.slots) {
		x.Fields = make([]tray.Field, 1+slices.Max(c.slots))
		for i, k := range c.slots {
			x.Fields[k] = fields[i]
		}
	}
	return x
}

// readable marks what no text can hold: bytes that did not decode, and NUL.
func readable(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\ufffd"), "\x00", "\ufffd")
}

// faulty is the reject of a record that does not even read as one.
func (c *converter) faulty(rec *delimited.Record, record int64) tray.Reject {
	reason := rec.Fault.String()
	column := ""
	if i := rec.FaultField; i >= 0 && i < len(c.src.Layout.Columns) {
		for k, at := range c.at {
			if at == i {
				column = c.plan.Columns[k].Name
			}
		}
	}
	if rec.Fault == delimited.BadEncoding {
		reason = fmt.Sprintf("a byte is not %s: %s of the record", c.src.Layout.Encoding,
			profile.WrongByte(string(rec.Raw)))
	}
	return c.reject(rec, record, column, tray.Code(rec.Fault.Code()), reason, string(rec.Raw))
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
