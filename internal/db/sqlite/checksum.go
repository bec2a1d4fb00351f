package sqlite

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"sync"

	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/pipeline"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// The checksum of a row is a hash of its values as the encoder writes them.
// SQLite has none of its own, so the table is read back. That goes page by page
// (SQLite, "Database File Format", 1.6 and 2.1), through SQLite's own table of
// pages, which shows them as they will be committed; on all processors, in a
// fraction of the time that it takes to step through the rows.

// summing is an encoder that makes checksums, too.
type summing struct {
	encoder
	seed maphash.Seed
	sum  uint64
}

// Append implements sink.Encoder.
func (e *summing) Append(b []byte, row []reading.Value) []byte {
	at := len(b)
	b = e.encoder.Append(b, row)
	e.sum += maphash.Bytes(e.seed, b[at:])
	return b
}

// Sum implements sink.Summer.
func (e *summing) Sum() uint64 {
	sum := e.sum
	e.sum = 0
	return sum
}

// pages reads the pages of a table.
type pages struct {
	d      *DB
	page   *stmt
	usable int // bytes of a page that SQLite uses
	alias  int // the column that is the rowid, or -1
	types  []sqltype.Type
	seed   maphash.Seed
	take   func(leaf []byte) error // of the tree, in their order
	block  block
	full   chan block
	free   chan block
}

// A block is pages to be summed up: leaves, one after the other, and the rows
// that do not fit into theirs.
type block struct {
	leaves []byte
	long   []record
}

// A record is a row as it is stored.
type record struct {
	rowid   int64
	payload []byte
}

// blockBytes is about how much is handed on at once.
const blockBytes = 256 << 10

// Check implements db.Checker.
func (l *load) Check(ctx context.Context) (*db.Checks, error) {
	d := l.d
	if !l.summed {
		return nil, nil
	}
	p := &pages{d: d, seed: l.seed, full: make(chan block, 2), free: make(chan block, 4)}
	p.take = p.add
	for _, c := range l.table.Columns {
		p.types = append(p.types, c.Type)
	}
	root, err := p.open(ctx, l.table, l.schema())
	if err != nil || root == 0 {
		return nil, err
	}
	defer p.page.close()
	checks, err := p.total(ctx, root)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, d.fail("cannot read the table back", err)
	}
	n, err := d.questions().Count(ctx, l.table.Schema, l.table.Name)
	if err == nil && n != checks.Rows {
		err = d.fail(fmt.Sprintf("counts %d rows, but %d were read back", n, checks.Rows), nil)
	}
	return checks, err
}

// open prepares the reading of a table's pages, and returns the first one's number, or 0 where they cannot be read.
func (p *pages) open(ctx context.Context, t dialect.Table, schema string) (root uint32, err error) {
	n, size, err := p.find(ctx, t, schema)
	if err != nil || n == 0 {
		return 0, err
	}
	if p.page, err = p.d.c.prepare("SELECT data FROM sqlite_dbpage WHERE pgno = ? AND schema = '" + schema +
		"'"); err != nil {
		return 0, nil // a library without the table of pages
	}
	first, err := p.read(1)
	if err != nil {
		p.page.close()
		return 0, p.d.fail("cannot read the table back", err)
	}
	p.usable = int(size) - int(first[20])
	return uint32(n), nil
}

// find returns the table's first page and the size of pages, or 0 where its
// rows are not stored as text in UTF-8.
func (p *pages) find(ctx context.Context, t dialect.Table, schema string) (root, size int64, err error) {
	rows, err := p.d.questions().Rows(ctx, "cannot be read",
		`SELECT rootpage, (SELECT page_size FROM pragma_page_size(?2)) FROM `+schema+`.sqlite_schema
			WHERE type = 'table' AND name = ?1 COLLATE NOCASE AND (SELECT encoding = 'UTF-8' FROM pragma_encoding)`,
		t.Name, schema)
	if err != nil || len(rows) == 0 {
		return 0, 0, err
	}
	for i, n := range []*int64{&root, &size} {
		if *n, err = strconv.ParseInt(*rows[0][i], 10, 64); err != nil {
			return 0, 0, p.d.fail("cannot be read", err)
		}
	}
	key, err := p.d.rowNumber(ctx, schema, t.Name)
	p.alias = slices.IndexFunc(t.Columns, func(c dialect.Column) bool { return strings.EqualFold(c.Name, key) })
	return root, size, err
}

// read returns a page, which is valid until the next is read.
func (p *pages) read(n uint32) ([]byte, error) {
	p.page.reset()
	p.page.bindInt(1, int64(n))
	more, err := p.page.step()
	if err != nil {
		return nil, err
	}
	if !more {
		return nil, fmt.Errorf("page %d is not there", n)
	}
	b := p.page.text(0)
	if len(b) < 512 {
		return nil, errNotAPage
	}
	return b, nil
}

var errNotAPage = errors.New("a page is not what it should be")

// An adder adds up rows, for one goroutine.
type adder struct {
	*pages
	totals []total
	rows   int64
	sum    uint64
	row    []byte // memory, as are the next three
	fields []field
	x      rawValue
	v      reading.Value
	err    error
}

func (p *pages) adder() *adder {
	a := &adder{pages: p, totals: make([]total, len(p.types))}
	for i, t := range p.types {
		if db.HasTotal(t) {
			a.totals[i].reader = reading.Plain(t)
		}
	}
	return a
}

// A total adds up the values of a column.
type total struct {
	reader *reading.Reader // nil: the column has no total
	sum    tally.Sum
	last   []byte // a text, and what it says: the next is often the same
	value  int64
}

// add adds a value. Whether it is exactly what it should be, the checksum
// tells: one of another kind is not added.
func (t *total) add(x *rawValue, v *reading.Value) {
	typ := &t.reader.Type
	short := typ.Kind == sqltype.Decimal && typ.Precision <= digits
	switch {
	case x.kind == lib.SQLITE_NULL:
	case x.kind == lib.SQLITE_INTEGER && short:
		t.sum.Add(x.int * int64(pow10[typ.Scale]))
	case x.kind == lib.SQLITE_INTEGER:
		t.sum.Add(x.int)
	case x.kind == lib.SQLITE_FLOAT && short:
		t.sum.Add(int64(math.Round(x.float * pow10[typ.Scale])))
	case x.kind == lib.SQLITE_TEXT && len(t.last) > 0 && bytes.Equal(x.text, t.last):
		t.sum.Add(t.value)
	case stored(x, t.reader, v) != nil:
	case v.Wide != nil:
		t.sum.AddBig(v.Big())
	default:
		t.sum.Add(v.Int)
		t.last, t.value = append(t.last[:0], x.text...), v.Int
	}
}

// total reads all pages below one, and adds up their rows.
func (p *pages) total(ctx context.Context, root uint32) (*db.Checks, error) {
	team := make([]*adder, pipeline.Workers())
	var working sync.WaitGroup
	for i := range team {
		a := p.adder()
		team[i] = a
		working.Go(func() {
			for b := range p.full {
				if a.err == nil {
					a.err = a.block(b)
				}
				p.free <- block{b.leaves[:0], b.long[:0]}
			}
		})
	}
	for range cap(p.free) {
		p.free <- block{}
	}
	p.block = <-p.free
	err := p.below(ctx, root, 0)
	p.full <- p.block
	close(p.full)
	working.Wait()
	c := &db.Checks{Totals: make([]*big.Int, len(p.types))}
	for _, a := range team {
		c.Rows, c.Sum = c.Rows+a.rows, c.Sum+a.sum
		for i := range a.totals {
			if a != team[0] {
				team[0].totals[i].sum.Merge(&a.totals[i].sum)
			}
		}
		if err == nil {
			err = a.err
		}
	}
	for i := range c.Totals {
		if t := &team[0].totals[i]; t.reader != nil {
			c.Totals[i] = t.sum.Total()
		}
	}
	return c, err
}

// The kinds of page in a table's tree, and what is in their heads.
const (
	interior  = 0x05
	leaf      = 0x0d
	deepest   = 20 // levels of a tree; SQLite's own limit
	leafHead  = 8
	innerHead = 12
)

// below hands on the leaves below a page.
func (p *pages) below(ctx context.Context, n uint32, depth int) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	b, err := p.read(n)
	if err != nil {
		return err
	}
	if depth > deepest {
		return errNotAPage
	}
	be := binary.BigEndian
	switch b[0] {
	case leaf:
		return p.take(b[:p.usable])
	case interior:
		children := make([]uint32, 0, cellsOf(b)+1)
		for i := range cellsOf(b) {
			cell := int(be.Uint16(b[innerHead+2*i:]))
			if cell+4 > p.usable {
				return errNotAPage
			}
			children = append(children, be.Uint32(b[cell:]))
		}
		children = append(children, be.Uint32(b[8:]))
		for _, c := range children {
			if err := p.below(ctx, c, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	return errNotAPage
}

// local is how many bytes of a payload are in its leaf.
func (p *pages) local(payload int64) int64 {
	u := int64(p.usable)
	if payload <= u-35 {
		return payload
	}
	least := (u-12)*32/255 - 23
	if k := least + (payload-least)%(u-4); k <= u-35 {
		return k
	}
	return least
}

// add hands on a leaf. Rows that go on in other pages are put together.
func (p *pages) add(b []byte) error {
	at := len(p.block.leaves)
	p.block.leaves = append(p.block.leaves, b...)
	b = p.block.leaves[at:] // the page itself is gone when another is read
	for i := range cellsOf(b) {
		r, size, err := cellOf(b, i)
		if err != nil {
			return err
		}
		if p.local(size) == size {
			continue
		}
		if r, err = p.whole(r, size); err != nil {
			return err
		}
		p.block.long = append(p.block.long, r)
	}
	if len(p.block.leaves) >= blockBytes {
		p.full <- p.block
		p.block = <-p.free
	}
	return nil
}

// whole puts a row together that goes on in other pages.
func (p *pages) whole(r record, size int64) (record, error) {
	local := p.local(size)
	if int64(len(r.payload)) < local+4 {
		return r, errNotAPage
	}
	next := binary.BigEndian.Uint32(r.payload[local:])
	r.payload = append([]byte(nil), r.payload[:local]...)
	for int64(len(r.payload)) < size {
		more, err := p.read(next)
		if err != nil {
			return r, err
		}
		next = binary.BigEndian.Uint32(more)
		n := min(size-int64(len(r.payload)), int64(p.usable-4))
		r.payload = append(r.payload, more[4:4+n]...)
	}
	return r, nil
}

// cellsOf is how many cells a page has.
func cellsOf(page []byte) int { return int(binary.BigEndian.Uint16(page[3:])) }

// cellOf is the i-th cell of a leaf: its row, with what of the page is behind
// its beginning, and the size of the whole payload.
func cellOf(b []byte, i int) (r record, size int64, err error) {
	if leafHead+2*i+2 > len(b) {
		return r, 0, errNotAPage
	}
	at := int(binary.BigEndian.Uint16(b[leafHead+2*i:]))
	if at >= len(b) {
		return r, 0, errNotAPage
	}
	size, n := varint(b[at:])
	rowid, m := varint(b[at+n:])
	if n == 0 || m == 0 || size < 0 || size > math.MaxInt32 {
		return r, 0, errNotAPage
	}
	return record{rowid, b[at+n+m:]}, size, nil
}

// block adds up the rows of a block.
func (a *adder) block(b block) error {
	for rest := b.leaves; len(rest) > 0; rest = rest[a.usable:] {
		page := rest[:a.usable]
		for i := range cellsOf(page) {
			r, size, err := cellOf(page, i)
			if err != nil {
				return err
			}
			if a.local(size) < size {
				continue
			}
			if size > int64(len(r.payload)) {
				return errNotAPage
			}
			r.payload = r.payload[:size]
			if err := a.add(r); err != nil {
				return err
			}
		}
	}
	for _, r := range b.long {
		if err := a.add(r); err != nil {
			return err
		}
	}
	return nil
}

// add adds up one row: its values are written as the encoder would have.
func (a *adder) add(r record) error {
	var err error
	if a.fields, err = split(r.payload, a.fields[:0]); err != nil {
		return err
	}
	if len(a.fields) != len(a.types) {
		return errNotAPage
	}
	row := a.row[:0]
	x := &a.x
	for column := range a.fields {
		f := &a.fields[column]
		x.set(f.kind, f.bytes)
		switch {
		case f.kind == 0 && column == a.alias:
			x.kind, x.int = lib.SQLITE_INTEGER, r.rowid
		case x.kind == lib.SQLITE_INTEGER && a.types[column].Kind == sqltype.Double:
			x.kind, x.float = lib.SQLITE_FLOAT, float64(x.int)
		}
		row = x.append(row)
		if t := &a.totals[column]; t.reader != nil {
			t.add(x, &a.v)
		}
	}
	a.row = row
	a.rows++
	a.sum += maphash.Bytes(a.seed, row)
	return nil
}

// A field is a value as it is stored: its serial type and its bytes (SQLite, "Database File Format", 2.1).
type field struct {
	kind  int64
	bytes []byte
}

// split takes a record apart.
func split(payload []byte, fields []field) ([]field, error) {
	head, n := varint(payload)
	if n == 0 || head < int64(n) || head > int64(len(payload)) {
		return fields, errNotAPage
	}
	kinds, body := payload[n:head], payload[head:]
	for len(kinds) > 0 {
		kind, n := int64(kinds[0]), 1
		if kind >= 0x80 {
			kind, n = varint(kinds)
		}
		size := sizeOf(kind)
		if n == 0 || size < 0 || size > int64(len(body)) {
			return fields, errNotAPage
		}
		fields = append(fields, field{kind, body[:size]})
		kinds, body = kinds[n:], body[size:]
	}
	return fields, nil
}

// set reads a value as it is in a record.
func (x *rawValue) set(kind int64, v []byte) {
	switch {
	case kind == 0:
		x.kind = lib.SQLITE_NULL
	case kind == 7:
		x.kind, x.float = lib.SQLITE_FLOAT, math.Float64frombits(binary.BigEndian.Uint64(v))
	case kind < 12:
		x.kind, x.int = lib.SQLITE_INTEGER, kind-8 // 8 and 9 are the numbers 0 and 1
		if len(v) > 0 {
			x.int = int64(int8(v[0]))
			for _, c := range v[1:] {
				x.int = x.int<<8 | int64(c)
			}
		}
	default:
		x.kind, x.text = lib.SQLITE_BLOB-int32(kind&1), v // odd: text
	}
}

// sizeOf is how many bytes a value of a serial type takes, or -1.
func sizeOf(kind int64) int64 {
	switch {
	case kind < 0 || kind == 10 || kind == 11:
		return -1
	case kind >= 12:
		return (kind - 12) / 2
	}
	return int64([...]int8{0, 1, 2, 3, 4, 6, 8, 8, 0, 0}[kind])
}

// varint reads an integer of up to nine bytes, and how many it has; 0 if it
// does not end.
func varint(b []byte) (v int64, n int) {
	for n < len(b) && n < 8 {
		c := b[n]
		v = v<<7 | int64(c&0x7f)
		if n++; c < 0x80 {
			return v, n
		}
	}
	if n < 8 || len(b) < 9 {
		return 0, 0
	}
	return v<<8 | int64(b[8]), 9
}
